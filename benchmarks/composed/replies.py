"""How a stranger writes down what it heard: every shape of reply, and the table of a card that
reads it.
"""

import base64
import csv
import gzip
import io
import json
import math
import random
import zipfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from composed.names import Names, path_of
from mantisreed.standin.hearing import Hearing
from mantisreed.standin.lines import Line
from mantisreed.units import clock

Card = dict[str, Any]
Item = dict[str, Any]

_EPOCH = datetime(2031, 4, 5, 6, 7, 8, tzinfo=UTC)


@dataclass(frozen=True)
class TrueWord:
    """A word as the reply says it: times in seconds as its unit has them.

    Attributes:
        text, start, end, confidence, speaker: what a transcript should have.
    """

    text: str
    start: float
    end: float
    confidence: float | None
    speaker: str | None


@dataclass
class Truth:
    """What a reply says.

    Attributes:
        words: with their times; none where the reply has no times of words.
        text: all of it.
        language: as it is said; None where it is not.
        events: sounds that are no speech.
        has_times: whether words have times.
    """

    words: list[TrueWord]
    text: str
    language: str | None
    events: int = 0
    has_times: bool = True


@dataclass(frozen=True)
class _Unit:
    """A unit of time: what a card calls it, its step in seconds, and how a time is written."""

    name: str
    step: float
    write: Callable[[float], Any]

    def rounded(self, seconds: float) -> float:
        """A time that can be written exactly."""
        return round(round(seconds / self.step) * self.step, 9)


def _count(step: float) -> Callable[[float], int]:
    return lambda seconds: round(seconds / step)


def _iso(seconds: float) -> str:
    minutes, rest = divmod(round(seconds, 3), 60)
    if minutes:
        return f"PT{int(minutes)}M{rest:.3f}S"
    return f"PT{rest:.3f}S"


def _parts(seconds: float) -> dict[str, int]:
    """A time in two parts; one that is 0 is left out."""
    whole, rest = divmod(round(seconds * 1000), 60_000)
    return {name: value for name, value in (("minutes", whole), ("millis", rest)) if value}


def _moment(seconds: float) -> str:
    return (_EPOCH + timedelta(seconds=round(seconds, 3))).isoformat(timespec="milliseconds")


def _units(rate: int) -> dict[str, _Unit]:
    ms = 0.001
    return {
        "s": _Unit("s", ms, lambda seconds: round(seconds, 3)),
        "ms": _Unit("ms", ms, _count(ms)),
        "us": _Unit("us", ms, _count(1e-6)),
        "ns": _Unit("ns", ms, _count(1e-9)),
        "1/6000 s": _Unit("1/6000 s", ms, _count(1 / 6000)),
        "10 ms": _Unit("10 ms", 0.01, _count(0.01)),
        "20 ms": _Unit("20 ms", 0.02, _count(0.02)),
        "samples": _Unit("samples", 1 / rate, _count(1 / rate)),
        "clock": _Unit("clock", ms, clock),
        "iso8601": _Unit("iso8601", ms, _iso),
        "suffixed": _Unit("suffixed", ms, lambda seconds: f"{round(seconds, 3):.3f}s"),
        "moment": _Unit("moment", ms, _moment),
        "parts": _Unit("s", ms, _parts),
        "text": _Unit("s", ms, lambda seconds: f"{seconds:.3f}"),
    }


_SCALES: dict[str, Callable[[float], float]] = {
    "fraction": lambda share: round(share, 4),
    "percent": lambda share: round(share * 100, 2),
    "log": lambda share: round(math.log(max(share, 1e-6)), 6),
    "negative log": lambda share: round(-math.log(max(share, 1e-6)), 6),
}


