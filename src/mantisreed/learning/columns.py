"""Judging what the values of a list can be: times, texts, confidences, speakers.

Nothing is known of the service. A role is judged by what its values must satisfy: times rise and
lie within the sound, words do not overlap and are said at the pace of speech, confidences keep to
their scale. Names only break ties.
"""

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain, pairwise, product
from typing import Any

from mantisreed.learning.column import EPOCH, TEXTS, Column, Judged

# Characters a second of speech, blanks counted; and how much that varies.
_PACE, _SPREAD = (
    math.log(14.0),
    0.75,
)
# Milliseconds and seconds are what most services write; a rare unit has to be borne out by the
# values.
_COUNTS = {
    "s": 1.0,
    "ms": 1.0,
    "10 ms": 0.5,
    "20 ms": 0.5,
    "us": 0.75,
    "100 ns": 0.7,
    "ns": 0.75,
    "samples": 0.65,
}
"""Units of bare numbers, and how common they are."""

_START = re.compile(r"start|begin|from|offset|open|onset|^at$|^t$|^t0$|^a$|_in$|time", re.I)
_END = re.compile(r"end|stop|till|until|gone|close|^to$|^z$|^t1$|_out$|finish", re.I)
_LENGTH = re.compile(r"dur|len|runs|^d$|^l$|width|span", re.I)
_CONFIDENCE = re.compile(r"conf|prob|score|sure|trust|certain|likel|belief|quality|^p$", re.I)
_SPEAKER = re.compile(r"speak|spk|voice|who|channel|role|person|party|^by$|talker|label", re.I)
_TEXT = re.compile(
    r"text|word|transcript|content|token|utter|punctuated|display|written|^w$|said|says", re.I
)
_KIND = re.compile(r"type|kind|class|categ|^pos$|tag", re.I)
# Numbers that rise as times do, and are none: an index of words would be the best column of starts.
_NUMBERED = re.compile(
    r"(^|[._-])(id|index|idx|number|no|seq|rank|count|channel|speaker|size|version)$", re.I
)
_FINAL = re.compile(r"final|stable|complete|is_last|definite|settled", re.I)
_LABEL = re.compile("lang|state|status|^id$", re.I)
# Long hexadecimal texts, `job_8c2f41`, and addresses: they look like text and say nothing.
_IDENTIFIER = re.compile(r"[0-9a-fA-F-]{8,}|[a-z]+_[0-9a-z]{6,}|https?://\S+")
_LETTERS = re.compile(r"[^\W\d_]")


def times_of(columns: Sequence[Column], characters: int, length: float | None) -> list[Judged]:
    """In which ways these columns can be times, the best first.

    Args:
        columns: of one list.
        characters: of all its texts.
        length: of the sound in seconds, where it is known.
    """
    # A field that half of the items lack is a remark on some of them.
    timed = [column for column in columns if column.is_everywhere]
    judged = list(
        chain.from_iterable(_with_start(start, timed, characters, length) for start in timed)
    )
    judged += list(
        chain.from_iterable(_length_alone(column, characters, length) for column in timed)
    )
    return sorted(judged, key=lambda one: -one.score)


def _units(column: Column) -> dict[str, float]:
    """Units in which all of its values can be times."""
    if all(isinstance(value, str) for value in column.present):
        return {unit: 1.0 for unit in (*TEXTS, "moment") if column.seconds(unit) is not None} or (
            {unit: 0.9 * prior for unit, prior in _COUNTS.items()}
            if column.numbers is not None
            else {}
        )
    if column.numbers is not None:
        return dict(_COUNTS)
    return {}


def _with_start(
    start: Column, columns: Sequence[Column], characters: int, length: float | None
) -> Iterator[Judged]:
    for unit, prior in _units(start).items():
        starts = start.seconds(unit)
        if starts is None or min(starts) < 0:
            continue
        rising = _rising(starts)
        # One word in ten may begin before the one in front of it, where two people speak.
        if rising < 0.9 or not _fits(starts, length):
            continue
        score = prior * rising * _named(start, _START, (_END, _LENGTH))
        starting = _Starting(start, unit, starts, score, characters, length)
        for other in columns:
            if other is start or unit not in _units(other):
                continue
            others = other.seconds(unit)
            if others is not None and len(others) == len(starts) and min(others) >= 0:
                yield from starting.with_end(other, others)
                yield from starting.with_length(other, others)
        yield from starting.alone()


