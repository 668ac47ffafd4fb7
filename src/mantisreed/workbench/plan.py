"""What a run would send, and what it would cost, before anything is sent."""

import asyncio
import logging
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path

import msgspec

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.card import RateLimit
from mantisreed.errors import InternalError, MantisreedError, RecordingError
from mantisreed.files import file_digest
from mantisreed.jobs.budget import billed_seconds, cost_of
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.records import LEDGER_FILE
from mantisreed.pipeline.options import TranscriptionOptions
from mantisreed.pipeline.preparing.cut_limits import CutLimits
from mantisreed.pipeline.preparing.pieces import Preparation, PreparedPiece
from mantisreed.pipeline.surroundings import identity_of
from mantisreed.running import run_interruptibly
from mantisreed.sources.local import local_file
from mantisreed.sources.recordings import Source
from mantisreed.workspace import Workspace

_log = logging.getLogger(__name__)


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


def plan_recordings(
    workspace: Workspace, options: TranscriptionOptions, recordings: Sequence[Source]
) -> list[PlannedRecording]:
    """What a run with these options would send. Recordings that are links are fetched; nothing is
    sent.
    """
    planner = _Planner(workspace, options)
    try:
        return [run_interruptibly(planner.planned(recording)) for recording in recordings]
    finally:
        planner.close()


def shortest_time(limit: RateLimit | None, requests: int) -> float:
    """Seconds from the first request to the last, when the engine's rate limit is all that holds
    them up.
    """
    if limit is None:
        return 0.0
    return max(0, requests - 1) // limit.requests * float(limit.window)


class _Planner:
    """Plans recordings one after the other; jobs that are partly answered are cut as before."""

    def __init__(self, workspace: Workspace, options: TranscriptionOptions) -> None:
        self._options, self._workers = options, DecodingWorkers()
        # A plan leaves no trace: where there is no ledger yet, none is begun. State that is not
        # this user's is not looked at.
        own = workspace.own_state
        self._scratch = tempfile.TemporaryDirectory(prefix="mantisreed-")
        has_ledger = own is not None and (
            workspace.ledger is not None or (own / LEDGER_FILE).is_file()
        )
        self._ledger = open_ledger(workspace) if has_ledger else None

    def close(self) -> None:
        self._workers.close()
        self._scratch.cleanup()
        if self._ledger is not None:
            self._ledger.close()

    async def planned(self, recording: Source) -> PlannedRecording:
        """The plan of one recording. Whatever goes wrong with it ends here, and is told."""
        try:
            async with local_file(recording, Path(self._scratch.name)) as path:
                return await asyncio.to_thread(self._plan, recording, path)
        except MantisreedError as error:
            if isinstance(error, RecordingError):
                error.where = recording.label
            return PlannedRecording(recording, error=error)
        except Exception as error:
            _log.exception("%s failed by an internal error", recording.label)
            return PlannedRecording(
                recording, error=InternalError.because(error, where=recording.label)
            )

    def _plan(self, recording: Source, path: Path) -> PlannedRecording:
        card = self._options.card
        prepared = Preparation(
            path, card, self._options.pieces, self._workers, limits=self._limits(path)
        )
        pieces: list[PlannedPiece] = []
        for piece in prepared:
            # The first of each channel has no seam before it.
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

    def _limits(self, path: Path) -> CutLimits | None:
        """By which limits the recording's job was cut; None when it is new."""
        if self._ledger is None:
            return None
        try:
            # As a run would cut it: where some of it was answered, along the same cuts.
            cuts = self._ledger.jobs.cuts(identity_of(self._options, file_digest(path)))
        except OSError:
            return None  # preparing it tells what is wrong
        if cuts:
            return msgspec.json.decode(cuts, type=CutLimits)
        return None


def _planned_piece(prepared: PreparedPiece, *, is_first: bool) -> PlannedPiece:
    span, piece = prepared.span, prepared.piece
    if is_first:
        seam = "start"
    elif span.overlaps:
        seam = "overlapped"
    else:
        seam = "clean"
    size, form = len(piece.audio), piece.form
    return PlannedPiece(
        span.start, span.end, seam, size, form.name, form.bit_rate, prepared.channel
    )
