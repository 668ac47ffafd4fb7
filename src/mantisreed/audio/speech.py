"""The speech map: where in a recording somebody speaks, found while the recording streams by.

Levels of 10 ms frames in two bands, that of voices and that of hisses like s and f; in each a noise
floor that follows the recording; two thresholds over it, so that a level near one does not flicker;
very short sounds and gaps are dropped. What is said about a moment is settled less than a minute
later and never changes then.
"""

import math
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import chain, pairwise

import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.decode import SAMPLE_RATE, IntSamples, Samples

FRAME_SECONDS = 0.01  # shorter than any sound of speech, long enough for its level

_SECOND = 100  # frames
_STEP = 30  # seconds that are judged at once
_FLOOR_REACH = 12  # seconds before and after that the noise floor is taken from
# Percentiles: of the frames of a second, and of the seconds within reach.
_FLOOR_SHARE, _FLOOR_RANK = (
    10,
    15,
)
_SMOOTHED = 7  # frames
_BANDS = 2
_ON_DB = np.array([[4.5], [5.0]])  # over the floor, in each band
_OFF_DB = np.array([[2.0], [2.5]])
_RANGE_DB = 38.0  # what is so far under the loud frames is no speech, however quiet the rest is
_LOUD_MEMORY = 0.91  # how much of what was loud half a minute ago still counts
_LEAST_DB = -85.0  # nothing below this is speech
_SHORTEST_SPEECH, _SHORTEST_GAP = 6, 14  # frames
# Frames kept before and after; more where noise hides the ends of words.
_MARGIN, _NOISY_MARGIN = (
    3,
    7,
)
_NOISY_DB = 22.0  # loud frames over the floor
_LONGEST_OPEN = 120 * _SECOND  # frames; speech that goes on for longer is reported in parts


@dataclass(frozen=True, slots=True)
class SpeechSegment:
    """A stretch of speech; `start` and `end` in seconds, `level` its mean level in the voice band,
    in dBFS.
    """

    start: float
    end: float
    level: float


class SpeechListener:
    """Hears one channel and tells where speech is, a little later.

    Attributes:
        settled: seconds up to which everything is known: speech that begins before this has been
            told.
    """

    def __init__(self, sample_rate: int = SAMPLE_RATE) -> None:
        """Hear nothing yet. The sample rate is a multiple of 200, so that frames are whole pairs of
        samples.
        """
        self._frames = _Frames(sample_rate)
        # Smoothed, of frames that are not judged yet.
        self._levels = np.zeros((_BANDS, 0), np.float32)
        self._judged = 0  # frames
        # Of each second so far that the floor is still taken from.
        self._lows = np.zeros((_BANDS, 0), np.float32)
        self._first_low = 0  # the second that they begin with
        self._loud = _FrameLoudness()
        self._weighed = 0  # of `_levels`, how many frames `_loud` has heard
        # Possible, sure, noisy: of frames judged but not yet settled.
        self._masks = np.zeros((3, 0), np.bool_)
        self._voice = np.zeros(0, np.float32)  # their levels
        self.settled = 0.0

    def hear(self, samples: Samples | IntSamples) -> list[SpeechSegment]:
        """Take the next samples, shape (n,), float or 16-bit; gives the stretches that have become
        certain.
        """
        self._take(self._frames.levels(samples))
        found: list[SpeechSegment] = []
        while self._levels.shape[1] >= (_STEP + _FLOOR_REACH) * _SECOND:
            self._judge(_STEP * _SECOND)
            found += self._settle(ended=False)
        return found

    def finish(self) -> list[SpeechSegment]:
        """The rest of the stretches, when the recording is at its end."""
        self._take(self._frames.rest())
        if self._levels.shape[1]:
            self._judge(self._levels.shape[1])
        return self._settle(ended=True)

    def _take(self, levels: NDArray[np.float32]) -> None:
        self._levels = np.concatenate([self._levels, levels], axis=1)

    def _judge(self, count: int) -> None:
        """Compare the next frames with the floor and the loudness around them."""
        floor = self._floor(count)
        ahead = count + _FLOOR_REACH * _SECOND
        self._loud.hear(self._levels[0, self._weighed : ahead])
        self._weighed = min(ahead, self._levels.shape[1]) - count
        here = self._levels[:, :count]
        least = max(self._loud.level - _RANGE_DB, _LEAST_DB)
        sure = here > np.maximum(floor + _ON_DB, least)
        possible = here > np.maximum(floor + _OFF_DB, least - 3.0)
        noisy = self._loud.level - floor[0] < _NOISY_DB
        masks = np.stack([possible.any(axis=0), sure.any(axis=0), noisy])
        self._masks = np.concatenate([self._masks, masks], axis=1)
        self._voice = np.concatenate([self._voice, here[0]])
        self._levels = self._levels[:, count:]
        self._judged += count

    def _floor(self, count: int) -> NDArray[np.float32]:
        """The noise level at each of the next frames, in each band: the lowest of the seconds
        within reach.

        Of the seconds before and those after, the side that is noisier counts: where the noise
        grows or falls, the other side lies too low.
        """
        whole = (self._judged + self._levels.shape[1]) // _SECOND
        fresh = whole - self._first_low - self._lows.shape[1]
        start = (whole - fresh) * _SECOND - self._judged
        if fresh:
            seconds = self._levels[:, start : start + fresh * _SECOND].reshape(
                _BANDS, fresh, _SECOND
            )
            lows = np.partition(seconds, _FLOOR_SHARE, axis=2)[:, :, _FLOOR_SHARE]
            self._lows = np.concatenate([self._lows, lows], axis=1)
        if not whole:  # shorter than a second
            return np.repeat(
                np.percentile(self._levels, _FLOOR_SHARE, axis=1, keepdims=True), count, axis=1
            )
        second = self._judged // _SECOND
        here = range(second, min(whole, second + math.ceil(count / _SECOND)) or 1)
        floors = np.stack(
            [self._floor_of(n - self._first_low) for n in here or [whole - 1]], axis=1
        )
        centres = (np.arange(floors.shape[1]) + here.start + 0.5) * _SECOND
        frames = np.arange(self._judged, self._judged + count)
        kept = max(0, second + _STEP - _FLOOR_REACH - self._first_low)
        self._lows, self._first_low = self._lows[:, kept:], self._first_low + kept
        return np.stack([np.interp(frames, centres, band) for band in floors]).astype(np.float32)

    def _floor_of(self, second: int) -> NDArray[np.float32]:
        """The floor of one second of those in `_lows`."""
        before = self._lows[:, max(0, second - _FLOOR_REACH) : second + 1]
        after = self._lows[:, second : second + _FLOOR_REACH + 1]
        if min(before.shape[1], after.shape[1]) <= _FLOOR_REACH // 2:
            return _low(self._lows[:, max(0, second - _FLOOR_REACH) : second + _FLOOR_REACH + 1])
        return np.maximum(_low(before), _low(after))

    def _settle(self, *, ended: bool) -> list[SpeechSegment]:
        """Tell what no later frame can change."""
        first = self._judged - self._masks.shape[1]
        speaking = _speaking(*self._masks)
        settled = len(speaking) if ended else _last_silence(self._masks[0])
        if not ended and len(speaking) - settled > _LONGEST_OPEN:
            settled = len(speaking) - _SECOND
        edges = runs_of(speaking[:settled])
        found = [
            SpeechSegment(
                (first + start) * FRAME_SECONDS,
                (first + end) * FRAME_SECONDS,
                float(self._voice[start:end].mean()),
            )
            for start, end in edges.tolist()
        ]
        self._masks, self._voice = self._masks[:, settled:], self._voice[settled:]
        self.settled = (first + settled) * FRAME_SECONDS
        return found


