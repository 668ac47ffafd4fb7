"""The speech map: where in a recording somebody speaks.

Levels of 10 ms frames in the band where voices are; a noise floor that follows the recording; two thresholds over it,
so that a level near one does not flicker; very short sounds and gaps are dropped.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.decode import SAMPLE_RATE, Samples

FRAME_SECONDS = 0.01

_SMOOTHED = 7  # frames
_FLOOR_SHARE = 10  # the floor of a second is this percentile of its frames
_FLOOR_REACH = 12  # seconds before and after that the floor is taken from
_ON_DB, _OFF_DB = 4.5, 2.0
_RANGE_DB = 38.0  # what is so far under the loud frames is no speech, however quiet the rest is
_SHORTEST_SPEECH, _SHORTEST_GAP = 6, 14  # frames
_MARGIN = 3  # frames kept before and after


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stretch of speech; `start` and `end` in seconds, `level` the mean level in dB under full scale."""

    start: float
    end: float
    level: float


class SpeechListener:
    """Passes blocks through and remembers their levels; `stretches` then tells where speech was."""

    def __init__(self, sample_rate: int = SAMPLE_RATE) -> None:
        self._frame = round(sample_rate * FRAME_SECONDS)
        self._lag = max(1, round(sample_rate / 4000))
        self._rest = np.zeros(0, np.float32)
        self._tail = np.zeros(3 * self._lag, np.float32)
        self._energies: list[NDArray[np.float32]] = []

    def through(self, blocks: Iterable[Samples]) -> Iterator[Samples]:
        """The blocks themselves, unchanged; the first channel is listened to."""
        for block in blocks:
            self._listen(block[0])
            yield block

    def stretches(self) -> list[Stretch]:
        """Where somebody spoke in all that has come through so far."""
        if not self._energies:
            return []
        levels = 10 * np.log10(np.concatenate(self._energies) + 1e-12)
        speaking = _speaking(levels)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], speaking.astype(np.int8), [0]])))
        return [
            Stretch(start * FRAME_SECONDS, end * FRAME_SECONDS, float(levels[start:end].mean()))
            for start, end in edges.reshape(-1, 2).tolist()
        ]

    def _listen(self, samples: NDArray[np.float32]) -> None:
        joined = np.concatenate([self._rest, self._voice_band(samples)])
        whole = len(joined) // self._frame * self._frame
        frames = joined[:whole].reshape(-1, self._frame)
        self._energies.append(np.einsum("ij,ij->i", frames, frames) / self._frame)
        self._rest = joined[whole:]

    def _voice_band(self, samples: NDArray[np.float32]) -> NDArray[np.float32]:
        """Sums over an eighth of a millisecond and another, minus the sums a quarter before: 0.3 to 2.5 kHz.

        DC goes, hum is 25 dB down, hiss above 4 kHz as well, and it costs three additions a sample.
        """
        joined: NDArray[np.float32] = np.concatenate([self._tail, samples])
        self._tail = joined[len(joined) - 3 * self._lag :]
        half = max(1, self._lag // 2)
        sums = joined[half:] + joined[:-half]
        sums = sums[self._lag :] + sums[: -self._lag]
        band = sums[self._lag :] - sums[: -self._lag]
        return band[len(band) - len(samples) :]


def speech_map(blocks: Iterable[Samples], sample_rate: int = SAMPLE_RATE) -> list[Stretch]:
    """Where somebody speaks in blocks of shape (channels, samples); the first channel is listened to."""
    listener = SpeechListener(sample_rate)
    for _ in listener.through(blocks):
        pass
    return listener.stretches()


def _speaking(levels: NDArray[np.float32]) -> NDArray[np.bool_]:
    """For each frame whether somebody speaks in it."""
    smooth = np.convolve(levels, np.ones(_SMOOTHED) / _SMOOTHED, mode="same")
    floor = _noise_floor(smooth)
    least = np.percentile(smooth, 95) - _RANGE_DB
    on, off = np.maximum(floor + _ON_DB, least), np.maximum(floor + _OFF_DB, least - 3.0)
    sure, possible = smooth > on, smooth > off
    speaking = _holding(possible, sure)
    speaking = ~_longer_than(~speaking, _SHORTEST_GAP) if speaking.any() else speaking
    speaking = _longer_than(speaking, _SHORTEST_SPEECH)
    kernel = np.ones(2 * _MARGIN + 1)
    return np.convolve(speaking, kernel, mode="same") > 0


def _noise_floor(levels: NDArray[np.float64]) -> NDArray[np.float64]:
    """The noise level around each frame: a low level of each second, the lowest such within reach."""
    second = round(1 / FRAME_SECONDS)
    count = max(1, len(levels) // second)
    parts = np.array_split(levels, count)
    lows = np.array([np.percentile(part, _FLOOR_SHARE) for part in parts])
    reach = np.array([np.percentile(lows[max(0, i - _FLOOR_REACH) : i + _FLOOR_REACH + 1], 15) for i in range(count)])
    centres = np.array([part.size for part in parts]).cumsum() - second / 2
    floor: NDArray[np.float64] = np.interp(np.arange(len(levels)), centres, reach)
    return floor


def _runs(mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """(first, after last) of each run of true frames, shape (runs, 2)."""
    padded = np.concatenate([[0], mask.astype(np.int8), [0]])
    return np.flatnonzero(np.diff(padded)).reshape(-1, 2)


def _holding(possible: NDArray[np.bool_], sure: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Runs of possible frames that hold a sure one."""
    held = np.zeros_like(possible)
    for start, end in _runs(possible):
        held[start:end] = sure[start:end].any()
    return held


def _longer_than(mask: NDArray[np.bool_], frames: int) -> NDArray[np.bool_]:
    """The mask without its runs of `frames` or fewer."""
    kept = np.zeros_like(mask)
    for start, end in _runs(mask):
        kept[start:end] = end - start > frames
    return kept
