"""What the ledger holds, as it is given out. Times are seconds since 1970."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Literal

import msgspec

if TYPE_CHECKING:
    from mantisreed.jobs.life import State


LEDGER_FILE = "ledger.sqlite"

VERSION = 11
"""Of the ledger's tables; their history is in `schema.py`."""

StemClaim = Literal["new", "ours", "taken"]
"""What became of a claim to a stem of outputs: it had no owner, it was this recording's before, or
it is another's."""


@dataclass(frozen=True, slots=True)
class Filter:
    """Which jobs. None leaves a part open.

    Attributes:
        states: any of these.
        shown: any of these, as users see them; `failed` means failed follow-ups too.
        engine: name of the card.
        recording: a part of its name, in any case.
        since, until: seconds since 1970 between which it was begun.
        changed_since: seconds since 1970 after which it was changed.
        ids: only these; any number of them.
        digest: of their recording.
    """

    states: tuple[str, ...] | None = None
    shown: tuple[str, ...] | None = None
    engine: str | None = None
    recording: str | None = None
    since: float | None = None
    until: float | None = None
    changed_since: float | None = None
    ids: tuple[str, ...] | None = None
    digest: str | None = None


class JobSummary(msgspec.Struct, frozen=True):
    """What a list tells of a job. Not a dataclass, because lists have 100 000 of them, and these
    are made in a third of the time.

    Attributes:
        shown: its state as users see it.
        machine: where a process has it under way; None where none has.
        billed, saved: seconds of sound that were paid for, and that kept replies answered.
        cost: what was surely charged; None where no price is known.
        maybe: what may have been charged beyond that, for attempts of which nobody knows what
            became.
        unconfirmed: how many attempts these are.
        reported_seconds, reported_cost: what the engine itself says that it charges; None where it
            never does.
    """

    id: str
    recording: str
    digest: str
    engine: str
    state: str
    shown: str
    machine: str | None
    reason: str | None
    duration: float | None
    created: float
    changed: float
    currency: str | None
    pieces: int
    pieces_done: int
    billed: float
    saved: float
    cost: Decimal | None
    maybe: Decimal
    unconfirmed: int
    reported_seconds: float | None
    reported_cost: Decimal | None


class JobRecord(JobSummary, frozen=True):
    """A job with all that it takes to go on with it.

    Attributes:
        identity: the same for jobs that ask for the same of the same recording.
        options: JSON; all that it takes to do it again, or to write it out.
        made: JSON; its requests in order, once every piece has been handed in.
    """

    identity: str
    options: str | None
    made: str | None


@dataclass(frozen=True, slots=True)
class AttemptRecord:
    """One try of a request.

    Attributes:
        started, ended: seconds since 1970; it may be under way.
        bytes: of audio that were sent.
        outcome, error: what came of it.
        charge: as in `life.Charge`.
        billed, cost: by the engine's card.
        reported_seconds, reported_cost: as the engine says it; None where it does not.
    """

    started: float
    ended: float | None
    bytes: int
    outcome: str | None
    error: str | None
    charge: str
    billed: float
    cost: Decimal | None
    reported_seconds: float | None = None
    reported_cost: Decimal | None = None


@dataclass(frozen=True, slots=True)
class RequestRecord:
    """One request, whichever jobs need it.

    Attributes:
        key: what it is known by.
        job: the job for which it is dealt with now.
        state: as in `life.State`.
        owner: the process that deals with it; None when nobody does.
        failure: the event by which it failed; None when it has not.
        reason: the same for people.
        ticket: what asking for the engine's job needs.
        was_known: whether the engine has ever said that it has the job.
        reply: the digest of its reply.
        unread: the digest of an answer that could not be read, and the step that it is of.
        sound: JSON; what reading its reply needs to know of what was sent.
        price: what it costs when it is answered.
        length: seconds of sound.
        attempt: the number of the attempt that is under way.
    """

    key: str
    job: str
    state: "State"
    owner: str | None
    sound: str | None
    price: Decimal | None
    length: float
    failure: str | None = None
    reason: str | None = None
    ticket: Mapping[str, Any] | None = None
    mark: str | None = None
    was_known: bool = False
    reply: str | None = None
    unread: tuple[str, str] | None = None
    attempt: int | None = None

    @property
    def has_reply(self) -> bool:
        """Whether a reply is kept that answers it, whatever else is under way."""
        return self.reply is not None

    def sent(self, attempt: int) -> "RequestRecord":
        """The same while an attempt is under way."""
        return replace(
            self,
            state="sending",
            attempt=attempt,
            ticket=None,
            mark=None,
            was_known=False,
            unread=None,
        )


def request_record(
    row: Mapping[str, Any], job: str, length: float, attempt: int | None = None
) -> RequestRecord:
    """From a row of `request`."""
    unread = row["unread"]
    return RequestRecord(
        key=row["key"],
        job=job,
        state=row["state"],
        owner=row["owner"],
        failure=row["failure"],
        reason=row["reason"],
        ticket=msgspec.json.decode(row["ticket"]) if row["ticket"] else None,
        mark=row["mark"],
        was_known=bool(row["was_known"]),
        reply=row["reply"],
        unread=(row["unread_step"], unread) if unread else None,
        sound=row["sound"],
        price=money(row["price"]),
        length=length,
        attempt=attempt,
    )


@dataclass(frozen=True, slots=True)
class PieceRecord:
    """A span of a job's recording, with the request that brings its reply and that request's
    attempts.

    Attributes:
        state: of the request, or `cancelled` where the job does not want it any more.
        saved: whether its reply cost this job nothing.
    """

    request: RequestRecord
    channel: int | None
    start: float
    end: float
    state: str
    saved: bool
    attempts: tuple[AttemptRecord, ...] = ()


def piece_record(
    row: Mapping[str, Any], attempts: Sequence[tuple[str, AttemptRecord]] = ()
) -> PieceRecord:
    """From a row of `piece` with its `request`.

    Args:
        row: with the columns of both.
        attempts: with the job that each was made for.
    """
    request = request_record(row, row["job"], row["ends"] - row["starts"])
    state = "cancelled" if row["is_cancelled"] else visible_state(request)
    is_paid = any(job == row["job"] and attempt.charge == "sure" for job, attempt in attempts)
    return PieceRecord(
        request,
        row["channel"],
        row["starts"],
        row["ends"],
        state,
        saved=request.has_reply and not is_paid,
        attempts=tuple(attempt for _, attempt in attempts),
    )


def visible_state(request: RequestRecord) -> str:
    """The state as a job sees it: a kept reply answers it also when asking once more has failed."""
    is_under_way = request.state in ("sending", "working")
    if request.has_reply and not is_under_way:
        return "done"
    return request.state


def attempt_record(row: Mapping[str, Any]) -> AttemptRecord:
    """From a row of `attempt`."""
    return AttemptRecord(
        row["started"],
        row["ended"],
        row["bytes"],
        row["outcome"],
        row["error"],
        row["charge"],
        row["billed"],
        money(row["cost"]),
        row["reported_seconds"],
        money(row["reported_cost"]),
    )


def money(text: str | None) -> Decimal | None:
    """Money as it is kept: as text, so that nothing is rounded."""
    if text is None:
        return None
    return Decimal(text)


def money_as_kept(amount: Decimal | None) -> str | None:
    """The opposite of `money`."""
    if amount is None:
        return None
    return str(amount)