@dataclass
class Shape:
    """One way of writing replies down.

    Attributes:
        kind: words for people.
        table: the `reply` table of the card.
        write: gives the body, its content type, and what it says.
        list_path: the names under which the one list of words stands, so that it can be parted into
            pages.
    """

    kind: str
    table: Card
    write: Callable[[Hearing], tuple[bytes, str, Truth]]
    document: Callable[[Hearing], tuple[Any, Truth]] | None = None
    list_path: tuple[str, ...] = ()


def shape(chance: random.Random, names: Names, rate: int) -> Shape:
    """Any way of writing replies down."""
    form = chance.choices(
        ("json", "lines", "events", "xml", "csv", "ctm", "srt", "vtt", "ttml", "text", "tracks"),
        (44, 9, 9, 10, 6, 4, 5, 5, 4, 4, 6),
    )[0]
    if form in ("srt", "vtt", "ttml", "text", "ctm"):
        made = _file(form, chance, names)
    elif form == "csv":
        made = _csv(chance, names, rate)
    elif form == "tracks":
        made = _tracks(chance, names, rate)
    else:
        made = _Documents(form, chance, names, rate).shape()
    if chance.random() < {"json": 0.25, "srt": 0.35, "vtt": 0.35, "lines": 0.35}.get(form, 0.0):
        made = _inside(made, chance, names)
    if chance.random() < 0.2:
        made = _packed(made, chance)
    return made


def _spoken(hearing: Hearing, unit: _Unit) -> list[tuple[Line, list[TrueWord]]]:
    """The lines with their words, times as the unit has them, each word at least one step long."""
    spoken = []
    before = 0.0
    for line in hearing.lines:
        words = []
        for word in line.words:
            start = max(unit.rounded(word.start), before)
            end = max(unit.rounded(word.end), unit.rounded(start + unit.step))
            words.append(TrueWord(word.text, start, end, word.confidence, line.voice))
            before = end
        spoken.append((line, words))
    return spoken


