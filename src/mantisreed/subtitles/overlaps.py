"""Cues that stand at once, made one after the other: SRT has no places on the screen, and players
pile them up.
"""

from collections.abc import Sequence
from dataclasses import replace

from mantisreed.subtitles.cues import Cue, Mark, Turn, text_width
from mantisreed.subtitles.rules import LayoutRules

DASH = "- "
_LEAST = 0.7  # seconds that are left of a cue which makes room for another
_SLACK = 0.0005  # seconds; half of what files can say


def without_overlaps(cues: Sequence[Cue], rules: LayoutRules) -> list[Cue]:
    """The cues, none of which begins before the one above has ended.

    Two speakers who talk at once share a cue, a dash before each line, where both fit. Otherwise
    the earlier cue ends before the later one, or the later one waits, whichever leaves more to
    read.

    Args:
        cues: by start.
        rules: how cues may look.
    """
    kept: list[Cue] = []
    for cue in cues:
        above = kept[-1] if kept else None
        if above is None or cue.start >= above.end - _SLACK:
            kept.append(cue)
        elif _can_share(above, cue, rules):
            kept[-1] = shared(above, cue)
        elif cue.start - rules.gap - above.start >= _LEAST:
            kept[-1] = replace(above, end=cue.start - rules.gap)
            kept.append(cue)
        elif cue.end - above.end - rules.gap >= _LEAST:
            kept.append(replace(cue, start=above.end + rules.gap))
        else:
            # Too many lines are better than a text that nobody can read.
            kept[-1] = shared(above, cue)
    return kept


def _can_share(above: Cue, cue: Cue, rules: LayoutRules) -> bool:
    lines = (*above.lines, *cue.lines)
    return (
        above.speaker != cue.speaker
        and len(above.lines) == len(cue.lines) == 1
        and not above.turns
        and rules.lines >= 2
        and max(map(text_width, lines)) + len(DASH) <= rules.line_length
        and max(above.end, cue.end) - above.start <= rules.longest
    )


def shared(above: Cue, below: Cue) -> Cue:
    """One cue of two speakers, a dash before what each says."""
    upper, lower = _with_dash(above), _with_dash(below)
    moved = tuple(replace(mark, line=mark.line + len(upper.lines)) for mark in lower.marks)
    has_words = bool(above.words and below.words)
    is_turns = len(above.lines) == len(below.lines) == 1 and has_words
    turns: tuple[Turn, ...] = ()
    if is_turns:
        turns = (Turn(above.speaker, len(above.words)), Turn(below.speaker, len(below.words)))
    return replace(
        upper,
        end=max(above.end, below.end),
        lines=upper.lines + lower.lines,
        marks=upper.marks + moved,
        words=above.words + below.words if has_words else (),
        turns=turns,
    )


def _with_dash(cue: Cue) -> Cue:
    if cue.lines and cue.lines[0][:1] not in "-–—‐":
        return with_mark(cue, DASH)
    return cue


def with_mark(cue: Cue, mark: str) -> Cue:
    """The cue with a speaker's mark before its first line, unless it was written there before, also
    behind a dash.
    """
    if not mark or not cue.lines:
        return cue
    first = cue.lines[0]
    if first.startswith(mark) or first.removeprefix(DASH).startswith(mark):
        return cue
    moved = tuple(
        replace(one, first=one.first + len(mark), last=one.last + len(mark))
        if one.line == 0
        else one
        for one in cue.marks
    )
    return replace(cue, lines=(mark + cue.lines[0], *cue.lines[1:]), marks=moved)


def without_dash(
    lines: tuple[str, ...], marks: tuple[Mark, ...]
) -> tuple[tuple[str, ...], tuple[Mark, ...]]:
    """Lines without the dash before the first of them, and their marks where they stand then."""
    if not lines or not lines[0].startswith(DASH):
        return lines, marks
    moved = (
        replace(mark, first=max(0, mark.first - len(DASH)), last=max(0, mark.last - len(DASH)))
        if mark.line == 0
        else mark
        for mark in marks
    )
    return (lines[0][len(DASH) :], *lines[1:]), tuple(
        mark for mark in moved if mark.first < mark.last
    )
