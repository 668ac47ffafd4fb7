"""Templates: `{language}` stands for a value that is known only at the request,
`{audio|md5|base64}` for what filters
make of it. A template is compiled when its card is read; what it needs is known before anything is
sent.
"""

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from itertools import chain
from typing import Any
from urllib.parse import quote

from mantisreed.cards.filters import Filter, as_text, filter_for, is_missing, sees_missing

Value = Any
"""What a placeholder can stand for: text, numbers, truth, moments, bytes, lists and tables of them,
or None.
"""

Values = Mapping[str, Value]

NAME = r"[a-z_][a-z0-9_]*(?:\.[a-z0-9_-]+){0,2}"
_PLACEHOLDER = re.compile(
    r"\{\{(" + NAME + r"[^{}]*)\}\}|\{(" + NAME + r")((?:\|[a-z0-9_]+(?::[^|{}]*)?)*)\}"
)


@dataclass(frozen=True, slots=True)
class _Placeholder:
    name: str
    filters: tuple[tuple[bool, Filter], ...]
    source: str

    @property
    def quoted(self) -> str:
        return self.source[:-1] + "|quoted}"

    def value(self, values: Values) -> Value:
        found = values.get(self.name)
        for sees_nothing, function in self.filters:
            if is_missing(found) and not sees_nothing:
                return None
            found = function(found)
        if is_missing(found):
            return None
        return found


class Template:
    """A text with placeholders.

    Attributes:
        source: as it is written on the card.
        names: what it needs, in order.
        is_one_placeholder: whether it is one placeholder and nothing else, so that it keeps its
            value's type.
        is_audio: whether it is the bytes of the audio, or of a chunk of it, as they are or packed.
    """

    __slots__ = ("_parts", "is_audio", "is_one_placeholder", "names", "source")

    def __init__(self, source: str) -> None:
        """Compile a template.

        Raises:
            ValueError: it names a filter that does not exist.
        """
        self.source = source
        self._parts = tuple(_parts(source))
        self.names = tuple(part.name for part in self._parts if isinstance(part, _Placeholder))
        self.is_one_placeholder = len(self._parts) == 1 and bool(self.names)
        if self.names in (("audio",), ("chunk",)):
            probe = self.value({"audio": b"x", "chunk": b"x"})
        else:
            probe = None
        self.is_audio = self.is_one_placeholder and isinstance(probe, bytes)

    @classmethod
    def from_toml(cls, value: object) -> "Template":
        """Compile what stands on a card.

        Raises:
            ValueError: it is no text and no number, or names a filter that does not exist.
        """
        return cls(scalar_text(value))

    def value(self, values: Values) -> Value:
        """What it comes to: for one placeholder alone its value, else text; None when a placeholder
        has no value.
        """
        if self.is_one_placeholder:
            placeholder = self._parts[0]
            assert isinstance(placeholder, _Placeholder)
            return placeholder.value(values)
        return self.text(values)

    @property
    def quoted_source(self) -> str:
        """The source of a template that gives the same, encoded for a URL."""
        return "".join(
            quote(part, safe="") if isinstance(part, str) else part.quoted for part in self._parts
        )

    def text(self, values: Values, encode: Callable[[str], str] | None = None) -> str | None:
        """What it comes to as text; None when one of its placeholders has no value, so that it is
        left out.

        Args:
            values: what placeholders stand for.
            encode: done to each value, for places that need it.
        """
        if not self.names:
            return "".join(self._parts)  # type: ignore[arg-type]
        said = []
        for part in self._parts:
            if isinstance(part, str):
                said.append(part)
                continue
            value = part.value(values)
            if value is None:
                return None
            said.append(encode(as_text(value)) if encode else as_text(value))
        return "".join(said)

    def whole_text(self, values: Values) -> str:
        """What it comes to as text, with nothing in place of a placeholder that has no value: a
        signature is made of a request without a query, too.
        """
        said = [part if isinstance(part, str) else part.value(values) for part in self._parts]
        return "".join(as_text(value) for value in said if value is not None)

    def __str__(self) -> str:
        return self.source

    def __repr__(self) -> str:
        return f"Template({self.source!r})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Template) and other.source == self.source

    def __hash__(self) -> int:
        return hash(self.source)


