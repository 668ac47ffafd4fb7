"""Finding passages, words and times in a JSON reply by the card's paths."""

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from mantisreed.engines.card import PassagePaths, Reply, WordPaths
from mantisreed.engines.tables import ReplyPath
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.timing import LONGEST_PAUSE
from mantisreed.transcript.writing import joined
from mantisreed.units import parse_duration

_FACTORS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "100ns": 1e-7}
_ISO_8601 = re.compile(r"P(?:(\d+)D)?T?(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?")
_SLACK = 0.05  # seconds that times may be out of order or before the start: rounding, not a fault
_LETTERS = re.compile(r"\w")


class UnexpectedReplyError(Exception):
    """The reply is not as the card says; the text says where."""


@dataclass(frozen=True, slots=True)
class _TimedWord:
    word: Word
    speaker: str | None


class ReplyReader:
    """Reads one kind of reply.

    All times it gives are seconds from the piece's start, in order, and inside the piece.
    """

    def __init__(self, reply: Reply, *, duration: float, sample_rate: int) -> None:
        """`duration` is the piece's, in seconds; `sample_rate` is for times counted in samples."""
        self._reply = reply
        self._duration = duration
        self._sample_rate = sample_rate

    def passages(self, document: object) -> list[Passage]:
        """The passages of a reply; those without words have none, and need estimated ones.

        Raises:
            UnexpectedReplyError: the reply is not as the card says.
        """
        reply = self._reply
        if reply.passages:
            items = self._items(reply.passages.each, document, "reply.passages.each")
            found = [self._passage(reply.passages, item) for item in items]
            return sorted((passage for passage in found if passage.text), key=lambda passage: passage.start)
        assert reply.words is not None
        return list(_grouped(self._words(reply.words, document)))

    def text(self, path: ReplyPath, within: object, key: str) -> str:
        """The text that a path finds, its white space folded."""
        found = path.find(within)
        if not isinstance(found, str):
            raise UnexpectedReplyError(f"{key} ({path}) finds {'nothing' if found is None else 'no text'}")
        return " ".join(found.split())

    def _passage(self, paths: PassagePaths, item: object) -> Passage:
        timed = self._words(self._reply.words, item) if self._reply.words else []
        words = tuple(entry.word for entry in timed)
        speaker = paths.speaker.find(item) if paths.speaker else None
        if speaker is None and timed:
            speaker = timed[0].speaker
        if paths.start:
            start, end = self._span(paths.start, paths.end, paths.length, item, "reply.passages")
        elif words:
            start, end = words[0].start, max(word.end for word in words)
        else:
            start, end = 0.0, self._duration
        text = self.text(paths.text, item, "reply.passages.text")
        alternatives = paths.alternatives.find(item) if paths.alternatives else None
        others = tuple(" ".join(other.split()) for other in alternatives or () if isinstance(other, str))
        label = None if speaker is None else str(speaker)
        return Passage(start, end, text, label, words=words, alternatives=others)

    def _words(self, paths: WordPaths, within: object) -> list[_TimedWord]:
        found: list[_TimedWord] = []
        for item in self._items(paths.each, within, "reply.words.each"):
            text = self.text(paths.text, item, "reply.words.text")
            if found and not _LETTERS.search(text) and paths.start.find(item) is None:
                last = found[-1]
                found[-1] = replace(last, word=_joined(last.word, text))
            elif text:
                start, end = self._span(paths.start, paths.end, paths.length, item, "reply.words")
                confidence = _confidence(paths.confidence.find(item) if paths.confidence else None)
                speaker = paths.speaker.find(item) if paths.speaker else None
                label = None if speaker is None else str(speaker)
                found.append(_TimedWord(Word(text, start, end, confidence), label))
        for before, after in pairwise(found):
            if after.word.start < before.word.start - _SLACK and after.speaker == before.speaker:
                at, earlier = f"{after.word.start:g} s", f"{before.word.start:g} s"
                order = f"{after.word.text!r} at {at} follows {before.word.text!r} at {earlier}"
                raise UnexpectedReplyError(f"its times are out of order: {order}")
        return found

    def _items(self, path: ReplyPath, within: object, key: str) -> list[object]:
        found = path.find(within)
        if found is None:
            raise UnexpectedReplyError(f"{key} ({path}) finds nothing")
        if not isinstance(found, list):
            raise UnexpectedReplyError(f"{key} ({path}) finds no list")
        return found

    def _span(
        self, start: ReplyPath, end: ReplyPath | None, length: ReplyPath | None, item: object, key: str
    ) -> tuple[float, float]:
        first = self._time(start, item, f"{key}.start")
        if end is not None:
            last = self._time(end, item, f"{key}.end")
        else:
            assert length is not None
            last = first + self._time(length, item, f"{key}.length")
        if last < first - _SLACK:
            raise UnexpectedReplyError(f"{key}: an end ({last:g} s) comes before its start ({first:g} s)")
        if last > self._duration * 1.05 + 2.0:
            what = f"{key}: a time of {last:g} s in a piece of {self._duration:g} s"
            raise UnexpectedReplyError(f"{what}; is reply.times = {self._reply.times!r} right?")
        first, last = min(first, self._duration), min(last, self._duration)
        return first, max(first, last)

    def _time(self, path: ReplyPath, item: object, key: str) -> float:
        found = path.find(item)
        seconds = seconds_from(found, self._reply.times, self._sample_rate)
        if seconds is None:
            raise UnexpectedReplyError(f"{key} ({path}) finds {found!r}, not a time in {self._reply.times!r}")
        if seconds < -_SLACK:
            raise UnexpectedReplyError(f"{key} ({path}) finds {found!r}, a negative time")
        return max(0.0, round(seconds, 6))


