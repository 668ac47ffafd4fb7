"""What the service answers, held against what it says that it answers."""

import json
import re
from functools import cache
from typing import Any
from urllib.parse import urlsplit

from jsonschema import Draft202012Validator

# Of every answer, and of connections; nobody needs to be told.
_USUAL = {
    *("date", "server", "content-type", "content-length", "connection", "transfer-encoding"),
    *("x-content-type-options", "referrer-policy", "x-frame-options", "cache-control"),
    *("content-security-policy", "vary", "accept-ranges", "last-modified", "content-disposition"),
    *("x-accel-buffering", "content-range"),
}


@cache
def _patterns(document: str) -> list[tuple[re.Pattern[str], Any]]:
    paths = json.loads(document)["paths"]
    return [
        (re.compile(re.sub(r"\{\w+\}", "[^/]+", path)), methods) for path, methods in paths.items()
    ]


@cache
def _schemas(document: str) -> Any:
    return json.loads(document)["components"]


def check_described(
    document: str, method: str, address: str, status: int, headers: dict[str, str], body: bytes
) -> None:
    """See that an answer is one of those that the description names."""
    path = urlsplit(address).path
    for pattern, methods in _patterns(document):
        operation = methods.get(method.lower())
        if not pattern.fullmatch(path) or operation is None:
            continue
        responses = operation["responses"]
        said = responses.get(str(status)) or responses.get(f"{status // 100}XX")
        what = f"{method} {path}: {status}"
        assert said is not None, f"{what} is not described"
        unknown = set(headers) - _USUAL - {name.lower() for name in said.get("headers", {})}
        unknown = {one for one in unknown if not one.startswith("access-control-")}
        assert not unknown, f"{what}: headers {unknown} are not described"
        if status < 300:
            missing = {name.lower() for name in said.get("headers", {})} - set(headers)
            is_text = {"etag", "location"} == {name.lower() for name in said.get("headers", {})}
            assert not missing or is_text, f"{what}: has no {missing}"
        kind = headers.get("content-type", "").partition(";")[0]
        if not body:
            return
        contents = said.get("content", {})
        fits = kind in contents or f"{kind.partition('/')[0]}/*" in contents
        assert fits, f"{what}: {kind} is not described, but {list(contents)}"
        if kind.endswith("json"):
            schema = {**contents[kind]["schema"], "components": _schemas(document)}
            Draft202012Validator(schema).validate(json.loads(body))
        return
