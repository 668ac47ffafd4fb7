"""Preparing a recording: decoded, listened to, cut and encoded in one pass, piece after piece while
it streams by.
"""

import io
import math
import os
from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path
from typing import Literal, TypeAlias

import msgspec
import numpy as np

from mantisreed.audio.containers import Contents, Track, probe
from mantisreed.audio.cuts import (
    LONG_SILENCE,
    OVERLAP,
    CutRules,
    FixedSpans,
    Span,
    SpanChooser,
    smaller_spans,
    speech_in,
)
from mantisreed.audio.decode import SAMPLE_RATE, IntSamples
from mantisreed.audio.encode import Encoder, decoded_lossless, open_encoder
from mantisreed.audio.formats import FORMATS, AudioFormat
from mantisreed.audio.speech import SpeechListener, Stretch, union
from mantisreed.audio.tracks import track_to_take, why_taken
from mantisreed.audio.workers import DecodingWorkers, LocalStream, SoundStream
from mantisreed.engines.card import Accepts, EngineCard
from mantisreed.engines.request import Piece
from mantisreed.errors import InputError, TooBigError
from mantisreed.files import give_back_memory
from mantisreed.units import duration_given, short_size

GOOD_PIECE = 600.0
"""Seconds; what has to be cut is cut into pieces of at most this, so that the first leave soon and
many at once.
"""

_LEAST_PIECE = 5.0  # seconds; what is too big even then is refused
_SHORTEST_OVERLAP = 1.0  # seconds; shorter ones hold no whole word
_FAIR_PIECE = 60.0  # seconds; a format that only fits less is passed over for a smaller one
_HEADER = 1000  # bytes of a container's header at most
_LOSSY_SHARE = 1.1  # of what the bit rate says: containers and variable rates
_LEAST_BIT_RATE = {"opus": 12_000, "webm": 12_000, "mp3": 24_000}
_ROUNDING = 0.01  # seconds
_QUEUED_WRITES = 8
_ENCODED_AT_ONCE = 1  # pieces that are waited for, beside the one that grows
_CHUNK = 1 << 20  # samples

Channels: TypeAlias = Literal["mix", "apart"] | int
"""Which channels are sent: all as one, each alone, or only the one with this number, from 1."""

Speech: TypeAlias = tuple[tuple[float, float], ...]
"""Where somebody speaks, (start, end) in seconds."""


def channels_named(given: str, where: str) -> Channels:
    """What `mix`, `apart` or a number says.

    Raises:
        InputError: it is none of these.
    """
    if given == "mix":
        return "mix"
    if given == "apart":
        return "apart"
    if given.isdecimal() and int(given) > 0:
        return int(given)
    raise InputError(f"{given!r} is neither mix nor apart nor the number of a channel", where=where)


class PieceOptions(msgspec.Struct, frozen=True):
    """How a user wants recordings to be prepared; the ledger keeps it with each job.

    Attributes:
        track: which track of sound, from 1; None takes the default one, or the first on which
            somebody speaks.
        channels: which channels of it.
        piece_length: seconds of a piece at most, if less than the engine takes.
        overlap: seconds that all neighbouring pieces share; None lets them overlap only where there
            is no pause.
        keep_silence: send long silence as well, and recordings in which nobody seems to speak.
        untouched: keep a recording that fits into one request exactly as it is.
        spans: send these stretches only, (start, end) in seconds, in order and apart; empty for all
            of it.
    """

    track: int | None = None
    channels: Channels = "mix"
    piece_length: float | None = None
    overlap: float | None = None
    keep_silence: bool = False
    untouched: bool = False
    spans: Speech = ()


def piece_options_given(
    where: Callable[[str], str],
    *,
    track: int | None = None,
    channels: str | None = None,
    piece_length: str | None = None,
    overlap: str | None = None,
    keep_silence: bool = False,
) -> PieceOptions:
    """How recordings are to be prepared.

    Args:
        where: how an option is called, given its name here.
        track: which track of sound, from 1; None takes the default one.
        channels: `mix`, `apart`, or a number; None mixes.
        piece_length, overlap: durations as they are written.
        keep_silence: whether what is silent is sent too.

    Raises:
        InputError: one of them makes no sense.
    """
    length = duration_given(piece_length, where("piece_length"))
    if length is not None and length < _LEAST_PIECE:
        raise InputError(
            f"a piece has to last {_LEAST_PIECE:g} s or more", where=where("piece_length")
        )
    shared = duration_given(overlap, where("overlap"))
    if shared is not None and shared < _SHORTEST_OVERLAP:
        raise InputError(
            f"an overlap has to last {_SHORTEST_OVERLAP:g} s or more", where=where("overlap")
        )
    longest = (length or 60.0) / 4
    if shared and shared > longest:
        raise InputError(
            f"neighbouring pieces can share at most a quarter of a piece, {longest:g} s",
            where=where("overlap"),
        )
    return PieceOptions(
        track=track,
        channels=channels_named(channels or "mix", where("channels")),
        piece_length=length,
        overlap=shared,
        keep_silence=keep_silence,
    )


