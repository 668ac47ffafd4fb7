"""One piece of a job as it goes to an engine, and how an engine is dealt with."""

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

import msgspec

from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.jobs.budget import Budget, billed_seconds, cost_of
from mantisreed.jobs.gate import Time
from mantisreed.jobs.request_rows import PieceToSend


class SoundFacts(msgspec.Struct, frozen=True):
    """What reading a reply needs to know of the piece that was sent; as in `Piece`."""

    duration: float
    sample_rate: int
    channels: int
    form: str
    speech: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, slots=True)
class Work:
    """One piece of a job.

    Attributes:
        job: the job's id.
        key: what the request is known by.
        start, end: seconds in the recording.
        channel: from 1; None when they are mixed.
        piece: what is sent.
        is_known: whether pieces of this recording were sent before, so that its reply may be kept.
    """

    job: str
    key: str
    start: float
    end: float
    channel: int | None
    piece: Piece
    is_known: bool = False

    def for_ledger(self, card: EngineCard) -> PieceToSend:
        """What the ledger has to know of it."""
        piece = self.piece
        sound = SoundFacts(
            piece.duration, piece.sample_rate, piece.channels, piece.form.name, piece.speech
        )
        return PieceToSend(
            self.job,
            self.key,
            self.start,
            self.end,
            self.channel,
            sound=msgspec.json.encode(sound).decode(),
            price=cost_of(card, billed_seconds(card, [piece.duration])),
        )


@dataclass(frozen=True, slots=True)
class DispatchOptions:
    """How an engine is dealt with.

    Attributes:
        request: language and hints.
        afresh: whether to send again what has been answered.
        max_attempts: how often a request is sent at most when it fails in a way that may pass.
        budget: what may be spent.
        purse_of: what else a job with this id is paid from, such as what its sender may spend in
            all; None for nothing.
        callbacks: the address under which the engine reaches us, if it can call back.
        ready: loads what sends requests, and waits until they can leave at once, as a turn is only
            taken then; None when they always can.
        time: the clock; tests give their own.
    """

    request: RequestOptions = field(default_factory=RequestOptions)
    afresh: bool = False
    max_attempts: int = 1
    budget: Budget = field(default_factory=Budget)
    purse_of: Callable[[str], Budget | None] = lambda job: None
    callbacks: str | None = None
    ready: Callable[[], Awaitable[None]] | None = None
    time: Time = field(default_factory=Time)
