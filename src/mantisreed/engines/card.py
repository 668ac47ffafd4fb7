"""The engine card: what a TOML table may say about an engine, and checking it.

Each table of a card is a struct here; a key is a field. `docs/architecture.md` says how further exchanges are added.
"""

import copy
import difflib
import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any, Literal, TypeVar, get_args

import jmespath
import jmespath.exceptions
import jmespath.parser
import msgspec

from mantisreed.audio.encode import FORMATS
from mantisreed.engines.placeholders import placeholders_of
from mantisreed.engines.secrets import SecretSource
from mantisreed.errors import SettingsError
from mantisreed.units import parse_duration, parse_size

T = TypeVar("T")
TimeUnit = Literal["s", "ms", "us", "100ns"]


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
        """What the expression picks out of the document; None when it is not there."""
        return self._compiled.search(document)

    def __str__(self) -> str:
        return self.expression

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ReplyPath) and other.expression == self.expression

    def __hash__(self) -> int:
        return hash(self.expression)


class _Table(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    pass


class Accepts(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.accepts]`: what the engine takes in one request.

    Attributes:
        formats: audio formats, the one to try first in front.
        sample_rate: samples per second to send; the default is what speech engines work at.
        most_bytes: size of one request's audio at most; None for no limit known.
        longest: seconds of audio in one request at most; None for no limit known.
        languages: the tags it knows; empty when any may be asked for.
    """

    formats: tuple[str, ...] = tuple(FORMATS)
    sample_rate: int = 16_000
    most_bytes: Bytes | None = None
    longest: Seconds | None = None
    languages: tuple[str, ...] = ()


class Price(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.price]`: money per minute of audio, billed in steps of `billing_step` seconds."""

    per_minute: Decimal
    currency: str = ""
    billing_step: Seconds = Seconds(1)


class Pace(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.pace]`: `requests` in any `window` seconds, and how many `at_once`."""

    requests: int | None = None
    window: Seconds = Seconds(60)
    at_once: int = 4


class Send(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.send]`: the request that carries the audio, a multipart form.

    Values may hold placeholders: `{audio}` (the file itself, alone in its value), `{language}`, `{format}`, and the
    names in `[engine.NAME.secrets]`. A value whose placeholder is empty is left out.
    """

    form: dict[str, str]
    path: str = ""
    method: Literal["POST", "PUT"] = "POST"
    headers: dict[str, str] = {}
    query: dict[str, str] = {}
    time_limit: Seconds = Seconds(300)


class WordPaths(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.words]`: where words are. `each` gives the list, the rest is looked up in each item.

    With `[...reply.passages]`, `each` is looked up in each passage, otherwise in the whole reply.
    """

    each: ReplyPath
    text: ReplyPath
    start: ReplyPath
    end: ReplyPath
    confidence: ReplyPath | None = None


class PassagePaths(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.passages]`: where passages are, as for words."""

    each: ReplyPath
    text: ReplyPath
    start: ReplyPath
    end: ReplyPath
    speaker: ReplyPath | None = None


class Reply(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply]`: where things are in the engine's JSON, as JMESPath, and the unit of its times.

    At least one of `text`, `passages` and `words` is needed; what has no times gets estimated ones.
    """

    text: ReplyPath | None = None
    language: ReplyPath | None = None
    times: TimeUnit = "s"
    passages: PassagePaths | None = None
    words: WordPaths | None = None


class EngineCard(_Table, frozen=True, kw_only=True):
    """`[engine.NAME]`: one engine. `name` is the table's own name, not a key in it."""

    name: str
    address: str
    send: Send
    reply: Reply
    about: str = ""
    secrets: dict[str, SecretSource] = {}
    accepts: Accepts = Accepts()
    price: Price | None = None
    pace: Pace = Pace()


def read_card(name: str, table: Mapping[str, object], file: str) -> EngineCard:
    """Check one card.

    Args:
        name: of the engine.
        table: what TOML gave for `[engine.NAME]`.
        file: the file's name, for messages.

    Raises:
        SettingsError: names the file, the table, the key and what was expected.
    """
    place = f"engine.{name}"
    if "name" in table:
        raise SettingsError(
            "unknown key 'name'", where=f"{file}: [{place}]", advice="the table's name is the engine's name"
        )
    card = checked({**table, "name": name}, EngineCard, file, place)
    problem = next(_contradictions(card), None)
    if problem:
        raise SettingsError(problem[1], where=f"{file}: [{place}{problem[0]}]")
    return card


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
    if kind is ReplyPath:
        return _reply_path(value)
    raise NotImplementedError(kind)


def _number(value: object, expected: str) -> float:
    if isinstance(value, (int, float)) and not isinstance(value, bool) and value > 0:
        return value
    raise ValueError(f"expected {expected}, found {value!r}")


def _reply_path(value: object) -> ReplyPath:
    if not isinstance(value, str):
        raise ValueError(f"expected a JMESPath expression, found {value!r}")
    try:
        return ReplyPath(value)
    except jmespath.exceptions.JMESPathError as error:
        raise ValueError(f"{value!r} is not a JMESPath expression") from error


def _contradictions(card: EngineCard) -> Iterator[tuple[str, str]]:
    """(subtable, what is wrong) of what the types alone cannot see."""
    if not re.match(r"https?://[^/]", card.address):
        yield "", f"key 'address': expected http://... or https://..., found {card.address!r}"
    unknown = [name for name in card.accepts.formats if name not in FORMATS]
    if unknown or not card.accepts.formats:
        found = f"found {unknown[0]!r}" if unknown else "found none"
        yield ".accepts", f"key 'formats': expected some of {', '.join(FORMATS)}; {found}"
    if [value for value in card.send.form.values() if "{audio}" in value] != ["{audio}"]:
        yield ".send", "key 'form': expected exactly one field that is \"{audio}\" and nothing else"
    if not (card.reply.text or card.reply.passages or card.reply.words):
        yield ".reply", "expected at least one of the keys 'text', 'passages', 'words'"
    yield from _wrong_placeholders(card)


def _wrong_placeholders(card: EngineCard) -> Iterator[tuple[str, str]]:
    known = {"language", "format", *card.secrets}
    for key, templates in (("form", card.send.form), ("headers", card.send.headers), ("query", card.send.query)):
        allowed = known | {"audio"} if key == "form" else known
        for field, template in templates.items():
            for name in placeholders_of(template):
                if name not in allowed:
                    listed = ", ".join(f"{{{other}}}" for other in sorted(allowed))
                    yield f".send.{key}", f"key {field!r}: unknown placeholder {{{name}}}; here are known: {listed}"


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
