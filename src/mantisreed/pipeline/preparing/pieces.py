"""Preparing a recording: decoded, listened to, cut and encoded in one pass, piece after piece while
it streams by.
"""

import math
import os
import threading
from collections import deque
from collections.abc import Generator, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import chain
from pathlib import Path
from typing import Self

import msgspec
import numpy as np

from mantisreed.audio.containers import Contents, Track, probe
from mantisreed.audio.cuts import (
    OVERLAP,
    CutRules,
    FixedSpans,
    Span,
    SpanChooser,
    smaller_spans,
    speech_in,
)
from mantisreed.audio.decode import SAMPLE_RATE, IntSamples
from mantisreed.audio.encode import decoded_lossless
from mantisreed.audio.speech import union
from mantisreed.audio.tracks import track_to_take, why_taken
from mantisreed.audio.workers import DecodingWorkers, LocalStream, SoundStream
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import Piece
from mantisreed.errors import InputError
from mantisreed.files import give_back_memory
from mantisreed.pipeline.preparing.cut_limits import (
    GOOD_PIECE,
    LEAST_PIECE,
    CutLimits,
    PieceOptions,
    Speech,
    cut_limits,
    hopeless,
)
from mantisreed.pipeline.preparing.encoding import ChannelPipeline, EncodingJob, encoded_piece

_ROUNDING = 0.01  # seconds
_LONG = 60.0  # seconds of sound whose buffers leave large holes in memory
_ENCODED_AT_ONCE = 1  # pieces that are waited for, beside the one that grows


@dataclass(frozen=True, slots=True)
class PreparedPiece:
    """One piece, ready to be sent; `channel` is from 1, None when the channels are mixed."""

    span: Span
    piece: Piece
    channel: int | None = None