@dataclass
class _Documents:
    """Replies of tables and lists: words in passages, alone, in parts, or in lists side by side."""

    form: str
    chance: random.Random
    names: Names
    rate: int
    kind: list[str] = field(default_factory=list)

    def shape(self) -> Shape:
        chance, names = self.chance, self.names
        units = _units(self.rate)
        is_xml = self.form == "xml"
        layouts = ["nested", "flat", "flat", "tokens"] + (
            ["side by side"] if self.form == "json" else []
        )
        self.layout = chance.choice(layouts)
        self.unit = units[chance.choice(sorted(units))]
        while is_xml and self.unit.write is _parts:
            self.unit = units[chance.choice(sorted(units))]
        self.spans = chance.choice(("end", "end", "length", "only length"))
        if self.layout != "flat" and self.spans == "only length":
            self.spans = "length"
        if self.unit.name == "moment" and self.spans != "end":
            self.spans = "end"
        self.is_relative = (
            self.layout == "nested" and self.unit.name != "moment" and chance.random() < 0.4
        )
        self.speaker = chance.choice(
            ("none", "words", "passages" if self.layout == "nested" else "turns")
        )
        if self.layout == "side by side" and self.speaker == "words":
            self.speaker = "turns"
        if self.form in ("lines", "events") and self.speaker == "turns":
            self.speaker = "words"
        self.is_numbered = chance.random() < 0.5
        self.is_named = (
            self.speaker != "none" and self.form in ("json", "xml") and chance.random() < 0.3
        )
        self.scale = chance.choice((None, *_SCALES))
        self.is_confidence_text = chance.random() < 0.3
        self.marks = chance.choice(("attached", "attached", "untimed", "kind"))
        if self.layout in ("tokens", "side by side") or self.spans == "only length" or is_xml:
            self.marks = "attached"
        self.events = chance.choice((None, None, "kind", "pattern"))
        if self.layout in ("tokens", "side by side") or self.spans == "only length":
            self.events = None
        self.has_kind = self.marks == "kind" or self.events == "kind" or self.spans == "only length"
        self.has_text = chance.random() < 0.6
        self.has_language = chance.random() < 0.6
        self.has_others = self.layout == "nested" and self.form == "json" and chance.random() < 0.4
        self.mark = chance.choice(("begin_mark", "continue_mark", "more_mark", "begins", "blank"))
        if is_xml and self.mark in ("blank", "begins"):
            self.mark = "begin_mark"
        keys = (
            "passages",
            "words",
            "text",
            "start",
            "end",
            "speaker",
            "confidence",
            "kind",
            "language",
            "turns",
        )
        more = ("zero", "others", "wrap", "flag", "id", "label", "people", "junk")
        self.key = {key: names.new() for key in (*keys, *more)}
        if self.form in ("lines", "events"):
            wraps = 0
        else:
            wraps = chance.choice((0, 1, 2))
        self.wrap = [names.new() for _ in range(wraps)]
        self.kind = [self.form, self.layout, self.unit.name, self.spans, f"speaker {self.speaker}"]
        self.kind += [f"confidence {self.scale}", f"marks {self.marks}", f"events {self.events}"]
        if self.is_relative:
            self.kind += ["relative"]
        else:
            self.kind += []
        name = self.key["passages" if self.layout == "nested" else "words"]
        if self._can_be_parted:
            listed = (*self.wrap, name)
        else:
            listed = ()
        return Shape(" ".join(self.kind), self._table(), self._write, self._document, listed)

    @property
    def _can_be_parted(self) -> bool:
        is_list = self.form == "json" and self.layout in ("flat", "nested")
        return is_list and self.speaker != "turns" and self.spans != "only length"

    def _path(self, *keys: str) -> str:
        if self.form == "xml":
            root = ["root"]
        else:
            root = []
        return path_of(*root, *self.wrap, *(self.key[key] for key in keys))

    def _one(self, key: str) -> str:
        return path_of(self.key[key])

    def _table(self) -> Card:
        table: Card = {} if self.form == "json" else {"format": self.form}
        if self.unit.name != "s":
            table["times"] = self.unit.name
        if self.scale not in (None, "fraction"):
            table["confidence_scale"] = self.scale
        if self.has_language:
            table["language"] = self._path("language")
        if self.unit.name == "moment":
            table["zero"] = self._path("zero")
        words: Card = {"text": self._one("text")}
        if self.layout == "side by side":
            words = {"text": self._path("words", "text")}
        words |= self._times_of_words()
        if self.layout == "nested":
            words["each"] = self._one("words")
            table["passages"] = self._passages()
        elif self.layout != "side by side":
            words["each"] = self._path("words")
        if self.scale:
            side = self.layout == "side by side"
            if side:
                words["confidence"] = self._path("words", "confidence")
            else:
                words["confidence"] = self._one("confidence")
        if self.speaker == "words":
            words["speaker"] = self._one("speaker")
        if self.is_relative:
            words["zero"] = "passage"
        if self.has_kind:
            words["kind"] = self._one("kind")
        if self.marks == "kind":
            words["punctuation"] = ["mark"]
        if self.events == "kind":
            words["events"] = ["noise"]
        if self.events == "pattern":
            words["event_pattern"] = r"\[.*\]"
        if self.spans == "only length":
            words["ignored"] = ["pause"]
        if self.layout == "tokens":
            words["tokens"] = self._tokens()
        if self.speaker == "turns":
            turns = {
                "each": self._path("turns"),
                "start": self._one("start"),
                "speaker": self._one("speaker"),
            }
            table["turns"] = {**turns, "end": self._one("end")}
        if self.is_named:
            people = {
                "each": self._path("people"),
                "id": self._one("id"),
                "name": self._one("label"),
            }
            table["speakers"] = people
        table["words"] = words
        return table

    def _tokens(self) -> Card:
        return {
            "begin_mark": {"begin_mark": "▁"},
            "continue_mark": {"continue_mark": "##"},
            "more_mark": {"more_mark": "@@"},
            "begins": {"begins": self._one("flag")},
            "blank": {"begin_mark": " "},
        }[self.mark]

    def _times_of_words(self) -> Card:
        if self.layout == "side by side":
            if self.spans == "length":
                other = "length"
            else:
                other = "end"
            return {"start": self._path("words", "start"), other: self._path("words", "end")}
        if self.spans == "only length":
            return {"length": self._one("end")}
        return {
            "start": self._one("start"),
            "end" if self.spans == "end" else "length": self._one("end"),
        }

    def _passages(self) -> Card:
        passages: Card = {"each": self._path("passages")}
        if self.has_text:
            passages["text"] = self._one("text")
        if self.is_relative or self.chance.random() < 0.5:
            passages["start"] = self._one("start")
            passages["end"] = self._one("end")
            self.has_passage_times = True
        else:
            self.has_passage_times = False
        if self.speaker == "passages":
            passages["speaker"] = self._one("speaker")
        if self.has_others:
            passages["alternatives"] = self._one("others")
        return passages

    def _label(self, voice: str | None, voices: Sequence[str | None]) -> tuple[Any, str]:
        """How a speaker is written, and what a transcript should call it."""
        number = list(voices).index(voice) + 1
        written: Any = number if self.is_numbered else f"{voice}"
        return written, f"person {number}" if self.is_named else str(written)

    def _item(
        self, word: TrueWord, zero: float, written: Any, text: str, kind: str = "word"
    ) -> Item:
        key = self.key
        item: Item = {key["text"]: text}
        start, end = word.start - zero, word.end - zero
        if self.spans != "only length":
            item[key["start"]] = self.unit.write(start)
        item[key["end"]] = self.unit.write(end if self.spans == "end" else end - start)
        if self.scale and word.confidence is not None:
            value: Any = _SCALES[self.scale](word.confidence)
            if self.is_confidence_text:
                item[key["confidence"]] = str(value)
            else:
                item[key["confidence"]] = value
        if self.speaker == "words":
            item[key["speaker"]] = written
        if self.has_kind:
            item[key["kind"]] = kind
        if self.form != "xml":
            item[key["junk"]] = {"n": 1}
        else:
            item[key["junk"]] = "n"
        return item

    def _items(
        self, words: Sequence[TrueWord], zero: float, written: Any, after: float
    ) -> list[Item]:
        key, items, cursor = self.key, [], after
        for word in words:
            if self.spans == "only length" and word.start > cursor:
                pause = TrueWord("", cursor, word.start, None, None)
                items.append(self._item(pause, 0.0, written, "-", "pause"))
            cursor = word.end
            text, mark = word.text, ""
            if self.marks != "attached" and text[-1:] in ".,?!":
                text, mark = text[:-1], text[-1]
            if self.layout == "tokens":
                items += self._parts(word, zero, written)
                continue
            items.append(self._item(word, zero, written, text))
            if mark:
                item = self._item(
                    TrueWord(mark, word.end, word.end, word.confidence, None),
                    zero,
                    written,
                    mark,
                    "mark",
                )
                if self.marks == "untimed":
                    item = {
                        name: value
                        for name, value in item.items()
                        if name not in (key["start"], key["end"])
                    }
                items.append(item)
        return items

    def _parts(self, word: TrueWord, zero: float, written: Any) -> list[Item]:
        """A word as one or two parts."""
        cut = len(word.text) // 2
        middle = self.unit.rounded((word.start + word.end) / 2)
        if cut < 1 or not word.start < middle < word.end or len(word.text) < 5:
            texts, spans = [word.text], [(word.start, word.end)]
        else:
            texts, spans = (
                [word.text[:cut], word.text[cut:]],
                [(word.start, middle), (middle, word.end)],
            )
        items = []
        for number, (text, (start, end)) in enumerate(zip(texts, spans, strict=True)):
            part = TrueWord(text, start, end, word.confidence, None)
            shown = self._marked(text, is_first=number == 0, is_last=number + 1 == len(texts))
            item = self._item(part, zero, written, shown)
            if self.mark == "begins":
                item[self.key["flag"]] = number == 0
            items.append(item)
        return items

    def _marked(self, text: str, *, is_first: bool, is_last: bool) -> str:
        if self.mark == "begin_mark":
            if is_first:
                return f"▁{text}"
            return text
        if self.mark == "blank":
            if is_first:
                return f" {text}"
            return text
        if self.mark == "continue_mark":
            if is_first:
                return text
            return f"##{text}"
        if is_last or self.mark != "more_mark":
            return text
        return f"{text}@@"

    def _event(self, before: TrueWord, zero: float, written: Any) -> Item:
        noise = TrueWord("", before.end, before.end, before.confidence, None)
        if self.events == "pattern":
            text = "[door]"
        else:
            text = "door"
        return self._item(noise, zero, written, text, "noise")

    def _document(self, hearing: Hearing) -> tuple[Any, Truth]:
        """The whole as one document, and what it says."""
        passages, turns, words, truth, count = [], [], [], [], 0
        spoken = _spoken(hearing, self.unit)
        voices = sorted({line.voice for line, _ in spoken}, key=str)
        after, key = 0.0, self.key
        for line, said in spoken:
            written, label = self._label(line.voice, voices)
            if self.is_relative:
                zero = said[0].start
            else:
                zero = 0.0
            items = self._items(said, zero, written, after)
            if self.events:
                items.append(self._event(said[-1], zero, written))
                count += 1
            after = said[-1].end
            confidence = self.scale is not None
            truth += [
                TrueWord(
                    word.text,
                    word.start,
                    word.end,
                    word.confidence if confidence else None,
                    label if self.speaker != "none" else None,
                )
                for word in said
            ]
            span = {
                key["start"]: self.unit.write(said[0].start),
                key["end"]: self.unit.write(said[-1].end),
            }
            turns.append({**span, key["speaker"]: written})
            words += items
            passage: Item = {key["text"]: line.text, key["words"]: items, **span}
            if self.speaker == "passages":
                passage[key["speaker"]] = written
            if self.has_others:
                passage[key["others"]] = [line.text.lower(), line.text.upper()]
            passages.append(passage)
        inner: Item = {key["junk"]: "deep" if self.form == "xml" else [1, 2]}
        if self.layout == "nested":
            inner[key["passages"]] = passages
        elif self.layout == "side by side":
            names = [key[name] for name in ("text", "start", "end", "confidence")]
            columns = {
                name: [item[name] for item in words]
                for name in names
                if all(name in item for item in words)
            }
            inner[key["words"]] = columns
        else:
            inner[key["words"]] = words
        if self.speaker == "turns":
            inner[key["turns"]] = turns
        if self.has_language:
            inner[key["language"]] = hearing.tongue
        if self.unit.name == "moment":
            inner[key["zero"]] = _moment(0.0)
        if self.is_named:
            people = [self._label(voice, voices) for voice in voices]
            inner[key["people"]] = [
                {key["id"]: written, key["label"]: label} for written, label in people
            ]
        document: Any = inner
        for name in reversed(self.wrap):
            document = {name: document}
        return document, Truth(
            truth, hearing.text, hearing.tongue if self.has_language else None, count
        )

    def _write(self, hearing: Hearing) -> tuple[bytes, str, Truth]:
        document, truth = self._document(hearing)
        if self.form == "json":
            return json.dumps(document).encode(), "application/json", truth
        if self.form == "xml":
            return (
                ('<?xml version="1.0"?>\n' + _xml("root", document)).encode(),
                "application/xml",
                truth,
            )
        return (
            self._stream(document),
            "application/x-ndjson" if self.form == "lines" else "text/event-stream",
            truth,
        )

    def _stream(self, document: Item) -> bytes:
        """The items in several documents, other things between."""
        name = self.key["passages" if self.layout == "nested" else "words"]
        items = document.pop(name)
        parts = [{**document}]
        if self.layout == "nested":
            size = 1
        else:
            size = 4
        parts += [
            {**document, name: items[start : start + size]} for start in range(0, len(items), size)
        ]
        parts.append({self.key["junk"]: "over"})
        texts = [json.dumps(part) for part in parts]
        if self.form == "lines":
            return "".join(f"{text}\n" for text in texts).encode()
        return "".join(f"event: {self.key['flag']}\ndata: {text}\n\n" for text in texts).encode()


