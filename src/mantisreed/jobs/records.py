"""What the ledger holds, as it is given out. Times are seconds since 1970."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import msgspec

if TYPE_CHECKING:
    from sqlalchemy.engine import Row


LEDGER_FILE = "ledger.sqlite"

VERSION = 2
"""Of the ledger's tables; their history is in `schema.py`."""


@dataclass(frozen=True, slots=True)
class Filter:
    """Which jobs. None leaves a part open.

    Attributes:
        states: any of these.
        engine: name of the card.
        recording: a part of its name, in any case.
        since, until: seconds since 1970 between which it was begun.
        ids: only these.
    """

    states: tuple[str, ...] | None = None
    engine: str | None = None
    recording: str | None = None
    since: float | None = None
    until: float | None = None
    ids: tuple[str, ...] | None = None


@dataclass(frozen=True, slots=True)
class JobRecord:
    """A job. `cost` is None where no price is known, `doubts` counts attempts of which nobody knows what became.

    `order` and `made` are JSON: what was ordered, and what it was made into once every piece was handed in.
    """

    id: str
    recording: str
    digest: str
    engine: str
    state: str
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
    doubts: int
    order: str | None
    made: str | None


@dataclass(frozen=True, slots=True)
class AttemptRecord:
    """One try of a piece."""

    started: float
    ended: float | None
    bytes: int
    outcome: str | None
    error: str | None
    billed: float
    cost: Decimal | None


@dataclass(frozen=True, slots=True)
class PieceRecord:
    """A piece. `saved` says that its reply had been kept before, and cost nothing.

    `sound` is JSON: what reading its reply needs to know of what was sent. `price` is what it costs when answered.
    """

    id: int
    job: str
    request: str
    channel: int | None
    start: float
    end: float
    state: str
    owner: str | None
    ticket: Mapping[str, Any] | None
    reply: str | None
    saved: bool
    sound: str | None
    price: Decimal | None
    attempts: tuple[AttemptRecord, ...] = ()


def piece_record(row: "Row[Any]", attempts: "Sequence[Row[Any]]" = ()) -> PieceRecord:
    """From the rows of a piece and its attempts."""
    return PieceRecord(
        row.id,
        row.job,
        row.request,
        row.channel,
        row.start,
        row.end,
        row.state,
        row.owner,
        msgspec.json.decode(row.ticket) if row.ticket else None,
        row.reply,
        bool(row.saved),
        row.sound,
        money(row.price),
        tuple(
            AttemptRecord(one.started, one.ended, one.bytes, one.outcome, one.error, one.billed, money(one.cost))
            for one in attempts
        ),
    )


def money(text: str | None) -> Decimal | None:
    """Money as it is kept: as text, so that nothing is rounded."""
    return None if text is None else Decimal(text)
