"""Laying subtitles on their recording again, after they were shifted, played at another rate, or
cut.

Cues are compared with where somebody speaks, or with the cues of another file. A map of times is
found that is linear between cuts: for each frame rate that films are converted by, the offsets at
which cues and speech agree are the peaks of their cross-correlation; a dynamic programme then gives
each cue one of the offsets near the peaks, where a change of offset from one cue to the next costs
as much as several cues that do not fit; what is left of a drift is taken out by a robust fit of
cues' starts to the beginnings of speech.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from mantisreed.errors import InputError
from mantisreed.subtitles.cues import Cue, moved_cue, text_width

Floats = NDArray[np.float64]

RATES = (
    ("1", 1.0),
    ("24/23.976", 1001 / 1000),
    ("23.976/24", 1000 / 1001),
    ("25/24", 25 / 24),
    ("24/25", 24 / 25),
    ("25/23.976", 25 * 1001 / 24000),
    ("23.976/25", 24000 / 25 / 1001),
)
"""Factors by which times change when a film is played at another frame rate."""

NEAR = 0.2
"""Seconds; a cue that begins so near to where speech begins fits."""

_STEP = 0.02  # seconds of the grid on which offsets are looked for
_FEWEST = 10  # cues; fewer fit anywhere
# Peaks of the correlation that are followed, and how far they are from each other, in seconds.
_PEAKS, _APART = (
    6,
    1.5,
)
_AROUND = 0.8  # seconds on both sides of a peak
# What a start at a beginning of speech counts, in seconds of speech, and how near it is.
_ONSET, _WIDTH = (
    3.0,
    0.25,
)
_CHANGE = 12.0  # what another offset than that of the cue before costs, in the same unit
_SPOKEN = (
    14.0  # characters a second, to tell how much of a cue is speech and how much is time to read
)
_DRIFT = 0.1  # seconds over a stretch: the smallest drift that is taken out
_CUT = 0.3  # seconds; a smaller step from one cue to the next is a drift


@dataclass(frozen=True, slots=True)
class SyncStretch:
    """Cues that keep their distances but for a factor.

    Attributes:
        first, last: cues [first, last), by number from 0.
        factor, offset: a time becomes time * factor + offset, in seconds.
    """

    first: int
    last: int
    factor: float
    offset: float

    def moved(self, seconds: float) -> float:
        """A time where it belongs."""
        return seconds * self.factor + self.offset


@dataclass(frozen=True, slots=True)
class Synced:
    """Cues laid on a recording.

    Attributes:
        cues: at their new times, in order.
        stretches: how they were moved.
        rate: the name of the change of rate, one of `RATES`.
        fit_before, fit_after: share of the cues that begin where speech begins, 0 to 1.
    """

    cues: tuple[Cue, ...]
    stretches: tuple[SyncStretch, ...]
    rate: str
    fit_before: float
    fit_after: float


def by_two_points(cues: Sequence[Cue], first: float, last: float) -> list[Cue]:
    """The cues with the first beginning at one time and the last at another, in seconds.

    Raises:
        InputError: there are fewer than two starts, or they would stand in another order.
    """
    starts = sorted({cue.start for cue in cues})
    if len(starts) < 2:
        raise InputError(
            "two cues that begin at different times are needed", where="--first and --last"
        )
    if last <= first:
        raise InputError("the last cue would not begin after the first", where="--first and --last")
    factor = (last - first) / (starts[-1] - starts[0])
    whole = SyncStretch(0, len(cues), factor, first - starts[0] * factor)
    return moved(cues, [whole])


def by_speech(
    cues: Sequence[Cue],
    speech: Sequence[tuple[float, float]],
    onsets: Sequence[float] | None = None,
) -> Synced:
    """The cues laid on speech.

    Args:
        cues: of the whole recording.
        speech: where somebody speaks, in seconds, in order.
        onsets: where something begins to be said; None takes the starts of the speech.

    Raises:
        InputError: there are no cues or no speech, or they do not fit each other at any offset.
    """
    cues = sorted((cue for cue in cues if cue.lines), key=lambda cue: (cue.start, cue.end))
    if len(cues) < _FEWEST or not speech:
        raise InputError(
            f"there is too little to compare: {_FEWEST} cues and some speech are needed",
            advice="--first and --last lay cues between two times",
        )
    target = _Target(
        speech, np.unique([start for start, _ in speech] if onsets is None else onsets)
    )
    starts = np.array([cue.start for cue in cues])
    lengths = np.array(list(map(_spoken_length, cues)))
    ways = [(*_offsets(starts * factor, lengths, target), name, factor) for name, factor in RATES]
    # Among rates that do equally well the one that changes least is right.
    _, offsets, name, factor = max(ways, key=lambda way: (round(way[0], 1), -abs(way[3] - 1.0)))
    stretches = []
    # Small steps are a drift that the grid follows; large ones are cuts.
    edges = [0, *(np.flatnonzero(np.abs(np.diff(offsets)) > _CUT) + 1).tolist(), len(cues)]
    for begin, end in pairwise(edges):
        slope, offset = _without_drift(starts[begin:end] * factor, offsets[begin:end], target)
        stretches.append(SyncStretch(begin, end, factor * slope, offset))
    result = moved(cues, stretches)
    before, after = fit_of(cues, target.onsets), fit_of(result, target.onsets)
    if after < max(_least_fit(len(cues)), before):
        raise InputError(
            f"the subtitles do not fit: at most {max(after, before):.0%} of the cues would begin "
            "where speech begins",
            advice="is it the right recording? --first and --last lay them between two times",
        )
    return Synced(tuple(result), tuple(stretches), name, before, after)


def by_cues(cues: Sequence[Cue], like: Sequence[Cue]) -> Synced:
    """The cues laid on those of another file of the same recording, in any language.

    Raises:
        InputError: one of them has no cues, or they do not fit.
    """
    others = sorted((cue for cue in like if cue.lines), key=lambda cue: cue.start)
    speech = _merged([(cue.start, cue.start + _spoken_length(cue)) for cue in others])
    return by_speech(cues, speech, [cue.start for cue in others])


def moved(cues: Sequence[Cue], stretches: Sequence[SyncStretch]) -> list[Cue]:
    """The cues at their new times; none before 0, and none that ends before it begins."""
    result = []
    for stretch in stretches:
        for cue in cues[stretch.first : stretch.last]:
            one = moved_cue(cue, stretch.moved)
            result.append(replace(one, start=round(one.start, 3), end=round(one.end, 3)))
    return result


def fit_of(cues: Sequence[Cue], onsets: Floats) -> float:
    """The share of cues that begin within `NEAR` of where something begins to be said."""
    if not cues or not len(onsets):
        return 0.0
    return float(np.mean(_distances(np.array([cue.start for cue in cues]), onsets) <= NEAR))


def _least_fit(count: int) -> float:
    """The share of cues that have to fit. By chance, with all freedom, 0.3 to 0.45 of a hundred
    cues and more do, and
    up to 0.62 of 25 (measured on unrelated recordings); of those that belong together nearly
    all.
    """
    return 0.45 + 1.0 / math.sqrt(count)


class _Target:
    """What cues are laid on, as functions of time on a grid."""

    def __init__(self, speech: Sequence[tuple[float, float]], onsets: Floats) -> None:
        self.onsets = onsets
        count = int(max(end for _, end in speech) / _STEP) + 2
        spoken = np.full(count, -1.0)
        for start, end in speech:
            spoken[int(start / _STEP) : int(end / _STEP) + 1] = 1.0
        self.spoken = spoken
        self.sums = np.concatenate(([0.0], np.cumsum(spoken) * _STEP))
        near = np.zeros(count)
        reach = int(_WIDTH / _STEP)
        bump = 1.0 - np.abs(np.arange(-reach, reach + 1)) / (reach + 1)
        for place in (onsets / _STEP).astype(int):
            low, high = max(0, place - reach), min(count, place + reach + 1)
            own = bump[low - place + reach : high - place + reach]
            near[low:high] = np.maximum(near[low:high], own)
        self.near = near

    def score(self, starts: Floats, lengths: Floats) -> Floats:
        """How well cues fit at these starts: seconds of speech less seconds of silence, more where
        speech begins.
        """
        count = len(self.spoken)
        first = np.clip((starts / _STEP).astype(int), 0, count - 1)
        last = np.clip(((starts + lengths) / _STEP).astype(int), 0, count)
        is_outside = (starts < -_STEP) | (starts > count * _STEP)
        inside = self.sums[np.maximum(last, first)] - self.sums[first] + _ONSET * self.near[first]
        return np.where(is_outside, -lengths, inside)


def _spoken_length(cue: Cue) -> float:
    """How long a cue's text takes to say, in seconds; a cue stands longer, to be read."""
    return float(min(cue.end - cue.start, max(0.4, sum(map(text_width, cue.lines)) / _SPOKEN)))