def _xml(name: str, value: Any) -> str:
    """A value as an element: what is simple in a list's items as attributes."""
    if isinstance(value, list):
        return "".join(_xml(name, item) for item in value)
    tag = name.replace(" ", "_")
    if not isinstance(value, dict):
        return f"<{tag}>{escape(str(value))}</{tag}>"
    plain = {key: item for key, item in value.items() if not isinstance(item, (dict, list))}
    rest = "".join(_xml(key, item) for key, item in value.items() if key not in plain)
    attributes = "".join(f" {key}={quoteattr(str(item))}" for key, item in plain.items())
    return f"<{tag}{attributes}>{rest}</{tag}>"


def _file(form: str, chance: random.Random, names: Names) -> Shape:
    """Files as they are used elsewhere."""
    unit = _units(16_000)["ms"]

    def write(hearing: Hearing) -> tuple[bytes, str, Truth]:
        spoken = _spoken(hearing, unit)
        if form == "text":
            return (
                hearing.text.encode(),
                "text/plain",
                Truth([], hearing.text, None, has_times=False),
            )
        if form == "ctm":
            rows = [
                f"note 1 {word.start:.3f} {word.end - word.start:.3f} {word.text} "
                f"{word.confidence:.4f}\n"
                for _, said in spoken
                for word in said
            ]
            said = [
                TrueWord(w.text, w.start, w.end, w.confidence, None)
                for _, words in spoken
                for w in words
            ]
            return "".join(rows).encode(), "text/plain", Truth(said, hearing.text, None)
        blocks = [_cue(form, number, line, words) for number, (line, words) in enumerate(spoken, 1)]
        head = {
            "srt": "",
            "vtt": "WEBVTT\n\n",
            "ttml": '<tt xml:lang="en" xmlns="http://www.w3.org/ns/ttml"><body><div>',
        }[form]
        if form == "ttml":
            tail = "</div></body></tt>"
        else:
            tail = ""
        body = head + ("\n" if form != "ttml" else "").join(blocks) + tail
        return body.encode(), "text/plain", Truth([], hearing.text, None, has_times=False)

    return Shape(form, {"format": form}, write)


