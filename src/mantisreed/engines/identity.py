"""What a request and a job are known by: what reaches the engine, and nothing else.

Waits, limits, prices, error patterns, how a reply is read: none of these reach the engine, so that changing them
never makes a request another one. Secrets reach it and do not count either: a new key is not a new question. Nor do
names of files: they change nothing in what is heard.
"""

import hashlib
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from mantisreed.audio.formats import FORMATS
from mantisreed.cards.card import Step
from mantisreed.cards.requests import Attachment, HttpRequest, RequestBuilder, RequestContext, values_of_card
from mantisreed.cards.sequence import taken_by
from mantisreed.cards.templates import Value
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import FILES, Piece, RequestOptions, piece_values

_OF_THE_SOUND = ("format", "content_type")
_NUMBERS_OF_THE_SOUND = ("sample_rate", "channels", "duration")
_SYMBOLIC = ("request_id", "callback", "audio_link", "uuid", "nonce", "file_name", "piece_key", "manifest")
"""What differs each time a request is sent, or stands for the sound, which is described by itself."""

_OF_CHUNKS = ("chunk_number", "chunk_count", "chunk_start", "chunk_end")
_OF_PAGES = ("page_token", "page_offset", "page_number")
_OF_A_BODY = ("content-type", "content-length")

_NO_SOUND = Piece(b"", FORMATS["flac"], 0, 0, 0.0)
_SYMBOLIC_AUDIO = Attachment(b"{audio}", "{content_type}", "{file_name}")


class SoundIdentity(msgspec.Struct, frozen=True):
    """Which sound is sent, by where it comes from.

    Attributes:
        digest: of the recording's bytes.
        track, channel: from 1; None takes the default track, or a mix of all channels.
        start, end: seconds in the recording.
        form, bit_rate, sample_rate: how it is encoded.
    """

    digest: str
    track: int | None
    channel: int | None
    start: float
    end: float
    form: str
    bit_rate: int | None
    sample_rate: int


def request_key(card: EngineCard, options: RequestOptions, piece: Piece, sound: SoundIdentity) -> str:
    """What a request is known by.

    Args:
        card: of the engine.
        options: language and hints.
        piece: what is sent; of it only what the card's templates tell the engine.
        sound: where it comes from, to the microsecond.
    """
    values = {**piece_values(card, piece, options), "audio_size": 0}
    rounded = msgspec.structs.replace(sound, start=round(sound.start, 6), end=round(sound.end, 6))
    return _digest([_rendered(card, values), msgspec.to_builtins(rounded)])


def job_key(card: EngineCard, options: RequestOptions, recording: str, user_options: object) -> str:
    """What a job is known by: the recording's digest, what the engine is asked, and how the user wants it cut.

    Args:
        card: of the engine.
        options: language and hints.
        recording: its digest.
        user_options: anything that can be encoded; how the recording is prepared.
    """
    symbols = {name: _symbol(name) for name in _OF_THE_SOUND} | dict.fromkeys(_NUMBERS_OF_THE_SOUND, 0)
    values = {**piece_values(card, _NO_SOUND, options), **symbols}
    return _digest([_rendered(card, values), recording, user_options])[:16]


def _digest(document: Any) -> str:
    return hashlib.sha256(msgspec.json.encode(document, order="deterministic")).hexdigest()


def _symbol(name: str) -> str:
    """Stands for a value that does not count; hexadecimal, so that filters that decode can work on it."""
    return hashlib.sha256(name.encode()).hexdigest()[:16]


def _rendered(card: EngineCard, values: Mapping[str, Value]) -> Any:
    """All that the engine is told, with symbols in place of secrets and of what differs each time."""
    hidden = (*_SYMBOLIC, *card.secrets, *(card.session.take if card.session else ()))
    known: dict[str, Value] = {**values, **{name: _symbol(name) for name in hidden}}
    known |= {name: _symbol(name) for name in values if name.startswith("recording.")}
    known |= dict.fromkeys((*_OF_CHUNKS, *_OF_PAGES), 0)
    known |= {"now": datetime.fromtimestamp(0, UTC), "chunk": b"{audio}", "audio": b"{audio}"}
    known |= values_of_card(card, known)
    if card.command is not None:
        files = {**known, **{name: _symbol(name) for name in FILES}}
        environment = {name: template.text(known) for name, template in card.command.environment.items()}
        return ["program", [template.text(files) for template in card.command.run], environment]
    if card.python is not None:
        return ["object", card.python.object, {name: known.get(name) for name in ("language", "target", "hints")}]
    builder = RequestBuilder(card, boundary=lambda: "boundary")
    item = None if card.batch is None else card.batch.item.document(known)
    # Asking for the job and fetching its reply do not change what the engine does.
    sent = card.exchange.steps[: card.exchange.last_work + 1]
    return [*(_rendered_step(builder, name, step, known) for name, step in sent), *([] if item is None else [item])]


def _rendered_step(builder: RequestBuilder, name: str, step: Step, values: dict[str, Value]) -> Any:
    # A link that an answer gives stands for itself, wherever it leads to.
    taken = frozenset(key for key, value in values.items() if isinstance(value, str))
    whole = msgspec.structs.replace(step, gzip=False)
    # Where a card names no URL of its own, a link has to lead somewhere all the same.
    bases = {} if builder.own_url(values) else dict.fromkeys(taken, "http://engine.invalid/")
    context = RequestContext(values, attachment=_SYMBOLIC_AUDIO, taken=taken, bases=bases)
    request = builder.request(name, whole, context)
    said = _said_in_conversation(step, values)
    values |= {key: _symbol(key) for key in taken_by(step)}
    return [
        request.method,
        request.url,
        _sorted((key.lower(), value) for key, value in request.headers if key.lower() not in _OF_A_BODY),
        _sorted((part.name, part.content.decode("utf-8", "surrogateescape")) for part in request.parts),
        None if request.parts else _content(request),
        said,
    ]


def _said_in_conversation(step: Step, values: Mapping[str, Value]) -> Any:
    websocket = step.websocket
    if websocket is None:
        return None
    holders = (websocket.first, websocket.last)
    said = [[item.document(values) for item in holder.items] if holder else [] for holder in holders]
    return [*said, websocket.audio.document(values) if websocket.audio else None]


def _sorted(pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    # A card's author may list headers, fields and keys in any order.
    return sorted(pairs)


def _content(request: HttpRequest) -> Any:
    """The body; JSON as a document, so that the order of its keys does not matter."""
    if not request.body:
        return None
    try:
        return msgspec.json.decode(request.body)
    except msgspec.DecodeError:
        return request.body.decode("utf-8", "surrogateescape")