def _offsets(starts: Floats, lengths: Floats, target: _Target) -> tuple[float, Floats]:
    """The best total score of the cues, and the offset of each."""
    candidates = np.concatenate(
        [
            np.arange(peak - _AROUND, peak + _AROUND, _STEP)
            for peak in _peaks(starts, lengths, target)
        ]
    )
    candidates = np.unique(np.round(candidates / _STEP).astype(int)) * _STEP
    total = np.zeros(len(candidates))
    came_from = np.empty((len(starts), len(candidates)), dtype=np.int32)
    for number, (start, length) in enumerate(zip(starts, lengths, strict=True)):
        best = int(total.argmax())
        stays = total >= total[best] - _CHANGE
        came_from[number] = np.where(stays, np.arange(len(candidates)), best)
        own = target.score(start + candidates, np.full(len(candidates), length))
        total = np.where(stays, total, total[best] - _CHANGE) + own
    at = int(total.argmax())
    score = float(total[at])
    chosen = np.empty(len(starts))
    for number in range(len(starts) - 1, -1, -1):
        chosen[number] = candidates[at]
        at = int(came_from[number, at])
    return score, chosen


def _peaks(starts: Floats, lengths: Floats, target: _Target) -> list[float]:
    """The offsets at which most cues agree with the speech, by cross-correlation."""
    count = int((starts[-1] + lengths[-1]) / _STEP) + 2
    size = 1 << int(np.ceil(np.log2(count + len(target.spoken) + 1)))
    shown = np.zeros(size)
    begins = np.zeros(size)
    for start, length in zip(starts, lengths, strict=True):
        shown[int(start / _STEP) : int((start + length) / _STEP) + 1] = 1.0
        begins[int(start / _STEP)] += 1.0
    spectrum = np.conj(np.fft.rfft(shown)) * np.fft.rfft(target.spoken, size) * _STEP
    spectrum += np.conj(np.fft.rfft(begins)) * np.fft.rfft(target.near, size) * _ONSET
    agreement = np.fft.irfft(spectrum, size)
    peaks: list[float] = []
    for _ in range(_PEAKS):
        at = int(agreement.argmax())
        peaks.append((at if at < len(target.spoken) else at - size) * _STEP)
        reach = int(_APART / _STEP)
        agreement[np.arange(at - reach, at + reach + 1) % size] = -np.inf
    return peaks


