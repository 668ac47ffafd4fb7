"""Reading a reply of any kind as passages with timed words."""

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Any

import msgspec

from mantisreed.cards.moments import moment_from
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.engines.oddities import Oddities
from mantisreed.engines.reading.passages import DocumentReader
from mantisreed.engines.reading.unpacking import (
    UnexpectedReplyError,
    bodies_of,
    documents_of,
    looks_packed,
)
from mantisreed.engines.reading.wholeness import check_says_something, says_no_speech
from mantisreed.engines.reading.word_times import ReplyContext
from mantisreed.engines.reading.words import TimedText
from mantisreed.engines.request import Piece
from mantisreed.errors import InputError
from mantisreed.limits import most_bytes, most_characters
from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.voices import single_voices
from mantisreed.transcript.document import Passage, SoundEvent, Word
from mantisreed.transcript.estimate import passages_over_speech, words_over_speech
from mantisreed.transcript.timing import passages_of
from mantisreed.transcript.writing import has_controls, without_controls
from mantisreed.units import short_size

_FILES = ("text", "srt", "vtt", "ttml", "ctm")


@dataclass(frozen=True, slots=True)
class ParsedReply:
    """What a reply says, times in seconds from the piece's start; no passages when nothing was
    heard.

    Attributes:
        passages, language: what was said, and in which language as the engine calls it.
        mended: words whose times made no sense and were made anew.
        events: sounds that are no speech.
        doubts: what in the reply is not as the card says, so that the transcript may be wrong.
        remarks: what else a reader may want to know.
    """

    passages: tuple[Passage, ...]
    language: str | None = None
    mended: int = 0
    events: tuple[SoundEvent, ...] = ()
    doubts: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


def read_reply(card: EngineCard, body: bytes, piece: Piece) -> ParsedReply:
    """The reading of a reply as the card says. Words without times get estimated ones, over the
    piece's speech.

    Raises:
        UnexpectedReplyError: the reply is not as the card says.
    """
    reply, oddities = card.reply, Oddities()
    bodies = bodies_of(reply, body)
    # Before anything is read: an answer for silence need not look like a reply.
    if says_no_speech(card, body):
        return ParsedReply(())
    for part in bodies:
        check_says_something(card, part)
    if reply.file is not None and not looks_packed(body):
        oddities.note("lacking", f"file ({reply.file}), as the reply is no archive")
    size, most = (
        sum(map(len, bodies)),
        most_bytes(piece.duration, is_document=reply.format not in _FILES),
    )
    if size > most:
        raise UnexpectedReplyError(
            f"{short_size(size)} are more than can be said of {piece.duration:.3g} s of sound"
        )
    if reply.format in _FILES:
        passages = _modest(_read_file(reply, b"".join(bodies), piece, oddities), piece)
        return ParsedReply(passages, doubts=oddities.doubts, remarks=oddities.remarks)
    documents = list(chain.from_iterable(documents_of(reply, part) for part in bodies))
    context = ReplyContext(
        piece.duration,
        piece.sample_rate,
        reply.times,
        _zero(reply, documents),
        reply.confidence_scale,
        oddities,
    )
    reader = DocumentReader(reply, context)
    try:
        passages = _modest(_read_documents(reply, reader, documents, piece, oddities), piece)
        language = reader.language(documents)
    except RecursionError:
        raise UnexpectedReplyError("it has too many levels") from None
    _note_what_is_lacking(reply, passages, oddities)
    _note_what_is_unheard(reply, passages, piece, oddities)
    events = tuple(_event(found, piece) for found in reader.events)
    return ParsedReply(passages, language, 0, events, oddities.doubts, oddities.remarks)


def _read_documents(
    reply: Reply, reader: DocumentReader, documents: Sequence[Any], piece: Piece, oddities: Oddities
) -> list[Passage]:
    # Both, where a card has both: they tell each other's mistakes.
    text = reader.text(documents) if reply.text else ""
    _check_length(len(text), piece)
    if not (reply.passages or reply.words):
        oddities.look_at(text, is_word=False)
        return list(_estimated(text, piece))
    passages = reader.passages(documents)
    if text and not passages:
        raise UnexpectedReplyError(
            f"reply.text ({reply.text}) finds text, but no passage or word is found"
        )
    _check_length(sum(len(passage.text) for passage in passages), piece)
    # Those with words keep them.
    if any(not passage.words for passage in passages):
        passages = passages_over_speech(
            [_within(passage, piece) for passage in passages], piece.speech
        )
    return passages


