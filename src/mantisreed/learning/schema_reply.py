"""A `reply` table from the schema of an answer."""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from mantisreed.cards.paths import quoted_name
from mantisreed.learning.proposal import Proposal

_SAID = re.compile(r"text|transcript|word|content|token|utterance|sentence|display", re.I)

_TIMES = {
    "start": re.compile(r"^(start|begin|from|offset|onset|t0)", re.I),
    "end": re.compile(r"^(end|stop|till|until|to$|t1)", re.I),
    "length": re.compile(r"^(dur|len)", re.I),
    "confidence": re.compile(r"conf|prob|score|certain", re.I),
    "speaker": re.compile(r"speak|voice|channel|who", re.I),
}

_WORDS = re.compile("word|token", re.I)
_UNIT = re.compile(r"milli ?seconds?|micro ?seconds?|nano ?seconds?|seconds?|\bms\b", re.I)


class _FoundList(NamedTuple):
    """A list in a schema: where it is, and the properties of what is in it."""

    path: str
    items: Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class _TimedLists:
    """The lists of a schema that say what was heard, and when.

    Attributes:
        words: those of words; None where there are none.
        passages: those of longer texts.
    """

    words: _FoundList | None
    passages: _FoundList | None

    @classmethod
    def of(cls, schema: Mapping[str, Any]) -> "_TimedLists":
        """Those of a schema, the first ones that there are."""
        timed = [
            _FoundList(path, items)
            for path, items in _lists(schema, "")
            if _property(items, _SAID) and _property(items, _TIMES["start"])
        ]
        # Only the name of a list tells whether words or passages are in it.
        of_words = [one for one in timed if _WORDS.search(one.path.rpartition(".")[2])]
        words = of_words[0] if of_words else None
        passages = next((one for one in timed if one is not words), None)
        return cls(words, passages)

    @property
    def are_nested(self) -> bool:
        """Whether the words are inside of the passages."""
        if self.words is None or self.passages is None:
            return False
        return self.words.path.startswith(f"{self.passages.path}[].")

    @property
    def path_of_words(self) -> str:
        """Where the words are, from their passage if they are in one."""
        assert self.words is not None
        if self.passages is None or not self.are_nested:
            return self.words.path
        return self.words.path.removeprefix(f"{self.passages.path}[].")


class ReplyWriter:
    """A `reply` table from a schema; without values, so that only names can tell."""

    def __init__(self, card: Proposal) -> None:
        self._card = card

    def write(self, schema: Mapping[str, Any]) -> None:
        """Write the table for an answer of this schema."""
        lists = _TimedLists.of(schema)
        if lists.words is None and lists.passages is None:
            self._write_text(schema)
            return
        language = _leaf(schema, re.compile("lang|locale", re.I))
        if language:
            self._card.key("language", language)
        self._write_unit(lists)
        # Passages beside words, and not around them, say the same twice; words say it better.
        passages = lists.passages
        if passages is not None and (lists.words is None or lists.are_nested):
            self._list("passages", passages.path, passages.items)
        if lists.words is not None:
            self._list("words", lists.path_of_words, lists.words.items)

    def _write_text(self, schema: Mapping[str, Any]) -> None:
        """Only a text; or nothing that a schema shows, as it has no values."""
        text = _leaf(schema, _SAID)
        if text:
            self._card.key("text", text)
            return
        advice = f"until an answer is learnt: engines learn ANSWER --add {self._card.name}"
        self._card.key("format", "text", advice)

    def _write_unit(self, lists: "_TimedLists") -> None:
        timed = lists.words or lists.passages
        assert timed is not None
        unit = self._unit(timed.items)
        if unit is None:
            self._card.comment(
                "the unit of times is not said: seconds are taken; learn a sample answer to be sure"
            )
        elif unit != "s":
            self._card.key("times", unit, "as the description says")

    @staticmethod
    def _unit(items: Mapping[str, Any]) -> str | None:
        for name, schema in items.items():
            if not _TIMES["start"].search(name):
                continue
            # What people write of it is surer than how it is called.
            said = _UNIT.search(f"{schema.get('description', '')}") or _UNIT.search(name)
            if said is None and re.search(r"ms$|_ms|Ms$|millis", name):
                return "ms"
            if said is None:
                return None
            found = said[0].lower().replace(" ", "")
            known = {"milli": "ms", "ms": "ms", "micro": "us", "nano": "ns"}
            return next((unit for prefix, unit in known.items() if found.startswith(prefix)), "s")
        return None

    def _list(self, key: str, path: str, items: Mapping[str, Any]) -> None:
        card = self._card
        card.table(f"reply.{key}")
        card.key("each", path or "@")
        card.key("text", _property(items, _SAID))
        for name, pattern in _TIMES.items():
            found = _property(items, pattern)
            if found is None or (name == "length" and _property(items, _TIMES["end"])):
                continue
            # A card has it for words alone.
            if name == "confidence" and key == "passages":
                continue
            card.key(name, found)


def _lists(
    schema: Mapping[str, Any], path: str, depth: int = 0
) -> Iterator[tuple[str, Mapping[str, Any]]]:
    # Schemas may contain themselves.
    if depth > 5 or not isinstance(schema, Mapping):
        return
    if schema.get("type") == "array" and isinstance(schema.get("items"), Mapping):
        properties = schema["items"].get("properties")
        if isinstance(properties, Mapping):
            yield path, properties
            for name, inner in properties.items():
                yield from _lists(inner, f"{path}[].{quoted_name(name)}", depth + 1)
        return
    for name, inner in (schema.get("properties") or {}).items():
        yield from _lists(
            inner, f"{path}.{quoted_name(name)}" if path else quoted_name(name), depth + 1
        )


def _property(items: Mapping[str, Any], pattern: re.Pattern[str]) -> str | None:
    return next(
        (
            quoted_name(name)
            for name, schema in items.items()
            if pattern.search(name)
            and isinstance(schema, Mapping)
            and schema.get("type") not in ("array", "object")
        ),
        None,
    )


def _leaf(
    schema: Mapping[str, Any], pattern: re.Pattern[str], path: str = "", depth: int = 0
) -> str | None:
    for name, inner in (schema.get("properties") or {}).items():
        if path:
            here = f"{path}.{quoted_name(name)}"
        else:
            here = quoted_name(name)
        if not isinstance(inner, Mapping):
            continue
        if pattern.search(name) and inner.get("type") == "string":
            return here
        if depth < 3 and (found := _leaf(inner, pattern, here, depth + 1)):
            return found
    return None
