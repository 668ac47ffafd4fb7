"""Showing requests, answers and cards to a person: secrets hidden, bodies shortened."""

import json
import re
from collections.abc import Iterator, Mapping
from contextlib import suppress
from typing import Any
from urllib.parse import parse_qsl

import msgspec
import tomlkit

from mantisreed.cards.card import ServiceCard
from mantisreed.cards.documents import DocumentError, parse_cbor, parse_msgpack
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.steps import Step
from mantisreed.cards.tables import fields_of
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.websocket import Conversation
from mantisreed.secrets import HIDDEN, without_secrets
from mantisreed.units import short_size
from mantisreed.urls import split_url

_LINE = 90  # characters of a line of TOML
_LONGEST_TEXT = 60  # characters of a value that is shown whole
_LONGEST_BODY = 1200  # characters of a body that is shown
_SHORT_BYTES = 200  # bytes or characters of a short answer, which is shown whole
_TOKENS = ("access_token", "refresh_token", "id_token")  # RFC 6749, 5.1
# The scheme is no secret, and tells which kind of key was sent.
_SCHEME = re.compile(r"^(Basic|Bearer|Digest|Token)\s", re.IGNORECASE)
_SIGNED = re.compile(
    r"([?&][^=&\s]*(?:sig|token|key|credential|secret|auth)[^=&\s]*=)[^&\s\"'<>]+", re.IGNORECASE
)
"""A value in a link that lets whoever has it in, as links to uploads have one."""

_NOT_TOLD = frozenset(
    (
        "connection",
        "content-length",
        "content-type",
        "date",
        "keep-alive",
        "server",
        "transfer-encoding",
        "vary",
    )
)
"""Headers that say nothing about the work."""

_HIDDEN_HEADERS = ("authorization", "proxy-authorization", "cookie", "set-cookie")


def described_request(request: HttpRequest) -> str:
    """A request, a line for each part of it."""
    parts = split_url(request.url)
    lines = [f"{request.method} {parts.scheme}://{parts.netloc}{parts.path}"]
    lines += [
        f"  ?{name}={value}" for name, value in parse_qsl(parts.query, keep_blank_values=True)
    ]
    lines += [f"  {name}: {_header(name, value)}" for name, value in request.headers]
    for part in request.parts:
        if part.content_type:
            kind = f" ({part.content_type})"
        else:
            kind = ""
        if part.file_name:
            name = f", as {part.file_name}"
        else:
            name = ""
        shown = _part_text(part.content, part.content_type)
        lines.append(f"  form {part.name} = {shown}{kind}{name}")
    if request.body is not None and not request.parts:
        lines += [
            f"  {line}"
            for line in _described_body(request.body, request.header("content-type") or "bytes")
        ]
    return _without_signatures(without_secrets("\n".join(lines), request.secrets))


def _without_signatures(text: str) -> str:
    return _SIGNED.sub(rf"\g<1>{HIDDEN}", text)


def described_answer(answer: HttpAnswer, request: HttpRequest, seconds: float) -> str:
    """An answer to that request, a line for each part of it."""
    kind = answer.header("content-type") or "no content type"
    lines = [f"HTTP {answer.status}, {kind}, {short_size(len(answer.body))}, after {seconds:.2f} s"]
    lines += [
        f"  {name}: {_header(name, value)}"
        for name, value in answer.headers
        if name.lower() not in _NOT_TOLD
    ]
    lines += [f"  {line}" for line in _described_body(answer.body, kind)]
    return _without_signatures(without_secrets("\n".join(lines), request.secrets))


def described_conversation(conversation: Conversation) -> str:
    """What would be said over a WebSocket."""
    chunks = conversation.chunks()
    first = next(chunks, b"")
    # All are counted and none is kept: the sound may be long.
    count = 1 + sum(1 for _ in chunks)
    lines = [f"says {_message(message)}" for message in conversation.opening]
    if conversation.card.ready:
        lines.append(f"waits for {conversation.card.ready}")
    if conversation.pause:
        paced = f", one every {conversation.pause:g} s"
    else:
        paced = ""
    lines.append(f"says {_message(first)}, {count} times{paced}")
    lines += [f"says {_message(message)}" for message in conversation.closing]
    return "\n".join(f"  {line}" for line in lines)


def _message(message: bytes | str) -> str:
    if isinstance(message, bytes):
        if message:
            return f"{short_size(len(message))} of sound"
        return "an empty message"
    if len(message) <= _SHORT_BYTES:
        return message
    return f"{message[:_SHORT_BYTES]}... ({len(message)} characters)"


def described_card(card: ServiceCard) -> str:
    """The whole card as TOML, which can be read again; secrets as the places where they are kept.

    What is as it always is is left out, but for limits that matter.
    """
    # Its name is that of the table, and no key in it.
    fields = _table_of(card)
    name = fields.pop("name")
    return tomlkit.dumps({"engine": {name: fields}})


