"""A proposed card: tables, keys, and what the reader has to look at."""

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

_BARE = re.compile(r"[A-Za-z0-9_-]+")


@dataclass(slots=True)
class Proposal:
    """A card that is being written, line by line.

    Attributes:
        name: of the engine.
        notes: what the reader should know, a sentence each.
    """

    name: str
    notes: list[str] = field(default_factory=list)
    _lines: list[str] = field(default_factory=list)

    def table(self, path: str = "") -> None:
        """Begin a table of the card, such as `reply.words`."""
        if self._lines:
            self._lines.append("")
        self._lines.append(f"[engine.{toml_key(self.name)}{'.' if path else ''}{path}]")

    def key(self, key: str, value: Any, comment: str = "") -> None:
        """One key with its value."""
        self._lines.append(f"{key} = {toml_value(value)}" + (f"  # {comment}" if comment else ""))

    def line(self, text: str) -> None:
        """A line as it stands."""
        self._lines.append(text)

    def maybe(self, key: str, value: Any, why: str) -> None:
        """A key that is only worth a comment: what it would be, and why it is not sure."""
        self.comment(f"{key} = {toml_value(value)}  (not sure: {why})")

    def comment(self, text: str) -> None:
        """A line for people."""
        self._lines.append(f"# {text}")

    def append(self, other: "Proposal") -> None:
        """Add what another proposal says."""
        if self._lines:
            self._lines.append("")
        self._lines += other._lines
        self.notes += other.notes

    @property
    def toml(self) -> str:
        """The card, ready to paste into a settings file."""
        return "\n".join(self._lines) + "\n"


def toml_key(key: str) -> str:
    """A key as TOML has it."""
    if _BARE.fullmatch(key):
        return key
    return toml_value(key)


def toml_value(value: Any) -> str:
    """A value on one line, as TOML has it; None inside a list or table is left out."""
    if isinstance(value, (bool, str)):
        # TOML writes booleans, and its basic strings the escapes, as JSON does.
        return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
    if isinstance(value, (int, float)):
        return repr(value)
    if isinstance(value, Mapping):
        items = [
            f"{toml_key(str(key))} = {toml_value(item)}"
            for key, item in value.items()
            if item is not None
        ]
        return f"{{ {', '.join(items)} }}" if items else "{}"
    if isinstance(value, Sequence):
        return f"[{', '.join(toml_value(item) for item in value if item is not None)}]"
    raise TypeError(f"TOML has no {type(value).__name__}")