def _without_drift(starts: Floats, offsets: Floats, target: _Target) -> tuple[float, float]:
    """Factor and offset of a stretch, of which the offset of each cue is known on the grid.

    The factor is 1 unless a drift is certain: a wrong factor does more harm than a small drift.
    """
    factor, offset = 1.0, float(np.median(offsets))
    now = starts + offsets
    for reach in (0.6, 0.3, 0.15):
        nearest = target.onsets[_nearest(now, target.onsets)]
        is_near = np.abs(nearest - now) <= reach
        if is_near.sum() < 3:
            break
        x, y = starts[is_near], nearest[is_near]
        span = float(x[-1] - x[0])
        if is_near.sum() >= 8 and span > 60.0:
            slope = _median_slope(x, y)
        else:
            slope = 1.0
        if abs(slope - 1.0) * span < _DRIFT:
            slope = 1.0
        factor, offset = slope, float(np.median(y - slope * x))
        now = starts * factor + offset
    return factor, offset


def _median_slope(x: Floats, y: Floats) -> float:
    """The slope by Theil and Sen: the median of those between points half of the stretch apart."""
    half = len(x) // 2
    runs = x[half:] - x[: len(x) - half]
    rises = y[half:] - y[: len(y) - half]
    if (runs > 0).any():
        return float(np.median(rises[runs > 0] / runs[runs > 0]))
    return 1.0


def _nearest(times: Floats, onsets: Floats) -> NDArray[np.int64]:
    after = np.clip(np.searchsorted(onsets, times), 0, len(onsets) - 1)
    before = np.maximum(after - 1, 0)
    return np.where(np.abs(onsets[before] - times) <= np.abs(onsets[after] - times), before, after)


def _distances(times: Floats, onsets: Floats) -> Floats:
    return np.abs(onsets[_nearest(times, onsets)] - times)


def _merged(spans: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """Spans in order of their starts, those that touch as one."""
    merged: list[tuple[float, float]] = []
    for start, end in spans:
        if merged and start <= merged[-1][1] + _STEP:
            merged[-1] = merged[-1][0], max(end, merged[-1][1])
        else:
            merged.append((start, end))
    return merged
