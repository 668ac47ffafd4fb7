"""What a placeholder can make of its value: `{audio|sha256|base64}`, `{duration|ms}`,
`{now|http_date}`.

Each filter takes a value and gives one. Nothing stays nothing: only `default` and `then` see a
missing value.
"""

import base64
import gzip
import hashlib
import html
import json
import math
import zlib
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from typing import Any
from urllib.parse import quote

Filter = Callable[[Any], Any]

_HASHES = ("md5", "sha1", "sha256", "sha384", "sha512")


def filter_for(name: str, argument: str | None) -> Filter:
    """The filter of that name.

    Raises:
        ValueError: there is none, or it takes no such argument.
    """
    if name in _WITH_ARGUMENT:
        if argument is None:
            raise ValueError(
                f"the filter {name!r} needs a value after a colon, such as {_EXAMPLES[name]}"
            )
        return _WITH_ARGUMENT[name](argument)
    found = _PLAIN.get(name)
    if found is None:
        raise ValueError(f"unknown filter {name!r}; there are {', '.join(FILTERS)}")
    if argument is not None:
        raise ValueError(f"the filter {name!r} takes no value after a colon")
    return found


def sees_missing(name: str) -> bool:
    """Whether a filter is also asked when there is no value."""
    return name in ("default", "then")


def as_bytes(value: Any) -> bytes:
    """A value as what is hashed or encoded: text in UTF-8."""
    if isinstance(value, bytes):
        return value
    return as_text(value).encode("utf-8", "surrogatepass")


def as_text(value: Any) -> str:
    """A value as it stands in a text. Bytes of a digest are hexadecimal."""
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, datetime):
        return _iso8601(value)
    if isinstance(value, list) and all(isinstance(item, (str, int, float)) for item in value):
        return ", ".join(map(as_text, value))
    if isinstance(value, (bool, list, dict)):
        return json.dumps(value, ensure_ascii=False)
    return str(value)


def is_missing(value: Any) -> bool:
    """Whether a value counts as not given, so that what holds it is left out."""
    return value is None or value == "" or value == [] or value == {}


def _hash(name: str) -> Filter:
    return lambda value: hashlib.new(name, as_bytes(value), usedforsecurity=False).digest()


def _crc32(value: Any) -> bytes:
    return zlib.crc32(as_bytes(value)).to_bytes(4, "big")


def _crc32c(value: Any) -> bytes:
    """Castagnoli's polynomial (RFC 3720, B.4), the most significant byte first."""
    import crc32c

    return crc32c.crc32c(as_bytes(value)).to_bytes(4, "big")


def _size(value: Any) -> int:
    if isinstance(value, (bytes, list)):
        return len(value)
    return len(as_bytes(value))


def _number(value: Any) -> int | float:
    if isinstance(value, (int, float)):
        return value
    number = float(as_text(value))
    # `3.0` of a text is meant as 3, which is how most APIs want it.
    if number.is_integer() and math.isfinite(number):
        return int(number)
    return number


def _milliseconds(value: Any) -> int:
    return round(_epoch(value) * 1000)


def _seconds(value: Any) -> int:
    return int(_epoch(value))


def _epoch(value: Any) -> float:
    if isinstance(value, datetime):
        return value.timestamp()
    return float(_number(value))


def _moment(value: Any) -> datetime:
    if isinstance(value, datetime):
        return value
    return datetime.fromtimestamp(float(_number(value)), UTC)


def _iso8601(value: Any) -> str:
    return _moment(value).astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _iso8601_basic(value: Any) -> str:
    return _moment(value).astimezone(UTC).strftime("%Y%m%dT%H%M%SZ")


def _http_date(value: Any) -> str:
    """The date form of RFC 9110, 5.6.7."""
    return format_datetime(_moment(value).astimezone(UTC), usegmt=True)


def _json_lines(value: Any) -> str:
    items = value if isinstance(value, list) else [value]
    # A line for each, the last one ended too.
    return "".join(json.dumps(item, ensure_ascii=False) + "\n" for item in items)


_PLAIN: dict[str, Filter] = {
    **{name: _hash(name) for name in _HASHES},
    "crc32": _crc32,
    "crc32c": _crc32c,
    "hex": lambda value: as_bytes(value).hex(),
    "base64": lambda value: base64.b64encode(as_bytes(value)).decode(),
    # RFC 4648, 5, without the padding, as tokens have it (RFC 7515).
    "base64url": lambda value: base64.urlsafe_b64encode(as_bytes(value)).decode().rstrip("="),
    "unbase64": lambda value: base64.b64decode(as_text(value)),
    "unhex": lambda value: bytes.fromhex(as_text(value)),
    # Without a time in it: the same value is the same bytes.
    "gzip": lambda value: gzip.compress(as_bytes(value), mtime=0),
    "size": _size,
    "quoted": lambda value: quote(as_text(value), safe=""),
    "xml": lambda value: html.escape(as_text(value), quote=False).replace('"', "&quot;"),
    "json": lambda value: json.dumps(value, ensure_ascii=False),
    "json_lines": _json_lines,
    "upper": lambda value: as_text(value).upper(),
    "lower": lambda value: as_text(value).lower(),
    "text": as_text,
    "number": _number,
    "int": lambda value: int(_number(value)),
    "ceil": lambda value: math.ceil(_number(value)),
    "ms": _milliseconds,
    "seconds": _seconds,
    "iso8601": _iso8601,
    "iso8601_basic": _iso8601_basic,
    "http_date": _http_date,
    "first": lambda value: value[0] if isinstance(value, list) else value,
}


def _replace(argument: str) -> Filter:
    old, colon, new = argument.partition(":")
    if not (old and colon):
        raise ValueError(
            "the filter 'replace' needs what to replace and by what, such as replace:-:_"
        )
    return lambda value: as_text(value).replace(old, new)


def _round(argument: str) -> Filter:
    places = int(argument)
    return lambda value: round(float(_number(value)), places)


def _multiply(argument: str) -> Filter:
    factor = float(argument)

    def multiplied(value: Any) -> int | float:
        return _number(float(_number(value)) * factor)

    return multiplied


def _add(argument: str) -> Filter:
    more = _number(argument)

    def added(value: Any) -> Any:
        if isinstance(value, datetime):
            return value + timedelta(seconds=float(more))
        return _number(value) + more

    return added


_WITH_ARGUMENT: dict[str, Callable[[str], Filter]] = {
    "time": lambda form: lambda value: _moment(value).astimezone(UTC).strftime(form),
    "default": lambda other: lambda value: other if is_missing(value) else value,
    "then": lambda other: lambda value: None if is_missing(value) or value is False else other,
    "sort": lambda separator: lambda value: separator.join(sorted(as_text(value).split(separator))),
    "join": lambda separator: (
        lambda value: separator.join(map(as_text, value if isinstance(value, list) else [value]))
    ),
    "before": lambda mark: lambda value: as_text(value).partition(mark)[0],
    # The last part, such as of a path; `before` gives the first one.
    "after": lambda mark: lambda value: as_text(value).rpartition(mark)[2],
    "replace": _replace,
    "round": _round,
    "multiply": _multiply,
    "add": _add,
}
_EXAMPLES = {
    "time": "time:%Y%m%d",
    "default": "default:en",
    "then": "then:yes",
    "sort": "sort:&",
    "join": "join:;",
    "before": "before:-",
    "after": "after:/",
    "replace": "replace:-:_",
    "round": "round:2",
    "multiply": "multiply:1000",
    "add": "add:3600",
}

FILTERS = (*_PLAIN, *_WITH_ARGUMENT)
"""The names of all filters."""