class CutLimits(msgspec.Struct, frozen=True):
    """By which limits a recording is cut. Cuts follow from these, the sound and the user's options
    alone.

    The ledger keeps them with each job: one that is partly answered is cut the same again, whatever
    has changed on the card.

    Attributes:
        form, bit_rate, sample_rate: how pieces are encoded.
        longest: seconds of a piece at most; None when the recording is expected to fit into one
            request.
        repeats: whether neighbouring pieces share words, so that speakers can be matched.
        long_silence: seconds of silence that are worth a request of their own on either side.
    """

    form: str
    bit_rate: int | None
    sample_rate: int
    longest: float | None
    repeats: bool
    long_silence: float

    @property
    def encoding(self) -> AudioFormat:
        """How pieces are encoded."""
        return replace(FORMATS[self.form], bit_rate=self.bit_rate)

    def fit(self, card: EngineCard, duration: float | None) -> bool:
        """Whether the engine takes what is encoded so; single pieces that are too long or too big
        are cut again.
        """
        accepts = card.accepts
        if self.longest is None and (duration or 0.0) > accepts.max_duration:
            return False  # all of it in one piece would only be made to be cut again
        return self.form in accepts.formats and self.sample_rate == accepts.sample_rate


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
        self._is_closed = False
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
        """Stop preparing, when no more pieces are wanted."""
        self._is_closed = True
        # Another thread is at work on the next piece; it stops by itself.
        with suppress(ValueError):  # see above
            self._pieces.close()

    def __iter__(self) -> Iterator[PreparedPiece]:
        return self._pieces

    def _prepared(self) -> Generator[PreparedPiece]:
        # What is written while it is heard has to be written in order, so that one thread does it.
        with ThreadPoolExecutor(1 if self.is_whole else os.cpu_count()) as pool:
            try:
                yield from self._streamed(pool)
            finally:
                pool.shutdown(wait=True, cancel_futures=True)

    def _streamed(self, pool: ThreadPoolExecutor) -> Iterator[PreparedPiece]:
        waiting: deque[_Job] = deque()
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
        overlap = OVERLAP if options.overlap is None else options.overlap
        rules = CutRules(
            longest,
            overlap=min(overlap, longest / 4),
            # A channel that is sent alone is one speaker, so that there is nothing to match.
            repeats=options.overlap is not None or (limits.repeats and channel is None),
            keeps_silence=options.keep_silence or options.untouched,
            long_silence=limits.long_silence,
        )
        chooser = FixedSpans(options.spans) if options.spans else SpanChooser(rules)
        return ChannelPipeline(pool, limits.encoding, limits.sample_rate, chooser, channel)

    def _new_stream(self) -> SoundStream:
        channels = 1 if self._options.channels == "mix" else None
        return self._open_stream(self.track.number, self.limits.sample_rate, channels)

    def _open_stream(self, track: int, sample_rate: int, channels: int | None) -> SoundStream:
        open_stream = self._workers.stream if self._workers else LocalStream
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

    def _finished(self, job: "_Job") -> Iterator[PreparedPiece]:
        """The piece, or smaller ones when it is over what the engine takes."""
        accepts, audio = self._card.accepts, job.audio.result()
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
        if span.length <= _LEAST_PIECE:
            raise _hopeless(self._card, span.length)
        rate, form = self.limits.sample_rate, self.limits.encoding
        if form.lossless:
            # What was encoded is as good as the recording, and need not be looked for in it again.
            blocks, first = iter([decoded_lossless(audio, form)]), span.start
        else:
            row = (channel or 1) - 1
            blocks, first = (block[min(row, len(block) - 1)] for block in self._new_stream()), 0.0
        smaller = smaller_spans(span, speech, max(_LEAST_PIECE, longest))
        for part, part_audio in _encoded(blocks, form, rate, smaller, first):
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