_ALWAYS_SHOWN = (
    "formats",
    "sample_rate",
    "max_duration",
    "max_concurrent",
    "timeout",
    "limit",
    "max_interval",
    "format",
)
"""Limits and the like, which work whether they are written or not."""

_ONLY_WHEN_ASKING = ("limit", "max_interval")


def _table_of(struct: msgspec.Struct) -> dict[str, Any]:
    """A struct as a TOML table."""
    table: dict[str, Any] = {}
    for field in fields_of(type(struct)).values():
        value = getattr(struct, field.name)
        is_default = value == field.default or (
            value == {} and field.default_factory is not msgspec.NODEFAULT
        )
        is_limit = field.name in _ALWAYS_SHOWN
        if isinstance(struct, Step) and field.name in _ONLY_WHEN_ASKING:
            is_limit = struct.is_asking
        if value is None or (is_default and not is_limit and not _holds_limits(value)):
            continue
        plain = _plain(value)
        # An empty table says what its absence says.
        if plain not in ({}, []):
            table[field.name] = plain
    return table


def _holds_limits(value: object) -> bool:
    return isinstance(value, msgspec.Struct) and any(
        name in value.__struct_fields__ for name in ("formats",)
    )


def _plain(value: Any) -> Any:
    """A value as TOML has it."""
    if isinstance(value, msgspec.Struct):
        return _table_of(value)
    if isinstance(value, Mapping):
        return {key: _plain(item) for key, item in value.items()}
    if isinstance(value, tuple):
        return list(map(_plain, value))
    # What was compiled remembers how it was written.
    source = getattr(value, "source", None)
    if isinstance(source, tuple):
        return list(source)
    return _plain_scalar(value) if source is None else source


def _plain_scalar(value: Any) -> Any:
    """The same of what holds nothing else."""
    if isinstance(value, float):
        if value.is_integer():
            return int(value)
        return float(value)
    if isinstance(value, (bool, str)):
        return value
    if isinstance(value, int):
        return int(value)  # also of a class of its own
    return str(value)


def _header(name: str, value: str) -> str:
    if name.lower() not in _HIDDEN_HEADERS:
        return value
    scheme = _SCHEME.match(value)
    if scheme:
        return f"{scheme[1]} {HIDDEN}"
    return HIDDEN


def _part_text(content: bytes, kind: str | None) -> str:
    """A part of a form: text as it is, bytes by their number."""
    # A short sound might be readable as text by chance.
    is_audio = kind is not None and kind.startswith(("audio/", "application/octet-stream"))
    if is_audio or len(content) > _SHORT_BYTES:
        return short_size(len(content))
    try:
        return content.decode()
    except UnicodeDecodeError:
        return short_size(len(content))


def _described_body(body: bytes, kind: str) -> Iterator[str]:
    if kind.startswith(("audio/", "application/octet-stream")):
        yield f"{short_size(len(body))} of {kind}"
        return
    for name, parse in (("msgpack", parse_msgpack), ("cbor", parse_cbor)):
        if name in kind:
            with suppress(ValueError, TypeError, RecursionError, DocumentError):  # as it came
                kind, body = "json", msgspec.json.encode(parse(body))
    text = body.decode("utf-8", "replace")
    # Lines of JSON are short already.
    if "json" in kind and "ndjson" not in kind:
        with suppress(ValueError, RecursionError):  # then it is shown as it came
            text = "\n".join(_laid_out(_shortened(json.loads(text))))
    if len(text) <= _LONGEST_BODY:
        shown = text
    else:
        shown = text[:_LONGEST_BODY] + f" ... ({len(text) - _LONGEST_BODY} more)"
    yield from shown.splitlines()


def _laid_out(value: Any, key: str = "") -> Iterator[str]:
    """JSON for reading: what fits stands on one line, the rest is opened."""
    whole = key + json.dumps(value, ensure_ascii=False)
    if len(whole) <= _LINE or not isinstance(value, (dict, list)):
        yield whole
        return
    if isinstance(value, dict):
        items = list(value.items())
    else:
        items = [(None, item) for item in value]
    yield key + ("{" if isinstance(value, dict) else "[")
    for number, (name, item) in enumerate(items, 1):
        inner = list(
            _laid_out(item, "" if name is None else f"{json.dumps(name, ensure_ascii=False)}: ")
        )
        # Only between items, as JSON has it.
        inner[-1] += "," if number < len(items) else ""
        yield from (f"  {line}" for line in inner)
    yield "}" if isinstance(value, dict) else "]"


def _shortened(value: Any) -> Any:
    """Long texts cut, long lists cut after their first items."""
    if isinstance(value, str) and len(value) > _LONGEST_TEXT:
        return f"{value[:_LONGEST_TEXT]}... ({len(value)} characters)"
    if isinstance(value, dict):
        return {key: HIDDEN if key in _TOKENS else _shortened(item) for key, item in value.items()}
    if isinstance(value, list):
        if len(value) > 2:
            rest = [f"... {len(value) - 2} more"]
        else:
            rest = []
        return [*map(_shortened, value[:2]), *rest]
    return value