class Preparation:
    """The pieces of one recording for one engine, as an iterable that can be gone through once.

    Memory does not grow with the recording's length: decoding waits until pieces are taken.

    Attributes:
        is_whole: whether the recording is expected to fit into one request.
        is_untouched: whether, moreover, its only piece is all of it.
        limits: by which it is cut.
        tags: what the recording says of itself, such as its title.
        track: the track of sound that is taken.
        is_finished: whether all of it is prepared.
        duration: seconds; of what has been decoded so far.
    """

    def __init__(
        self,
        path: Path,
        card: EngineCard,
        options: PieceOptions,
        workers: DecodingWorkers | None = None,
        *,
        limits: CutLimits | None = None,
    ) -> None:
        """Look at the recording's header.

        Args:
            path: of the recording.
            card: of the engine.
            options: how the user wants it.
            workers: where it is decoded; None decodes on the thread that goes through the pieces.
            limits: by which it was cut before; None, or what the card does not take any more, makes
                new ones.

        Raises:
            RecordingError: it cannot be read as sound, or has no such track.
            TooBigError: not even a few seconds of it fit into one request.
            InputError: it has no such channel.
        """
        contents = workers.contents(path) if workers else probe(path)
        self.tags = contents.tags
        self._path, self._workers = path, workers
        self.track, self._track_note = self._chosen_track(contents, options.track)
        channels = self.track.channels
        if isinstance(options.channels, int) and options.channels > max(1, channels):
            raise InputError(f"there is no channel {options.channels}", advice=f"it has {channels}")
        if channels <= 1:
            options = msgspec.structs.replace(options, channels="mix")
        self._card, self._options = card, options
        if limits is not None and limits.fit(card, contents.duration):
            fitting = limits
        else:
            fitting = None
        self.limits = fitting or cut_limits(card, contents.duration, options)
        self.is_whole = self.limits.longest is None
        self.is_untouched = options.untouched and self.is_whole
        self._stream = self._new_stream()
        self._pieces = self._prepared()
        self._turn = threading.Lock()
        self._is_closed = self.is_finished = False
        self._channels: list[ChannelPipeline] = []
        self._same = True

    @property
    def duration(self) -> float:
        """Seconds of sound that were read so far."""
        return self._stream.seconds

    @property
    def other_track(self) -> int | None:
        """The number of the track, where it was named or is not the default one."""
        is_default = self._options.track is None and self._track_note is None
        if is_default:
            return None
        return self.track.number

    @property
    def speech(self) -> Speech:
        """Where somebody speaks on any channel that is sent, (start, end) in seconds, so far."""
        return union(chain.from_iterable(channel.heard for channel in self._channels))

    @property
    def damage(self) -> tuple[str, ...]:
        """What is wrong with the recording itself; known when all pieces have been taken."""
        return tuple(self._stream.damage())

    @property
    def notes(self) -> tuple[str, ...]:
        """What the user may want to know; known when all pieces have been taken."""
        are_same = (
            self._same
            and len(self._channels) > 1
            and any(channel.heard for channel in self._channels)
        )
        same: tuple[str, ...] = ()
        if are_same:
            same = ("all channels are the same: sending them apart costs more and brings nothing",)
        return (*filter(None, [self._track_note]), *same, *self._stream.notes())

    def close(self) -> None:
        """Stop preparing, when no more pieces are wanted.

        A thread that is at work on the next piece is waited for; it stops at the next block.
        """
        self._is_closed = True
        with self._turn:
            self._pieces.close()

    def __iter__(self) -> Self:
        return self

    def __next__(self) -> PreparedPiece:
        with self._turn:
            return next(self._pieces)

    def _prepared(self) -> Generator[PreparedPiece]:
        # What is written while it is heard has to be written in order, so that one thread does it.
        pool = ThreadPoolExecutor(1 if self.is_whole else os.cpu_count())
        try:
            yield from self._streamed(pool)
        finally:
            # Its threads are not waited for: whoever drops this without closing it lets the
            # garbage collector come here, in the middle of anything, and waiting there may wait
            # for itself.
            pool.shutdown(wait=False, cancel_futures=True)

    def _streamed(self, pool: ThreadPoolExecutor) -> Iterator[PreparedPiece]:
        waiting: deque[EncodingJob] = deque()
        for block in self._stream:
            if self._is_closed:
                return
            for channel, row in self._rows(block, pool):
                waiting += channel.hear(row)
            while waiting and (len(waiting) > _ENCODED_AT_ONCE or waiting[0].audio.done()):
                yield from self._finished(waiting.popleft())
        for channel in self._channels:
            waiting += channel.finish(self.duration)
        while waiting:
            yield from self._finished(waiting.popleft())
        self.is_finished = True

    def _rows(
        self, block: IntSamples, pool: ThreadPoolExecutor
    ) -> Iterator[tuple["ChannelPipeline", IntSamples]]:
        """Each channel that is sent, and its part of a block."""
        wanted = self._options.channels
        if wanted == "apart":
            numbers = list(range(len(block)))
        else:
            numbers = [0 if wanted == "mix" else wanted - 1]
        if not self._channels:
            self._channels = [
                self._new_channel(pool, None if wanted == "mix" else number + 1)
                for number in numbers
            ]
        # A format that changes midway may have fewer channels than it began with.
        rows = [
            block[number] if number < len(block) else np.zeros_like(block[0]) for number in numbers
        ]
        self._same = self._same and all(np.array_equal(rows[0], row) for row in rows[1:])
        yield from zip(self._channels, rows, strict=False)

    def _new_channel(self, pool: ThreadPoolExecutor, channel: int | None) -> "ChannelPipeline":
        options, limits = self._options, self.limits
        longest = math.inf if limits.longest is None else limits.longest
        if options.overlap is None:
            overlap = OVERLAP
        else:
            overlap = options.overlap
        rules = CutRules(
            longest,
            overlap=min(overlap, longest / 4),
            # A channel that is sent alone is one speaker, so that there is nothing to match.
            repeats=options.overlap is not None or (limits.repeats and channel is None),
            keeps_silence=options.keep_silence or options.untouched,
            long_silence=limits.long_silence,
        )
        chooser: FixedSpans | SpanChooser = SpanChooser(rules)
        if options.spans:
            chooser = FixedSpans(options.spans)
        return ChannelPipeline(pool, limits.encoding, limits.sample_rate, chooser, channel)

    def _new_stream(self) -> SoundStream:
        channels = 1 if self._options.channels == "mix" else None
        return self._open_stream(self.track.number, self.limits.sample_rate, channels)

    def _open_stream(self, track: int, sample_rate: int, channels: int | None) -> SoundStream:
        if self._workers:
            open_stream = self._workers.stream
        else:
            open_stream = LocalStream
        return open_stream(self._path, sample_rate=sample_rate, channels=channels, track=track)

    def _chosen_track(self, contents: Contents, number: int | None) -> tuple[Track, str | None]:
        """The track that is taken, and what the user is told about the choice; None when
        nothing.
        """
        default = contents.chosen(number)
        if number is not None:
            return default, None
        taken = track_to_take(contents, lambda one: self._open_stream(one, SAMPLE_RATE, 1))
        return taken, None if taken is default else why_taken(taken, default)

    def _finished(self, job: "EncodingJob") -> Iterator[PreparedPiece]:
        """The piece, or smaller ones when it is over what the engine takes."""
        accepts, audio = self._card.accepts, job.audio.result()
        if job.span.length > _LONG:
            give_back_memory()
        cap = accepts.max_bytes or math.inf
        if len(audio) <= cap and job.span.length <= accepts.max_duration + _ROUNDING:
            yield self._piece(job.span, audio, job.speech, job.channel)
            return
        # Only this piece is cut again: if the next ones became shorter as well, the cuts would
        # depend on how many of them had been chosen by the time that this one was encoded.
        fits = cap / len(audio) * job.span.length * 0.95
        longest = min(fits, accepts.max_duration, GOOD_PIECE)
        yield from self._recut(self._piece(job.span, audio, job.speech, job.channel), longest)

    def recut(self, prepared: PreparedPiece) -> Iterator[PreparedPiece]:
        """A piece that proved too big for the engine, in smaller ones.

        Raises:
            TooBigError: it is only a few seconds long.
        """
        yield from self._recut(prepared, prepared.span.length * 0.6)

    def _recut(self, prepared: PreparedPiece, longest: float) -> Iterator[PreparedPiece]:
        span, speech, channel = prepared.span, prepared.piece.speech, prepared.channel
        audio = prepared.piece.audio
        if span.length <= LEAST_PIECE:
            raise hopeless(self._card, span.length)
        rate, form = self.limits.sample_rate, self.limits.encoding
        if form.lossless:
            # What was encoded is as good as the recording, and need not be looked for in it again.
            blocks, first = iter([decoded_lossless(audio, form)]), span.start
        else:
            row = (channel or 1) - 1
            blocks, first = (block[min(row, len(block) - 1)] for block in self._new_stream()), 0.0
        smaller = smaller_spans(span, speech, max(LEAST_PIECE, longest))
        for part, part_audio in encoded_piece(blocks, form, rate, smaller, first):
            piece = self._piece(
                part, part_audio, speech_in(part.later(-span.start), speech), channel
            )
            if len(part_audio) <= (self._card.accepts.max_bytes or math.inf):
                yield piece
            else:
                yield from self.recut(piece)

    def _piece(
        self, span: Span, audio: bytes, speech: Speech, channel: int | None
    ) -> PreparedPiece:
        piece = Piece(audio, self.limits.encoding, self.limits.sample_rate, 1, span.length, speech)
        return PreparedPiece(span, piece, channel)
