"""Breaking the text of a cue into lines."""

import math
from collections.abc import Callable, Sequence
from itertools import pairwise

from mantisreed.subtitles.cues import text_width
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.writing import needs_space

RULE = 1000.0  # for a line that is too long

# For each column by which lines differ, and the square of its share of a line.
_BALANCE, _LOPSIDED = (
    0.15,
    6.0,
)

_TOP_HEAVY = 1.5  # more, where the line above is the longer one; guides want a pyramid


def line_of(texts: Sequence[str], glued: Sequence[bool]) -> str:
    """Texts on one line."""
    return "".join(
        text if sticks or at == 0 else f" {text}"
        for at, (text, sticks) in enumerate(zip(texts, glued, strict=True))
    )


def broken_into_lines(
    texts: Sequence[str],
    penalties: Sequence[float],
    rules: LayoutRules,
    is_glued: Sequence[bool] | None = None,
    *,
    more: int = 0,
) -> tuple[str, ...]:
    """As few lines as hold the texts, broken where language breaks, of like lengths, the shorter
    ones above.

    Args:
        texts: of one cue.
        penalties: of a break before each.
        rules: line length and number of lines; more lines are made only if a line would be too long
            otherwise.
        is_glued: which are written without a space before; None lets the script decide.
        more: how many lines more than needed, if there are as many words.
    """
    glued = is_glued or [False, *(not needs_space(left, right) for left, right in pairwise(texts))]
    edges = [0]
    for text, sticks in zip(texts, glued, strict=True):
        edges.append(edges[-1] + text_width(text) + (0 if sticks else 1))

    def width(first: int, last: int) -> int:
        return edges[last] - edges[first] - (0 if glued[first] else 1)

    def line(first: int, last: int) -> str:
        return line_of(texts[first:last], glued[first:last])

    count, limit = len(texts), rules.line_length
    if width(0, count) <= limit or count == 1:
        return (line(0, count),)
    if not more and (two := _two_lines(edges, glued, penalties, limit)) is not None:
        return line(0, two), line(two, count)
    # best[lines][last]: cost and where the last line begins
    best: list[_Reached] = [{0: (0.0, 0)}]
    for window in _line_windows(width, count, limit, more):
        best.append(_one_line_more(best[-1], window, edges, glued, penalties, limit))
    ends = [count]
    for level in range(len(best) - 1, 0, -1):
        ends.append(best[level][ends[-1]][1])
    return tuple(line(first, last) for first, last in pairwise(reversed(ends)))


_Reached = dict[int, tuple[float, int]]


def _one_line_more(
    known: _Reached,
    window: tuple[int, int],
    edges: Sequence[int],
    glued: Sequence[bool],
    penalties: Sequence[float],
    limit: int,
) -> _Reached:
    """The cheapest ways to reach each place with one line more, each with its cost and where its
    last line begins.

    The innermost loop runs for every line of every cue; it calls nothing, and has the costs of
    `_unevenness` in it.

    Args:
        known: the same with one line less.
        window: the earliest and the latest place where the line may end.
        edges: places in columns.
        glued: which words are written without a space before.
        penalties: of a break before each.
        limit: of a line, in columns.
    """
    share = _LOPSIDED / limit**2
    earliest, latest = window
    reached: _Reached = {}
    for first, (so_far, before) in known.items():
        begin = edges[first] + (0 if glued[first] else 1)
        above = -1
        cost = so_far
        if first:
            above = edges[first] - edges[before] - (0 if glued[before] else 1)
            cost += penalties[first]
        for last in range(max(first + 1, earliest), latest + 1):
            wide = edges[last] - begin
            total = cost
            if wide > limit:
                if last > first + 1:
                    break
                total += RULE
            if above >= 0:
                differ = above - wide
                total += _BALANCE * abs(differ) + share * differ * differ
                if differ > 0:
                    total += _TOP_HEAVY
            cheapest = reached.get(last)
            if cheapest is None or total < cheapest[0]:
                reached[last] = total, first
    return reached


def _line_windows(
    width: Callable[[int, int], int], count: int, limit: int, more: int = 0
) -> list[tuple[int, int]]:
    """Between which places each line ends, where as few lines as can be, or some more, hold all
    words.

    The latest places come from filling lines from the first word on, the earliest from filling them
    from the last.
    """
    latest = []
    at = 0
    while at < count:
        last = at + 1
        while last < count and width(at, last + 1) <= limit:
            last += 1
        latest.append(last)
        at = last
    lines = min(len(latest) + more, count)
    latest += [count] * (lines - len(latest))
    # Each line after one has a word at least.
    latest = [min(last, count - (lines - 1 - number)) for number, last in enumerate(latest)]
    earliest = [count]
    while len(earliest) < lines:
        last = earliest[-1]
        first = max(last - 1, 1)
        while first > 1 and width(first - 1, last) <= limit:
            first -= 1
        earliest.append(first)
    return list(zip(reversed(earliest), latest, strict=True))


def _unevenness(above: int, below: int, limit: int) -> float:
    """What it costs that two lines are of different lengths, the more if the longer one is
    above.
    """
    differ = abs(above - below)
    return (
        _BALANCE * differ
        + _LOPSIDED * (differ / limit) ** 2
        + (_TOP_HEAVY if above > below else 0.0)
    )


def _two_lines(
    edges: Sequence[int], glued: Sequence[bool], penalties: Sequence[float], limit: int
) -> int | None:
    """Where a text is best broken in two lines; None where it does not fit in two. Most texts
    do.
    """
    best, place = math.inf, None
    for at in range(1, len(edges) - 1):
        above = edges[at] - (0 if glued[0] else 1)
        if above > limit:
            break
        below = edges[-1] - edges[at] - (0 if glued[at] else 1)
        if below > limit:
            continue
        cost = penalties[at] + _unevenness(above, below, limit)
        if cost < best:
            best, place = cost, at
    return place