def seconds_from(found: object, unit: str, sample_rate: int) -> float | None:
    """A time in one of the card's units as seconds; None when it is none."""
    if isinstance(found, bool) or not isinstance(found, (int, float, str)):
        return None
    if unit in ("clock", "suffixed"):
        try:
            return parse_duration(found.replace("sec", "s")) if isinstance(found, str) else None
        except ValueError:
            return None
    if unit == "iso8601":
        return _from_iso_8601(found) if isinstance(found, str) else None
    try:
        number = float(found)
    except ValueError:
        return None
    if not math.isfinite(number):
        return None
    return number / sample_rate if unit == "samples" else number * _FACTORS[unit]


def _from_iso_8601(text: str) -> float | None:
    """A duration such as PT1M2.5S (ISO 8601-1, 5.5.2.2), without years and months."""
    match = _ISO_8601.fullmatch(text)
    if match is None or not any(match.groups()):
        return None
    days, hours, minutes, seconds = (float(part or 0) for part in match.groups())
    return ((days * 24 + hours) * 60 + minutes) * 60 + seconds


def _joined(word: Word, mark: str) -> Word:
    return Word(word.text + mark, word.start, word.end, word.confidence)


def _confidence(found: object) -> float | None:
    if isinstance(found, bool) or not isinstance(found, (int, float)) or not math.isfinite(found):
        return None
    return min(max(0.0, float(found)), 1.0)


def _grouped(entries: Sequence[_TimedWord]) -> Iterator[Passage]:
    """Words as passages: a new one after a long pause and at a change of speaker."""
    run: list[_TimedWord] = []
    for entry in sorted(entries, key=lambda timed: timed.word.start):
        if run and (entry.speaker != run[-1].speaker or entry.word.start - run[-1].word.end > LONGEST_PAUSE):
            yield _as_passage(run)
            run = []
        run.append(entry)
    if run:
        yield _as_passage(run)


def _as_passage(run: Sequence[_TimedWord]) -> Passage:
    words = tuple(entry.word for entry in run)
    text = joined(word.text for word in words)
    return Passage(words[0].start, max(word.end for word in words), text, run[0].speaker, words=words)