def _cue(form: str, number: int, line: Line, words: Sequence[TrueWord]) -> str:
    start, end = words[0].start, words[-1].end
    if form == "ttml":
        return f'<p begin="{start:.3f}s" end="{end:.3f}s">{escape(line.text)}</p>'
    mark = "," if form == "srt" else "."
    times = f"{clock(start, separator=mark)} --> {clock(end, separator=mark)}"
    return f"{number}\n{times}\n{escape(line.text) if form == 'vtt' else line.text}\n"


def _csv(chance: random.Random, names: Names, rate: int) -> Shape:
    text, start, end, sure, who = (names.new() for _ in range(5))
    delimiter = chance.choice((",", ";", "\t"))
    has_head, units = chance.random() < 0.7, _units(rate)
    unit = units[chance.choice(("s", "ms", "clock", "samples"))]

    def write(hearing: Hearing) -> tuple[bytes, str, Truth]:
        sink = io.StringIO()
        rows = csv.writer(sink, delimiter=delimiter)
        if has_head:
            rows.writerow((text, start, end, sure, who))
        said = []
        for line, words in _spoken(hearing, unit):
            for word in words:
                share = round(word.confidence or 0.0, 4)
                rows.writerow(
                    (word.text, unit.write(word.start), unit.write(word.end), share, line.voice)
                )
                said.append(TrueWord(word.text, word.start, word.end, word.confidence, line.voice))
        return sink.getvalue().encode(), "text/csv", Truth(said, hearing.text, None)

    table: Card = {"format": "csv", "times": unit.name}
    if unit.name == "s":
        del table["times"]
    if delimiter != ",":
        table["delimiter"] = delimiter
    if not has_head:
        table["columns"] = [text, start, end, sure, who]
    words = {"each": "@", "text": path_of(text), "start": path_of(start), "end": path_of(end)}
    table["words"] = {**words, "confidence": path_of(sure), "speaker": path_of(who)}
    return Shape(f"csv {unit.name}", table, write)


