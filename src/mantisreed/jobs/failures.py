"""From an engine's error to what has happened to the request, how long to wait before the next try,
and the bill.
"""

import random
from typing import TYPE_CHECKING

import msgspec

from mantisreed.engines.client import ReportedBill
from mantisreed.errors import (
    AnothersIdError,
    BadRequestError,
    EngineBrokeError,
    EngineError,
    FormatRefusedError,
    JobFailedError,
    JobLostError,
    RefusedError,
    SlowDownError,
    TooBigError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.jobs.budget import billed_seconds, cost_of
from mantisreed.jobs.life import Event, Rule
from mantisreed.jobs.request_rows import Bill

if TYPE_CHECKING:
    from mantisreed.engines.card import EngineCard
    from mantisreed.jobs.records import RequestRecord

_FIRST_WAIT, _LONGEST_WAIT = 1.0, 60.0  # seconds
# RFC 9110, 15.6.3 and 15.6.5: said by a server in front of the engine.
_GATEWAY_STATUSES = (
    502,
    504,
)

NEEDS_AFRESH: frozenset[Event] = frozenset({"unidentified", "too large an answer", "job unknown"})
"""Failures after which the engine may have been paid, and would be again: only `--afresh` sends the
request again.
"""

_WHILE_SENDING: tuple[tuple[type[EngineError], Event], ...] = (
    (AnothersIdError, "another's id"),
    (SlowDownError, "slow down"),
    (RefusedError, "refused"),
    (TooBigError, "too big"),
    (FormatRefusedError, "format refused"),
    (BadRequestError, "bad request"),
)


_BEFORE_WORK = (UnreachableError, JobLostError, JobFailedError, UnreadableReplyError)
"""Errors that mean something else when the engine has nothing to do yet: the request can be sent
again for free.
"""


class AttemptEndedError(Exception):
    """An attempt has failed, which is noted; the rule says what follows."""

    def __init__(self, rule: Rule, error: EngineError) -> None:
        super().__init__(str(error))
        self.rule, self.error = rule, error


def event_while_sending(error: EngineError) -> Event:
    """What an error means that came of sending a request."""
    if error.before_work and isinstance(error, _BEFORE_WORK):
        if isinstance(error, (UnreachableError, JobLostError)):
            return "not reached"
        return "bad request"
    for kind, event in _WHILE_SENDING:
        if isinstance(error, kind):
            return event
    return _event_of_unclear(error)


def _event_of_unclear(error: EngineError) -> Event:
    """The same of errors whose kind does not tell whether the engine has worked."""
    event: Event = "lost"
    if isinstance(error, EngineBrokeError):
        is_undecided = error.status in _GATEWAY_STATUSES and not error.before_work
        event = "gateway broke" if is_undecided else "engine broke"
    elif isinstance(error, UnreachableError) and not error.was_sent:
        event = "not reached"
    elif isinstance(error, UnreadableReplyError) and not error.may_be_charged:
        event = "bad request"
    elif isinstance(error, UnreadableReplyError):
        event = "unidentified" if error.is_whole else "too large an answer"
    return event


def event_while_asking(error: EngineError, *, was_known: bool) -> Event:
    """What an error means that came of asking for a job.

    Args:
        error: what came.
        was_known: whether the engine has ever said that it has the job.
    """
    if isinstance(error, JobFailedError):
        return "job failed"
    if isinstance(error, JobLostError):
        if was_known:
            return "job vanished"
        return "job unknown"
    if isinstance(error, AnothersIdError):
        return "another's id"
    return "question failed"


def seconds_before(number: int, asked_for: float | None = None) -> float:
    """Seconds to wait before a try: growing, with jitter, or as long as the engine asks for.

    Args:
        number: of tries that have failed so far.
        asked_for: by the engine.
    """
    grown: float = min(_LONGEST_WAIT, _FIRST_WAIT * 2 ** min(number - 1, 16))
    # Without jitter, all pieces that an overloaded engine refused would come back at one moment.
    return max(grown + random.uniform(0.0, _FIRST_WAIT), asked_for or 0.0)  # noqa: S311 - nothing is kept secret


def bill_of(
    card: "EngineCard", record: "RequestRecord", reported: "ReportedBill | None" = None
) -> Bill:
    """What the engine charges for a request that it has answered, by its card, and as it says
    itself.
    """
    sound = msgspec.json.decode(record.sound or "{}")
    seconds = billed_seconds(card, [sound.get("duration", record.length)])
    said = reported or ReportedBill()
    return Bill(seconds, cost_of(card, seconds), said.seconds, said.cost)
