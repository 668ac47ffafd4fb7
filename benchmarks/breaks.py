"""How many breaks of lines and cues a professional would change, on dialogue that was marked by
hand.

    python benchmarks/breaks.py [--layout NAME ...] [--show LANGUAGE]

`gold/LANGUAGE-N.txt` hold invented dialogue with marks where a break is right or acceptable; a
break anywhere else is wrong. The files with even numbers were not looked at while the layout was
tuned; both halves are printed. Those with the number 4 flatter: whoever wrote them wrote the lists
of idioms on the same day. Words get times as speech of some 15 characters a second has them,
with pauses after clauses and sentences. For each layout, by language: cues, and per 100 cues the
breaks of lines and of cues that are wrong; the breaks that are acceptable although a right one kept
all rules too; the wrong ones of lines that the layout knew to be poor, and had no better place for
(the others stand before a preposition, conjunction or phrase, where guides allow a break and the
marks do not); gaps that flicker; cues that end in a sentence although another one ends inside; cues
that go out before their last word; cues that break a rule.
"""

import argparse
import random
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

from mantisreed.subtitles.check import check_cues
from mantisreed.subtitles.cues import Cue, text_width
from mantisreed.subtitles.language.break_place import PLAIN
from mantisreed.subtitles.language.breaks import break_penalties
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.punctuation import ends_clause
from mantisreed.transcript.writing import is_spaceless
from sizes import parsed

GOLD = Path(__file__).with_name("gold")
RIGHT, ACCEPTABLE, WRONG = "right", "acceptable", "wrong"
_MARKS = {"|": RIGHT, "/": ACCEPTABLE}
FLICKER = 0.5  # seconds; a gap below is seen as a flicker


@dataclass(slots=True)
class Dialogue:
    """Marked text, laid over time.

    Attributes:
        passages: the turns.
        marks: how good a break is, by how many characters other than spaces stand before it.
        sentence_ends: the same places, where a sentence ends.
    """

    passages: list[Passage] = field(default_factory=list)
    marks: dict[int, str] = field(default_factory=dict)
    sentence_ends: set[int] = field(default_factory=set)


@dataclass(slots=True)
class Tally:
    """What was counted."""

    cues: int = 0
    wrong_lines: int = 0
    wrong_cues: int = 0
    could_be_better: int = 0
    known_poor: int = 0
    flickers: int = 0
    goes_on: int = 0
    out_early: int = 0
    broken: int = 0
    examples: list[str] = field(default_factory=list)

    def __iadd__(self, other: "Tally") -> "Tally":
        for name in (
            "cues",
            "wrong_lines",
            "wrong_cues",
            "could_be_better",
            "known_poor",
            "flickers",
            "goes_on",
            "out_early",
            "broken",
        ):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.examples += other.examples
        return self

    def row(self, name: str) -> str:
        each = 100 / max(1, self.cues)
        figures = (
            self.wrong_lines,
            self.wrong_cues,
            self.could_be_better,
            self.known_poor,
            self.flickers,
            self.goes_on,
            self.out_early,
            self.broken,
        )
        return f"  {name:16} {self.cues:5}" + "".join(f"{figure * each:8.1f}" for figure in figures)


def files_of(language: str, *, is_held: bool) -> list[Path]:
    """The marked files of a language, of the half that was never looked at or of the other."""
    files = sorted(GOLD.glob(f"{language}-*.txt"))
    return [file for file in files if (int(file.stem.partition("-")[2]) % 2 == 0) == is_held]


def dialogue_of(file: Path, speed: float = 15.0, seed: int = 7) -> Dialogue:
    """Read marked text and lay it over time, `speed` characters a second while somebody speaks."""
    chance = random.Random(f"{file.name} {seed}")
    found = Dialogue()
    at, written = 1.0, 0
    speaker = 0
    words: list[Word] = []
    texts: list[str] = []

    def close() -> None:
        if words:
            text = (" " if not is_spaceless(texts[0][0]) else "").join(texts)
            found.passages.append(
                Passage(
                    words[0].start,
                    words[-1].end,
                    text,
                    f"voice {speaker % 2 + 1}",
                    words=tuple(words),
                )
            )
            words.clear()
            texts.clear()

    for line in file.read_text(encoding="utf-8").splitlines():
        if not line.strip() or line.startswith("#"):
            continue
        if line.startswith("- "):
            close()
            speaker += 1
            line = line[2:]
            at += chance.uniform(0.1, 0.6)
        for part, mark in _parts(line):
            for token in _tokens(part, chance):
                length = max(0.08, text_width(token) / speed * chance.uniform(0.75, 1.25))
                words.append(Word(token, round(at, 3), round(at + length, 3)))
                texts.append(token)
                at += length + (0.0 if is_spaceless(token[0]) else 0.3 / speed)
                written += len(token)
                if ends_clause(token):
                    at += chance.uniform(0.05, 0.35)
            found.marks[written] = mark
        found.sentence_ends.add(written)
        at += chance.uniform(0.15, 0.9)
    close()
    return found


