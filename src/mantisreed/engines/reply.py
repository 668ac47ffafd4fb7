"""Reading a reply of any kind as passages with timed words."""

import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from mantisreed.engines.card import EngineCard, Reply
from mantisreed.engines.reply_paths import ReplyReader, UnexpectedReplyError
from mantisreed.engines.request import Piece
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.srt import read_srt
from mantisreed.subtitles.vtt import read_webvtt
from mantisreed.transcript.document import Passage
from mantisreed.transcript.estimate import passages_over_speech, words_over_speech


@dataclass(frozen=True, slots=True)
class ParsedReply:
    """What a reply says, times in seconds from the piece's start; no passages when nothing was heard.

    Attributes:
        passages, language: what was said, and in which language as the engine calls it.
        mended: words whose times made no sense and were made anew.
    """

    passages: tuple[Passage, ...]
    language: str | None = None
    mended: int = 0


def read_reply(card: EngineCard, body: bytes, piece: Piece) -> ParsedReply:
    """The reading of a reply as the card says. Words without times get estimated ones, over the piece's speech.

    Raises:
        UnexpectedReplyError: the reply is not as the card says.
    """
    reply = card.reply
    if reply.kind in ("srt", "vtt", "text"):
        text = body.decode("utf-8-sig", "replace")
        if reply.kind == "text":
            return ParsedReply(_estimated(" ".join(text.split()), piece))
        cues = (read_srt if reply.kind == "srt" else read_webvtt)(text).cues
        if not cues and _holds_words(text):
            raise UnexpectedReplyError(f"it is no {reply.kind.upper()}: no cue is in it")
        return ParsedReply(tuple(_from_cue(cue, piece) for cue in cues if any(cue.lines)))
    if reply.kind in ("events", "lines"):
        return ParsedReply(_estimated(" ".join(joined_parts(reply, body).split()), piece))
    return _read_json(card, body, piece)


def joined_parts(reply: Reply, body: bytes) -> str:
    """The whole text of a reply that came bit by bit.

    Raises:
        UnexpectedReplyError: an item is not JSON, or none has text.
    """
    assert reply.text is not None
    items = events_in(body) if reply.kind == "events" else lines_in(body)
    parts, count = [], 0
    for item in items:
        if item == reply.ends:
            break
        count += 1
        try:
            part = reply.text.find(json.loads(item))
        except ValueError:
            raise UnexpectedReplyError(f"item {count} of the {reply.kind} is not JSON: {item[:80]}") from None
        if isinstance(part, str):
            parts.append(part)
    if not count:
        raise UnexpectedReplyError(f"it has no {reply.kind}")
    if not parts:
        raise UnexpectedReplyError(f"reply.text ({reply.text}) finds no text in any of {count} {reply.kind}")
    return parts[-1] if reply.whole else "".join(parts)


def events_in(body: bytes) -> Iterator[str]:
    """The data of server-sent events, after the parsing rules of the HTML standard, 9.2.6."""
    data: list[str] = []
    for line in body.decode("utf-8-sig", "replace").replace("\r\n", "\n").replace("\r", "\n").split("\n"):
        if not line:
            if data:
                yield "\n".join(data)
            data = []
            continue
        name, _, value = line.partition(":")
        if name == "data":
            data.append(value.removeprefix(" "))
    if data:
        # The standard drops an event without its blank line; an engine that ends so has still said something.
        yield "\n".join(data)


def lines_in(body: bytes) -> Iterator[str]:
    """The lines that hold something."""
    return (line for line in body.decode("utf-8-sig", "replace").splitlines() if line.strip())


def _read_json(card: EngineCard, body: bytes, piece: Piece) -> ParsedReply:
    reply = card.reply
    try:
        document: Any = json.loads(body)
    except ValueError:
        raise UnexpectedReplyError("it is not JSON") from None
    except RecursionError:
        raise UnexpectedReplyError("its JSON is nested too deeply") from None
    reader = ReplyReader(reply, duration=piece.duration, sample_rate=piece.sample_rate)
    language = reply.language.find(document) if reply.language else None
    spoken = str(language) if language else None
    text = reader.text(reply.text, document, "reply.text") if reply.text else ""
    if not (reply.passages or reply.words):
        return ParsedReply(_estimated(text, piece), spoken)
    passages = reader.passages(document)
    if text and not passages:
        raise UnexpectedReplyError(f"reply.text ({reply.text}) finds text, but no passage or word is found")
    if any(not passage.words for passage in passages):
        passages = passages_over_speech(passages, piece.speech)
    return ParsedReply(tuple(passages), spoken)


def _estimated(text: str, piece: Piece) -> tuple[Passage, ...]:
    return words_over_speech(text, piece.speech, piece.duration) if text else ()


def _from_cue(cue: Cue, piece: Piece) -> Passage:
    start, end = min(cue.start, piece.duration), min(cue.end, piece.duration)
    passage = Passage(start, max(start, end), cue.text, cue.speaker, words=cue.words)
    return passages_over_speech([passage], piece.speech)[0]


def _holds_words(text: str) -> bool:
    return bool(text.strip()) and not text.lstrip().startswith("WEBVTT")
