"""Checking cues against layout rules and what every player needs."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

from mantisreed.subtitles.cues import Cue, text_width
from mantisreed.subtitles.remarks import Remark
from mantisreed.subtitles.rules import CHARACTERS_OF_A_WORD, LayoutRules

SLACK = 0.0011
"""Seconds; formats have milliseconds."""


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that breaks a rule.

    Attributes:
        cue: its number, from 1; 0 for none.
        start: seconds; of the cue.
        rule: its name, as the layout rules and options have it, or `format`.
        found, allowed: for people.
        text: the beginning of the cue's text, or what is wrong with the format.
        line: of the file, from 1; 0 where it does not matter.
    """

    cue: int
    start: float
    rule: str
    found: str
    allowed: str
    text: str = ""
    line: int = 0


def check_format(remarks: Iterable[Remark]) -> list[Finding]:
    """What the format does not allow, of what its reader found."""
    return [
        Finding(one.cue, one.start, "format", one.found, one.allowed, one.what, one.line)
        for one in remarks
        if one.allowed
    ]


def check_cues(cues: Sequence[Cue], rules: LayoutRules) -> list[Finding]:
    """What breaks the rules, cue by cue."""
    findings = [found for number, cue in enumerate(cues, 1) for found in _of_cue(number, cue, rules)]
    for number, (cue, following) in enumerate(pairwise(cues), 2):
        gap = following.start - cue.end
        beginning = following.text[:40]
        if following.start < cue.start - SLACK:
            findings.append(
                Finding(number, following.start, "order", "begins before the one above", "later", beginning)
            )
        elif gap < -SLACK and cue.speaker == following.speaker:
            found = f"{-gap:.2f} s over the one above"
            findings.append(Finding(number, following.start, "overlap", found, "none", beginning))
        elif -SLACK <= gap < rules.gap - SLACK:
            found, allowed = f"{max(0.0, gap):.2f} s", f"{rules.gap:g} s or more"
            findings.append(Finding(number, following.start, "gap", found, allowed, beginning))
    return sorted(findings, key=lambda finding: (finding.cue, finding.rule))


def reading_speed(cue: Cue) -> float:
    """Characters a second; infinite for a cue that does not stand."""
    length = cue.end - cue.start
    return sum(map(text_width, cue.lines)) / length if length > 0 else float("inf")


def _of_cue(number: int, cue: Cue, rules: LayoutRules) -> Iterable[Finding]:
    length, beginning = cue.end - cue.start, cue.text[:40]

    def finding(rule: str, found: str, allowed: str) -> Finding:
        return Finding(number, cue.start, rule, found, allowed, beginning)

    if not cue.lines:
        yield finding("text", "none", "some")
        return
    if len(cue.lines) > rules.lines:
        yield finding("lines", str(len(cue.lines)), str(rules.lines))
    widest = max(map(text_width, cue.lines))
    if widest > rules.line_length:
        yield finding("line-length", str(widest), str(rules.line_length))
    if length < rules.shortest - SLACK:
        yield finding("shortest", f"{length:.2f} s", f"{rules.shortest:g} s or more")
    if length > rules.longest + SLACK:
        yield finding("longest", f"{length:.2f} s", f"{rules.longest:g} s or less")
    width = sum(map(text_width, cue.lines))
    if width > rules.speed * (length + SLACK):
        yield finding(*_too_fast(cue, rules))


def _too_fast(cue: Cue, rules: LayoutRules) -> tuple[str, str, str]:
    """The rule, what was found and what is allowed, in the unit that the rules are in."""
    per_minute = 60.0 / CHARACTERS_OF_A_WORD
    name, unit = ("max-cps", 1.0) if rules.max_wpm is None else ("max-wpm", per_minute)
    speed = reading_speed(cue) * unit
    found = f"{speed:.1f}" if speed < float("inf") else "no time to read it"
    return name, found, f"{rules.speed * unit:g}"