def speech_map(
    blocks: Iterable[Samples | IntSamples], sample_rate: int = SAMPLE_RATE
) -> list[SpeechSegment]:
    """Where somebody speaks in blocks of shape (channels, samples); the first channel is listened
    to.
    """
    listener = SpeechListener(sample_rate)
    found = list(chain.from_iterable(listener.hear(block[0]) for block in blocks))
    return found + listener.finish()


def union(stretches: Iterable[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    """Stretches of several channels, (start, end) in seconds, as those in which anybody speaks."""
    joined: list[tuple[float, float]] = []
    for start, end in sorted(stretches):
        if joined and start <= joined[-1][1]:
            joined[-1] = (joined[-1][0], max(joined[-1][1], end))
        else:
            joined.append((start, end))
    return tuple(joined)


def pauses_and_speech(stretches: Iterable[tuple[float, float]]) -> tuple[int, ...]:
    """Stretches of speech, in order and apart, as lengths of silence and of speech in turn.

    They are in hundredths of a second. That is a quarter of what pairs of times take where many of
    them are kept.
    """
    edges = [0, *(round(edge * 100) for edge in chain.from_iterable(stretches))]
    return tuple(after - before for before, after in pairwise(edges))


class _Frames:
    """Samples to smoothed levels of frames, in two bands."""

    def __init__(self, sample_rate: int) -> None:
        self._frame = round(sample_rate * FRAME_SECONDS) // 2  # pairs of samples
        self._lag = max(1, round(sample_rate / 4000))
        self._tail: Samples | IntSamples | None = None
        self._edge: NDArray[np.float32] | None = None  # the last levels, for the running mean

    def levels(self, samples: Samples | IntSamples) -> NDArray[np.float32]:
        """Running means of the powers of whole frames in dBFS, shape (bands, frames).

        The voice band is sums of two samples minus those half a millisecond before: 0.3 to 2.5 kHz.
        DC goes, and hum is 20 dB down. The hiss band is second differences: from 3 kHz up. Every
        second value of each is enough.
        """
        tail = np.zeros(2 * self._lag, samples.dtype) if self._tail is None else self._tail
        joined = np.concatenate([tail, samples])
        whole = (len(joined) - 2 * self._lag) // (2 * self._frame) * (2 * self._frame)
        self._tail = joined[whole:]
        joined = joined[: whole + 2 * self._lag]
        even, odd = joined[0::2].astype(np.float32), joined[1::2].astype(np.float32)
        sums = even + odd
        voice = sums[self._lag :] - sums[: -self._lag]
        hiss = even[1:] + even[:-1]
        odd += odd
        hiss -= odd[:-1]
        full_scale = np.float32(32768 if samples.dtype == np.int16 else 1)
        return self._smoothed(np.stack([self._powers(band, full_scale) for band in (voice, hiss)]))

    def rest(self) -> NDArray[np.float32]:
        """The levels that the running mean still holds back."""
        if self._edge is None:
            return np.zeros((_BANDS, 0), np.float32)
        return self._smoothed(np.repeat(self._edge[:, -1:], _SMOOTHED // 2, axis=1))

    def _powers(self, band: NDArray[np.float32], full_scale: np.float32) -> NDArray[np.float32]:
        frames = band[: len(band) // self._frame * self._frame].reshape(-1, self._frame)
        powers = np.einsum("ij,ij->i", frames, frames) / np.float32(self._frame)
        levels: NDArray[np.float32] = 10 * np.log10(powers / full_scale**2 + np.float32(1e-12))
        return levels

    def _smoothed(self, levels: NDArray[np.float32]) -> NDArray[np.float32]:
        """Running means; at the start the first level stands for those before it."""
        if levels.shape[1] == 0:
            return levels
        if self._edge is None:
            self._edge = np.repeat(levels[:, :1], _SMOOTHED // 2, axis=1)
        joined = np.concatenate([self._edge, levels], axis=1)
        self._edge = joined[:, -(_SMOOTHED - 1) :]
        count = max(0, joined.shape[1] - _SMOOTHED + 1)
        total = np.zeros((len(joined), count), np.float32)
        for n in range(_SMOOTHED):
            total += joined[:, n : n + count]
        total /= _SMOOTHED
        return total


class _FrameLoudness:
    """How loud the loud frames of the last minutes are, whatever the share of silence among
    them.
    """

    def __init__(self) -> None:
        self._counts = np.zeros(131)  # frames by level, one bin per dB from -130 to 0
        self.level = -130.0

    def hear(self, levels: NDArray[np.float32]) -> None:
        if len(levels) == 0:
            return
        bins = np.clip(levels + 130, 0, 130).astype(int)
        fading = _LOUD_MEMORY ** (len(levels) / (_STEP * _SECOND))
        self._counts = self._counts * fading + np.bincount(bins, minlength=131)
        shares = np.cumsum(self._counts) / self._counts.sum()
        self.level = float(np.searchsorted(shares, 0.95)) - 130


def _low(lows: NDArray[np.float32]) -> NDArray[np.float32]:
    """A low one of these seconds, in each band."""
    rank = lows.shape[1] * _FLOOR_RANK // 100
    return np.partition(lows, rank, axis=1)[:, rank]


def _speaking(
    possible: NDArray[np.bool_], sure: NDArray[np.bool_], noisy: NDArray[np.bool_]
) -> NDArray[np.bool_]:
    """For each frame whether somebody speaks: runs of possible frames that hold a sure one, without
    flicker.
    """
    runs = runs_of(possible)
    held = np.array([sure[start:end].any() for start, end in runs.tolist()], np.bool_)
    speaking = _mask(runs[held], len(possible))
    if speaking.any():
        speaking = ~_longer_than(~speaking, _SHORTEST_GAP)
    speaking = _longer_than(speaking, _SHORTEST_SPEECH)
    return _widened(speaking, _MARGIN) | _widened(speaking & noisy, _NOISY_MARGIN)


def _widened(mask: NDArray[np.bool_], frames: int) -> NDArray[np.bool_]:
    """The mask with so many frames more on both sides of its runs."""
    return _mask(runs_of(mask) + np.array([-frames, frames]), len(mask))


def _last_silence(possible: NDArray[np.bool_]) -> int:
    """The frame in the middle of the last silence that is long enough to part what is before from
    what comes.
    """
    silent = runs_of(~possible)
    parting = silent[silent[:, 1] - silent[:, 0] > _SHORTEST_GAP + 2 * _NOISY_MARGIN + 2]
    if len(parting):
        return int(parting[-1].sum() // 2)
    return 0


def runs_of(mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """(first, after last) of each run of true frames, shape (runs, 2)."""
    padded = np.concatenate([[0], mask.astype(np.int8), [0]])
    return np.flatnonzero(np.diff(padded)).reshape(-1, 2)


def _longer_than(mask: NDArray[np.bool_], frames: int) -> NDArray[np.bool_]:
    """The mask without its runs of `frames` or fewer."""
    runs = runs_of(mask)
    return _mask(runs[runs[:, 1] - runs[:, 0] > frames], len(mask))


def _mask(runs: NDArray[np.int64], count: int) -> NDArray[np.bool_]:
    """So many frames, true inside the runs, which may overlap and reach over the ends."""
    steps = np.zeros(count + 1, np.int32)
    np.add.at(steps, np.clip(runs[:, 0], 0, count), 1)
    np.add.at(steps, np.clip(runs[:, 1], 0, count), -1)
    return np.cumsum(steps[:-1]) > 0
