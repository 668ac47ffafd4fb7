"""Choosing where to cut a recording: in pauses, as well as possible over the whole of it.

Every pause is a place to cut at; dynamic programming finds the set of cuts that costs least. A cut
is cheap in a long pause and dear in a short one, and a piece much shorter than it could be is dear
as well. Where speech goes on for longer than a piece may last, the pieces overlap instead. It all
works while the recording streams by: a cut is settled when a little more than the piece behind it
has been heard.
"""

import math
from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

MARGIN = 0.3
"""Seconds of silence that a piece keeps before its first and after its last word."""

OVERLAP = 4.0
"""Seconds that two pieces share where there is no pause to cut in."""

LONG_SILENCE = 30.0
"""Seconds; silence from this length on is left out rather than sent inside a piece."""

_SURE_PAUSE = (
    0.5  # seconds; a shorter one may hold the hushed end of a word, so the pieces around it overlap
)
_WIDE_MARGIN = 0.8  # seconds of sound on each side of a cut through speech, heard by both pieces
_LOOK_AHEAD = 120.0  # seconds behind the longest piece that are heard before a cut is settled
_REPEATED_OVER = 10.0  # seconds; over a longer pause than this nothing is heard twice
_SHORT_PIECE = 0.5  # of what a piece may last; shorter ones cost
_SHORT_COST = 2.0  # of a piece that is shorter than a share of the longest, by how much
_PIECE_COST = 1.0  # each piece more, which is a request more
_PAUSE_COST = 0.25  # over the seconds of the pause: a longer one costs less
_LEAST_PAUSE = 0.02  # seconds; shorter ones cost no more


@dataclass(frozen=True, slots=True)
class Span:
    """A stretch of a recording that goes to the engine in one request.

    Attributes:
        start, end: seconds from the recording's start.
        overlaps: whether its beginning is also the end of the span before it.
    """

    start: float
    end: float
    overlaps: bool = False

    @property
    def length(self) -> float:
        """Seconds."""
        return self.end - self.start

    def later(self, seconds: float) -> "Span":
        """The same span, so much later."""
        return Span(self.start + seconds, self.end + seconds, self.overlaps)


@dataclass(frozen=True, slots=True)
class CutRules:
    """How a recording may be cut.

    Attributes:
        longest: seconds that a span may last; at least four times `overlap`.
        overlap: seconds that two spans share where there is no pause to cut in.
        repeats: whether each span begins with the last words of the one before, so much of them as
            `overlap` says.
        keeps_silence: whether silence is in the spans as well; otherwise they hold speech and short
            silence only.
        long_silence: seconds from which silence is long.
    """

    longest: float
    overlap: float = OVERLAP
    repeats: bool = False
    keeps_silence: bool = False
    long_silence: float = LONG_SILENCE


@dataclass(slots=True)
class _SpeechRun:
    """Speech, or silence that is kept, that no cut goes through.

    Attributes:
        end: seconds, where the speech in it ends.
        opens, closes: edges of a span that begins, or ends, with it.
        overlaps: whether such a span begins with the end of the one before.
        cut: cost of a cut behind it.
    """

    end: float
    opens: float
    closes: float
    overlaps: bool = False
    cut: float = 0.0


class FixedSpans:
    """Gives spans that somebody else has chosen, in order and apart, as `SpanChooser` does those
    that it chooses.
    """

    def __init__(self, spans: Iterable[tuple[float, float]]) -> None:
        self._left = deque(Span(start, end) for start, end in spans)
        self._settled = 0.0
        self.sure_span: Span | None = None

    @property
    def needed_from(self) -> float:
        """Seconds; sound before this is in no span that is yet to come."""
        if self._left:
            return min(self._left[0].start, self._settled)
        return self._settled

    def hear(self, speech: Iterable[tuple[float, float]], settled: float) -> list[Span]:
        """The spans that end before what has been heard by now."""
        self._settled = settled
        chosen = []
        while self._left and self._left[0].end <= settled:
            chosen.append(self._left.popleft())
        return chosen

    def finish(self, duration: float) -> list[Span]:
        """The rest of the spans, when the recording is at its end."""
        rest = [
            Span(span.start, min(span.end, duration))
            for span in self._left
            if span.start < duration
        ]
        self._left.clear()
        return rest


