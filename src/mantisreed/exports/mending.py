"""Cues that break a rule laid out anew, and the others left as they are."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from mantisreed.exports.script import groups_of_cues, passage_of_cues
from mantisreed.subtitles.check import SLACK, check_cues
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LayoutRules


def mended(cues: Sequence[Cue], rules: LayoutRules, language: str | None = None) -> list[Cue]:
    """The cues in order of time; one that breaks a rule is laid out anew with all that it shares a passage with.

    Marks of style, settings and names of cues that are laid out anew are gone, and so are cues without text.
    """
    cues = sorted(cues, key=lambda cue: (cue.start, cue.end))
    findings = (finding for finding in check_cues(cues, rules) if finding.rule != "gap")  # ending earlier mends that
    broken = {id(cues[finding.cue - 1]) for finding in findings}
    groups = [group for group in groups_of_cues(cues) if any(cue.lines for cue in group)]
    kept: list[Cue] = []
    for group, after in zip(groups, [*groups[1:], None], strict=True):
        if not any(id(cue) in broken for cue in group):
            kept += group
            continue
        passage = passage_of_cues([cue for cue in group if cue.lines])
        follows = after is not None and after[0].start >= passage.end - SLACK
        anew = lay_out([passage], rules, language=language, until=after[0].start if after and follows else None)
        has_times = all(cue.words for cue in group)
        kept += anew if has_times else [replace(cue, words=()) for cue in anew]
    kept.sort(key=lambda cue: (cue.start, cue.end))
    return [*(_before(cue, following, rules) for cue, following in pairwise(kept)), *kept[-1:]]


def _before(cue: Cue, following: Cue, rules: LayoutRules) -> Cue:
    """The cue, ended before the next one begins, unless another speaker's words overlap with it."""
    gap = following.start - cue.end
    if gap >= rules.gap - SLACK or (gap < -SLACK and cue.speaker != following.speaker):
        return cue
    return replace(cue, end=max(following.start - rules.gap, min(cue.start + 0.05, following.start), cue.start))