def _check_length(characters: int, piece: Piece) -> None:
    if characters > most_characters(piece.duration):
        raise UnexpectedReplyError(
            f"{characters} characters are more than anybody says in {piece.duration:.3g} s of sound"
        )


def _modest(passages: Iterable[Passage], piece: Piece) -> tuple[Passage, ...]:
    """The passages, if they are no more than can be said; their texts without what no text
    holds.
    """
    found, characters = [], 0
    for passage in passages:
        characters += len(passage.text)
        _check_length(characters, piece)
        found.append(_without_controls(passage))
    return tuple(passage for passage in found if passage.text or passage.words)


def _without_controls(passage: Passage) -> Passage:
    texts = (
        passage.text,
        passage.speaker or "",
        *passage.alternatives,
        *(word.text for word in passage.words),
    )
    if not any(map(has_controls, texts)):
        return passage
    words = tuple(
        msgspec.structs.replace(word, text=without_controls(word.text)) for word in passage.words
    )
    return msgspec.structs.replace(
        passage,
        text=without_controls(passage.text),
        speaker=without_controls(passage.speaker) if passage.speaker else passage.speaker,
        alternatives=tuple(map(without_controls, passage.alternatives)),
        words=tuple(word for word in words if word.text),
    )


def _within(passage: Passage, piece: Piece) -> Passage:
    """A passage with an end, so that words can be laid over what is between."""
    if math.isfinite(passage.end):
        return passage
    return Passage(passage.start, piece.duration, passage.text, passage.speaker)


def _zero(reply: Reply, documents: Sequence[Any]) -> float:
    """The moment at which the recording begins, where times are moments; else 0."""
    if reply.zero is None:
        return 0.0
    for document in documents:
        found = reply.zero.find(document)
        if found is not None:
            moment = moment_from(found)
            if moment is None:
                raise UnexpectedReplyError(
                    f"reply.zero ({reply.zero}) finds {str(found)[:80]!r}, which is no moment"
                )
            return moment
    raise UnexpectedReplyError(f"reply.zero ({reply.zero}) finds nothing")


def _note_what_is_lacking(reply: Reply, passages: Sequence[Passage], oddities: Oddities) -> None:
    """Note paths of the card that find nothing in the whole reply: the card may be wrong, or the
    engine silent.
    """
    words = list(chain.from_iterable(passage.words for passage in passages))
    if not words:
        return
    confidences = [
        table.confidence for table in (reply.words, reply.passages) if table and table.confidence
    ]
    # One that is there shows that the path is right.
    if confidences and all(word.confidence is None for word in words):
        oddities.note("lacking", f"confidence ({confidences[0]})")
    speakers = [table.speaker for table in (reply.words, reply.passages) if table and table.speaker]
    if speakers and all(passage.speaker is None for passage in passages):
        oddities.note("lacking", f"speaker ({speakers[0]})")


# A stream that broke off lacks more than what an engine leaves out, such as a cough at the end.
_UNHEARD_SECONDS, _UNHEARD_SHARE = 1.5, 0.2


def _note_what_is_unheard(
    reply: Reply, passages: Sequence[Passage], piece: Piece, oddities: Oddities
) -> None:
    """Note that the words of a stream end long before the speech does. A reply in one document is
    whole when it can be read; a stream may have broken off between two lines.
    """
    is_timed = any(table and table.has_times for table in (reply.passages, reply.words))
    # Without times of its own its end is where the speech ends anyway.
    if reply.format not in ("lines", "events") or not is_timed or not passages:
        return
    end = max(passage.end for passage in passages)
    # Only behind the last word: an engine may well pass over what is before it.
    unheard = sum(max(0.0, stop - max(start, end)) for start, stop in piece.speech)
    speech = sum(stop - start for start, stop in piece.speech)
    if unheard >= max(_UNHEARD_SECONDS, _UNHEARD_SHARE * speech):
        last = max(stop for _, stop in piece.speech)
        oddities.note("unheard", f"words end at {end:.1f} s, speech at {last:.1f} s")


def _event(found: TimedText, piece: Piece) -> SoundEvent:
    if math.isfinite(found.start):
        start = found.start
    else:
        start = 0.0
    if math.isfinite(found.end):
        end = found.end
    else:
        end = start
    return SoundEvent(without_controls(found.text), start, min(max(start, end), piece.duration))


