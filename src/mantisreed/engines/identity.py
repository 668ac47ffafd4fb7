"""What a request and a job are known by: what reaches the engine, and nothing else.

Waits, limits, prices, error patterns, how a reply is read: none of these reach the engine, so that changing them
never makes a request another one. Secrets reach it and do not count either: a new key is not a new question.
"""

import hashlib
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.card import EngineCard, Step
from mantisreed.engines.placeholders import Value, filled, filled_all
from mantisreed.engines.request import HttpRequest, Piece, RequestOptions, build_step, piece_values

_SYMBOLIC = ("request_id", "callback", "token", "audio", "audio_base64", "audio_link")
"""What differs each time a request is sent, or stands for the sound, which is described by itself."""

_OF_THE_SOUND = ("format", "content_type", "sample_rate", "channels", "duration")

_NO_SOUND = Piece(b"", FORMATS["flac"], 0, 0, 0.0)


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
    values = piece_values(card, piece, options, {})
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
    symbols = {name: f"{{{name}}}" for name in _OF_THE_SOUND}
    values = {**piece_values(card, _NO_SOUND, options, {}), **symbols}
    return _digest([_rendered(card, values), recording, user_options])[:16]


def _digest(document: Any) -> str:
    return hashlib.sha256(msgspec.json.encode(document, order="deterministic")).hexdigest()


def _rendered(card: EngineCard, values: Mapping[str, Value]) -> Any:
    """All that the engine is told, with names in place of secrets and of what differs each time."""
    symbols = {name: f"{{{name}}}" for name in (*_SYMBOLIC, *card.secrets)}
    known: dict[str, Value] = {**values, **symbols}
    known |= {name: filled(template, known) for name, template in card.values.items()}
    if card.command is not None:
        arguments = [filled(template, {**known, **_FILES}) for template in card.command.run]
        return ["program", arguments, filled_all(card.command.environment, known)]
    if card.python is not None:
        return ["object", card.python.object, {name: known.get(name) for name in ("language", "target", "hints")}]
    # Asking for the job and fetching its reply do not change what the engine does.
    return [_rendered_step(card, name, step, known) for name, step in card.steps if name in ("upload", "send")]


_FILES: Mapping[str, Value] = {"audio_file": "{audio_file}", "reply_file": "{reply_file}"}


def _rendered_step(card: EngineCard, name: str, step: Step, values: dict[str, Value]) -> Any:
    request = build_step(card, name, values, {})
    values |= {taken: f"{{{taken}}}" for taken in step.take}
    return [
        request.method,
        request.url,
        _sorted((key.lower(), value) for key, value in request.headers.items()),
        _sorted(request.query.items()),
        _sorted_fields(request),
        _content(request),
        step.raw,
    ]


def _sorted(pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    # A card's author may list headers, fields and keys in any order.
    return sorted(pairs)


def _sorted_fields(request: HttpRequest) -> list[tuple[str, str]]:
    return sorted((field.name, "" if isinstance(field.content, bytes) else field.content) for field in request.form)


def _content(request: HttpRequest) -> Any:
    """The body; JSON as a document, so that the order of its keys does not matter."""
    if not request.content:
        return None
    try:
        return msgspec.json.decode(request.content)
    except msgspec.DecodeError:
        return request.content.decode("utf-8", "surrogateescape")
