"""Building the requests that a card describes. Nothing is sent here."""

import base64
import json
import secrets as randomness
from collections.abc import Mapping
from dataclasses import dataclass, field
from urllib.parse import quote, urlsplit

from mantisreed.audio.formats import AudioFormat
from mantisreed.engines.card import EngineCard, Step, Token
from mantisreed.engines.card_checks import AUDIO, audio_placeholders
from mantisreed.engines.placeholders import (
    Value,
    Values,
    filled,
    filled_all,
    filled_document,
    placeholders_of,
    templates_in,
)
from mantisreed.engines.secrets import Secret
from mantisreed.errors import InputError, UnreadableReplyError


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of a recording, encoded, ready for one request.

    Attributes:
        audio: the encoded bytes.
        form: how they are encoded.
        sample_rate, channels: of what is encoded.
        duration: seconds.
        speech: where somebody speaks, as (start, end) in seconds from the piece's start.
        link: an address where the same audio can be fetched, when there is one.
        request_id: the same whenever the same piece is sent; None makes one up.
        callback: the address at which the engine can call when it is done, when there is one.
    """

    audio: bytes = field(repr=False)
    form: AudioFormat
    sample_rate: int
    channels: int
    duration: float
    speech: tuple[tuple[float, float], ...] = ()
    link: str | None = None
    request_id: str | None = None
    callback: str | None = field(default=None, repr=False)


@dataclass(frozen=True, slots=True)
class RequestOptions:
    """What the user wants of the engine.

    Attributes:
        language: what the engine calls the language spoken; None lets it find out by itself.
        target: what it calls the language to answer in, for translating; None for that of the recording.
        hints: names and rare words to expect.
    """

    language: str | None = None
    target: str | None = None
    hints: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class FormField:
    """One field of a multipart form; with `filename` and `content_type` it is a file."""

    name: str
    content: str | bytes
    filename: str | None = None
    content_type: str | None = None


@dataclass(frozen=True, slots=True)
class HttpRequest:
    """A request, ready for a transport. Its text never shows headers, query or body, which may hold secrets.

    Attributes:
        engine: the card's name, for messages.
        step: which table of the card it follows.
        method, url: as in HTTP; the query is apart.
        headers, query: with secrets filled in.
        form: the fields of a multipart form.
        content: the body when it is not a form; None for no body.
        time_limit: seconds for the whole exchange.
        secrets: what must be hidden in anything that is shown of the request or its answer.
    """

    engine: str
    step: str
    method: str
    url: str = field(repr=False)
    headers: Mapping[str, str] = field(repr=False)
    query: Mapping[str, str] = field(repr=False)
    time_limit: float
    form: tuple[FormField, ...] = field(default=(), repr=False)
    content: bytes | None = field(default=None, repr=False)
    secrets: tuple[Secret, ...] = ()


def piece_values(
    card: EngineCard, piece: Piece, request_options: RequestOptions, secrets: Mapping[str, Secret]
) -> dict[str, Value]:
    """What the placeholders of a card stand for when this piece is sent; the audio itself is left to the step."""
    known: dict[str, Value] = {name: secret.reveal() for name, secret in secrets.items()}
    base: dict[str, Value] = {
        "language": request_options.language,
        "target": request_options.target,
        "format": card.accepts.format_names.get(piece.form.name, piece.form.name),
        "content_type": piece.form.content_type,
        "sample_rate": piece.sample_rate,
        "channels": piece.channels,
        "duration": round(piece.duration, 3),
        "hints": list(request_options.hints),
        "request_id": piece.request_id or randomness.token_hex(16),
        "callback": piece.callback,
        "audio_link": piece.link,
    }
    own = {name: filled(template, {**base, **known}) for name, template in card.values.items()}
    return {**base, **own, **known}


def build_step(
    card: EngineCard, name: str, values: Values, secrets: Mapping[str, Secret], piece: Piece | None = None
) -> HttpRequest:
    """The request of one step of the card's exchange.

    Args:
        card: of the engine.
        name: of the step: upload, send, poll or fetch.
        values: what placeholders stand for, with what earlier steps took.
        secrets: by their names in the card.
        piece: what is sent; only needed by the step that carries the audio.

    Raises:
        UnreadableReplyError: a part of the address needs a value that an earlier answer did not have.
    """
    step: Step = getattr(card, name)
    hidden = [*secrets.values(), *([Secret(str(values["token"]))] if values.get("token") else [])]
    url = _url(card, name, step, values)
    headers, query = filled_all(step.headers, values), filled_all(step.query, values)
    if _host(url) == _host(filled(card.address or "", values) or ""):
        headers = _authorization(card, values) | filled_all(card.every.headers, values) | headers
        query = filled_all(card.every.query, values) | query
    content: bytes | None = None
    if step.json is not None:
        content = json.dumps(filled_document(step.json, _with_text_audio(step, values, piece))).encode()
        headers = {"Content-Type": "application/json"} | headers
    elif step.raw is not None and piece is not None:
        content = piece.audio
        headers = {"Content-Type": piece.form.content_type} | headers
    return HttpRequest(
        card.name,
        name,
        step.method,
        url,
        headers,
        query,
        step.time_limit,
        tuple(_form_fields(step, values, piece)),
        content,
        tuple(hidden),
    )


def build_token_request(card: EngineCard, token: Token, values: Values, secrets: Mapping[str, Secret]) -> HttpRequest:
    """The request of the client-credentials grant (RFC 6749, 4.4.2)."""
    client, secret = filled(token.client, values) or "", filled(token.secret, values) or ""
    fields = {"grant_type": "client_credentials"}
    headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
    if token.scope and (scope := filled(token.scope, values)):
        fields["scope"] = scope
    if token.sent_as == "basic":
        headers["Authorization"] = _basic(f"{quote(client, safe='')}:{quote(secret, safe='')}")
    else:
        fields |= {"client_id": client, "client_secret": secret}
    body = "&".join(f"{name}={quote(value, safe='')}" for name, value in fields.items())
    url = filled(token.address, values) or token.address
    return HttpRequest(
        card.name, "token", "POST", url, headers, {}, 30.0, content=body.encode(), secrets=tuple(secrets.values())
    )


def wants_link(card: EngineCard) -> bool:
    """Whether the engine gets a link to the audio instead of its bytes."""
    return any("audio_link" in audio_placeholders(step) for step in (card.upload, card.send) if step)


def language_for(card: EngineCard, language: str | None) -> str | None:
    """What this engine calls a language, also when only the tag's first part is listed in its card.

    Raises:
        InputError: the card lists languages, and this is none of them.
    """
    names = card.accepts.language_names
    if language is None or not names:
        return language
    listed = {tag.lower(): name for tag, name in names.items()}
    found = listed.get(language.lower()) or listed.get(language.lower().split("-")[0])
    if found is None:
        raise InputError(
            f"engine {card.name} does not know the language {language!r}", advice=f"its card lists {', '.join(names)}"
        )
    return found


def _url(card: EngineCard, name: str, step: Step, values: Values) -> str:
    address = filled(step.address or card.address or "", values)
    quoted = {key: values.get(key) for key in placeholders_of(step.path)}
    for key, value in quoted.items():
        quoted[key] = quote(value, safe="/:@~{}") if isinstance(value, str) else value
    path = filled(step.path, quoted)
    if not address or path is None:
        missing = [
            key for key in placeholders_of((step.address or card.address or "") + step.path) if not values.get(key)
        ]
        raise UnreadableReplyError(
            f"the address of {name} needs {{{missing[0] if missing else 'address'}}}, which has no value",
            engine=card.name,
            advice="was it in the answer of the step before? its 'take' says where to look",
        )
    return (address.rstrip("/") if path.startswith("/") else address) + path


def _host(url: str) -> tuple[str, str]:
    parts = urlsplit(url)
    return parts.scheme, parts.netloc


def _authorization(card: EngineCard, values: Values) -> dict[str, str]:
    if card.every.bearer and (bearer := filled(card.every.bearer, values)):
        return {"Authorization": f"Bearer {bearer}"}
    if card.every.basic and (pair := filled(card.every.basic, values)):
        return {"Authorization": _basic(pair)}
    return {}


def _basic(pair: str) -> str:
    return f"Basic {base64.b64encode(pair.encode()).decode()}"


def _with_text_audio(step: Step, values: Values, piece: Piece | None) -> Values:
    names = {name for template in templates_in(step.json) for name in placeholders_of(template)}
    if piece is None or AUDIO[1] not in names:
        return values
    return {**values, AUDIO[1]: base64.b64encode(piece.audio).decode()}


def _form_fields(step: Step, values: Values, piece: Piece | None) -> list[FormField]:
    fields = []
    for name, template in (step.form or {}).items():
        if template == "{audio}" and piece is not None:
            fields.append(FormField(name, piece.audio, f"piece.{piece.form.extension}", piece.form.content_type))
        elif (value := filled(template, values)) is not None:
            fields.append(FormField(name, value))
    return fields
