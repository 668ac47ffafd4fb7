"""Preparing a recording: whole where it fits into one request, in pieces where it does not."""

import io
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from mantisreed.audio.cuts import Span, choose_spans, smaller_spans, speech_in
from mantisreed.audio.decode import Decoder, Samples
from mantisreed.audio.encode import FORMATS, AudioFormat, Encoder, open_encoder
from mantisreed.audio.speech import SpeechListener
from mantisreed.engines.card import Accepts, EngineCard
from mantisreed.engines.request import Piece
from mantisreed.errors import TooBigError
from mantisreed.units import short_size

_LEAST_PIECE = 5.0  # seconds; what is too big even then is refused
_GOOD_PIECE = 60.0  # seconds; a format that only fits less is passed over for a smaller one
_SHARE_OF_RAW = {"flac": 0.75, "wav": 1.0}  # size of lossless formats against 16-bit samples, on the safe side


@dataclass(frozen=True, slots=True)
class Survey:
    """What one pass over a recording brought.

    Attributes:
        duration: seconds.
        speech: where somebody speaks, (start, end) in seconds.
        notes: what is wrong with the recording itself.
        whole: all of it as one piece; None when it does not fit into one request.
        form: how its pieces are encoded otherwise.
        spans: its pieces; one when it is sent whole.
    """

    duration: float
    speech: tuple[tuple[float, float], ...]
    notes: tuple[str, ...]
    whole: Piece | None
    form: AudioFormat
    spans: tuple[Span, ...]


def survey(path: Path, card: EngineCard, *, track: int | None = None, piece_length: float | None = None) -> Survey:
    """Decode a recording once: listen for speech, and encode it as long as it fits into one request.

    Raises:
        RecordingError: it cannot be read as sound.
        TooBigError: not even a few seconds of it fit into one request.
    """
    accepts = card.accepts
    form = FORMATS[accepts.formats[0]]
    longest = min(accepts.longest, piece_length or math.inf)
    decoder = Decoder(path, sample_rate=accepts.sample_rate, track=track)
    listener = SpeechListener(accepts.sample_rate)
    sink = io.BytesIO()
    fits = True
    with open_encoder(sink, form, sample_rate=accepts.sample_rate) as encoder:
        for block in listener.through(decoder):
            fits = fits and decoder.seconds <= longest and sink.tell() <= (accepts.most_bytes or math.inf)
            if fits:
                encoder.write(block)
    speech = tuple((stretch.start, stretch.end) for stretch in listener.stretches())
    notes = tuple(decoder.damage())
    audio = sink.getvalue() if fits else b""
    if fits and len(audio) <= (accepts.most_bytes or math.inf):
        piece = Piece(audio, form, accepts.sample_rate, 1, decoder.seconds, speech)
        return Survey(decoder.seconds, speech, notes, piece, form, (Span(0.0, decoder.seconds),))
    form, limit = _form_for_pieces(accepts, longest)
    if limit < _LEAST_PIECE:
        raise _hopeless(card, _LEAST_PIECE)
    spans = choose_spans(speech, decoder.seconds, limit, overlap=min(4.0, limit / 4))
    return Survey(decoder.seconds, speech, notes, None, form, tuple(spans))


def encoded_pieces(
    path: Path,
    card: EngineCard,
    form: AudioFormat,
    spans: Sequence[Span],
    speech: Sequence[tuple[float, float]],
    *,
    track: int | None = None,
) -> Iterator[tuple[Span, Piece]]:
    """The spans of a recording, encoded, in order; memory does not grow with the recording.

    A piece that turns out over the engine's cap is cut smaller.

    Raises:
        TooBigError: a few seconds are over the cap already.
    """
    accepts = card.accepts
    cap = accepts.most_bytes or math.inf
    for span, audio in _encoded(Decoder(path, sample_rate=accepts.sample_rate, track=track), form, spans):
        if len(audio) <= cap:
            yield span, Piece(audio, form, accepts.sample_rate, 1, span.length, speech_in(span, speech))
            continue
        smaller = halves(card, span, speech)
        yield from encoded_pieces(path, card, form, smaller, speech, track=track)


def halves(card: EngineCard, span: Span, speech: Sequence[tuple[float, float]]) -> list[Span]:
    """A span that is too big for the engine, as smaller ones.

    Raises:
        TooBigError: it is only a few seconds long.
    """
    if span.length < _LEAST_PIECE:
        raise _hopeless(card, span.length)
    return smaller_spans(span, speech)


def _form_for_pieces(accepts: Accepts, longest: float) -> tuple[AudioFormat, float]:
    """The first format in which pieces of a good length fit, and how many seconds fit; or else the smallest one."""
    raw = accepts.sample_rate * 2.0
    limits = []
    for name in accepts.formats:
        form = FORMATS[name]
        rate = form.bit_rate / 8 * 1.1 if form.bit_rate else raw * _SHARE_OF_RAW[name]
        limits.append((form, min(longest, (accepts.most_bytes or math.inf) / rate)))
    good = [entry for entry in limits if entry[1] >= min(_GOOD_PIECE, longest)]
    form, limit = good[0] if good else max(limits, key=lambda entry: entry[1])
    return form, limit


def _hopeless(card: EngineCard, seconds: float) -> TooBigError:
    cap = f"the {short_size(card.accepts.most_bytes)} " if card.accepts.most_bytes else "what "
    return TooBigError(
        f"even {seconds:.0f} s of the recording are over {cap}that it takes in one request",
        engine=card.name,
        advice="set accepts.most_bytes and accepts.formats in its card to what it takes",
    )


def _encoded(decoder: Decoder, form: AudioFormat, spans: Sequence[Span]) -> Iterator[tuple[Span, bytes]]:
    waiting = list(reversed(spans))
    growing: list[tuple[Span, io.BytesIO, Encoder]] = []
    rate, begin = decoder.sample_rate, 0
    for block in decoder:
        end = begin + block.shape[1]
        while waiting and round(waiting[-1].start * rate) < end:
            span, sink = waiting.pop(), io.BytesIO()
            growing.append((span, sink, open_encoder(sink, form, sample_rate=rate)))
        for span, _, encoder in growing:
            _write_part(encoder, block, round(span.start * rate) - begin, round(span.end * rate) - begin)
        while growing and round(growing[0][0].end * rate) <= end:
            yield _finished(*growing.pop(0))
        begin = end
    for entry in growing:
        yield _finished(*entry)


def _write_part(encoder: Encoder, block: Samples, start: int, end: int) -> None:
    part = block[:, max(0, start) : max(0, end)]
    if part.shape[1]:
        encoder.write(part)


def _finished(span: Span, sink: io.BytesIO, encoder: Encoder) -> tuple[Span, bytes]:
    encoder.close()
    return span, sink.getvalue()