@dataclass(frozen=True, slots=True)
class _Starting:
    """A column that may hold starts, in one unit.

    Attributes:
        column: it.
        unit: of its values.
        starts: its values in seconds.
        score: how much speaks for it.
        characters: of the text, by which the pace is judged.
        length: of the recording; None where nobody knows.
    """

    column: Column
    unit: str
    starts: Sequence[float]
    score: float
    characters: int
    length: float | None

    def with_end(self, other: Column, ends: Sequence[float]) -> Iterator[Judged]:
        """With another column as the ends."""
        pairs = list(zip(self.starts, ends, strict=True))
        # Ends under their starts are lengths, or of another unit.
        is_above = all(end >= start for start, end in pairs)
        if (
            not is_above
            or not _fits(ends, self.length)
            or all(end <= start for start, end in pairs)
        ):
            return
        apart = 0.5 + 0.5 * _apart(self.starts, ends)
        share = _named(other, _END, (_LENGTH, _START)) * _rising(ends) * apart
        pace = _pace(self.characters, sum(ends) - sum(self.starts))
        keys = {"start": self.column.name, "end": other.name}
        yield _judged(keys, self.score * share * pace, self.unit, self.column, other)

    def with_length(self, other: Column, lengths: Sequence[float]) -> Iterator[Judged]:
        """With another column as the lengths."""
        ends = [start + length for start, length in zip(self.starts, lengths, strict=True)]
        if not _fits(ends, self.length) or sum(lengths) <= 0:
            return
        apart = 0.5 + 0.5 * _apart(self.starts, ends)
        share = _named(other, _LENGTH, (_END, _START)) * apart
        # What rises with the start is rather an end.
        if len(self.starts) > 3 and _rising(lengths) == 1.0 and len(set(lengths)) > 3:
            share *= 0.3
        pace = _pace(self.characters, sum(lengths))
        keys = {"start": self.column.name, "length": other.name}
        yield _judged(keys, self.score * share * pace, self.unit, self.column, other)

    def alone(self) -> Iterator[Judged]:
        """Without ends; the last one is taken to last as long as others do."""
        first, last = self.starts[0], self.starts[-1]
        if len(self.starts) < 3 or last <= first:
            return
        end = last * 1.05 if self.length is None else self.length
        # With ends it would be surer: a card that knows only starts guesses how long the last word
        # lasts.
        score = 0.55 * self.score * _pace(self.characters, end - first)
        yield _judged({"start": self.column.name}, score, self.unit, self.column)


def _length_alone(column: Column, characters: int, length: float | None) -> Iterator[Judged]:
    for unit, prior in _units(column).items():
        seconds = column.seconds(unit)
        if (
            seconds is None
            or min(seconds) < 0
            or not _fits([sum(seconds)], length)
            or not column.hints(_LENGTH)
        ):
            continue
        yield _judged(
            # Lengths alone add up only where nobody pauses.
            {"length": column.name},
            0.45 * prior * _pace(characters, sum(seconds)),
            unit,
            column,
        )


def _judged(keys: dict[str, str], score: float, unit: str, *columns: Column) -> Judged:
    return Judged(
        keys, score, unit, "; ".join(f"{column.name} {column.example}" for column in columns)
    )


def _named(column: Column, wanted: re.Pattern[str], others: Sequence[re.Pattern[str]]) -> float:
    if column.hints(_NUMBERED) or column.hints(_CONFIDENCE) or column.hints(_SPEAKER):
        # Not nothing: some services call their times `index` or `channel_time`.
        return 0.15
    if column.hints(wanted):
        return 1.0
    if any(map(column.hints, others)):
        return 0.6
    return 0.85


def _rising(numbers: Sequence[float]) -> float:
    """Which share of the steps goes up or stays; several voices may overlap."""
    steps = [after >= before for before, after in pairwise(numbers)]
    if steps:
        return sum(steps) / len(steps)
    return 0.95


def _apart(starts: Sequence[float], ends: Sequence[float]) -> float:
    """Which share of items ends before the next one begins."""
    # Services round: a word may end a few hundredths into the next one.
    pairs = [end <= after + 0.06 for end, after in zip(ends, starts[1:], strict=False)]
    if pairs:
        return sum(pairs) / len(pairs)
    return 1.0


def _fits(seconds: Sequence[float], length: float | None) -> bool:
    # Moments count from a beginning that is not known here.
    if max(seconds) > EPOCH:
        latest = max(seconds) - min(seconds)
    else:
        latest = max(seconds)
    # Engines round up to their next frame, and some count the silence that they add.
    return length is None or latest <= length * 1.03 + 0.5


