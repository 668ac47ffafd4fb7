"""Placeholders in an engine card's values: `{language}` stands for a value that is known only at the request."""

import re
from collections.abc import Iterator, Mapping

_PLACEHOLDER = re.compile(r"\{([a-z_][a-z0-9_]*)\}")

Value = str | int | float | list[str] | None
Values = Mapping[str, Value]


def placeholders_of(template: str) -> list[str]:
    """The names in a template, in order."""
    return _PLACEHOLDER.findall(template)


def templates_in(value: object) -> Iterator[str]:
    """Every text in a nest of tables and lists."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, Mapping):
        for item in value.values():
            yield from templates_in(item)
    elif isinstance(value, (list, tuple)):
        for item in value:
            yield from templates_in(item)


def filled(template: str, values: Values) -> str | None:
    """The template with its placeholders replaced; None when one of them has no value, so that it is left out.

    Lists are joined by a comma and a blank.
    """
    if any(_is_empty(values.get(name)) for name in placeholders_of(template)):
        return None
    return _PLACEHOLDER.sub(lambda match: _as_text(values[match[1]]), template)


def filled_all(templates: Mapping[str, str], values: Values) -> dict[str, str]:
    """The templates that have a value, filled."""
    return {name: value for name, template in templates.items() if (value := filled(template, values)) is not None}


def filled_document(value: object, values: Values) -> object:
    """A nest of tables and lists with its texts filled.

    A text that is one placeholder and nothing else becomes the value itself, so that numbers stay numbers and lists
    lists. Texts without a value are left out, and so are tables that become empty by that.
    """
    if isinstance(value, str):
        whole = _PLACEHOLDER.fullmatch(value)
        if whole:
            alone = values.get(whole[1])
            return None if _is_empty(alone) else alone
        return filled(value, values)
    if isinstance(value, Mapping):
        items = {key: filled_document(item, values) for key, item in value.items()}
        kept = {key: item for key, item in items.items() if item is not None}
        return kept if kept or not value else None
    if isinstance(value, (list, tuple)):
        return [item for item in (filled_document(item, values) for item in value) if item is not None]
    return value


def _is_empty(value: Value) -> bool:
    return value is None or value == "" or value == []


def _as_text(value: Value) -> str:
    return ", ".join(value) if isinstance(value, list) else str(value)
