"""Times of words that have run away from the speech that they belong to."""

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from mantisreed.review.runs import runs_where
from mantisreed.transcript.document import Word

Span = tuple[float, float]

# All of these were tuned on the drifting recordings of benchmarks/doubting.py.
_GRID = 0.1  # seconds
_DRIFT_WINDOW, _DRIFT_STEP, _FARTHEST = 250, 100, 150  # steps of the grid
_CARRIED = 6  # windows for which an offset is remembered where none can be told
_LEAST_DRIFT, _LIKE = 4, 15  # steps: the least that is told, and how far neighbours may be apart
_CLEARER, _FITTING = 0.12, 0.76  # shares of the window in which text and speech agree


def drifts_of(
    words: Sequence[Word], speech: Sequence[Span], duration: float
) -> Iterator[tuple[float, float, float]]:
    """Stretches in which the text would fit the speech much better some moments earlier or later.

    Args:
        words: with times in seconds.
        speech: where somebody speaks, in seconds, in order.
        duration: of the recording, in seconds.

    Yields:
        Where a stretch begins and ends, and by how many seconds its times are late at the worst;
        early ones are below 0.
    """
    last = max([duration, *(word.end for word in words[-1:]), *(end for _, end in speech[-1:])])
    count = int(last / _GRID) + 1
    if not words or not speech or count < _DRIFT_WINDOW:
        return
    said = _on_grid([(word.start, word.end) for word in words], count)
    heard = _on_grid(speech, count)
    offsets = _supported(_offsets(said, heard))
    for first, after in runs_where([offset != 0 for offset in offsets]):
        start = first * _DRIFT_STEP * _GRID
        end = min(last, ((after - 1) * _DRIFT_STEP + _DRIFT_WINDOW) * _GRID)
        worst = max(offsets[first:after], key=abs) * _GRID
        yield start, end, worst


def _supported(offsets: Sequence[int]) -> list[int]:
    """The offsets that a neighbour has as well, or nearly: one window may fit elsewhere by
    chance.
    """
    kept = []
    for at, offset in enumerate(offsets):
        beside = [*offsets[max(0, at - 1) : at], *offsets[at + 1 : at + 2]]
        near = [other for other in beside if other and abs(other - offset) <= _LIKE]
        kept.append(offset if abs(offset) >= _LEAST_DRIFT and near else 0)
    return kept


def _on_grid(spans: Sequence[Span], count: int) -> NDArray[np.bool_]:
    steps = np.zeros(count + 1, np.int32)
    edges = np.clip(np.round(np.array(spans) / _GRID).astype(int), 0, count)
    np.add.at(steps, edges[:, 0], 1)
    np.add.at(steps, edges[:, 1], -1)
    return np.cumsum(steps[:-1]) > 0


def _offsets(said: NDArray[np.bool_], heard: NDArray[np.bool_]) -> list[int]:
    """For each window by how many steps of the grid its text is late; 0 where it fits or nothing
    can be told.

    It is looked for around no offset, and around that of the window before: times may run away
    without end.
    """
    text, speech = np.where(said, 1.0, -1.0), np.where(heard, 1.0, -1.0)
    offsets: list[int] = []
    for first in range(0, len(said) - _DRIFT_WINDOW + 1, _DRIFT_STEP):
        window = text[first : first + _DRIFT_WINDOW]
        before = next((offset for offset in reversed(offsets[-_CARRIED:]) if offset), 0)
        near = _agreement(window, speech, first)
        found = [
            (float(near[_FARTHEST - offset]), offset) for offset in range(-_FARTHEST, _FARTHEST + 1)
        ]
        if abs(before) > _FARTHEST // 2:
            around = _agreement(window, speech, first - before)
            found += [
                (float(around[_FARTHEST - by]), before + by)
                for by in range(-_FARTHEST, _FARTHEST + 1)
            ]
        most, best = max(found, key=lambda one: (one[0], -abs(one[1])))
        is_clear = most >= _FITTING and most - near[_FARTHEST] >= _CLEARER
        offsets.append(best if is_clear else 0)
    return offsets


def _agreement(
    window: NDArray[np.float64], speech: NDArray[np.float64], first: int
) -> NDArray[np.float64]:
    """In what share of a window text and speech agree when it begins up to `_FARTHEST` steps from a
    place.

    What is outside of the recording agrees with nothing and differs from nothing.
    """
    begin, end = first - _FARTHEST, first + _FARTHEST + len(window)
    inside = speech[max(0, begin) : max(0, end)]
    left = max(0, min(-begin, end - begin))
    around = np.zeros(end - begin)
    around[left : left + len(inside)] = inside[: len(around) - left]
    sums = np.correlate(around, window, mode="valid")
    shares: NDArray[np.float64] = (1.0 + sums / len(window)) / 2.0
    return shares
