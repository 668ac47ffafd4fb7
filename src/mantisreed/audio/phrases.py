"""Phrases in a stream that is heard as it comes: each is given out as soon as the speaker has
paused.

The speech map in `speech.py` looks half a minute ahead, which nobody who speaks live can be asked
to wait for. Here everything is decided from what was heard so far: levels of 10 ms frames, a noise
floor that is the quietest of the last seconds, and two thresholds over it.
"""

from collections import deque
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

FRAMES_A_SECOND = 100  # as many as `speech.py` has

_EMPHASIS = 0.97  # takes hum and wind out of the levels, which are nearly all below 200 Hz
_FLOOR_SECONDS = 12  # as in the speech map
_FLOOR_RANK = 0.1  # of the frames of a second
_SMOOTHED = 7  # frames, as in the speech map
_ON_DB, _OFF_DB = 5.0, 3.0  # over the floor, of smoothed levels
_RANGE_DB = 38.0  # what is so far under the loudest of the last seconds is no speech
_LEAST_DB = -62.0  # nothing below this is speech
_QUIETEST_FLOOR_DB = -75.0  # dBFS; digital silence would make every breath speech
_ONSET_FRAMES, _ONSET_REACH = 4, 8  # so many of the last ones have to be over the threshold
_BEFORE = 30  # frames kept before a phrase: its first sound may be too soft to be noticed
_AFTER = 25  # frames kept after it
_CUT_REACH = 0.4  # of a phrase that is too long; there it is cut where it is quietest


@dataclass(frozen=True, slots=True)
class LivePhrase:
    """A phrase.

    Attributes:
        start: seconds from the beginning of the stream.
        samples: its sound, shape (samples,), int16.
        heard: seconds of the stream that had been heard when it was given out.
    """

    start: float
    samples: NDArray[np.int16] = field(repr=False)
    heard: float


