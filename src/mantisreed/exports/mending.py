"""Cues that break a rule laid out anew, and the others left as they are."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from mantisreed.exports.script import groups_of_cues, passage_of_cues
from mantisreed.subtitles.check import SLACK, check_cues
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.marking import marks_in
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.writing import joined


def mended(cues: Sequence[Cue], rules: LayoutRules, language: str | None = None) -> list[Cue]:
    """The cues in order of time; one that breaks a rule is laid out anew with all that it shares a passage with.

    Marks stay with their text; settings stay where all cues of a passage have the same. Cues without text are gone.
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
        group = [cue for cue in group if cue.lines]
        passage = passage_of_cues(group)
        follows = after is not None and after[0].start >= passage.end - SLACK
        anew = lay_out([passage], rules, language=language, until=after[0].start if after and follows else None)
        kept += _as_before(group, anew)
    kept.sort(key=lambda cue: (cue.start, cue.end))
    return [*(_before(cue, following, rules) for cue, following in pairwise(kept)), *kept[-1:]]


def _as_before(group: Sequence[Cue], anew: Sequence[Cue]) -> list[Cue]:
    """New cues with the marks and settings that their text had."""
    text = joined(line for cue in group for line in cue.lines)
    spans, at = [], 0
    for cue in group:
        for number, line in enumerate(cue.lines):
            at = text.index(line, at)
            spans += [(at + mark.first, at + mark.last, mark.tag) for mark in cue.marks if mark.line == number]
            at += len(line)
    settings = group[0].settings if len({cue.settings for cue in group}) == 1 else ""
    has_times = all(cue.words for cue in group)
    again, at = [], 0
    for cue in anew:
        marks: list[Mark] = []
        for number, line in enumerate(cue.lines):
            place = text.find(line, at)
            if place >= 0:
                at = place + len(line)
                marks += marks_in(spans, place, at, number)
        words = cue.words if has_times else ()
        again.append(replace(cue, marks=tuple(marks), settings=settings, words=words))
    return again


def _before(cue: Cue, following: Cue, rules: LayoutRules) -> Cue:
    """The cue, ended before the next one begins, unless another speaker's words overlap with it."""
    gap = following.start - cue.end
    if gap >= rules.gap - SLACK or (gap < -SLACK and cue.speaker != following.speaker):
        return cue
    return replace(cue, end=max(following.start - rules.gap, min(cue.start + 0.05, following.start), cue.start))