class SpanChooser:
    """Chooses spans while a recording is heard."""

    def __init__(self, rules: CutRules) -> None:
        self._rules = rules
        self._longest_run = _longest_run(rules)
        self._runs: list[_SpeechRun] = []
        self._reached = 0.0  # seconds, where the last run ends
        self._closed = 0.0  # seconds, where the last span ends
        self._settled = 0.0

    @property
    def needed_from(self) -> float:
        """Seconds; sound before this is in no span that is yet to come."""
        if self._runs:
            return self._runs[0].opens
        if self._rules.keeps_silence:
            return self._closed
        return max(0.0, self._settled - max(_WIDE_MARGIN, self._rules.overlap))

    @property
    def sure_span(self) -> Span | None:
        """What is already certain to be in the next span; None when nothing is."""
        if not self._runs or not math.isinf(self._rules.longest):
            return None
        # With no longest span there is but one choice, so that what was heard is in the next one.
        end = self._settled if self._rules.keeps_silence else self._runs[-1].end
        return Span(self._runs[0].opens, max(end, self._runs[0].opens))

    def hear(self, speech: Iterable[tuple[float, float]], settled: float) -> list[Span]:
        """The spans that are certain now.

        Args:
            speech: the next stretches in which somebody speaks, (start, end) in seconds, in order.
            settled: seconds up to which no more of them will come.
        """
        chosen: list[Span] = []
        for start, end in speech:
            chosen += self._passed_silence(start)
            count = max(1, math.ceil((end - start) / self._longest_run))
            # Talk without a pause is parted evenly: a short rest would be a request of its own.
            edges = [start + (end - start) * n / count for n in range(count)]
            for part_start, part_end in zip(edges, [*edges[1:], end], strict=True):
                self._add(part_start, part_end)
            chosen += self._certain(end)
        self._settled = settled
        return chosen + self._passed_silence(settled) + self._certain(settled)

    def finish(self, duration: float) -> list[Span]:
        """The rest of the spans, when the recording is at its end."""
        chosen = self._passed_silence(duration)
        if self._rules.keeps_silence:
            if not self._runs:
                self._add(duration, duration)
            self._runs[-1].closes = duration
        chosen += self._taken(_best_groups(self._runs, self._rules.longest))
        return [Span(span.start, min(span.end, duration), span.overlaps) for span in chosen]

    def _passed_silence(self, time: float) -> list[Span]:
        """What is certain as nobody spoke from the last run up to a time."""
        if not self._rules.keeps_silence:
            apart = self._runs and time - self._reached >= self._rules.long_silence
            if apart:
                return self._taken(_best_groups(self._runs, self._rules.longest))
            return []
        chosen: list[Span] = []
        # So that a run fits into a span with the silence on both its sides.
        step = self._rules.longest / 8
        while time - self._reached > 2 * step:
            self._add(self._reached + step, self._reached + step)
            chosen += self._certain(self._reached)
        return chosen

    def _add(self, start: float, end: float) -> None:
        """One more run, and what a cut before it would be like."""
        rules, pause = self._rules, start - self._reached
        run = _SpeechRun(end, max(0.0, start - MARGIN), end + MARGIN)
        if self._runs:
            self._join(self._runs[-1], run, start, pause)
        elif rules.keeps_silence:
            run.opens = self._closed
        self._runs.append(run)
        self._reached = end

    def _join(self, last: _SpeechRun, run: _SpeechRun, start: float, pause: float) -> None:
        """What a cut between two runs would cost, and where the spans around it would end and
        begin.
        """
        rules = self._rules
        # The longer a pause, the surer that no word lies in it; twice as long is half as bad.
        last.cut = _PAUSE_COST / max(pause, _LEAST_PAUSE)
        if pause <= 0.0:
            last.closes, run.opens, run.overlaps = (
                start + rules.overlap / 2,
                start - rules.overlap / 2,
                True,
            )
        elif pause < _SURE_PAUSE:
            last.closes, run.opens, run.overlaps = (
                last.end + _WIDE_MARGIN,
                start - _WIDE_MARGIN,
                True,
            )
        elif rules.keeps_silence:
            last.closes = run.opens = start - pause / 2
        else:
            last.closes, run.opens = (
                last.end + min(MARGIN, pause / 2),
                start - min(MARGIN, pause / 2),
            )
        if rules.repeats and pause < min(_REPEATED_OVER, rules.longest / 4):
            run.opens = max(self._runs[0].opens, min(run.opens, last.end - rules.overlap))
            run.overlaps = True

    def _certain(self, heard: float) -> list[Span]:
        """Spans that are settled, as enough has been heard behind them."""
        chosen: list[Span] = []
        enough = self._rules.longest + min(self._rules.longest, _LOOK_AHEAD)
        while self._runs and heard - self._runs[0].opens >= enough:
            # Only the first: what comes next may still change where the others are best cut.
            chosen += self._taken(_best_groups(self._runs, self._rules.longest, heard)[:1])
        return chosen

    def _taken(self, lasts: Sequence[int]) -> list[Span]:
        """The groups that end with these runs, as spans; the runs are done with."""
        first, spans = 0, []
        for last in lasts:
            spans.append(
                Span(self._runs[first].opens, self._runs[last].closes, self._runs[first].overlaps)
            )
            first = last + 1
        del self._runs[:first]
        if spans:
            self._closed = spans[-1].end
        return spans