def _tracks(chance: random.Random, names: Names, rate: int) -> Shape:
    """A part of the reply for each speaker, one behind the other."""
    parts, who, listed, text, start, end = (names.new() for _ in range(6))
    is_named, units = chance.random() < 0.5, _units(rate)
    unit = units[chance.choice(("s", "ms", "clock", "samples"))]

    def write(hearing: Hearing) -> tuple[bytes, str, Truth]:
        spoken = _spoken(hearing, unit)
        voices = list(dict.fromkeys(str(line.voice) for line, _ in spoken))
        found: list[Item] = [{who: voice, listed: []} for voice in voices]
        said = []
        for line, words in spoken:
            place = voices.index(str(line.voice))
            label = voices[place] if is_named else str(place)
            for word in words:
                item = {text: word.text, start: unit.write(word.start), end: unit.write(word.end)}
                found[place][listed].append(item)
                said.append(TrueWord(word.text, word.start, word.end, None, label))
        body = json.dumps({parts: found}).encode()
        return body, "application/json", Truth(said, hearing.text, None)

    table: Card = {"tracks": {"each": path_of(parts)}}
    if is_named:
        table["tracks"]["speaker"] = path_of(who)
    if unit.name != "s":
        table["times"] = unit.name
    places = {"text": path_of(text), "start": path_of(start), "end": path_of(end)}
    table["words"] = {"each": path_of(listed), **places}
    return Shape(f"tracks {unit.name}", table, write)


