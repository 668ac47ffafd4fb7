"""What is done with the samples of a channel: heard, kept, encoded."""

import io
import math
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from mantisreed.audio.cuts import (
    FixedSpans,
    Span,
    SpanChooser,
    speech_in,
)
from mantisreed.audio.decode import IntSamples
from mantisreed.audio.encode import Encoder, open_encoder
from mantisreed.audio.formats import AudioFormat
from mantisreed.audio.speech import SpeechListener, SpeechSegment
from mantisreed.pipeline.preparing.cut_limits import Speech

_QUEUED_WRITES = 8  # blocks that wait for the encoder; more would only take memory

_CHUNK = 1 << 20  # samples


@dataclass(frozen=True, slots=True)
class EncodingJob:
    """A piece whose audio is being encoded."""

    span: Span
    speech: Speech
    channel: int | None
    audio: "Future[bytes]"


class ChannelPipeline:
    """One channel on its way: heard, kept for as long as it may be needed, and written into
    pieces.
    """

    def __init__(
        self,
        pool: ThreadPoolExecutor,
        form: AudioFormat,
        rate: int,
        chooser: SpanChooser | FixedSpans,
        channel: int | None,
    ) -> None:
        self._pool, self._form, self._rate, self._channel = pool, form, rate, channel
        self._listener = SpeechListener(rate)
        self._chooser = chooser
        self._samples = SampleBuffer()
        self._speech: list[tuple[float, float]] = []
        self._open: _EncodingQueue | None = None
        self.heard: list[tuple[float, float]] = []

    def hear(self, samples: IntSamples) -> list[EncodingJob]:
        """Take the next samples; gives the pieces that are certain now."""
        self._samples.add(samples)
        jobs = self._settled(self._listener.hear(samples), self._listener.settled)
        # What surely belongs to the open piece is encoded before its end is known: otherwise all
        # of a long piece would wait in memory for its last second.
        if (sure := self._chooser.sure_span) is not None:
            self._write(sure.start, sure.end)
        if self._open is None:
            needed = math.floor(self._chooser.needed_from * self._rate)
        else:
            needed = self._open.written
        self._samples.forget(needed)
        return jobs

    def finish(self, duration: float) -> list[EncodingJob]:
        """The rest of the pieces."""
        jobs = self._settled(self._listener.finish(), duration)
        return jobs + self._jobs(self._chooser.finish(duration))

    def _settled(self, heard: Iterable[SpeechSegment], until: float) -> list[EncodingJob]:
        """Take in where somebody speaks; up to `until` no more of it will come."""
        stretches = [(stretch.start, min(stretch.end, until)) for stretch in heard]
        self.heard += stretches
        self._speech += stretches
        jobs = self._jobs(self._chooser.hear(stretches, until))
        if jobs:
            first = self._chooser.needed_from
            self._speech = [stretch for stretch in self._speech if stretch[1] > first]
        return jobs

    def _jobs(self, spans: Iterable[Span]) -> list[EncodingJob]:
        jobs = []
        for span in spans:
            writer = self._write(span.start, span.end)
            self._open = None
            jobs.append(
                EncodingJob(span, speech_in(span, self._speech), self._channel, writer.close())
            )
        return jobs

    def _write(self, start: float, end: float) -> "_EncodingQueue":
        """Bring the open piece, or a new one, up to `end`."""
        if self._open is None:
            self._open = _EncodingQueue(
                self._pool, self._form, self._rate, round(start * self._rate)
            )
        writer, until = self._open, round(end * self._rate)
        if until > writer.written:
            writer.write(self._samples.part(writer.written, until), until)
        return writer


class SampleBuffer:
    """Samples since some moment, in chunks of one size: blocks kept as they come would leave memory
    full of holes.
    """

    def __init__(self) -> None:
        self._chunks: deque[IntSamples] = deque()
        self._first = 0  # the sample that the first chunk begins with
        self._end = 0

    def add(self, block: IntSamples) -> None:
        """Keep more samples."""
        while len(block):
            filled = (self._end - self._first) % _CHUNK
            if filled == 0:
                self._chunks.append(np.empty(_CHUNK, np.int16))
            fitting = block[: _CHUNK - filled]
            self._chunks[-1][filled : filled + len(fitting)] = fitting
            self._end += len(fitting)
            block = block[len(fitting) :]

    def part(self, first: int, last: int) -> list[IntSamples]:
        """Samples `first` up to `last`, counted from the recording's start, without copying."""
        parts, begin, last = [], self._first, min(last, self._end)
        for chunk in self._chunks:
            part = chunk[max(0, first - begin) : max(0, last - begin)]
            if len(part):
                parts.append(part)
            begin += _CHUNK
        return parts

    def forget(self, before: int) -> None:
        """Chunks that lie wholly before a sample are not needed any more."""
        while self._first + _CHUNK <= min(before, self._end):
            self._first += len(self._chunks.popleft())


class _EncodingQueue:
    """One piece being encoded on another thread, in the order of its parts."""

    def __init__(self, pool: ThreadPoolExecutor, form: AudioFormat, rate: int, first: int) -> None:
        self._pool, self._sink = pool, io.BytesIO()
        self._encoder: Encoder | None = None
        self._form, self._rate = form, rate
        self._queue: deque[Future[None]] = deque()
        self.written = first  # sample

    def write(self, parts: Sequence[IntSamples], until: int) -> None:
        self.written = until
        self._queue.append(self._pool.submit(self._encode, parts))
        # Waiting here holds back the decoder, which is faster than most encoders.
        if len(self._queue) > _QUEUED_WRITES:
            self._queue.popleft().result()

    def close(self) -> "Future[bytes]":
        """The whole piece, encoded, when that is done."""
        return self._pool.submit(self._close, list(self._queue))

    def _encode(self, parts: Sequence[IntSamples]) -> None:
        if self._encoder is None:
            self._encoder = open_encoder(self._sink, self._form, sample_rate=self._rate)
        for part in parts:
            self._encoder.write(part[np.newaxis])

    def _close(self, writes: Sequence["Future[None]"]) -> bytes:
        for write in writes:
            write.result()
        # A piece without samples needs an encoder too: its file has a head.
        self._encode(())
        assert self._encoder is not None
        self._encoder.close()
        return self._sink.getvalue()


def encoded_piece(
    blocks: Iterable[IntSamples], form: AudioFormat, rate: int, spans: Sequence[Span], first: float
) -> Iterator[tuple[Span, bytes]]:
    """Spans of a stream of samples that begins at `first`, in seconds of the recording, encoded, in
    order.
    """
    samples, waiting, heard, base = SampleBuffer(), deque(spans), 0, round(first * rate)
    for block in blocks:
        samples.add(block)
        heard += len(block)
        while waiting and round(waiting[0].end * rate) - base <= heard:
            span = waiting.popleft()
            yield span, _encoded_part(samples, form, rate, span, base)
        if not waiting:
            return
        samples.forget(round(waiting[0].start * rate) - base)
    for span in waiting:
        yield span, _encoded_part(samples, form, rate, span, base)


def _encoded_part(
    samples: SampleBuffer, form: AudioFormat, rate: int, span: Span, base: int
) -> bytes:
    sink = io.BytesIO()
    with open_encoder(sink, form, sample_rate=rate) as encoder:
        for part in samples.part(round(span.start * rate) - base, round(span.end * rate) - base):
            encoder.write(part[np.newaxis])
    return sink.getvalue()
