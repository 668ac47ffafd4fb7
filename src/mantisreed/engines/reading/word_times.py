"""When words are said, by what a reply says of them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from mantisreed.cards.paths import ReplyPath
from mantisreed.engines.card import TimePaths
from mantisreed.engines.card_values import ConfidenceScale
from mantisreed.engines.oddities import Oddities
from mantisreed.engines.reading.times import TimeUnit
from mantisreed.engines.reading.unpacking import UnexpectedReplyError

SLACK = 0.05
"""Seconds that times may be out of order or before the start: rounding, not a fault."""

NAN = float("nan")


@dataclass(frozen=True, slots=True)
class ReplyContext:
    """What reading any part of a reply needs to know.

    Attributes:
        duration: of the piece, in seconds.
        sample_rate: of what was sent, in hertz.
        times: the unit of times, where a part does not have its own.
        zero: the moment at which the piece begins, for times that are moments; else 0.
        scale: of confidences.
        oddities: takes note of what is odd.
    """

    duration: float
    sample_rate: int
    times: TimeUnit
    zero: float
    scale: ConfidenceScale
    oddities: Oddities


def spans_of(
    raw: Sequence[tuple[Any, Any, Any]],
    paths: TimePaths,
    unit: TimeUnit,
    context: ReplyContext,
    bounds: tuple[float, float, float],
    key: str,
) -> list[tuple[float, float]]:
    """Where each item begins and ends, in seconds from the piece's start; not a number where the
    reply does not say.

    Args:
        raw: start, end and length of each, as they are in the reply; None for what it does not say.
        paths: which of them the card reads.
        unit: of them.
        context: of the reply.
        bounds: the time that is 0 for them, and the two between which they should be.
        key: of the table, for messages.

    Raises:
        UnexpectedReplyError: a value is no time, or none that is possible.
    """
    zero, first, last = bounds
    reader = _TimeReader(unit, context, zero, f"reply.{key}", paths.length_times)
    if not paths.has_times:
        return [(NAN, NAN)] * len(raw)
    _check_that_times_are_found(raw, paths, key)
    spans: list[tuple[float, float]] = []
    cursor = first
    following = _following_starts(raw, reader, paths, last)
    has_start, has_end = paths.start is not None, paths.end is not None
    for number, (start, end, length) in enumerate(raw):
        if has_start:
            begin = reader.moment(start, "start", paths.start)
        else:
            begin = cursor
        if has_end or end is not None:
            finish = reader.moment(end, "end", paths.end)
        elif paths.length is not None:
            finish = begin + reader.length(length, paths.length)
        else:
            finish = following[number]
        if finish != finish and begin == begin and has_start:
            context.oddities.note("endless", f"the one at {begin:g} s")
            finish = following[number]
        if begin != begin and finish == finish:
            if has_start:  # as engines do that leave out a time of 0
                context.oddities.note("startless", f"the one that ends at {finish:g} s")
            # Where the one before has ended, and not behind its own end.
            begin = min(cursor, finish)
        reader.check(begin, finish)
        if finish == finish:
            cursor = finish
        spans.append((min(begin, context.duration), min(max(begin, finish), context.duration)))
    return spans


def _check_that_times_are_found(
    raw: Sequence[tuple[Any, Any, Any]], paths: TimePaths, key: str
) -> None:
    """See that each path finds something in at least one item: where it never does, the card is
    wrong.
    """
    for place, name in enumerate(("start", "end", "length")):
        path: ReplyPath | None = getattr(paths, name)
        if path is not None and raw and all(times[place] is None for times in raw):
            raise UnexpectedReplyError(
                f"reply.{key}.{name} ({path}) finds nothing in any of {len(raw)} items"
            )


def _following_starts(
    raw: Sequence[tuple[Any, Any, Any]], reader: "_TimeReader", paths: TimePaths, last: float
) -> list[float]:
    """For each item, where the next one that has a start begins; the end of all of them where there
    is none.
    """
    if paths.start is None or (paths.end is not None and all(end is not None for _, end, _ in raw)):
        return [last] * len(raw)
    following = []
    for start, _, _ in reversed(raw):
        following.append(last)
        begin = reader.moment(start, "start", paths.start)
        last = begin if begin == begin else last
    return following[::-1]


@dataclass(frozen=True, slots=True)
class _TimeReader:
    unit: TimeUnit
    context: ReplyContext
    zero: float
    key: str
    length_unit: TimeUnit | None = None

    def moment(self, value: Any, name: str, path: ReplyPath | None) -> float:
        """A time in seconds from the piece's start; not a number where there is none."""
        if value is None:
            return NAN
        seconds = self._seconds(value, name, path, self.unit)
        if self.unit.is_moment:
            offset = -self.context.zero
        else:
            offset = self.zero
        return self._not_before_the_start(seconds + offset, value, name, path)

    def length(self, value: Any, path: ReplyPath) -> float:
        """A length in seconds; not a number where there is none."""
        if value is None:
            return NAN
        # Between two moments there are seconds.
        unit = TimeUnit("s") if self.unit.is_moment else self.unit
        if self.length_unit is not None:
            unit = self.length_unit
        return self._not_before_the_start(
            self._seconds(value, "length", path, unit), value, "length", path
        )

    def check(self, begin: float, finish: float) -> None:
        """See that a span is possible."""
        if finish < begin - SLACK:
            raise UnexpectedReplyError(
                f"{self.key}: an end ({finish:g} s) comes before its start ({begin:g} s)"
            )
        if finish > self.context.duration * 1.05 + 2.0:
            raise UnexpectedReplyError(
                f"{self.key}: a time of {finish:g} s in a piece of {self.context.duration:g} s; "
                f"is reply.times = {str(self.unit)!r} right?"
            )

    def _seconds(self, value: Any, name: str, path: ReplyPath | None, unit: TimeUnit) -> float:
        seconds = unit.seconds(value, self.context.sample_rate)
        if seconds is None:
            raise UnexpectedReplyError(
                f"{self.key}.{name} ({path}) finds {quoted(value)}, not a time in "
                f"{str(self.unit)!r}"
            )
        return seconds

    def _not_before_the_start(
        self, seconds: float, value: Any, name: str, path: ReplyPath | None
    ) -> float:
        if seconds < -SLACK:
            raise UnexpectedReplyError(
                f"{self.key}.{name} ({path}) finds {quoted(value)}, a negative time"
            )
        return max(0.0, round(seconds, 6))


def quoted(value: Any) -> str:
    """A value as it was found, fit for a message."""
    try:
        said = repr(value)
    except ValueError:  # a number of more digits than Python writes
        said = "a number of thousands of digits"
    if len(said) <= 60:
        return said
    return said[:60] + "..."