def _parts(line: str) -> Iterator[tuple[str, str]]:
    """The stretches between marks, each with the mark that follows it."""
    rest = line.strip()
    while rest:
        places = [rest.find(mark) for mark in _MARKS if mark in rest]
        at = min(places, default=len(rest))
        yield rest[:at].strip(), _MARKS.get(rest[at : at + 1], RIGHT)
        rest = rest[at + 1 :].strip()


def _tokens(part: str, chance: random.Random) -> Iterator[str]:
    """Words; of scripts without spaces, a sign or two, as engines give them."""
    for word in part.split():
        if not any(map(is_spaceless, word)):
            yield word
            continue
        at = 0
        while at < len(word):
            size = chance.choice((1, 2))
            if at + size < len(word) and word[at + size] in "、。":
                size += 1
            yield word[at : at + size]
            at += size


def tally_of(dialogue: Dialogue, cues: Sequence[Cue], rules: LayoutRules, language: str) -> Tally:
    """Count what a professional would change."""
    words = [word for cue in cues for line in cue.lines for word in line.removeprefix("- ").split()]
    penalties, place = break_penalties(words, language), 0
    tally = Tally(cues=len(cues))
    tally.broken = len({finding.cue for finding in check_cues(cues, rules)})
    at = 0
    for number, cue in enumerate(cues):
        begin = at
        lines = [line.removeprefix("- ") for line in cue.lines]
        for nth, line in enumerate(lines):
            at += len("".join(line.split()))
            place += len(line.split())
            is_last = nth + 1 == len(lines)
            mark = dialogue.marks.get(at, WRONG)
            if mark == WRONG:
                tally.wrong_lines += not is_last
                tally.known_poor += not is_last and penalties[place] >= PLAIN
                tally.wrong_cues += is_last
                following = cues[number + 1].lines[0] if is_last and number + 1 < len(cues) else ""
                kind = "cue " if is_last else "line"
                tally.examples.append(
                    f"{kind}  {' | '.join(lines)}{'  ||  ' + following if is_last else ''}"
                )
        if len(lines) == 2 and _could_be_better(dialogue, begin, lines, rules):
            tally.could_be_better += 1
            tally.examples.append(f"best  {' | '.join(lines)}")
        ends_inside = any(begin < end < at for end in dialogue.sentence_ends)
        if ends_inside and at not in dialogue.sentence_ends:
            tally.goes_on += 1
            tally.examples.append(f"end   {' | '.join(lines)}")
        if cue.words and cue.end < max(word.end for word in cue.words) - 0.001:
            tally.out_early += 1
    gaps = [b.start - a.end for a, b in pairwise(cues)]
    tally.flickers = sum(rules.gap + 0.005 < gap < FLICKER - 0.001 for gap in gaps)
    return tally


def _could_be_better(
    dialogue: Dialogue, begin: int, lines: Sequence[str], rules: LayoutRules
) -> bool:
    """Whether a cue of two lines is broken where it is only acceptable, and a right place kept its
    lines alike.
    """
    text = " ".join(lines) if not is_spaceless(lines[0][-1]) else "".join(lines)
    here = begin + len("".join(lines[0].split()))
    if dialogue.marks.get(here, WRONG) != ACCEPTABLE:
        return False
    at = begin
    for place, sign in enumerate(text):
        at += not sign.isspace()
        above, below = text_width(text[: place + 1].strip()), text_width(text[place + 1 :].strip())
        is_even = max(above, below) <= rules.line_length and min(above, below) >= 0.4 * max(
            above, below
        )
        if at != here and place + 1 < len(text) and dialogue.marks.get(at) == RIGHT and is_even:
            return True
    return False


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--layout", nargs="+", default=["broadcast", "phone", "slow"])
    parser.add_argument(
        "--show", metavar="LANGUAGE", help="print the breaks of the tuned half that are wrong"
    )
    options = parsed(parser, {"layout": ["broadcast"]})
    sentences = sum(len(dialogue_of(file).sentence_ends) for file in GOLD.glob("*.txt"))
    print(f"{sentences} sentences; per 100 cues:")
    heads = ("wrong:", "wrong:", "better", "known", "", "mid-", "out", "break")
    second = ("lines", "cues", "line", "poor", "flicker", "sent.", "early", "a rule")
    for name in options.layout:
        rules = LAYOUTS[name]
        print(f"{name:18} {'':5}" + "".join(f"{head:>8}" for head in heads))
        print(f"{'':18} {'cues':>5}" + "".join(f"{head:>8}" for head in second))
        for is_held, half in ((False, "tuned"), (True, "held out")):
            others = Tally()
            for language in ("en", "de", "fr", "es", "ru", "ja"):
                tally = Tally()
                for file in files_of(language, is_held=is_held):
                    dialogue = dialogue_of(file)
                    cues = lay_out(dialogue.passages, rules, language=language)
                    tally += tally_of(dialogue, cues, rules, language)
                print(tally.row(f"{half} {language}"))
                if options.show == language and not is_held:
                    print("\n".join(f"      {one}" for one in tally.examples))
                if language != "en":
                    others += tally
            print(others.row(f"{half} others"))


if __name__ == "__main__":
    main()
