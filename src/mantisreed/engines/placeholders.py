"""Placeholders in an engine card's values: `{language}` stands for a value that is known only at the request."""

import re
from collections.abc import Mapping

_PLACEHOLDER = re.compile(r"\{([a-z_][a-z0-9_]*)\}")


def placeholders_of(template: str) -> list[str]:
    """The names in a template, in order."""
    return _PLACEHOLDER.findall(template)


def filled(template: str, values: Mapping[str, str | None]) -> str | None:
    """The template with its placeholders replaced; None when one of them has no value, so that it is left out."""
    if any(not values.get(name) for name in placeholders_of(template)):
        return None
    return _PLACEHOLDER.sub(lambda match: values[match[1]] or "", template)
