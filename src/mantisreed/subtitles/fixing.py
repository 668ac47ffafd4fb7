"""Cues that break a rule, repaired one by one; the others stay as they are, and no cue begins
elsewhere.
"""

import math
from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import chain, pairwise

from mantisreed.subtitles.check import SLACK, Finding, check_cues, has_dash, reading_speed
from mantisreed.subtitles.cues import Cue, Mark, text_width
from mantisreed.subtitles.language.break_place import PLAIN
from mantisreed.subtitles.language.breaks import break_penalties
from mantisreed.subtitles.layout import CUE_BREAK
from mantisreed.subtitles.lines import broken_into_lines
from mantisreed.subtitles.marking import marks_in
from mantisreed.subtitles.places import neighbours
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.writing import joined, words_of

_TEXT = frozenset(("lines", "line-length", "split", "stranded", "orphan"))
_NEW_CUE = 30.0  # penalties of a line break; a cue more is made only for a much better place
_MOST_ROUNDS = 5  # one is enough for nearly all files; the rest is for cues that share little room
_LEAST = 0.05  # seconds that a cue stands at least, whatever comes


def fixed(
    cues: Sequence[Cue],
    rules: LayoutRules,
    language: str | None = None,
    findings: Sequence[Finding] | None = None,
) -> list[Cue]:
    """The cues in order of time, each that breaks a rule changed as little as mends it.

    Lines are broken anew inside of their cue; a text that needs more lines than a cue may have is
    given more cues in the same time. A cue that is too short or too fast stays on for longer where
    there is room, one that stands too long or reaches into the next goes out earlier. Lines that
    begin with a speaker's dash stay lines. Cues without text are gone. Marks and settings stay with
    their text.

    Args:
        cues: as they were read.
        rules: how cues may look.
        language: a tag; None knows punctuation only.
        findings: what a check of these very cues has found; None checks them.
    """
    in_order = _by_time(cue for cue in cues if cue.lines)
    if findings is None or in_order != list(cues):
        findings = check_cues(in_order, rules, language)
    for _ in range(_MOST_ROUNDS):
        before = in_order
        in_order = _by_time(_fixed_once(before, rules, language, findings))
        if in_order == before:
            break
        # What one cue gives up may be of use to its neighbour.
        findings = check_cues(in_order, rules, language)
    return in_order


def _by_time(cues: Iterable[Cue]) -> list[Cue]:
    return sorted(cues, key=lambda cue: (cue.start, cue.end))


def _fixed_once(
    cues: Sequence[Cue], rules: LayoutRules, language: str | None, findings: Sequence[Finding]
) -> list[Cue]:
    after = dict(neighbours(cues))
    before = {second: first for first, second in after.items()}
    broken: dict[int, set[str]] = {}
    for finding in findings:
        at = finding.cue - 1
        # What is found between two cues is the first one's to mend.
        if finding.rule in ("gap", "overlap", "flicker"):
            at = before.get(at, -1)
        broken.setdefault(at, set()).add(finding.rule)
    kept: list[Cue] = []
    for at, cue in enumerate(cues):
        if at in broken:
            following = cues[after[at]] if at in after else None
            kept += _harmless(cue, _repaired(cue, following, broken[at], rules, language), rules)
        else:
            kept += [cue]
    return kept


def _harmless(cue: Cue, parts: list[Cue], rules: LayoutRules) -> list[Cue]:
    """What stands for a cue, unless it were harder to read than it was: then the cue with its own
    time, and with lines broken anew where that needs no cue more.
    """
    least = min(rules.shortest, cue.end - cue.start) - SLACK
    fastest = max(rules.speed, reading_speed(cue)) + SLACK
    if all(part.end - part.start >= least and reading_speed(part) <= fastest for part in parts):
        return parts
    if len(parts) == 1:
        return [replace(parts[0], end=cue.end)]
    # More lines than there should be are easier to read than lines that are too long.
    return [_with_lines(cue, tuple(chain.from_iterable(part.lines for part in parts)))]


def _repaired(
    cue: Cue, following: Cue | None, found: set[str], rules: LayoutRules, language: str | None
) -> list[Cue]:
    """What stands for a cue that breaks these rules."""
    if following is None:
        latest = float("inf")
    else:
        latest = following.start - rules.gap
    is_crosstalk = (
        following is not None
        and following.speaker != cue.speaker
        and following.start < cue.end - SLACK
    )
    if not is_crosstalk:
        cue = replace(cue, end=_end_of(cue, latest, found, rules))
    if not found & _TEXT and not _says_too_much(cue, found, rules):
        return [cue]
    if cue.turns:
        return [cue]  # its lines are those of its speakers
    if any(map(has_dash, cue.lines)):
        return [_with_shorter_lines(cue, rules, language)]
    texts = words_of(cue.text, language)
    penalties = break_penalties(texts, language)
    lines = broken_into_lines(texts, penalties, rules)
    if len(lines) < 2 or (len(lines) <= rules.lines and not _says_too_much(cue, found, rules)):
        return [_with_lines(cue, lines)]
    cost, groups = _groups_of_lines(lines, texts, penalties, rules)
    if cost >= len(groups) * _NEW_CUE + PLAIN:
        # One line more than needed often saves a phrase.
        anew = broken_into_lines(texts, penalties, rules, more=1)
        cost, groups = min(
            (cost, groups), _groups_of_lines(anew, texts, penalties, rules), key=lambda way: way[0]
        )
    return _parted(cue, groups, rules)