def _longest_run(rules: CutRules) -> float:
    """Seconds of a run such that it fits into a span with all that may be added to it."""
    if rules.keeps_silence or rules.repeats:
        return rules.longest / 2 - 2 * _WIDE_MARGIN
    return rules.longest - max(rules.overlap, 2 * _WIDE_MARGIN)


def choose_spans(
    speech: Iterable[tuple[float, float]], duration: float, rules: CutRules
) -> list[Span]:
    """The spans to send of a recording that has been heard to its end; none when nobody speaks in
    it.

    Args:
        speech: where somebody speaks, (start, end) in seconds, in order.
        duration: of the recording.
        rules: how it may be cut.
    """
    chooser = SpanChooser(rules)
    return chooser.hear(speech, duration) + chooser.finish(duration)


def smaller_spans(span: Span, speech: Iterable[tuple[float, float]], longest: float) -> list[Span]:
    """A span that proved too big, as spans of at most so many seconds that hold all of it.

    Args:
        span: where it lies in the recording.
        speech: where somebody speaks in it, in seconds from its start.
        longest: seconds.
    """
    rules = CutRules(longest, min(OVERLAP, longest / 4), keeps_silence=True)
    first, *rest = choose_spans(speech, span.length, rules)
    return [
        Span(span.start, first.end + span.start, span.overlaps),
        *(part.later(span.start) for part in rest),
    ]


def speech_in(span: Span, speech: Iterable[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    """The speech inside a span, in seconds from the span's start."""
    inside = ((max(start, span.start), min(end, span.end)) for start, end in speech)
    return tuple((start - span.start, end - span.start) for start, end in inside if end > start)


def _best_groups(
    runs: Sequence[_SpeechRun], longest: float, heard: float | None = None
) -> list[int]:
    """The last run of each span, such that all cuts together cost least.

    Where the recording goes on after the last run, up to `heard` is known: the rest is weighed as
    if it filled whole spans.
    """
    if not runs:
        return []
    opens, closes = np.array([run.opens for run in runs]), np.array([run.closes for run in runs])
    # A run may open before the one in front of it, whose words it repeats.
    latest = np.maximum.accumulate(opens)
    costs = np.full(len(runs) + 1, np.inf)
    costs[0] = 0.0
    came_from = np.zeros(len(runs) + 1, int)
    for end in range(1, len(runs) + 1):
        first = min(int(np.searchsorted(latest[:end], closes[end - 1] - longest)), end - 1)
        lengths = closes[end - 1] - opens[first:end]
        short = np.maximum(0.0, _SHORT_PIECE - lengths / longest) * _SHORT_COST
        sums = costs[first:end] + short
        # All but the last may be forbidden: a single run is always allowed, however long.
        sums[:-1][lengths[:-1] > longest] = np.inf
        best = int(sums.argmin())
        costs[end], came_from[end] = sums[best] + _PIECE_COST + runs[end - 1].cut, first + best
    end = len(runs)
    if heard is not None:
        ahead = np.maximum(0.0, heard - closes) / longest * _PIECE_COST
        end = int((costs[1:] + ahead).argmin()) + 1
    lasts = []
    while end > 0:
        lasts.append(end - 1)
        end = int(came_from[end])
    return lasts[::-1]
