"""What a run would send, and what it would cost, before anything is sent."""

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path

from mantisreed.engines.card import Pace
from mantisreed.errors import MantisreedError, RecordingError
from mantisreed.jobs.money import billed_seconds, cost_of
from mantisreed.pipeline.orders import Order
from mantisreed.pipeline.pieces import Preparation, PreparedPiece
from mantisreed.pipeline.sources import Source, local_file


@dataclass(frozen=True, slots=True)
class PlannedPiece:
    """One request.

    Attributes:
        start, end: seconds from the recording's start.
        seam: how it begins: `start` for the first one, `clean` in silence, or `overlapped`.
        size: bytes.
        form: name of the audio format.
        bit_rate: bits per second; None for lossless formats.
        channel: from 1; None when the channels are mixed.
    """

    start: float
    end: float
    seam: str
    size: int
    form: str
    bit_rate: int | None = None
    channel: int | None = None


@dataclass(frozen=True, slots=True)
class PlannedRecording:
    """What would be sent of one recording.

    Attributes:
        recording: where it comes from.
        duration, speech: seconds of it, and seconds in which somebody speaks.
        pieces: one for each request.
        billed: seconds that the engine charges for.
        cost: in the currency of the card; None when its card names no price.
        notes: what is wrong with the recording, or worth knowing.
        error: why nothing can be sent of it; None when all is well.
    """

    recording: Source
    duration: float = 0.0
    speech: float = 0.0
    pieces: tuple[PlannedPiece, ...] = ()
    billed: float = 0.0
    cost: Decimal | None = None
    notes: tuple[str, ...] = ()
    error: MantisreedError | None = None


def plan_recordings(order: Order, recordings: Sequence[Source], hidden: Path) -> list[PlannedRecording]:
    """What a run with this order would send. Recordings that are links are fetched; nothing is sent."""
    return [asyncio.run(_planned(order, recording, hidden)) for recording in recordings]


def shortest_time(pace: Pace, requests: int) -> float:
    """Seconds from the first request to the last, when the engine's pace is all that holds them up."""
    return 0.0 if pace.requests is None else max(0, requests - 1) // pace.requests * float(pace.window)


async def _planned(order: Order, recording: Source, hidden: Path) -> PlannedRecording:
    try:
        async with local_file(recording, hidden / "fetched") as path:
            return await asyncio.to_thread(_plan, order, recording, path)
    except MantisreedError as error:
        if isinstance(error, RecordingError):
            error.where = recording.shown
        return PlannedRecording(recording, error=error)


def _plan(order: Order, recording: Source, path: Path) -> PlannedRecording:
    card = order.card
    prepared = Preparation(path, card, order.pieces)
    pieces: list[PlannedPiece] = []
    for piece in prepared:
        is_first = all(piece.channel != before.channel for before in pieces)
        pieces.append(_planned_piece(piece, is_first=is_first))
    billed = billed_seconds(card, [piece.end - piece.start for piece in pieces])
    return PlannedRecording(
        recording,
        prepared.duration,
        sum(end - start for start, end in prepared.speech),
        tuple(pieces),
        billed,
        cost_of(card, billed),
        (*prepared.damage, *prepared.notes),
    )


def _planned_piece(prepared: PreparedPiece, *, is_first: bool) -> PlannedPiece:
    span, piece = prepared.span, prepared.piece
    seam = "start" if is_first else "overlapped" if span.overlaps else "clean"
    size, form = len(piece.audio), piece.form
    return PlannedPiece(span.start, span.end, seam, size, form.name, form.bit_rate, prepared.channel)