def _says_too_much(cue: Cue, found: set[str], rules: LayoutRules) -> bool:
    """Whether a cue stands for too long because of what it says, and not only because nobody took
    it away.
    """
    if "longest" not in found:
        return False
    return sum(map(text_width, cue.lines)) > rules.speed * rules.longest or bool(
        cue.words and cue.words[-1].end - cue.start > rules.longest
    )


def _end_of(cue: Cue, latest: float, found: set[str], rules: LayoutRules) -> float:
    """When a cue goes out, so that it keeps what it can of the rules."""
    end = cue.end
    needed = max(rules.shortest, sum(map(text_width, cue.lines)) / rules.speed)
    if found & {"shortest", "max-cps", "max-wpm"}:
        end = max(end, cue.start + min(needed, rules.longest))
    if "longest" in found and not _says_too_much(cue, found, rules):
        end = cue.start + rules.longest
    if "flicker" in found and latest - cue.start <= rules.longest:
        end = max(end, latest)
    if found & {"gap", "overlap"} or end > cue.end:
        # What did not reach into the next cue before does not now; what did ends before it.
        end = min(
            end, max(latest, cue.end if not found & {"gap", "overlap"} else cue.start + _LEAST)
        )
    return max(end, cue.start)


def _with_shorter_lines(cue: Cue, rules: LayoutRules, language: str | None) -> Cue:
    """The cue with lines that are too long broken, if it may have so many; each speaker's line
    stays apart.
    """
    lines: list[str] = []
    for line in cue.lines:
        texts = words_of(line, language)
        penalties = break_penalties(texts, language)
        if text_width(line) > rules.line_length:
            lines += broken_into_lines(texts, penalties, rules)
        else:
            lines += [line]
    if len(lines) <= max(rules.lines, len(cue.lines)):
        return _with_lines(cue, tuple(lines))
    return cue


def _with_lines(cue: Cue, lines: tuple[str, ...]) -> Cue:
    (marks,) = _marks_by_cue([lines], cue)
    return replace(cue, lines=lines, marks=marks)


def _parted(cue: Cue, groups: Sequence[tuple[str, ...]], rules: LayoutRules) -> list[Cue]:
    """Several cues in the time of one, by the lines of each."""
    starts = _starts_of(groups, cue)
    ends = [*(start - rules.gap for start in starts[1:]), cue.end]
    marks = _marks_by_cue(groups, cue)
    parts = []
    for number, (start, end, own) in enumerate(zip(starts, ends, groups, strict=True)):
        until = starts[number + 1] if number + 1 < len(starts) else math.inf
        words = tuple(word for word in cue.words if start <= word.start < until)
        part = Cue(start, max(end, start), own, cue.speaker, words, marks[number], cue.settings)
        parts.append(replace(part, name=cue.name) if number == 0 else part)
    return parts


def _groups_of_lines(
    lines: Sequence[str], texts: Sequence[str], penalties: Sequence[float], rules: LayoutRules
) -> tuple[float, list[tuple[str, ...]]]:
    """The lines of each cue: as few cues as hold them, ending where language breaks best; and what
    that costs.
    """
    places, at = [], 0  # the word that each line begins with
    for line in lines:
        places.append(at)
        length = 0
        while at < len(texts) and length < len("".join(line.split())):
            length += len("".join(texts[at].split()))
            at += 1
    best: list[tuple[float, int]] = [(0.0, 0)]
    for last in range(1, len(lines) + 1):
        ways = []
        for first in range(max(0, last - rules.lines), last):
            inside = sum(penalties[places[number]] for number in range(first + 1, last))
            break_before = penalties[places[first]] if first else 0.0
            ways.append((best[first][0] + _NEW_CUE + CUE_BREAK * break_before + inside, first))
        best.append(min(ways))
    edges = [len(lines)]
    while edges[-1] > 0:
        edges.append(best[edges[-1]][1])
    edges.reverse()
    return best[-1][0], [tuple(lines[first:last]) for first, last in pairwise(edges)]


def _starts_of(groups: Sequence[tuple[str, ...]], cue: Cue) -> list[float]:
    """When each part of a cue begins: with its words where their times are known, or by its share
    of the text.
    """
    widths = [sum(map(text_width, lines)) for lines in groups]
    whole = sum(widths) or 1
    lengths = [len("".join("".join(lines).split())) for lines in groups]
    starts, shown = [cue.start], 0
    for number in range(1, len(groups)):
        shown += lengths[number - 1]
        share = sum(widths[:number]) / whole
        start = cue.start + share * max(0.0, cue.end - cue.start)
        said = 0
        for word in cue.words:
            if said >= shown:
                start = word.start
                break
            said += len("".join(word.text.split()))
        starts.append(min(max(start, starts[-1] + _LEAST), max(cue.end, starts[-1])))
    return starts


def _marks_by_cue(groups: Sequence[tuple[str, ...]], cue: Cue) -> list[tuple[Mark, ...]]:
    """A cue's marks on the lines of each of several cues that have its text together."""
    if not cue.marks:
        return [() for _ in groups]
    text = joined(cue.lines)
    spans, at = [], 0
    for number, line in enumerate(cue.lines):
        at = text.index(line, at)
        spans += [
            (at + mark.first, at + mark.last, mark.tag) for mark in cue.marks if mark.line == number
        ]
        at += len(line)
    found, at = [], 0
    for lines in groups:
        marks: list[Mark] = []
        for number, line in enumerate(lines):
            place = text.find(line, at)
            if place >= 0:
                at = place + len(line)
                marks += marks_in(spans, place, at, number)
        found.append(tuple(marks))
    return found