class PhraseListener:
    """Hears a stream of one channel.

    Memory does not grow with the stream: what is neither in a phrase nor just before one is let go.
    """

    def __init__(self, sample_rate: int, *, pause: float = 0.8, longest: float = 30.0) -> None:
        """Hear nothing yet.

        Args:
            sample_rate: of the stream, in Hz.
            pause: seconds without speech that end a phrase.
            longest: seconds after which a phrase is cut all the same.
        """
        self._sample_rate = sample_rate
        self._frame = sample_rate // FRAMES_A_SECOND
        self._pause = max(1, round(pause * FRAMES_A_SECOND))
        self._longest = max(2 * FRAMES_A_SECOND, round(longest * FRAMES_A_SECOND))
        self._rest = np.zeros(0, np.int16)  # less than a frame
        self._kept: deque[NDArray[np.int16]] = deque()  # frames from `_first` on
        self._levels: deque[float] = deque()  # of the same frames
        self._first = 0  # the number of the frame that `_kept` begins with
        self._heard = 0  # frames
        self._onset: deque[bool] = deque(maxlen=_ONSET_REACH)
        self._recent: deque[float] = deque(maxlen=_SMOOTHED)  # powers
        self._second: list[float] = []
        self._lows: deque[float] = deque(maxlen=_FLOOR_SECONDS)
        self._highs: deque[float] = deque(maxlen=_FLOOR_SECONDS)
        self._begin: int | None = None  # the frame that the open phrase begins with
        self._last_speech = 0
        self._before = 0.0  # the last sample of the block before, for the emphasis

    @property
    def is_speaking(self) -> bool:
        """Whether a phrase is open."""
        return self._begin is not None

    def hear(self, samples: NDArray[np.int16]) -> list[LivePhrase]:
        """Take the next samples, shape (samples,); gives the phrases that have come to their
        end.
        """
        together = np.concatenate([self._rest, samples])
        count = len(together) // self._frame
        self._rest = together[count * self._frame :]
        if not count:
            return []
        frames = together[: count * self._frame].reshape(count, self._frame)
        found = []
        for frame, level in zip(frames, self._levels_of(frames), strict=True):
            phrase = self._take(frame, float(level))
            if phrase is not None:
                found.append(phrase)
        return found

    def finish(self) -> list[LivePhrase]:
        """The phrase that is open when the stream ends."""
        if self._begin is not None:
            return [self._given(self._heard)]
        return []

    def _levels_of(self, frames: NDArray[np.int16]) -> NDArray[np.float64]:
        flat = frames.reshape(-1).astype(np.float64) / 32768.0
        before = np.concatenate([[self._before], flat[:-1]])
        self._before = float(flat[-1])
        emphasised = (flat - _EMPHASIS * before).reshape(frames.shape)
        powers = []
        for power in np.mean(emphasised**2, axis=1):
            self._recent.append(float(power))
            powers.append(sum(self._recent) / len(self._recent))
        levels: NDArray[np.float64] = 10.0 * np.log10(np.array(powers) + 1e-12)
        return levels

    def _take(self, frame: NDArray[np.int16], level: float) -> LivePhrase | None:
        floor, loud = self._follow(level)
        least = max(loud - _RANGE_DB, _LEAST_DB)
        self._kept.append(frame)
        self._levels.append(level)
        self._heard += 1
        self._onset.append(level > max(floor + _ON_DB, least))
        if self._begin is None:
            if sum(self._onset) >= _ONSET_FRAMES:
                self._begin = max(self._first, self._heard - _ONSET_REACH - _BEFORE)
                self._last_speech = self._heard
            else:
                self._let_go(self._heard - _ONSET_REACH - _BEFORE)
            return None
        if level > max(floor + _OFF_DB, least - 3.0):
            self._last_speech = self._heard
        if self._heard - self._last_speech >= self._pause:
            return self._given(min(self._heard, self._last_speech + _AFTER))
        if self._heard - self._begin >= self._longest:
            return self._given(self._quietest_place(), goes_on=True)
        return None

    def _follow(self, level: float) -> tuple[float, float]:
        """The noise floor, and the level of what is loud, in the last seconds."""
        self._second.append(level)
        if len(self._second) >= FRAMES_A_SECOND:
            ordered = sorted(self._second)
            self._lows.append(ordered[round(_FLOOR_RANK * len(ordered))])
            self._highs.append(ordered[-5])
            self._second.clear()
        if not self._lows:
            if len(self._second) < _BEFORE:
                # Nothing is judged before there is something to judge by; the sound is kept.
                return (
                    np.inf,
                    level,
                )
            ordered = sorted(self._second)
            return max(ordered[round(_FLOOR_RANK * len(ordered))], _QUIETEST_FLOOR_DB), ordered[-1]
        return max(min(self._lows), _QUIETEST_FLOOR_DB), max(self._highs)

    def _quietest_place(self) -> int:
        """Where a phrase that is too long is cut: the middle of the quietest tenth of a second near
        its end.
        """
        assert self._begin is not None
        reach = round(self._longest * _CUT_REACH)
        levels = np.array(self._levels)[-reach:]
        smooth = np.convolve(levels, np.ones(10) / 10.0, "valid")
        return self._heard - reach + int(np.argmin(smooth)) + 5

    def _given(self, end: int, *, goes_on: bool = False) -> LivePhrase:
        assert self._begin is not None
        frames = [
            frame
            for number, frame in enumerate(self._kept, self._first)
            if self._begin <= number < end
        ]
        phrase = LivePhrase(
            self._begin / FRAMES_A_SECOND, np.concatenate(frames), self._heard / FRAMES_A_SECOND
        )
        self._begin = end if goes_on else None
        self._onset.clear()
        self._let_go(end if goes_on else self._heard - _ONSET_REACH - _BEFORE)
        return phrase

    def _let_go(self, before: int) -> None:
        while self._first < before and self._kept:
            self._kept.popleft()
            self._levels.popleft()
            self._first += 1