def _inside(made: Shape, chance: random.Random, names: Names) -> Shape:
    """The reply as a text in another document."""
    outer, is_encoded, write = names.new(), chance.random() < 0.4, made.write

    def wrapped(hearing: Hearing) -> tuple[bytes, str, Truth]:
        body, _, truth = write(hearing)
        if is_encoded:
            text = base64.b64encode(body).decode()
        else:
            text = body.decode()
        return json.dumps({"state": "ok", outer: text}).encode(), "application/json", truth

    inside = path_of(outer)
    table = {**made.table, "inside": f"base64:{inside}" if is_encoded else inside}
    return Shape(f"{made.kind} inside{' base64' if is_encoded else ''}", table, wrapped)


def _packed(made: Shape, chance: random.Random) -> Shape:
    """The reply packed."""
    write, as_zip = made.write, chance.random() < 0.5

    def packed(hearing: Hearing) -> tuple[bytes, str, Truth]:
        body, _, truth = write(hearing)
        if not as_zip:
            return gzip.compress(body), "application/gzip", truth
        sink = io.BytesIO()
        with zipfile.ZipFile(sink, "w") as archive:
            archive.writestr("reply.dat", body)
            archive.writestr("readme.txt", "made by a stranger")
        return sink.getvalue(), "application/zip", truth

    if as_zip:
        table = {**made.table, "file": "*.dat"}
    else:
        table = made.table
    return Shape(f"{made.kind} {'zip' if as_zip else 'gzip'}", table, packed)
