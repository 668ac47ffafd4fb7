"""Checking cues against layout rules, against their language, against the speech, and what every
player needs.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain, pairwise

from mantisreed.subtitles.cues import Cue, text_width
from mantisreed.subtitles.language.break_place import PAIR, PLAIN, UNIT
from mantisreed.subtitles.language.breaks import break_penalties
from mantisreed.subtitles.language.languages import is_known_language
from mantisreed.subtitles.places import neighbours
from mantisreed.subtitles.remarks import Remark
from mantisreed.subtitles.rules import CHARACTERS_OF_A_WORD, LayoutRules
from mantisreed.subtitles.sounds import MUSIC
from mantisreed.transcript.writing import needs_space

_TORN = PAIR - 6.0
"""From here on a break is a fault, and not only a poor one: idioms and words of degree with what
they belong to are torn. The layout would still break there if nothing else fits."""

SLACK = 0.0011
"""Seconds; formats have milliseconds."""

UNITS = {
    "seconds": "s",
    "columns": "columns",
    "lines": "lines",
    "characters_per_second": "characters/s",
    "words_per_minute": "words/min",
}
"""Units of findings, as their names in JSON end with them and as people read them."""

DASHES = ("-", "–", "—", "‐", "―")
# Letters of a word on a line of its own, and how much longer the other line is.
_FORGOTTEN, _FAR_SHORTER = (
    6,
    3.0,
)
# seconds of speech that no cue shows; voice activity is no surer of where words begin and end
_HEARD = 0.2


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
        value, limit: what `found` and `allowed` say, as numbers; None where they are none.
        unit: of these, one of `UNITS`; empty where they are none.
    """

    cue: int
    start: float
    rule: str
    found: str
    allowed: str
    text: str = ""
    line: int = 0
    value: float | None = None
    limit: float | None = None
    unit: str = ""


def check_format(remarks: Iterable[Remark]) -> list[Finding]:
    """What the format does not allow, of what its reader found."""
    return [
        Finding(one.cue, one.start, "format", one.found, one.allowed, one.what, one.line)
        for one in remarks
        if one.allowed
    ]


def check_cues(
    cues: Sequence[Cue], rules: LayoutRules, language: str | None = None
) -> list[Finding]:
    """What breaks the rules, cue by cue.

    Args:
        cues: in the order they stand in.
        rules: how cues may look.
        language: a tag, for where lines and cues may break; None leaves that out.
    """
    findings = list(
        chain.from_iterable(_of_cue(number, cue, rules) for number, cue in enumerate(cues, 1))
    )
    for number, (cue, following) in enumerate(pairwise(cues), 2):
        if following.start < cue.start - SLACK:
            beginning = following.text[:40]
            what = ("order", "begins before the cue above", "later")
            findings.append(Finding(number, following.start, *what, beginning))
    # What stands elsewhere on the screen covers nothing, such as a title.
    for first, second in neighbours(cues):
        findings += _between(second + 1, cues[first], cues[second], rules)
    if language is not None and is_known_language(language):
        findings += _of_language(cues, language)
    return sorted(findings, key=lambda finding: (finding.cue, finding.rule))


def check_speech(cues: Sequence[Cue], speech: Sequence[tuple[float, float]]) -> list[Finding]:
    """Cues that go out before somebody has finished speaking, or come in late.

    Args:
        cues: by start.
        speech: where somebody speaks, in seconds, in order.
    """
    findings = []
    at = 0
    for number, cue in enumerate(cues, 1):
        before = cues[number - 2].end if number > 1 else 0.0
        after = cues[number].start if number < len(cues) else float("inf")
        while at < len(speech) and speech[at][1] <= cue.start:
            at += 1
        for start, end in speech[at:]:
            if start >= cue.end:
                break
            late = cue.start - max(start, before)
            if start < cue.start and late > _HEARD:
                findings.append(
                    _measured(number, cue, "late-in", late, _HEARD, "seconds", "or less")
                )
            early = min(end, after) - cue.end
            if end > cue.end and early > _HEARD:
                findings.append(
                    _measured(number, cue, "early-out", early, _HEARD, "seconds", "or less")
                )
    return findings


def reading_speed(cue: Cue) -> float:
    """Characters a second; infinite for a cue that does not stand."""
    length = cue.end - cue.start
    if length > 0:
        return sum(map(text_width, cue.lines)) / length
    return float("inf")


def has_dash(line: str) -> bool:
    """Whether a line begins with a speaker's dash."""
    return line[:1] in DASHES and line[1:2] not in DASHES and not line[1:2].isdigit()


def _measured(
    number: int, cue: Cue, rule: str, value: float, limit: float, unit: str, which: str = ""
) -> Finding:
    """A finding with numbers, written out with their unit for people."""
    shown = UNITS[unit]
    digits = {"seconds": 2, "columns": 0, "lines": 0}.get(unit, 1)
    if value < float("inf"):
        found = f"{value:.{digits}f} {shown}"
    else:
        found = "no time to read it"
    allowed = f"{limit:g} {shown} {which}".rstrip()
    known = None if value == float("inf") else round(value, 3)
    return Finding(
        number, cue.start, rule, found, allowed, cue.text[:40], 0, known, round(limit, 3), unit
    )


