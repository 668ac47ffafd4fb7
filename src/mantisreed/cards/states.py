"""What the answer to a question says of a job: still waiting, done, or failed."""

from typing import Any, Literal

from mantisreed.cards.steps import Step
from mantisreed.cards.wire.http_answer import UNCHANGED, HttpAnswer

JobStanding = Literal["waiting", "done", "failed", "unknown"]
"""`unknown`: the state is none that the card lists."""

_ACCEPTED = 202  # RFC 9110, 15.3.3: taken, and not yet done


def standing_of(step: Step, answer: HttpAnswer) -> tuple[JobStanding, Any]:
    """How a job stands, and the state that the answer gives, for messages."""
    # Failed first: a job that has failed may well call itself finished.
    standings: tuple[JobStanding, ...] = ("failed", "done", "waiting")
    # What the status says counts before conditions, and these before the state that is named.
    for standing in standings:
        if answer.status in getattr(step, f"{standing}_statuses"):
            return standing, f"HTTP {answer.status}"
    if answer.status == UNCHANGED:
        return "waiting", f"HTTP {UNCHANGED}"
    for standing in standings:
        condition = getattr(step, f"{standing}_when")
        if condition is not None and condition.holds_in(answer):
            return standing, condition.source
    if step.state is None:
        return _without_a_state(step, answer), None
    state = step.state.find(answer)
    for standing in standings:
        if _is_one_of(state, getattr(step, standing)):
            return standing, state
    return _unlisted(step, state), state


def _without_a_state(step: Step, answer: HttpAnswer) -> JobStanding:
    """Where nothing on the card has held: what is left to be said."""
    if answer.status == _ACCEPTED:
        return "waiting"
    if step.done_when or step.done_statuses:
        return "waiting"
    return "done"


def _unlisted(step: Step, state: Any) -> JobStanding:
    """A state that the card does not list means what it does not list any states for."""
    if step.done_when or step.done_statuses:
        return "waiting"
    if state is None:
        return "unknown"
    # A card that lists only the end means all else as waiting.
    if not step.waiting and step.done:
        return "waiting"
    # And the other way round.
    if step.waiting and not step.done:
        return "done"
    return "unknown"


def _is_one_of(state: Any, listed: tuple[Any, ...]) -> bool:
    # In Python 1 == True; on a card they are different states. XML and headers have only texts.
    return any(
        (state == other and isinstance(state, bool) == isinstance(other, bool))
        or (
            isinstance(state, str) is not isinstance(other, str)
            and str(state).lower() == str(other).lower()
        )
        for other in listed
    )
