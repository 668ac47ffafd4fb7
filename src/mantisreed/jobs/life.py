"""The life of a request and of a job as two tables: (state, what happened) -> what is to be done.

Nothing here reads, writes, sends or waits. The dispatcher, `collect`, callbacks, `retry` and the
ledger look a rule up and act on it, so that a promise of the documentation is one row here and one
test.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Literal

from mantisreed.errors import InputError, MantisreedError

State = Literal["waiting", "sending", "working", "done", "failed", "cancelled", "unconfirmed"]
"""`waiting`: not sent, or to be sent again. `sending`: a request is on its way. `working`: the
engine has taken it as a job. `unconfirmed`: nobody knows whether the engine has done it.
`cancelled`: not wanted any more."""

JobOutcome = Literal["done", "no speech", "incomplete", "suspect"]
"""How a job that is done has ended. `no speech`: nobody spoke. `incomplete`: the recording breaks
off. `suspect`: a reply is not quite as its card says, so that the transcript may be wrong."""

ShownState = State | JobOutcome | Literal["follow-up failed"]
"""What users see of a job, the same everywhere: its state, or how it ended. `follow-up failed`: its
transcript is written, and something that was to be done with it has failed."""


@dataclass(frozen=True, slots=True)
class Meaning:
    """What a state of a job says to its user, and what to do then; the manual is made of it."""

    means: str
    next: str = ""


# In the order of a job's life: lists of states, filters and the manual keep it.
MEANINGS: Mapping[ShownState, Meaning] = {
    "waiting": Meaning(
        "its turn has not come, or something has to happen before it goes on: a limit, a refused "
        "key, an engine that is down, a full disk",
        "run the same command again, or `retry`",
    ),
    "sending": Meaning("a command or the service is at work on it now"),
    "working": Meaning("the engine has everything, and nobody waits for its answer", "`collect`"),
    "unconfirmed": Meaning(
        "nobody knows whether the engine has done a request", "`retry` sends it once more"
    ),
    "done": Meaning("everything is answered, and the outputs are on disk"),
    "no speech": Meaning("the same; nobody spoke in the recording"),
    "incomplete": Meaning(
        "the same; the recording itself breaks off", "`run` again when the recording is whole"
    ),
    "suspect": Meaning(
        "the same; a reply is not quite as the engine's card says, so that the transcript may be "
        "wrong",
        "fix the card: the `notes` in the transcript say what is odd",
    ),
    "follow-up failed": Meaning(
        "the same; something that was to be done with the transcript has failed. `--state failed` "
        "lists these too",
        "fix the cause, then `retry`",
    ),
    "failed": Meaning(
        "a piece failed for good; `jobs ID` shows why", "fix the cause, then `retry`"
    ),
    "cancelled": Meaning("cancelled by you, or you forgot its replies"),
}

SHOWN_STATES: tuple[ShownState, ...] = tuple(MEANINGS)


def states_given(given: str | None, where: str) -> tuple[str, ...] | None:
    """The states that a list of jobs is to show; None for all.

    Args:
        given: with commas between.
        where: what it was given as, for errors.

    Raises:
        InputError: one of them is none, or there is none.
    """
    if given is None:
        return None
    states = tuple(part.strip() for part in given.split(",") if part.strip())
    unknown = [state for state in states if state not in SHOWN_STATES]
    if unknown or not states:
        raise InputError(
            f"{(unknown or [given])[0]!r} is not a state",
            where=where,
            advice=f"states are {', '.join(SHOWN_STATES)}",
        )
    return states


STATES: tuple[State, ...] = (
    "waiting",
    "sending",
    "working",
    "done",
    "failed",
    "cancelled",
    "unconfirmed",
)

Event = Literal[
    "send",
    "accepted",
    "answered",
    "unidentified",
    "too large an answer",
    "not reached",
    "lost",
    "slow down",
    "engine broke",
    "gateway broke",
    "refused",
    "bad request",
    "too big",
    "format refused",
    "still working",
    "question failed",
    "overdue",
    "job failed",
    "job unknown",
    "job vanished",
    "another's id",
    "found",
    "owner gone",
    "cancelled",
    "reply lost",
]
"""What can happen to a request; each is explained where it stands in `REQUEST_LIFE`."""

Charge = Literal["none", "open", "maybe", "sure"]
"""Whether an attempt costs money. `open`: it is under way, and counts until it has ended. `maybe`:
the engine may
have done the work and charged for it, though nothing came of it. Whatever is not `none` counts
towards a spend limit.
"""

Again = Literal["never", "soon", "as asked", "later", "keep asking"]
"""Whether the program goes on by itself. `soon`: the same request again after a growing wait. `as
asked`: the same,
but not before the engine allows it. `later`: the next command that deals with the job goes on.
`keep asking`: the job is asked for again. `never`: only when the user has changed something, or
says so."""


class TransitionError(MantisreedError):
    """Something happened that cannot happen in this state; nothing was changed."""


@dataclass(frozen=True, slots=True)
class Rule:
    """What follows from an event.

    Attributes:
        state: the request's next state.
        keeps_ticket: whether the engine can still be asked for it.
        charge: what the attempt that was under way may have cost.
        again: whether the program goes on by itself.
        outcome: how the attempt is noted; None while it goes on.
    """

    state: State
    keeps_ticket: bool
    charge: Charge
    again: Again
    outcome: str | None


def _goes_on(state: State, *, ticket: bool = True, again: Again = "keep asking") -> Rule:
    return Rule(state, ticket, "open", again, None)


def _ends(
    state: State, charge: Charge, again: Again, *, outcome: str = "failed", ticket: bool = False
) -> Rule:
    return Rule(state, ticket, charge, again, outcome)


_ANSWERED = _ends("done", "sure", "never", outcome="done")
_CANCELLED = _ends("cancelled", "none", "never", outcome="cancelled")
_SEND = _goes_on("sending", ticket=False, again="never")

REQUEST_LIFE: dict[tuple[State, Event], Rule] = {
    # A request is noted as on its way before it leaves. `done` is sent again only where the user
    # asks for it.
    ("waiting", "send"): _SEND,
    ("failed", "send"): _SEND,
    ("cancelled", "send"): _SEND,
    ("unconfirmed", "send"): _SEND,
    ("done", "send"): _SEND,
    # The engine has answered with the reply itself, or that it heard nothing.
    ("sending", "answered"): _ANSWERED,
    # The engine has taken it as a job; the ticket is what asking for it needs.
    ("sending", "accepted"): _goes_on("working"),
    # A whole answer came and does not say by what the job is asked for. It is kept, and read again
    # when the card is mended. The engine may be at work, so that the same request must not be sent
    # by itself.
    ("sending", "unidentified"): _ends("failed", "maybe", "never", ticket=True),
    ("sending", "too large an answer"): _ends("failed", "maybe", "never"),
    # No connection came about: the engine knows nothing of it.
    ("sending", "not reached"): _ends("waiting", "none", "soon"),
    # The request left, and no whole answer came: cut off, timed out, or a program that was stopped.
    ("sending", "lost"): _ends("unconfirmed", "maybe", "soon", outcome="unconfirmed"),
    ("sending", "slow down"): _ends("waiting", "none", "as asked"),
    # 500 and 503: the engine itself says that it did not do it.
    ("sending", "engine broke"): _ends("waiting", "none", "soon"),
    # 502 and 504: a server in front of the engine gave up on it; the engine may have done it.
    ("sending", "gateway broke"): _ends("unconfirmed", "maybe", "soon", outcome="unconfirmed"),
    ("sending", "refused"): _ends("waiting", "none", "later"),
    ("sending", "bad request"): _ends("failed", "none", "never"),
    ("sending", "too big"): _ends("failed", "none", "never"),
    ("sending", "format refused"): _ends("failed", "none", "never"),
    # The answer holds an id that another request has; whose job it is, nobody knows.
    ("sending", "another's id"): _ends("waiting", "maybe", "soon"),
    # The program that sent it has ended before an answer was noted.
    ("sending", "owner gone"): _ends("unconfirmed", "maybe", "later", outcome="unconfirmed"),
    ("working", "answered"): _ANSWERED,
    ("working", "still working"): _goes_on("working"),
    # Whatever goes wrong while asking, the engine still has the job.
    ("working", "question failed"): _goes_on("working"),
    # It takes longer than the card allows: later commands ask again.
    ("working", "overdue"): _goes_on("working", again="later"),
    # The engine says that the job failed. Whether that is free differs, so that it counts.
    ("working", "job failed"): _ends("failed", "maybe", "never"),
    # The engine has never known the job: the address on the card may be wrong. Sending again would
    # pay again.
    ("working", "job unknown"): _ends("failed", "maybe", "never", ticket=True),
    # The engine knew the job and does not know it any more: it is sent once more.
    ("working", "job vanished"): _ends("unconfirmed", "maybe", "soon", outcome="unconfirmed"),
    ("working", "another's id"): _ends("waiting", "maybe", "soon", outcome="unconfirmed"),
    ("working", "owner gone"): _goes_on("working", again="later"),
    ("working", "cancelled"): _ends("cancelled", "maybe", "never", outcome="cancelled"),
    ("waiting", "cancelled"): _CANCELLED,
    ("failed", "cancelled"): _CANCELLED,
    ("unconfirmed", "cancelled"): _CANCELLED,
    # The engine was asked whether it has made a job of an unconfirmed request, and has; or it
    # turned out while a ticket was read from an answer that was kept.
    ("waiting", "found"): _goes_on("working"),
    ("unconfirmed", "found"): _goes_on("working"),
    ("failed", "found"): _goes_on("working"),
    ("cancelled", "found"): _goes_on("working"),
    # A reply is a reply, however late and by whichever way it comes.
    ("waiting", "answered"): _ANSWERED,
    ("unconfirmed", "answered"): _ANSWERED,
    ("failed", "answered"): _ANSWERED,
    ("cancelled", "answered"): _ANSWERED,
    ("done", "answered"): _ANSWERED,
    # A kept reply was changed or removed by somebody: a new one takes its place.
    ("done", "reply lost"): _ends("waiting", "sure", "soon", outcome="done"),
    ("done", "cancelled"): _ends("cancelled", "sure", "never", outcome="done"),
    ("done", "another's id"): _ends("waiting", "maybe", "soon", outcome="unconfirmed"),
}
"""Every transition that is made. What is not listed cannot happen, or is a bug; see `after`."""


def after(state: State, event: Event) -> Rule:
    """What follows when something happens to a request in a state.

    Raises:
        TransitionError: it cannot happen in this state.
    """
    rule = REQUEST_LIFE.get((state, event))
    if rule is None:
        raise TransitionError(f"a request that is {state!r} cannot be told {event!r}")
    return rule


def states_before(event: Event) -> tuple[State, ...]:
    """The states in which an event can happen; for conditions inside statements."""
    return tuple(state for state, listed in REQUEST_LIFE if listed == event)


JobEvent = Literal[
    "opened",
    "accepted",
    "written",
    "failed",
    "postponed",
    "cancelled",
    "wanted again",
    "owner gone",
    "reply taken away",
]
"""What can happen to a job. `accepted`: the engine has all of its requests. `written`: all outputs
are on disk.
"""

_OPEN: tuple[State, ...] = ("waiting", "sending", "working", "failed", "unconfirmed")

JOB_LIFE: dict[tuple[State, JobEvent], State] = {
    **{(state, "opened"): "sending" for state in STATES},
    **{(state, "accepted"): "working" for state in _OPEN},
    # Only when its outputs are on disk is a job done.
    **{(state, "written"): "done" for state in STATES},
    **{(state, "failed"): "failed" for state in _OPEN},
    **{(state, "postponed"): "waiting" for state in _OPEN},
    ("done", "postponed"): "waiting",
    # Whoever works on a job hears a moment later that nobody wants it any more.
    **{("cancelled", late): "cancelled" for late in ("accepted", "failed", "postponed")},
    # Also what was done before it could be cancelled, and what is forgotten: nobody wants it.
    **{(state, "cancelled"): "cancelled" for state in STATES},
    **{(state, "wanted again"): "waiting" for state in STATES},
    **{(state, "reply taken away"): "waiting" for state in STATES if state != "cancelled"},
}
"""Jobs end as `done`, `failed` or `cancelled`; one that is done changes only when somebody wants it
again or no more, or when a reply that it was made of proves to be another's."""


def job_after(state: State, event: JobEvent, requests: Iterable[State] = ()) -> State:
    """A job's next state.

    Args:
        state: of the job.
        event: what happened.
        requests: states of its requests, for a job whose process has gone.

    Raises:
        TransitionError: it cannot happen in this state.
    """
    if event == "owner gone":
        return _left_behind(state, set(requests))
    following = JOB_LIFE.get((state, event))
    if following is None:
        raise TransitionError(f"a job that is {state!r} cannot be told {event!r}")
    return following


def _left_behind(state: State, requests: set[State]) -> State:
    """The state of a job whose process has ended without saying how it stands."""
    if state not in ("sending", "working"):
        return state
    if "unconfirmed" in requests:
        return "unconfirmed"
    if state == "working" and not requests & {"waiting", "failed"}:
        return "working"
    return "waiting"