def _between(number: int, cue: Cue, following: Cue, rules: LayoutRules) -> Iterator[Finding]:
    gap = following.start - cue.end
    beginning = following.text[:40]
    if following.start < cue.start - SLACK:
        return
    if gap < -SLACK and cue.speaker == following.speaker:
        found = f"{-gap:.2f} s over the cue above"
        yield Finding(
            number,
            following.start,
            "overlap",
            found,
            "none",
            beginning,
            0,
            round(-gap, 3),
            0.0,
            "seconds",
        )
    elif -SLACK <= gap < rules.gap - SLACK:
        yield _measured(number, following, "gap", max(0.0, gap), rules.gap, "seconds", "or more")
    elif rules.gap + SLACK < gap < rules.flicker - SLACK:
        yield _measured(
            number,
            following,
            "flicker",
            gap,
            rules.flicker,
            "seconds",
            f"or more, or {rules.gap:g} s",
        )


def _of_cue(number: int, cue: Cue, rules: LayoutRules) -> Iterator[Finding]:
    length = cue.end - cue.start
    if not cue.lines:
        yield Finding(number, cue.start, "text", "none", "some")
        return
    if len(cue.lines) > rules.lines:
        yield _measured(number, cue, "lines", len(cue.lines), rules.lines, "lines")
    widest = max(map(text_width, cue.lines))
    if widest > rules.line_length:
        yield _measured(number, cue, "line-length", widest, rules.line_length, "columns")
    if length < rules.shortest - SLACK:
        yield _measured(number, cue, "shortest", length, rules.shortest, "seconds", "or more")
    if length > rules.longest + SLACK:
        yield _measured(number, cue, "longest", length, rules.longest, "seconds", "or less")
    if sum(map(text_width, cue.lines)) > rules.speed * (length + SLACK):
        yield _too_fast(number, cue, rules)
    dashes = sum(map(has_dash, cue.lines))
    if dashes == 1 and rules.speakers != "dash-each" and not cue.turns:
        yield Finding(
            number, cue.start, "dash", "one speaker", "a dash for each of two", cue.text[:40]
        )


def _too_fast(number: int, cue: Cue, rules: LayoutRules) -> Finding:
    """In the unit that the rules are in."""
    speed = reading_speed(cue)
    if rules.max_wpm is None:
        return _measured(number, cue, "max-cps", speed, rules.max_cps, "characters_per_second")
    words = speed * 60.0 / CHARACTERS_OF_A_WORD
    return _measured(number, cue, "max-wpm", words, rules.max_wpm, "words_per_minute")


def _of_language(cues: Sequence[Cue], language: str) -> Iterator[Finding]:
    """Lines and cues that end where their language does not let go."""
    words: list[str] = []
    places: list[tuple[int, bool]] = []  # of each word: its cue, and whether a line begins with it
    for number, cue in enumerate(cues, 1):
        for line in cue.lines:
            for at, word in enumerate(line.split()):
                words.append(word)
                places.append((number, at == 0))
    line_starts = {at for at, (_, begins) in enumerate(places) if begins}
    penalties = break_penalties(words, language, places=line_starts)
    for at in sorted(line_starts - {0}):
        number = places[at][0]
        before = places[at - 1][0]
        goes_on = cues[number - 1].start - cues[before - 1].end < 1.0
        if penalties[at] >= _TORN and goes_on and _are_one_text(words[at - 1], words[at]):
            rule = "split" if penalties[at] >= UNIT else "stranded"
            text = f"{words[at - 1]} | {words[at]}"
            where = "between cues" if before != number else "between lines"
            yield Finding(
                before,
                cues[before - 1].start,
                rule,
                f"{text}, {where}",
                "together",
                cues[before - 1].text[:40],
            )
    yield from _orphans(cues, language)


def _are_one_text(before: str, following: str) -> bool:
    """Whether neither of two words is a mark that begins or ends what is said or sung."""
    if before in DASHES or following in DASHES or before[:1] in DASHES:
        return False
    # What is sung ends with its note, and begins with another one.
    if before[-1:] in MUSIC or following[:1] in MUSIC:
        return False
    return needs_space(before, following)


def _orphans(cues: Sequence[Cue], language: str) -> Iterator[Finding]:
    for number, cue in enumerate(cues, 1):
        if len(cue.lines) != 2 or any(map(has_dash, cue.lines)):
            continue
        above, below = cue.lines
        alone = below.strip(".,;:!?…\"'»”)]")
        if (
            " " in below.strip()
            or len(alone) > _FORGOTTEN
            or text_width(above) < _FAR_SHORTER * text_width(below)
        ):
            continue
        texts = cue.text.split()
        if (
            len(texts) > 2
            and break_penalties(texts, language, places={len(texts) - 1})[-1] >= PLAIN
        ):
            yield Finding(
                number,
                cue.start,
                "orphan",
                f"{below!r} alone on a line",
                "more than a word",
                cue.text[:40],
            )