def _pace(characters: int, spoken: float) -> float:
    """How likely it is that so many characters are said in such a time."""
    if spoken <= 0 or characters <= 0:
        return 0.0
    # The logarithm, as twice the pace is as unlikely as half of it.
    away = (math.log(characters / spoken) - _PACE) / _SPREAD
    return math.exp(-0.25 * away * away)


def texts_of(columns: Sequence[Column]) -> list[Judged]:
    """Which columns can be what was said, the best first."""
    judged = [
        Judged({"text": column.name}, _text_score(column), "", column.example) for column in columns
    ]
    return sorted((one for one in judged if one.score > 0), key=lambda one: -one.score)


def _text_score(column: Column) -> float:
    """How likely a column is what was said, from 0 to 1."""
    values = [value for value in column.present if isinstance(value, str) and value.strip()]
    # Empty texts are common where silence is an item too.
    few = len(values) < 0.6 * len(column.values) or len(values) < 0.9 * len(column.present)
    if few or not values or _are_numbers(column) or _are_identifiers(values):
        return 0.0
    lettered = sum(bool(_LETTERS.search(value)) for value in values) / len(values)
    score = min(1.0, lettered + 0.3) if lettered > 0.4 else 0.0
    distinct = len(set(values)) / len(values)
    # Under five values, people do say the same word twice.
    if len(values) >= 5 and distinct < 0.35:
        score *= 0.25  # labels, such as kinds or speakers
    if any(column.hints(pattern) for pattern in (_SPEAKER, _KIND, _LABEL)):
        score *= 0.3
    if not column.hints(_TEXT):
        score *= 0.9
    # Only between two that are alike otherwise: it must not outweigh a name.
    score *= 0.92 + 0.08 * max(-1.0, _written_share(values))
    # The first of several alternatives is the same as the text beside them, which is preferred.
    return score * 0.97 if "[0]" in column.name else score


def _are_numbers(column: Column) -> bool:
    """Whether the texts of a column can be times, or are numbers."""
    if column.numbers is not None:
        return True
    return any(column.seconds(unit) is not None for unit in (*TEXTS, "moment"))


def _are_identifiers(values: Sequence[str]) -> bool:
    return sum(bool(_IDENTIFIER.fullmatch(value)) for value in values) > 0.5 * len(values)


def _written_share(values: Sequence[str]) -> float:
    """How many of the texts are written as people write: of several forms of the same, the one
    with capitals and punctuation is wanted, and not the one with masks.
    """
    points = 0
    for value in values:
        points += bool(re.search(r"[^\W\d_a-z]|[.,!?]", value)) - ("**" in value)
    return points / len(values)


def confidences_of(columns: Sequence[Column]) -> list[Judged]:
    """Which columns can be confidences, each with its scale, the best first."""
    judged = []
    for column in columns:
        numbers = column.numbers
        if (
            numbers is None
            or not column.is_everywhere
            or column.hints(_NUMBERED)
            or column.hints(_SPEAKER)
        ):
            continue
        found = _scale(column, numbers)
        if found is not None:
            judged.append(Judged({"confidence": column.name}, found[1], found[0], column.example))
    return sorted(judged, key=lambda one: -one.score)


def _scale(column: Column, numbers: Sequence[float]) -> tuple[str, float] | None:
    is_named = column.hints(_CONFIDENCE)
    is_log = bool(re.search(r"log|nll", column.last_name, re.I))
    is_timed = column.hints(_START) or column.hints(_END) or column.hints(_LENGTH)
    low, high = min(numbers), max(numbers)
    # Seconds of a short sample lie between 0 and 1 as well.
    if is_timed and not is_named:
        return None
    if is_log:
        return _log_scale(low, high)
    if low >= 0 and high <= 1:
        return _fraction(column, is_named=is_named)
    return _scale_by_name(low, high) if is_named else None


def _scale_by_name(low: float, high: float) -> tuple[str, float] | None:
    if high <= 0:
        return "log", 0.7
    # Percentages under 20 are rare: it may be a rank.
    if low >= 0 and high <= 100:
        return "percent", 0.9 if high > 20 else 0.5
    return None


def _log_scale(low: float, high: float) -> tuple[str, float] | None:
    if high <= 0:
        return "log", 0.9
    if low >= 0:
        return "negative log", 0.7
    return None