def _parts(source: str) -> Iterator["str | _Placeholder"]:
    at = 0
    for match in _PLACEHOLDER.finditer(source):
        if match.start() > at:
            yield source[at : match.start()]
        at = match.end()
        if match[1] is not None:  # {{name}} is written as it is, in single braces
            yield "{" + match[1] + "}"
            continue
        filters = list(map(_filter, match[3].split("|")[1:]))
        yield _Placeholder(match[2], tuple(filters), match[0])
    if at < len(source):
        yield source[at:]


def _filter(text: str) -> tuple[bool, Filter]:
    name, colon, argument = text.partition(":")
    return sees_missing(name), filter_for(name, argument if colon else None)


class ListTemplate:
    """One template or a list of them: a field that may come several times.

    One placeholder that stands for a list gives one text for each of its items.

    Attributes:
        source: as it is written on the card.
        items: the templates.
    """

    __slots__ = ("items", "source")

    def __init__(self, source: object) -> None:
        """Compile the templates.

        Raises:
            ValueError: something is no text, no number and no truth.
        """
        self.source = source
        self.items = tuple(
            Template(scalar_text(item))
            for item in (source if isinstance(source, list) else [source])
        )

    @classmethod
    def from_toml(cls, value: object) -> "ListTemplate":
        """As the constructor."""
        return cls(value)

    @property
    def templates(self) -> tuple[Template, ...]:
        """Every text in it."""
        return self.items

    def texts(self, values: Values) -> list[str]:
        """The texts it comes to; none when nothing has a value."""
        found: list[str] = []
        for template in self.items:
            value = template.value(values)
            if isinstance(value, list):
                found += list(map(as_text, value))
            elif value is not None:
                found.append(as_text(value))
        return found

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ListTemplate) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))


class DocumentTemplate:
    """A nest of tables and lists whose texts are templates.

    A text that is one placeholder and nothing else becomes the value itself, so that numbers stay
    numbers and lists lists. A key without a value is left out, and so are tables that become empty
    by that.

    Attributes:
        source: as it is written on the card.
        names: what it needs.
    """

    __slots__ = ("_compiled", "names", "source")

    def __init__(self, source: object) -> None:
        """Compile it.

        Raises:
            ValueError: one of its texts is no template.
        """
        self.source = source
        self._compiled = _compiled(source)
        self.names = tuple(
            chain.from_iterable(template.names for template in _templates(self._compiled))
        )

    @classmethod
    def from_toml(cls, value: object) -> "DocumentTemplate":
        """As the constructor."""
        return cls(value)

    @property
    def templates(self) -> list[Template]:
        """Every text in it."""
        return list(_templates(self._compiled))

    def document(self, values: Values) -> Any:
        """The nest with its texts filled; None when nothing has a value."""
        return _filled(self._compiled, values)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, DocumentTemplate) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))


def scalar_text(value: object) -> str:
    """A TOML value as the text of a template.

    Raises:
        ValueError: it is a table, a list or a date.
    """
    if isinstance(value, bool):
        if value:
            return "true"
        return "false"
    if isinstance(value, (str, int, float)):
        return str(value)
    raise ValueError(f"expected text or a number, found {value!r}")


def _compiled(value: object) -> object:
    if isinstance(value, str):
        return Template(value)
    if isinstance(value, Mapping):
        return {key: _compiled(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return list(map(_compiled, value))
    return value


def _templates(compiled: object) -> Iterator[Template]:
    if isinstance(compiled, Template):
        yield compiled
    elif isinstance(compiled, dict):
        for item in compiled.values():
            yield from _templates(item)
    elif isinstance(compiled, list):
        for item in compiled:
            yield from _templates(item)


def _filled(compiled: object, values: Values) -> Any:
    if isinstance(compiled, Template):
        value = compiled.value(values)
        if isinstance(value, (bytes, datetime)):
            return as_text(value)
        return value
    if isinstance(compiled, dict):
        items = {key: _filled(item, values) for key, item in compiled.items()}
        kept = {key: item for key, item in items.items() if item is not None}
        if kept or not compiled:
            return kept
        return None
    if isinstance(compiled, list):
        filled = [_filled(item, values) for item in compiled]
        return [item for item in filled if item is not None]
    return compiled
