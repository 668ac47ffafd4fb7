"""Choosing where to cut a recording: in pauses, over the whole recording at once.

Every pause is a place to cut at; dynamic programming finds the set of cuts that costs least. A cut is cheap in a long
pause and dear in a short one, and a piece much shorter than it could be is dear as well. Where speech goes on for
longer than a piece may last, the pieces overlap instead.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

MARGIN = 0.25
"""Seconds of silence that a piece keeps before its first and after its last word."""

_SURE_PAUSE = 0.25  # seconds; a shorter one may be a sound inside a word, so the pieces around it overlap
_WIDE_MARGIN = 0.8
_SHORT_PIECE = 0.5  # of what a piece may last; shorter ones cost
_PIECE_COST = 1.0
_PAUSE_COST = 0.25


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


def choose_spans(
    speech: Sequence[tuple[float, float]], duration: float, longest: float, *, overlap: float = 4.0
) -> list[Span]:
    """The spans to send, in order; silence between them is not sent.

    Args:
        speech: where somebody speaks, (start, end) in seconds, in order.
        duration: of the recording.
        longest: seconds that a span may last; at least four times `overlap`.
        overlap: seconds that two spans share where there is no pause to cut in.

    Returns:
        At least one span; the whole recording when nobody speaks and it is short enough.
    """
    if duration <= longest or not speech:
        return _evenly(0.0, duration, longest, overlap)
    runs = [part for stretch in speech for part in _evenly(*stretch, longest - 2 * _WIDE_MARGIN, overlap)]
    return [_with_margins(runs, first, last, duration) for first, last in _best_groups(runs, longest)]


def smaller_spans(span: Span, speech: Sequence[tuple[float, float]], *, overlap: float = 4.0) -> list[Span]:
    """A span that proved too big, as spans of about half its length."""
    longest = max(span.length * 0.6, 1.0)
    parts = choose_spans(speech_in(span, speech), span.length, longest, overlap=min(overlap, longest / 4))
    first = Span(parts[0].start + span.start, parts[0].end + span.start, span.overlaps)
    return [first, *(Span(part.start + span.start, part.end + span.start, part.overlaps) for part in parts[1:])]


def speech_in(span: Span, speech: Sequence[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    """The speech inside a span, in seconds from the span's start."""
    inside = ((max(start, span.start), min(end, span.end)) for start, end in speech)
    return tuple((start - span.start, end - span.start) for start, end in inside if end > start)


def _evenly(start: float, end: float, longest: float, overlap: float) -> list[Span]:
    """The stretch, or overlapping parts of it of equal length when it is too long."""
    length = end - start
    if length <= longest:
        return [Span(start, end)]
    count = math.ceil((length - overlap) / (longest - overlap))
    step = (length - overlap) / count
    return [Span(start + n * step, start + n * step + step + overlap, n > 0) for n in range(count)]


def _best_groups(runs: Sequence[Span], longest: float) -> list[tuple[int, int]]:
    """(first, last) run of each piece, such that all cuts together cost least."""
    cuts = [_cut_cost(before, after) for before, after in pairwise(runs)] + [0.0]
    best = [0.0] + [math.inf] * len(runs)
    came_from = [0] * (len(runs) + 1)
    for end in range(1, len(runs) + 1):
        for start in range(end - 1, -1, -1):
            length = runs[end - 1].end - runs[start].start + 2 * _WIDE_MARGIN
            # Parts that overlap belong to different pieces.
            if start < end - 1 and (length > longest or runs[start + 1].overlaps):
                break
            cost = best[start] + _PIECE_COST + cuts[end - 1] + _shortness(length, longest)
            if cost < best[end]:
                best[end], came_from[end] = cost, start
    groups, end = [], len(runs)
    while end > 0:
        groups.append((came_from[end], end - 1))
        end = came_from[end]
    return groups[::-1]


def _cut_cost(before: Span, after: Span) -> float:
    """Of a cut between two runs: the shorter the pause, the dearer."""
    return _PAUSE_COST / max(after.start - before.end, 0.02)


def _shortness(length: float, longest: float) -> float:
    return max(0.0, _SHORT_PIECE - length / longest) * 2.0


def _with_margins(runs: Sequence[Span], first: int, last: int, duration: float) -> Span:
    """The span from one run to another, with silence around it; with speech, where the pause may be none."""
    before = runs[first].start - runs[first - 1].end if first else math.inf
    after = runs[last + 1].start - runs[last].end if last + 1 < len(runs) else math.inf
    start, end = runs[first].start - _margin(before), runs[last].end + _margin(after)
    return Span(max(0.0, start), min(duration, end), 0 <= before < _SURE_PAUSE or runs[first].overlaps)


def _margin(pause: float) -> float:
    """Parts of one stretch of speech (no pause, or a negative one) overlap already."""
    return _WIDE_MARGIN if 0 <= pause < _SURE_PAUSE else MARGIN