def _fraction(column: Column, *, is_named: bool) -> tuple[str, float] | None:
    # Zeros and ones alone are rather flags.
    if column.is_whole and not is_named:
        return None
    # Without a name it may be a level, or a share of the sound.
    likelihood = 0.95 if is_named else 0.45
    return "fraction", likelihood * (0.8 if column.is_whole else 1.0)


def speakers_of(columns: Sequence[Column]) -> list[Judged]:
    """Which columns can say who speaks, the best first."""
    judged = []
    for column in columns:
        if not column.is_everywhere or not all(map(_may_be_speaker, column.present)):
            continue
        score = _score_as_speaker(column)
        if score:
            judged.append(Judged({"speaker": column.name}, score, "", column.example))
    return sorted(judged, key=lambda one: -one.score)


def _may_be_speaker(value: Any) -> bool:
    """A speaker is a label or a name, and a sentence is neither."""
    if isinstance(value, str):
        return len(value.split()) <= 4
    return isinstance(value, int) and not isinstance(value, bool)


def _score_as_speaker(column: Column) -> float:
    count, different = len(column.present), len(set(column.present))
    # A recording has few speakers, and each says several things.
    is_few = different <= max(2, count / 2)
    if column.hints(_SPEAKER):
        return 0.9 if is_few else 0.5
    if column.hints(_KIND) or column.numbers is not None:
        return 0.0
    # Without a name that tells, few of many values is all that speaks for it.
    return 0.4 if count >= 6 and 1 < different <= count / 3 else 0.0


MARKS = re.compile(r"punct|^mark", re.I)
SOUNDS = re.compile(r"event|noise|sound|music|non.?speech|laugh|applause|cough", re.I)
BLANKS = re.compile(r"spac|silence|pause|blank|gap", re.I)
"""What items that are no words are called."""


def kind_of(columns: Sequence[Column]) -> Column | None:
    """The column that says of what kind items are, by its name or its values; None when there is
    none.
    """
    for column in columns:
        values = [value for value in column.present if isinstance(value, str)]
        labels = set(values)
        if (
            len(values) != len(column.present)
            or not column.is_everywhere
            or not 1 < len(labels) <= 6
        ):
            continue
        told = (MARKS, SOUNDS, BLANKS)
        is_told = any(pattern.search(label) for pattern, label in product(told, labels))
        if column.hints(_KIND) or (is_told and len(labels) <= len(values) / 3):
            return column
    return None


def flag_of(columns: Sequence[Column], times: Judged | None) -> tuple[str, Column] | None:
    """The column that says which parts begin a word, or go on with one: parts of a word follow each
    other at once.

    Args:
        columns: of one list.
        times: which of them are its times; their unit does not matter here.

    Returns:
        `begins` or `continues`, and the column; None when there is none.
    """
    spans = _spans(columns, times)
    if spans is None:
        return None
    follows = [abs(after[0] - before[1]) < 1e-6 for before, after in pairwise(spans)]
    for column in columns:
        if (
            not all(isinstance(value, bool) for value in column.values)
            or len(set(column.values)) != 2
        ):
            continue
        for key, going_on in (("begins", False), ("continues", True)):
            if column.values[0] is not going_on and all(
                follows[place] for place, value in enumerate(column.values[1:]) if value is going_on
            ):
                return key, column
    return None


def _spans(columns: Sequence[Column], times: Judged | None) -> list[tuple[float, float]] | None:
    """Where each item begins and ends, in any unit; None where that is not known of all of them."""
    named = {column.name: column for column in columns}
    read: dict[str, list[float]] = {}
    for key, name in (times.keys if times else {}).items():
        column = named[name]
        numbers = column.numbers or column.seconds(times.unit if times else "")
        if numbers is None or len(numbers) != len(column.values):
            return None
        read[key] = numbers
    if "start" not in read or not ("end" in read or "length" in read):
        return None
    if "end" in read:
        return list(zip(read["start"], read["end"], strict=True))
    return [
        (start, start + length) for start, length in zip(read["start"], read["length"], strict=True)
    ]


def final_value(name: str, values: Sequence[Any]) -> str | bool | None:
    """The value by which the final ones among the events of a stream are known; None where the key
    says nothing of that.
    """
    flags = [value for value in values if isinstance(value, bool)]
    if _FINAL.search(name) and len(set(flags)) > 1:
        return True
    labels = {value for value in values if isinstance(value, str)}
    finals = [label for label in labels if _FINAL.search(label)]
    # A label for each event would be its name or its text, and one for all says nothing.
    if len(finals) == 1 and 1 < len(labels) < len(values):
        return finals[0]
    return None
