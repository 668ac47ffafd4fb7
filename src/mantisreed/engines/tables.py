"""TOML tables as structs, with what does not fit told by file, table and key.

The library that checks types hides the key of a free table and speaks of Python's types; here its complaints become
sentences that a person can act on.
"""

import copy
import difflib
import json
import re
from collections.abc import Mapping
from typing import Any, TypeVar, get_args

import jmespath
import jmespath.exceptions
import jmespath.parser
import msgspec

from mantisreed.engines.secrets import SecretSource
from mantisreed.errors import SettingsError
from mantisreed.units import parse_duration, parse_size

T = TypeVar("T")


class Seconds(float):
    """A duration; in TOML a number of seconds or text such as "5 min"."""


class Bytes(int):
    """A size; in TOML a number of bytes or text such as "16 MiB"."""


class ReplyPath:
    """A JMESPath expression, compiled when the card is read."""

    def __init__(self, expression: str) -> None:
        self.expression = expression
        self._compiled: jmespath.parser.ParsedResult = jmespath.compile(expression)

    def find(self, document: object) -> Any:
        """What the expression picks out of the document; None when there is nothing it can be used on."""
        try:
            return self._compiled.search(document)
        except jmespath.exceptions.JMESPathError:
            return None

    def __str__(self) -> str:
        return self.expression

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ReplyPath) and other.expression == self.expression

    def __hash__(self) -> int:
        return hash(self.expression)


class TakePath:
    """Where a step's answer holds a value: `header:NAME`, `text:` for the whole answer, or a JMESPath expression."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._path = None if self.is_in_header or self.is_whole else ReplyPath(text)

    @property
    def is_whole(self) -> bool:
        """Whether the answer itself, as text, is the value."""
        return self._text == "text:"

    @property
    def is_in_header(self) -> bool:
        """Whether the value is in a header of the answer."""
        return self._text.startswith("header:")

    def find(self, body: bytes, headers: Mapping[str, str]) -> str | None:
        """The value as text; None when it is not there, or is no text and no number."""
        if self.is_in_header:
            wanted = self._text.removeprefix("header:").strip().lower()
            return next((value for name, value in headers.items() if name.lower() == wanted), None)
        text = body.decode("utf-8", "replace").strip()
        if self._path is None:
            return text or None
        try:
            found = self._path.find(json.loads(text))
        except ValueError:
            return None
        return str(found) if isinstance(found, (str, int, float)) and not isinstance(found, bool) else None

    def __str__(self) -> str:
        return self._text


def checked(table: Mapping[str, object], kind: type[T], file: str, place: str) -> T:
    """A TOML table as a struct; what does not fit is told with file, table and key."""
    try:
        return msgspec.convert(table, kind, dec_hook=_from_toml)
    except msgspec.ValidationError as error:
        raise _explained(str(error), table, kind, file, place) from error


def _from_toml(kind: type, value: object) -> object:
    if kind is Seconds:
        return Seconds(parse_duration(value) if isinstance(value, str) else _number(value, "a duration such as 90 s"))
    if kind is Bytes:
        return Bytes(parse_size(value) if isinstance(value, str) else _number(value, "a size such as 16 MiB"))
    if kind is SecretSource:
        return SecretSource.parse(value)
    if kind is ReplyPath or kind is TakePath:
        return _path(kind, value)
    raise NotImplementedError(kind)


def _number(value: object, expected: str) -> float:
    if isinstance(value, (int, float)) and not isinstance(value, bool) and value > 0:
        return value
    raise ValueError(f"expected {expected}, found {value!r}")


def _path(kind: type, value: object) -> object:
    if not isinstance(value, str):
        raise ValueError(f"expected a JMESPath expression, found {value!r}")
    try:
        return kind(value)
    except jmespath.exceptions.JMESPathError as error:
        raise ValueError(f"{value!r} is not a JMESPath expression") from error


_UNKNOWN = re.compile(r"Object contains unknown field `(.*?)`")
_MISSING = re.compile(r"Object missing required field `(.*?)`")
_PATH = re.compile(r" - at `(?:key in )?\$\.?(.*?)`$", re.S)
_SOME_KEY = "*"  # stands for a key of a free table, or an item of a list, that the library does not name
_TYPE_NAMES = {
    "str": "text",
    "int": "a whole number",
    "float": "a number",
    "object": "a table",
    "array": "a list",
    "bool": "true or false",
    "decimal": "a number",
    "null": "nothing",
}


def _explained(message: str, table: Mapping[str, object], kind: type, file: str, place: str) -> SettingsError:
    path = _PATH.search(message)
    keys = [key for key in (path[1].replace("[...]", _SOME_KEY).split(".") if path else []) if key]
    said = _PATH.sub("", message)
    if unknown := _UNKNOWN.search(said):
        known = [name for name in _fields_at(kind, keys) if name != "name"]
        close = difflib.get_close_matches(unknown[1], known, 1)
        advice = f"did you mean {close[0]!r}?" if close else f"keys here: {', '.join(known)}"
        return SettingsError(f"unknown key {unknown[1]!r}", where=_table(file, place, keys), advice=advice)
    if missing := _MISSING.search(said):
        return SettingsError(f"key {missing[1]!r} is missing", where=_table(file, place, keys))
    said = re.sub(r"`([a-z]+)`", lambda match: _TYPE_NAMES.get(match[1], match[1]), said)
    said = (said[:1].lower() + said[1:]).replace("got", "found")
    said = said.replace("invalid decimal string", "expected a number")
    said, _, advice = said.partition("\n")
    if keys and keys[-1].endswith(_SOME_KEY):
        keys[-1] = keys[-1].removesuffix(_SOME_KEY)
        keys.append(_wrong_key(table, keys, kind))
    what = f"key {keys[-1]!r}: {said}" if keys else said
    return SettingsError(what, where=_table(file, place, keys[:-1]), advice=advice or None)


def _wrong_key(table: Mapping[str, object], keys: list[str], kind: type) -> str:
    """Which key of a free table does not convert; the library does not say."""
    *above, last = keys
    entries: dict[str, object] = _at(table, keys)
    for name, value in entries.items():
        alone = copy.deepcopy(dict(table))
        _at(alone, above)[last] = {name: value}
        try:
            msgspec.convert(alone, kind, dec_hook=_from_toml)
        except msgspec.ValidationError:
            return name
    return last


def _at(table: Any, keys: list[str]) -> Any:
    for key in keys:
        table = table[key]
    return table


def _table(file: str, place: str, keys: list[str]) -> str:
    return f"{file}: [{'.'.join([place, *keys])}]"


def _fields_at(kind: type, keys: list[str]) -> list[str]:
    """Names of the keys that the table at this path may have."""
    current: Any = kind
    for key in keys:
        fields = {field.name: field.type for field in msgspec.structs.fields(current)}
        options = [option for option in (fields[key], *get_args(fields[key])) if isinstance(option, type)]
        current = next(option for option in options if issubclass(option, msgspec.Struct))
    return [field.name for field in msgspec.structs.fields(current)]
