"""How many of the breaks that a professional would change `check` finds, and how many others it
names.

    python benchmarks/checking.py [--show LANGUAGE]

The marked dialogue of `gold/` is cut into cues by a plain filler that knows no language: as many
words as a line holds, two lines a cue, a new cue after each sentence. `check` judges them. By
language, for the half that was looked at and the half that was not: cues, breaks that the marks say
are wrong, how many of 100 of these it finds, and how many breaks it names in 100 cues that are
right or acceptable. Goal: at least 80, and at most 3.
"""

import argparse
from dataclasses import dataclass, field
from itertools import pairwise

from breaks import WRONG, Dialogue, dialogue_of, files_of
from mantisreed.subtitles.check import check_cues
from mantisreed.subtitles.cues import Cue, text_width
from mantisreed.subtitles.rules import LAYOUTS
from sizes import parsed

RULES = LAYOUTS["broadcast"]


@dataclass(slots=True)
class Tally:
    """What was counted; `examples` are the breaks that `check` missed or named wrongly."""

    cues: int = 0
    wrong: int = 0
    found: int = 0
    false: int = 0
    examples: list[str] = field(default_factory=list)

    def row(self, name: str) -> str:
        share = 100 * self.found / max(1, self.wrong)
        false = 100 * self.false / max(1, self.cues)
        return f"  {name:16} {self.cues:5} {self.wrong:8} {share:8.0f} {false:8.1f}"


def filled(dialogue: Dialogue) -> list[Cue]:
    """The cues of a filler that knows no language."""
    cues: list[Cue] = []
    lines: list[list[str]] = [[]]
    start = end = 0.0

    def close() -> None:
        nonlocal lines
        if lines[0]:
            cues.append(Cue(start, end, tuple(" ".join(line) for line in lines)))
        lines = [[]]

    written = 0
    for passage in dialogue.passages:
        for word in passage.words:
            if text_width(" ".join([*lines[-1], word.text])) > RULES.line_length:
                if len(lines) == RULES.lines:
                    close()
                else:
                    lines.append([])
            if lines == [[]]:
                start = word.start
            lines[-1].append(word.text)
            end = word.end
            written += len(word.text)
            if written in dialogue.sentence_ends:
                close()
    close()
    return cues


def count(tally: Tally, dialogue: Dialogue, language: str) -> None:
    """Add what `check` finds in a dialogue."""
    cues = filled(dialogue)
    tally.cues += len(cues)
    named = {
        (one.cue, one.found.rpartition(",")[0])
        for one in check_cues(cues, RULES, language)
        if one.rule in ("split", "stranded")
    }
    written = 0
    lines = [(number, line) for number, cue in enumerate(cues, 1) for line in cue.lines]
    for (number, line), (_, following) in pairwise(lines):
        written += len("".join(line.split()))
        is_wrong = dialogue.marks.get(written, WRONG) == WRONG
        is_named = (number, f"{line.split()[-1]} | {following.split()[0]}") in named
        tally.wrong += is_wrong
        tally.found += is_wrong and is_named
        tally.false += is_named and not is_wrong
        if is_wrong != is_named:
            kind = "missed" if is_wrong else "false "
            tally.examples.append(f"      {kind}  {line} | {following}")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--show", metavar="LANGUAGE", help="print what is missed or false")
    options = parsed(parser, {})
    print(f"{'':18} {'cues':>5} {'wrong':>8} {'found %':>8} {'false':>8}")
    for is_held, half in ((False, "tuned"), (True, "held out")):
        for language in ("en", "de", "fr", "es", "ru"):
            whole = Tally()
            for file in files_of(language, is_held=is_held):
                count(whole, dialogue_of(file), language)
            print(whole.row(f"{half} {language}"))
            if options.show == language and not is_held:
                print("\n".join(whole.examples))


if __name__ == "__main__":
    main()
