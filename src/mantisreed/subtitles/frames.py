"""Times on the frames of a video: a cue that comes or goes between two frames is shown a frame
early or late.
"""

import math
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction

from mantisreed.subtitles.cues import Cue

_BROADCAST = 1001
"""Rates such as 23.976 are whole ones times 1000/1001 (SMPTE ST 12-1); they are written shorter
than they are.
"""

_SLACK = 1e-6  # of a frame


def exact_rate(rate: float) -> Fraction:
    """The frame rate that is meant: 23.976 is 24000/1001, 29.97 is 30000/1001, 59.94 is
    60000/1001.
    """
    whole = math.ceil(rate)
    broadcast = Fraction(whole * 1000, _BROADCAST)
    if rate != whole and abs(float(broadcast) - rate) < 0.01:
        return broadcast
    return Fraction(rate).limit_denominator(_BROADCAST)


def on_frames(cues: Sequence[Cue], rate: float, gap: float) -> list[Cue]:
    """The cues with all times on frames: starts on the nearest one, ends on the one that does not
    cut a word.

    Args:
        cues: by start.
        rate: frames a second, as people write them.
        gap: seconds between two cues at least; it is as many whole frames as that takes.
    """
    frames = exact_rate(rate)
    least = math.ceil(gap * frames - _SLACK)
    spans = [[round(cue.start * frames), math.ceil(cue.end * frames - _SLACK)] for cue in cues]
    for number in range(len(cues) - 1):
        # Cues that stand at once, of two speakers, stay so.
        if cues[number].end <= cues[number + 1].start + _SLACK:
            spans[number][1] = min(spans[number][1], spans[number + 1][0] - least)
    snapped = []
    for cue, (start, end) in zip(cues, spans, strict=True):
        end = max(end, start + 1)
        snapped.append(replace(cue, start=float(start / frames), end=float(end / frames)))
    return snapped


def seconds_of_drop_frame(hours: int, minutes: int, seconds: int, frames: int) -> float:
    """The time of a drop-frame time code at 30000/1001 frames a second (SMPTE ST 12-1).

    The first two numbers of each minute are left out, but for every tenth minute, so that the code
    keeps pace with the clock.
    """
    all_minutes = hours * 60 + minutes
    dropped = 2 * (all_minutes - all_minutes // 10)
    count = (all_minutes * 60 + seconds) * 30 + frames - dropped
    return float(count / exact_rate(29.97))