@dataclass(frozen=True, slots=True)
class _Job:
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
        self._open: _Writer | None = None
        self.heard: list[tuple[float, float]] = []

    def hear(self, samples: IntSamples) -> list[_Job]:
        """Take the next samples; gives the pieces that are certain now."""
        self._samples.add(samples)
        jobs = self._settled(self._listener.hear(samples), self._listener.settled)
        if (sure := self._chooser.sure_span) is not None:
            self._write(sure.start, sure.end)
        if self._open is None:
            needed = math.floor(self._chooser.needed_from * self._rate)
        else:
            needed = self._open.written
        self._samples.forget(needed)
        return jobs

    def finish(self, duration: float) -> list[_Job]:
        """The rest of the pieces."""
        jobs = self._settled(self._listener.finish(), duration)
        return jobs + self._jobs(self._chooser.finish(duration))

    def _settled(self, heard: Iterable[Stretch], until: float) -> list[_Job]:
        """Take in where somebody speaks; up to `until` no more of it will come."""
        stretches = [(stretch.start, min(stretch.end, until)) for stretch in heard]
        self.heard += stretches
        self._speech += stretches
        jobs = self._jobs(self._chooser.hear(stretches, until))
        if jobs:
            first = self._chooser.needed_from
            self._speech = [stretch for stretch in self._speech if stretch[1] > first]
        return jobs

    def _jobs(self, spans: Iterable[Span]) -> list[_Job]:
        jobs = []
        for span in spans:
            writer = self._write(span.start, span.end)
            self._open = None
            jobs.append(_Job(span, speech_in(span, self._speech), self._channel, writer.close()))
        return jobs

    def _write(self, start: float, end: float) -> "_Writer":
        """Bring the open piece, or a new one, up to `end`."""
        if self._open is None:
            self._open = _Writer(self._pool, self._form, self._rate, round(start * self._rate))
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


class _Writer:
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
        self._encode(())
        assert self._encoder is not None
        self._encoder.close()
        return self._sink.getvalue()


def cut_limits(card: EngineCard, duration: float | None, options: PieceOptions) -> CutLimits:
    """By which limits a recording is cut for an engine.

    Args:
        card: of the engine.
        duration: of the recording in seconds, as its header has it; None when it does not say.
        options: of the user.

    Raises:
        TooBigError: not even a few seconds fit into one request.
    """
    form, longest = _form_and_length(card, duration, options)
    return CutLimits(
        form.name,
        form.bit_rate,
        card.accepts.sample_rate,
        None if longest is None else float(longest),
        # Speakers can only be matched by words that two pieces both hold.
        card.reply.tells_speakers,
        _worth_leaving_out(card),
    )


def _form_and_length(
    card: EngineCard, duration: float | None, options: PieceOptions
) -> tuple[AudioFormat, float | None]:
    """How pieces are encoded, and how long they may be; None when the recording fits into one
    request.

    Lossless where pieces of a fair length fit; otherwise as small as needed.
    """
    accepts, cap = card.accepts, card.accepts.max_bytes or math.inf
    longest = min(accepts.max_duration, options.piece_length or math.inf)
    first = FORMATS[accepts.formats[0]]
    if (
        duration is not None
        and duration <= longest
        and duration * _hoped_rate(accepts, first) <= cap
    ):
        return first, None
    if options.piece_length is None:
        longest = min(longest, GOOD_PIECE)
    room = max(0.0, cap - _HEADER)
    choices = [(form, min(longest, room / _rate(accepts, form))) for form in _forms(accepts)]
    fair = [choice for choice in choices if choice[1] >= min(_FAIR_PIECE, longest)]
    form, limit = fair[0] if fair else max(choices, key=lambda choice: choice[1])
    if limit < _LEAST_PIECE:
        raise _hopeless(card, _LEAST_PIECE)
    return form, limit


def _forms(accepts: Accepts) -> list[AudioFormat]:
    """All that the engine accepts, the best first; lossy ones at their usual bit rate and then at
    lower ones.
    """
    forms = [FORMATS[name] for name in accepts.formats]
    lower = []
    for share in (0.75, 0.5, 0.375):
        lower.extend(
            [
                replace(form, bit_rate=rate)
                for form in (forms)
                if form.bit_rate
                and (rate := round(form.bit_rate * share)) >= _LEAST_BIT_RATE[form.name]
            ]
        )
    return forms + lower


def _rate(accepts: Accepts, form: AudioFormat) -> float:
    """Bytes a second at most."""
    if form.bit_rate:
        return form.bit_rate / 8 * _LOSSY_SHARE
    return accepts.sample_rate * 2 * form.share_of_raw


def _hoped_rate(accepts: Accepts, form: AudioFormat) -> float:
    """Bytes a second when all is well."""
    if form.bit_rate:
        return form.bit_rate / 8
    return accepts.sample_rate * 2 * form.hoped_share


def _worth_leaving_out(card: EngineCard) -> float:
    """Seconds of silence from which two requests cost less than one that holds the silence."""
    step = float(card.price.billing_step) if card.price else 0.0
    return max(LONG_SILENCE, 2 * step)


def _hopeless(card: EngineCard, seconds: float) -> TooBigError:
    if card.accepts.max_bytes:
        cap = f"the {short_size(card.accepts.max_bytes)} "
    else:
        cap = "what "
    return TooBigError(
        f"even {seconds:.0f} s of the recording are over {cap}that it takes in one request",
        engine=card.name,
        advice="set accepts.max_bytes and accepts.formats in its card to what it takes",
    )


def _encoded(
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
