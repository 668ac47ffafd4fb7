"""Where keys of a card have an effect: one table, by which cards are checked and the manual's table
is made.
"""

from collections.abc import Iterator
from dataclasses import dataclass

STEP_KINDS = {
    "request": "an ordinary request",
    "asking": "a step that asks for a state",
    "chunks": "a body in chunks",
    "websocket": "a WebSocket",
    "login": "'login'",
}
"""Kinds of steps. A step that asks is an ordinary request too, as far as its request goes."""

DOCUMENTS = ("json", "xml", "lines", "events", "csv", "msgpack", "cbor")
PARTS = ("lines", "events")
FORMATS = (*DOCUMENTS, "text", "srt", "vtt", "ttml", "ctm")


@dataclass(frozen=True, slots=True)
class Effect:
    """Where some keys have an effect.

    Attributes:
        keys: of the same table.
        places: formats of replies, or kinds of steps.
    """

    keys: tuple[str, ...]
    places: tuple[str, ...]


REPLY_EFFECTS = (
    Effect(("text", "language", "times", "zero", "confidence_scale"), DOCUMENTS),
    Effect(("tracks", "passages", "words", "turns", "speakers"), DOCUMENTS),
    Effect(("is_whole_text", "only", "key", "end_mark"), PARTS),
    Effect(("event",), ("events",)),
    Effect(("delimiter", "columns"), ("csv",)),
    Effect(("complete", "inside", "file"), FORMATS),
)
"""Keys of `reply`, by the format."""

_REQUESTS = ("request", "asking", "chunks", "login")
STEP_EFFECTS = (
    Effect(("method", "form", "json", "urlencoded", "raw", "gzip", "follow_redirects"), _REQUESTS),
    Effect(("pages",), ("request",)),
    Effect(("reason", "max_interval", "limit"), ("asking",)),
    Effect(("chunks",), ("request", "chunks")),
    Effect(("websocket",), ("request", "websocket")),
    Effect(("when", "starts_work", "cleanup"), ("request", "asking", "chunks", "websocket")),
)
"""Keys of a step, by its kind."""


def formats_of(key: str) -> tuple[str, ...]:
    """The formats in which a key of `reply` is read; all where it is not listed."""
    return next((row.places for row in REPLY_EFFECTS if key in row.keys), FORMATS)


def keys_without_effect(kind: str) -> Iterator[str]:
    """The keys that have no effect in a step of this kind."""
    for row in STEP_EFFECTS:
        if kind not in row.places:
            yield from row.keys


def effects_in_markdown() -> str:
    """The table for the manual."""
    lines = ["| table | keys | have an effect in |", "|---|---|---|"]
    for row in REPLY_EFFECTS:
        every = row.places == FORMATS
        listed = "every format" if every else ", ".join(f"`{place}`" for place in row.places)
        lines.append(f"| `reply` | {_quoted(row.keys)} | {listed} |")
    for row in STEP_EFFECTS:
        places = ", ".join(STEP_KINDS[place] for place in row.places)
        lines.append(f"| steps | {_quoted(row.keys)} | {places} |")
    return "\n".join(lines)


def _quoted(keys: tuple[str, ...]) -> str:
    return ", ".join(f"`{key}`" for key in keys)
