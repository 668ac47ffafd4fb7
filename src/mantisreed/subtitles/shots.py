"""Cues and shot changes: a cue that hangs over a cut for a moment is read twice, because the eye
starts anew.
"""

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import replace

from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.rules import LayoutRules

_NEAR_START = (
    0.35  # seconds; a cue may come so much before or after its first word to come with a cut
)
_NEAR_END = 0.5  # seconds; and go out so much earlier or later than it would to go out with one
_SLACK = 1e-6  # seconds, for what floating point rounds


def on_shots(cues: Sequence[Cue], cuts: Sequence[float], rules: LayoutRules) -> list[Cue]:
    """The cues with starts on a cut that is near, and ends a gap before one.

    A cue never goes out before its last word, never becomes shorter than the rules have it where it
    was not, and never comes closer to another one than the gap.

    Args:
        cues: by start.
        cuts: when new shots begin, in seconds, in order.
        rules: how cues may look.
    """
    snapped: list[Cue] = []
    for number, cue in enumerate(cues):
        before = snapped[-1].end + rules.gap if snapped else 0.0
        if number + 1 < len(cues):
            after = cues[number + 1].start - rules.gap
        else:
            after = float("inf")
        start = _start_of(cue, cuts, before)
        end = _end_of(replace(cue, start=start), cuts, after, rules)
        snapped.append(replace(cue, start=start, end=end))
    # A cue whose start moved to an earlier cut asks the one above to make room.
    for number in range(len(snapped) - 1):
        above, below = snapped[number], snapped[number + 1]
        if (
            above.start < below.start - rules.gap < above.end
            and above.end <= cues[number + 1].start
        ):
            snapped[number] = replace(above, end=below.start - rules.gap)
    return snapped


def _start_of(cue: Cue, cuts: Sequence[float], before: float) -> float:
    near = _nearest(cuts, cue.start)
    if (
        near is None
        or abs(near - cue.start) > _NEAR_START
        or near < before - _SLACK
        or near >= cue.end
    ):
        return cue.start
    return near


def _end_of(cue: Cue, cuts: Sequence[float], after: float, rules: LayoutRules) -> float:
    """When a cue goes out, with the cuts that are near its end or that its lingering would hang
    over.
    """
    spoken = max((word.end for word in cue.words), default=cue.end - rules.linger)
    least = max(spoken, cue.start + min(rules.shortest, cue.end - cue.start))
    for cut in cuts[bisect_left(cuts, min(spoken, cue.end) - _SLACK) :]:
        if cut > cue.end + _NEAR_END:
            break
        end = cut - rules.gap
        if (
            least - _SLACK <= end <= after + _SLACK
            and end - cue.start <= rules.longest
            and cut > cue.start
        ):
            return end
    return cue.end


def _nearest(cuts: Sequence[float], time: float) -> float | None:
    at = bisect_left(cuts, time)
    return min(cuts[max(0, at - 1) : at + 1], key=lambda cut: abs(cut - time), default=None)
