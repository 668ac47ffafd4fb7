"""Cues of several speakers: one cue that says whose each line is, or a cue for each of them."""

from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import chain, groupby

from mantisreed.subtitles.cues import Cue, Mark, Turn
from mantisreed.subtitles.overlaps import without_dash
from mantisreed.transcript.document import Word


def joined_voices(parts: Sequence[Cue]) -> Cue:
    """One cue of what several speakers say at the same time, each on lines of their own.

    Args:
        parts: what each says, in order; their times are those of the first.
    """
    if len(parts) == 1:
        return parts[0]
    lines = tuple(chain.from_iterable(part.lines for part in parts))
    marks: list[Mark] = []
    turns: list[Turn] = []
    inner: list[int] = []
    words: list[Word] = []
    above = 0
    for part in parts:
        marks += [replace(mark, line=mark.line + above) for mark in part.marks]
        turns += [Turn(part.speaker, count) for count in _words_by_line(part)]
        inner += [number + len(words) for number in part.inner or ()]
        words += part.words
        above += len(part.lines)
    return replace(
        parts[0],
        lines=lines,
        marks=tuple(marks),
        words=tuple(words),
        turns=tuple(turns),
        inner=tuple(inner) if words else None,
    )


def _words_by_line(cue: Cue) -> list[int]:
    """How many of a cue's words stand on each of its lines."""
    counts, at = [], 0
    for number, line in enumerate(cue.lines):
        rest, count = line, 0
        is_last = number + 1 == len(cue.lines)
        while at < len(cue.words) and (is_last or cue.words[at].text in rest):
            rest = rest.partition(cue.words[at].text)[2]
            at, count = at + 1, count + 1
        counts.append(count)
    return counts


def voices_of(cue: Cue) -> list[Cue]:
    """What each speaker says in a cue, as cues of the same times, without dashes before them."""
    if not cue.turns:
        return [cue]
    found: list[Cue] = []
    line = word = 0
    for speaker, group in groupby(cue.turns, key=lambda turn: turn.speaker):
        turns = list(group)
        last_line, last_word = line + len(turns), word + sum(turn.words for turn in turns)
        marks = [mark for mark in cue.marks if line <= mark.line < last_line]
        lines, moved = without_dash(
            cue.lines[line:last_line],
            tuple(replace(mark, line=mark.line - line) for mark in marks),
        )
        found.append(
            replace(
                cue,
                lines=lines,
                speaker=speaker,
                words=cue.words[word:last_word],
                marks=moved,
                name="" if found else cue.name,
                turns=(),
                inner=_within(cue.inner, word, last_word),
            )
        )
        line, word = last_line, last_word
    return found


def _within(inner: tuple[int, ...] | None, first: int, last: int) -> tuple[int, ...] | None:
    if inner is None:
        return None
    return tuple(number - first for number in inner if first <= number < last)


def single_voices(cues: Iterable[Cue]) -> list[Cue]:
    """A cue for each speaker of each cue."""
    return list(chain.from_iterable(map(voices_of, cues)))
