"""Reading an engine's answer: telling errors apart, and finding words by the card's paths."""

import json
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from mantisreed.engines.card import EngineCard, PassagePaths, WordPaths
from mantisreed.engines.secrets import Secret, without_secrets
from mantisreed.engines.tables import ReplyPath
from mantisreed.engines.transport import HttpAnswer
from mantisreed.errors import (
    BadRequestError,
    EngineBrokeError,
    EngineError,
    FormatRefusedError,
    RefusedError,
    SlowDownError,
    TooBigError,
    UnreadableReplyError,
)
from mantisreed.files import shown
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.timing import passages_of, with_estimated_words

_SECONDS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "100ns": 1e-7}
_QUOTED = 200

_KINDS: Mapping[int, tuple[type[EngineError], str, str | None]] = {
    400: (BadRequestError, "it does not understand the request", "compare the card with the engine's documentation"),
    401: (RefusedError, "it refuses the key", None),
    402: (RefusedError, "it wants to be paid first", "look at your account with this engine"),
    403: (RefusedError, "it does not let this key in", None),
    404: (BadRequestError, "nothing is at this address", "check address and send.path in its card"),
    405: (BadRequestError, "it does not take this method here", "check send.method in its card"),
    407: (RefusedError, "the proxy wants a password", None),
    408: (SlowDownError, "it waited too long for the request", "try again later"),
    413: (TooBigError, "the piece is too big for it", "set accepts.most_bytes in its card to what it really takes"),
    415: (
        FormatRefusedError,
        "it does not take this audio format",
        "set accepts.formats in its card to what it takes",
    ),
    422: (BadRequestError, "it does not understand the request", "compare the card with the engine's documentation"),
    429: (SlowDownError, "it asks for fewer requests", "set pace in its card, and try again later"),
}


@dataclass(frozen=True, slots=True)
class Reading:
    """What a reply says, times in seconds from the piece's start; no passages when nothing was heard."""

    passages: tuple[Passage, ...]
    language: str | None


def read_answer(card: EngineCard, answer: HttpAnswer, *, duration: float, secrets: Mapping[str, Secret]) -> Reading:
    """The reading of a good answer.

    Args:
        card: of the engine.
        answer: what came.
        duration: of the piece in seconds; times are kept within it.
        secrets: what must not be quoted in an error.

    Raises:
        EngineError: of the kind that the answer's status means, quoting the engine's words.
        UnreadableReplyError: the answer is not what the card says.
    """
    quoted = _quoted(answer.body, secrets.values())
    if not 200 <= answer.status < 300:
        raise _refusal(card, answer, quoted)
    try:
        document = json.loads(answer.body)
    except ValueError as error:
        raise UnreadableReplyError(
            f"its reply is not JSON: {quoted}", engine=card.name, status=answer.status, answer=quoted
        ) from error
    try:
        return _reading(card, document, duration)
    except _UnexpectedError as error:
        raise UnreadableReplyError(
            f"its reply is not as the card says: {error}",
            engine=card.name,
            status=answer.status,
            answer=quoted,
            advice=f"the reply began: {quoted}",
        ) from error


class _UnexpectedError(Exception):
    pass


def _refusal(card: EngineCard, answer: HttpAnswer, quoted: str) -> EngineError:
    kind, what, advice = _KINDS.get(answer.status, (BadRequestError, "it refuses the request", None))
    if 300 <= answer.status < 400:
        what = f"it sends elsewhere, to {shown(answer.headers.get('Location', '?'))}"
        advice = "put the new address into its card, if you trust it; secrets are not sent along"
    elif answer.status >= 500:
        kind, what, advice = EngineBrokeError, "it broke", "try again later"
    if kind is RefusedError and card.secrets and advice is None:
        advice = f"check the secret in {', '.join(str(source) for source in card.secrets.values())}"
    said = f", saying: {quoted}" if quoted else ""
    return kind(
        f"{what} (HTTP {answer.status}){said}", engine=card.name, status=answer.status, answer=quoted, advice=advice
    )


def _quoted(body: bytes, secrets: Sequence[Secret] | Any) -> str:
    text = " ".join(without_secrets(body[: 64 * _QUOTED].decode("utf-8", "replace"), secrets).split())
    text = "".join(character if character.isprintable() else "?" for character in text)
    return text if len(text) <= _QUOTED else text[:_QUOTED] + "..."


def _reading(card: EngineCard, document: object, duration: float) -> Reading:
    reply = card.reply
    language = reply.language.find(document) if reply.language else None
    text = _text(reply.text, document, "reply.text") if reply.text else ""
    unit = _SECONDS[reply.times]
    if reply.passages:
        items = _items(reply.passages.each, document, "reply.passages.each")
        passages = tuple(_passages(reply.passages, reply.words, items, unit, duration))
    elif reply.words:
        words = _words(reply.words, document, unit, duration)
        passages = tuple(passages_of(sorted(words, key=lambda word: word.start)))
    else:
        passages = (with_estimated_words(Passage(0.0, duration, text)),) if text else ()
    if text and not passages:
        raise _UnexpectedError("reply.text finds text, but no passage or word is found")
    return Reading(tuple(passage for passage in passages if passage.text), str(language) if language else None)


def _passages(
    paths: PassagePaths, words: WordPaths | None, items: Sequence[object], unit: float, duration: float
) -> Iterator[Passage]:
    for item in items:
        start = _time(paths.start, item, "reply.passages.start", unit, duration)
        end = _time(paths.end, item, "reply.passages.end", unit, duration)
        speaker = paths.speaker.find(item) if paths.speaker else None
        passage = Passage(
            start,
            max(start, end),
            _text(paths.text, item, "reply.passages.text"),
            None if speaker is None else str(speaker),
            words=tuple(_words(words, item, unit, duration)) if words else (),
        )
        yield passage if passage.words else with_estimated_words(passage)


def _words(paths: WordPaths, within: object, unit: float, duration: float) -> Iterator[Word]:
    for item in _items(paths.each, within, "reply.words.each"):
        text = _text(paths.text, item, "reply.words.text")
        start = _time(paths.start, item, "reply.words.start", unit, duration)
        end = _time(paths.end, item, "reply.words.end", unit, duration)
        confidence = paths.confidence.find(item) if paths.confidence else None
        if text:
            yield Word(text, start, max(start, end), _confidence(confidence))


def _items(path: ReplyPath, within: object, key: str) -> list[object]:
    found = path.find(within)
    if found is None:
        raise _UnexpectedError(f"{key} ({path.expression}) finds nothing")
    if not isinstance(found, list):
        raise _UnexpectedError(f"{key} ({path.expression}) finds no list")
    return found


def _text(path: ReplyPath, within: object, key: str) -> str:
    found = path.find(within)
    if not isinstance(found, str):
        raise _UnexpectedError(f"{key} ({path.expression}) finds {'nothing' if found is None else 'no text'}")
    return " ".join(found.split())


def _time(path: ReplyPath, within: object, key: str, unit: float, duration: float) -> float:
    found = path.find(within)
    if isinstance(found, bool) or not isinstance(found, (int, float)) or not math.isfinite(found):
        raise _UnexpectedError(f"{key} ({path.expression}) finds {found!r}, not a time")
    return min(max(0.0, round(found * unit, 6)), duration)


def _confidence(found: object) -> float | None:
    if isinstance(found, bool) or not isinstance(found, (int, float)) or not math.isfinite(found):
        return None
    return min(max(0.0, float(found)), 1.0)