def _read_file(reply: Reply, body: bytes, piece: Piece, oddities: Oddities) -> Iterator[Passage]:
    """What stands in a file of text, subtitles or timed words."""
    text = body.decode("utf-8-sig", "replace")
    if reply.format == "text":
        said = " ".join(text.split())
        _check_length(len(said), piece)
        oddities.look_at(said, is_word=False)
        yield from _estimated(said, piece)
    elif reply.format == "ctm":
        yield from _read_ctm(text, piece)
    else:
        subtitles = _subtitles(reply.format, text)
        is_empty_file = reply.format == "ttml" or (
            reply.format == "vtt" and text.lstrip().startswith("WEBVTT")
        )
        if not subtitles.cues and text.strip() and not is_empty_file:
            raise UnexpectedReplyError(f"it is no {reply.format.upper()}: no cue is in it")
        for remark in subtitles.remarks:
            place = f" (cue {remark.cue})" if remark.cue else ""
            oddities.note("cue", remark.what + place)
        for cue in single_voices(subtitles.cues):
            if any(cue.lines):
                oddities.look_at(cue.text, is_word=False)
                yield _from_cue(cue, piece)


def _subtitles(form: str, text: str) -> Subtitles:
    from mantisreed.formats.srt import read_srt
    from mantisreed.formats.ttml_reading import read_ttml
    from mantisreed.formats.vtt import read_webvtt

    readers = {"srt": read_srt, "vtt": read_webvtt, "ttml": read_ttml}
    try:
        return readers[form](text)
    except InputError as error:
        raise UnexpectedReplyError(f"it is no {form.upper()}: {error.what}") from None


_CTM_FIELDS = 5  # file, channel, start, length, word; a confidence may follow


def _read_ctm(text: str, piece: Piece) -> Iterator[Passage]:
    """Time-marked conversation files, as NIST's scoring tools define them: a word on each line."""
    by_channel: dict[str, list[Word]] = {}
    for number, line in enumerate(text.splitlines(), 1):
        # Remarks, as programs that write CTM put them there.
        if line.strip() and not line.lstrip().startswith((";;", "#")):
            channel, word = _ctm_word(number, line, piece)
            by_channel.setdefault(channel, []).append(word)
    remarks = (line.startswith((";;", "#")) for line in text.split("\n") if line)
    if not by_channel and text.strip() and not all(remarks):
        raise UnexpectedReplyError("it is no CTM")
    found: list[Passage] = []
    for channel, words in by_channel.items():
        passages = list(passages_of(sorted(words, key=lambda word: word.start)))
        if len(by_channel) > 1:
            passages = [_said_on(passage, channel) for passage in passages]
        found += passages
    yield from sorted(found, key=lambda passage: passage.start)


def _ctm_word(number: int, line: str, piece: Piece) -> tuple[str, Word]:
    """The channel and the word of a line.

    Raises:
        UnexpectedReplyError: it has none.
    """
    fields = line.split()
    confidence = None
    try:
        start, length = float(fields[2]), float(fields[3])
        if len(fields) > _CTM_FIELDS and fields[5] != "NA":
            confidence = float(fields[5])
    except (IndexError, ValueError):
        raise UnexpectedReplyError(f"line {number} is not CTM: {line[:80]}") from None
    if len(fields) < _CTM_FIELDS or not (math.isfinite(start) and math.isfinite(length)):
        raise UnexpectedReplyError(f"line {number} is not CTM: {line[:80]}")
    # Some room at the end, as encoders and engines add silence.
    if start < 0 or length < 0 or start + length > piece.duration * 1.05 + 2.0:
        raise UnexpectedReplyError(f"line {number} has a time outside the piece: {line[:80]}")
    # A score of another scale, which CTM does not name.
    if confidence is not None and not 0.0 <= confidence <= 1.0:
        confidence = None
    end = min(start + length, piece.duration)
    return fields[1], Word(fields[4], min(start, piece.duration), end, confidence)


def _said_on(passage: Passage, channel: str) -> Passage:
    return Passage(passage.start, passage.end, passage.text, channel, words=passage.words)


def _estimated(text: str, piece: Piece) -> tuple[Passage, ...]:
    if text:
        return words_over_speech(text, piece.speech, piece.duration)
    return ()


def _from_cue(cue: Cue, piece: Piece) -> Passage:
    start, end = min(cue.start, piece.duration), min(cue.end, piece.duration)
    passage = Passage(start, max(start, end), cue.text, cue.speaker, words=cue.words)
    return passages_over_speech([passage], piece.speech)[0]
