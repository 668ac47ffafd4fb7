"""TOML tables as structs, with what does not fit told by file, table and key.

The library that checks types hides the key of a free table and speaks of Python's types; here its
complaints become sentences that a person can act on.
"""

import difflib
import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal, TypeVar, get_args, get_origin

import msgspec
from msgspec.structs import FieldInfo

from mantisreed.errors import SettingsError
from mantisreed.units import parse_duration, parse_size

T = TypeVar("T")


class Seconds(float):
    """A duration; in TOML a number of seconds or text such as "5 min"."""

    @classmethod
    def from_toml(cls, value: object) -> "Seconds":
        """Read what stands in a settings file.

        Raises:
            ValueError: it is no duration.
        """
        return cls(
            parse_duration(value)
            if isinstance(value, str)
            else _number(value, "a duration such as 90 s")
        )


class Bytes(int):
    """A size; in TOML a number of bytes or text such as "16 MiB"."""

    @classmethod
    def from_toml(cls, value: object) -> "Bytes":
        """Read what stands in a settings file.

        Raises:
            ValueError: it is no size.
        """
        return cls(
            parse_size(value) if isinstance(value, str) else _number(value, "a size such as 16 MiB")
        )


def checked(table: Mapping[str, object], kind: type[T], file: str, place: str) -> T:
    """A TOML table as a struct.

    Args:
        table: what TOML gave.
        kind: the struct.
        file: the settings file's name, for messages.
        place: the table's name.

    Raises:
        SettingsError: something does not fit; file, table, key and what was expected are told.
    """
    try:
        return msgspec.convert(table, kind, dec_hook=_from_toml)
    except msgspec.ValidationError as error:
        misfit = _misfit(kind, table, ())
        if misfit is None:  # nothing that this module knows how to look into
            raise SettingsError(_in_words(str(error)), where=f"{file}: [{place}]") from error
        raise SettingsError(
            misfit.what, where=f"{file}: [{'.'.join([place, *misfit.table])}]", advice=misfit.advice
        ) from error


def _from_toml(kind: type, value: object) -> object:
    return kind.from_toml(value)  # type: ignore[attr-defined]


def _number(value: object, expected: str) -> float:
    if isinstance(value, (int, float)) and not isinstance(value, bool) and value > 0:
        return value
    raise ValueError(f"expected {expected}, found {value!r}")


@dataclass(frozen=True, slots=True)
class _Misfit:
    """What does not fit, and in which table."""

    what: str
    table: tuple[str, ...]
    advice: str | None = None


def _misfit(kind: Any, value: object, keys: tuple[str, ...]) -> _Misfit | None:
    """The first thing in a value that does not fit its type. The library finds it too, but does not
    say where.
    """
    struct = _struct_in(kind)
    if struct is not None and isinstance(value, Mapping):
        return _misfit_in_struct(struct, value, keys)
    entries = _type_of_entries(kind)
    if entries is not None and isinstance(value, Mapping):
        found = (_misfit(entries, item, (*keys, str(name))) for name, item in value.items())
        return next((misfit for misfit in found if misfit), None)
    try:
        msgspec.convert(value, kind, dec_hook=_from_toml)
    except msgspec.ValidationError as error:
        what, _, advice = _in_words(str(error), kind).partition("\n")
        return _Misfit(f"key {keys[-1]!r}: {what}" if keys else what, keys[:-1], advice or None)
    return None


@cache
def fields_of(struct: type[msgspec.Struct]) -> Mapping[str, FieldInfo]:
    """The fields of a struct by their names.

    The library works out their types anew at each call, which took a tenth of the time to start a
    command: each card is asked a dozen times.
    """
    return {field.name: field for field in msgspec.structs.fields(struct)}


def _misfit_in_struct(
    struct: type[msgspec.Struct], value: Mapping[str, object], keys: tuple[str, ...]
) -> _Misfit | None:
    fields = fields_of(struct)
    for name in value:
        if name not in fields:
            return _Misfit(
                f"unknown key {name!r}",
                keys,
                _advice_on(name, [key for key in fields if key != "name"]),
            )
    for name, field in fields.items():
        if field.required and name not in value:
            return _Misfit(f"key {name!r} is missing", keys)
        if name in value and (misfit := _misfit(field.type, value[name], (*keys, name))):
            return misfit
    return None


def _advice_on(name: str, known: list[str]) -> str:
    """What to write instead of an unknown key."""
    close = difflib.get_close_matches(name, known, 1)
    if close:
        return f"did you mean {close[0]!r}?"
    return f"keys here: {', '.join(known)}"


def _struct_in(kind: Any) -> type | None:
    options = (kind, *get_args(kind))
    found = [
        option
        for option in options
        if isinstance(option, type) and issubclass(option, msgspec.Struct)
    ]
    # dict[str, Struct] has it among its arguments too, but is no struct itself.
    if found and get_origin(kind) not in (dict, tuple):
        return found[0]
    return None


def _type_of_entries(kind: Any) -> Any:
    for option in (kind, *get_args(kind)):
        if get_origin(option) is dict:
            return get_args(option)[1]
    return None


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
_PLACE = re.compile(r" - at `(?:key in )?\$.*?`$", re.S)


def _in_words(said: str, kind: Any = None) -> str:
    """The library's complaint as a sentence."""
    said = _PLACE.sub("", said)
    if said.startswith("Invalid enum value"):
        return f"expected {_one_of(kind)}, found {said.removeprefix('Invalid enum value ')}"
    said = re.sub(r"`([a-z]+)`", lambda match: _TYPE_NAMES.get(match[1], match[1]), said)
    said = re.sub(r"`([^`]*)`", r"\1", said)
    said = (said[:1].lower() + said[1:]).replace(" | ", " or ").replace(", got ", ", found ")
    return said.replace("invalid decimal string", "expected a number")


def _one_of(kind: Any) -> str:
    for option in (kind, *get_args(kind)):
        if get_origin(option) is Literal:
            return " or ".join(", ".join(map(repr, get_args(option))).rsplit(", ", 1))
    return "another value"
