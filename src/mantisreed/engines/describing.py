"""Showing requests, answers and cards to a person: secrets hidden, bodies shortened."""

import json
import re
from collections.abc import Iterator, Mapping
from contextlib import suppress
from typing import Any

import msgspec
import tomli_w

from mantisreed.engines.answers import HttpAnswer
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import HttpRequest
from mantisreed.engines.secrets import HIDDEN, without_secrets
from mantisreed.units import short_size

_LINE = 90
_LONGEST_TEXT = 60
_LONGEST_BODY = 1200
_TOKENS = ("access_token", "refresh_token", "id_token")  # RFC 6749, 5.1
_SCHEME = re.compile(r"^(Basic|Bearer|Digest|Token)\s", re.IGNORECASE)


def described_request(request: HttpRequest) -> str:
    """A request, a line for each part of it."""
    lines = [f"{request.method} {request.url}"]
    lines += [f"  ?{name}={value}" for name, value in request.query.items()]
    lines += [f"  {name}: {_header(name, value)}" for name, value in request.headers.items()]
    for form_field in request.form:
        if isinstance(form_field.content, bytes):
            size = short_size(len(form_field.content))
            lines.append(f"  form {form_field.name} = {size} of {form_field.content_type}, as {form_field.filename}")
        else:
            lines.append(f"  form {form_field.name} = {form_field.content}")
    if request.content is not None:
        kind = next((value for name, value in request.headers.items() if name.lower() == "content-type"), "bytes")
        lines += [f"  {line}" for line in _described_body(request.content, kind)]
    return without_secrets("\n".join(lines), request.secrets)


def described_answer(answer: HttpAnswer, request: HttpRequest, seconds: float) -> str:
    """An answer to that request, a line for each part of it."""
    kind = next(
        (value for name, value in answer.headers.items() if name.lower() == "content-type"), "no content type"
    )
    lines = [f"HTTP {answer.status}, {kind}, {short_size(len(answer.body))}, after {seconds:.2f} s"]
    lines += [f"  {line}" for line in _described_body(answer.body, kind)]
    return without_secrets("\n".join(lines), request.secrets)


def described_card(card: EngineCard) -> str:
    """The whole card as TOML, with what it does not say filled in; secrets as the places where they are kept."""
    fields: dict[str, Any] = msgspec.to_builtins(card, enc_hook=_plain)
    name = fields.pop("name")
    return tomli_w.dumps({"engine": {name: _without_nothing(fields)}})


def _plain(value: object) -> object:
    if isinstance(value, float):
        return int(value) if value.is_integer() else float(value)
    return int(value) if isinstance(value, int) else str(value)


def _without_nothing(value: Any) -> Any:
    """Without None, which TOML does not have, and without empty tables."""
    if isinstance(value, Mapping):
        kept = {key: _without_nothing(item) for key, item in value.items() if item is not None}
        return {key: item for key, item in kept.items() if item not in ({}, [])}
    if isinstance(value, (list, tuple)):
        return [_without_nothing(item) for item in value]
    return value


def _header(name: str, value: str) -> str:
    scheme = _SCHEME.match(value)
    if name.lower() in ("authorization", "proxy-authorization"):
        return f"{scheme[1]} {HIDDEN}" if scheme else HIDDEN
    return value


def _described_body(body: bytes, kind: str) -> Iterator[str]:
    if kind.startswith(("audio/", "application/octet-stream")):
        yield f"{short_size(len(body))} of {kind}"
        return
    text = body.decode("utf-8", "replace")
    if "json" in kind and "ndjson" not in kind:
        with suppress(ValueError):
            text = "\n".join(_laid_out(_shortened(json.loads(text))))
    if "form-urlencoded" in kind:
        text = re.sub(r"(?<=client_secret=)[^&]*", HIDDEN, text)
    shown = text if len(text) <= _LONGEST_BODY else text[:_LONGEST_BODY] + f" ... ({len(text) - _LONGEST_BODY} more)"
    yield from shown.splitlines()


def _laid_out(value: Any, key: str = "") -> Iterator[str]:
    """JSON for reading: what fits stands on one line, the rest is opened."""
    whole = key + json.dumps(value, ensure_ascii=False)
    if len(whole) <= _LINE or not isinstance(value, (dict, list)):
        yield whole
        return
    items = list(value.items()) if isinstance(value, dict) else [(None, item) for item in value]
    yield key + ("{" if isinstance(value, dict) else "[")
    for number, (name, item) in enumerate(items, 1):
        inner = list(_laid_out(item, "" if name is None else f"{json.dumps(name, ensure_ascii=False)}: "))
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
        rest = [f"... {len(value) - 2} more"] if len(value) > 2 else []
        return [*(_shortened(item) for item in value[:2]), *rest]
    return value
