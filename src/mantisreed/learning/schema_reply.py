"""A `reply` table from the schema of an answer."""

import re
from collections.abc import Iterator, Mapping
from typing import Any

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

_UNIT = re.compile(r"milli ?seconds?|micro ?seconds?|nano ?seconds?|seconds?|\bms\b", re.I)


class ReplyWriter:
    """A `reply` table from a schema; without values, so that only names can tell."""

    def __init__(self, card: Proposal) -> None:
        self._card = card

    def write(self, schema: Mapping[str, Any]) -> None:
        """Write the table for an answer of this schema."""
        card = self._card
        lists = list(_lists(schema, ""))
        said = [(path, items) for path, items in lists if _property(items, _SAID)]
        timed = [(path, items) for path, items in said if _property(items, _TIMES["start"])]
        words = next(
            (
                found
                for found in timed
                if re.search("word|token", found[0].rpartition(".")[2], re.I)
            ),
            None,
        )
        passages = next((found for found in timed if found is not words), None)
        text = _leaf(schema, _SAID)
        if not (words or passages):
            if text:
                card.key("text", text)
            else:
                card.key(
                    "format",
                    "text",
                    f"until an answer is learnt: engines learn ANSWER --add {card.name}",
                )
            return
        language = _leaf(schema, re.compile("lang|locale", re.I))
        if language:
            card.key("language", language)
        unit = self._unit((words or passages or ("", {}))[1])
        if unit and unit != "s":
            card.key("times", unit, "as the description says")
        elif not unit:
            card.comment(
                "the unit of times is not said: seconds are taken; learn a sample answer to be sure"
            )
        nested = (
            words is not None and passages is not None and words[0].startswith(f"{passages[0]}[].")
        )
        if passages is not None and (nested or words is None):
            self._list("passages", passages[0], passages[1])
        if words is not None:
            if nested and passages:
                path = words[0].removeprefix(f"{passages[0]}[].")
            else:
                path = words[0]
            self._list("words", path, words[1])

    @staticmethod
    def _unit(items: Mapping[str, Any]) -> str | None:
        for name, schema in items.items():
            if not _TIMES["start"].search(name):
                continue
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
            if name == "confidence" and key == "passages":
                continue
            card.key(name, found)


def _lists(
    schema: Mapping[str, Any], path: str, depth: int = 0
) -> Iterator[tuple[str, Mapping[str, Any]]]:
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
