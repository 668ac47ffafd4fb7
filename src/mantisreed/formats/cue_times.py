"""What is odd about the times of cues, whatever format they were read from."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.remarks import Remark, excerpt_of

_SHORTEST = 1.0  # seconds for which a cue is seen that has no length


def mend_times(found: Subtitles) -> None:
    """Give cues that have no length one, as players show no such cue, and remark what is odd about
    the order of all.

    A cue without a length is seen until the next one begins, but for a second at most.
    """
    cues = found.cues
    starts = sorted({cue.start for cue in cues})
    following = dict(pairwise(starts))
    for at, cue in enumerate(cues):
        if cue.end > cue.start:
            continue
        end = min(following.get(cue.start, float("inf")), cue.start + _SHORTEST)
        cues[at] = replace(cue, end=round(end, 3))
        what = "a cue has no length, and got one"
        found.remarks.append(
            Remark(what, excerpt_of(cue.text), "an end after its start", 0, at + 1, cue.start)
        )
    found.remarks += _order_remarks(cues)


def _order_remarks(cues: Sequence[Cue]) -> list[Remark]:
    remarks = []
    if any(later.start < earlier.start for earlier, later in pairwise(cues)):
        remarks.append(Remark("cues do not stand in the order of their times"))
    by_start = pairwise(sorted(cues, key=lambda cue: cue.start))
    # Voices of one cue are cues of the same times.
    if any(b.start < a.end and (a.start, a.end) != (b.start, b.end) for a, b in by_start):
        remarks.append(Remark("cues overlap"))
    return remarks
