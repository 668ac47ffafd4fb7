"""How well and how fast cues are laid out, beside a greedy fill.

    python benchmarks/layout.py [--minutes N] [--words N]

Lays out composed speech, whose words and times are known, and prints for the layout and for a fill
that puts words into a cue for as long as they fit: cues, the share that breaks a rule, how many
break one although the words allow keeping it, by how much these pass the reading speed, the share
of cues that end with a sentence or clause, and the breaks of lines and cues that part what belongs
together, such as an article and its noun. Then writes a long transcript as SRT, WebVTT and TTML and
prints the time, for two lengths. Targets: no breach in calm speech that words allow to avoid, and
by less than a tenth in hurried speech, where phrases would be torn otherwise; 100 000 words in 2 s,
linear.
"""

import argparse
import random
import statistics
import time
from collections.abc import Iterator, Sequence
from itertools import pairwise

from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from mantisreed.subtitles.check import check_cues, reading_speed
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.language.break_place import UNIT
from mantisreed.subtitles.language.breaks import break_penalties
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.lines import broken_into_lines
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import Passage, RecordingFacts, Transcript, Word
from mantisreed.transcript.punctuation import ends_clause, ends_sentence
from mantisreed.transcript.timing import passages_of
from sizes import parsed

RULES = LayoutRules()
CARELESS = (
    *(
        "the",
        "of",
        "and",
        "we",
        "saw",
        "near",
        "a",
        "twelve",
        "old",
        "mud",
        "ringed",
        "before",
        "which",
        "water",
    ),
    *("dunlin", "counted", "because", "reeds"),
)


def greedy(passages: Sequence[Passage], rules: LayoutRules) -> Iterator[Cue]:
    """Words for as long as they fit."""
    for passage in passages:
        run: list[Word] = []
        for word in (*passage.words, None):
            fits = word is not None and (not run or _fits([*run, word], rules))
            if not fits and run:
                texts = [one.text for one in run]
                lines = broken_into_lines(texts, [0.0] * len(texts), rules)
                yield Cue(run[0].start, run[-1].end, lines, None, tuple(run))
                run = []
            if word is not None:
                run.append(word)


def _fits(run: Sequence[Word], rules: LayoutRules) -> bool:
    texts = [word.text for word in run]
    lines = broken_into_lines(texts, [0.0] * len(texts), rules)
    is_together = run[-1].start - run[-2].end <= rules.longest_pause
    return is_together and len(lines) <= rules.lines and run[-1].end - run[0].start <= rules.longest


def is_avoidable(cues: Sequence[Cue], at: int, rules: LayoutRules) -> bool:
    """Whether the words of a cue that breaks a rule, with those of its neighbours, can be cut so
    that none does.
    """
    first, last = max(0, at - 1), min(len(cues), at + 2)
    words = [word for cue in cues[first:last] for word in cue.words]
    following = cues[last].start if last < len(cues) else float("inf")
    reachable = {0}
    for begin in range(len(words)):
        if begin not in reachable:
            continue
        for end in range(begin + 1, len(words) + 1):
            run = words[begin:end]
            if any(b.start - a.end > rules.longest_pause for a, b in pairwise(run)):
                break
            lines = broken_into_lines([word.text for word in run], [0.0] * len(run), rules)
            latest = (words[end].start if end < len(words) else following) - rules.gap
            room = min(
                max(latest, run[-1].end if end == len(words) else 0.0), run[0].start + rules.longest
            )
            length = room - run[0].start
            width = sum(map(len, lines))
            keeps = len(lines) <= rules.lines and run[-1].end - run[0].start <= rules.longest
            if keeps and length >= rules.shortest and width <= rules.max_cps * length:
                reachable.add(end)
    return len(words) in reachable


def describe(name: str, cues: Sequence[Cue]) -> None:
    broken = sorted({finding.cue for finding in check_cues(cues, RULES)})
    avoided = [number for number in broken if is_avoidable(cues, number - 1, RULES)]
    speeds = [reading_speed(cues[number - 1]) / RULES.speed - 1.0 for number in avoided]
    by = f" (by {statistics.median(speeds):.0%} at the median)" if speeds else ""
    ends = [cue.words[-1].text for cue in cues if cue.words]
    good = sum(ends_sentence(text) or ends_clause(text) for text in ends)
    texts = [text for cue in cues for line in cue.lines for text in line.split()]
    penalties, at, parted = break_penalties(texts, "en"), 0, 0
    for line in (line for cue in cues for line in cue.lines):
        parted += penalties[at] >= UNIT
        at += len(line.split())
    print(
        f"  {name:8} {len(cues):5} cues, {len(broken) / len(cues):6.1%} break a rule, "
        f"{len(avoided)} of them "
        f"avoidably{by}; "
        f"{good / len(ends):5.1%} end with a sentence or clause; {parted} breaks part what "
        "belongs together"
    )


def long_transcript(count: int) -> Transcript:
    chance, at, passages, words = random.Random(1), 0.0, [], []
    for number in range(count):
        text = chance.choice(CARELESS) + (". ,"[number % 3].strip() if number % 11 == 10 else "")
        length = 0.06 * len(text) + 0.12
        words.append(Word(text, round(at, 3), round(at + length, 3)))
        at += length + (0.6 if text.endswith(".") else 0.02)
        if number % 40 == 39:
            passages.append(
                Passage(
                    words[0].start,
                    words[-1].end,
                    " ".join(w.text for w in words),
                    words=tuple(words),
                )
            )
            words, at = [], at + 1.0
    facts = RecordingFacts("long.wav", "", at)
    return Transcript(recording=facts, engine="", job="", language="en", passages=tuple(passages))


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--minutes", type=int, default=60)
    parser.add_argument("--words", type=int, default=100_000)
    options = parsed(parser, {"minutes": 1, "words": 2000})
    english = [phrase for phrase in load_bank() if phrase.language == "en"]
    for title, pauses in (
        ("calm speech", (0.5, 1.6)),
        ("hurried speech, hardly a pause", (0.05, 0.2)),
    ):
        print(f"{options.minutes} minutes of {title}")
        composition = compose(english, seed=3, duration=options.minutes * 60.0, pauses=pauses)
        words = [Word(word.text, word.start, word.end) for word in composition.words]
        passages = list(passages_of(words, 2.0))
        describe("layout", lay_out(passages, RULES, language="en"))
        describe("greedy", list(greedy(passages, RULES)))
    for count in (options.words // 2, options.words):
        script = Script(long_transcript(count))
        started, parts = time.perf_counter(), []
        cues = tuple(lay_out(script.passages, RULES, language="en"))
        parts.append(f"layout {time.perf_counter() - started:.2f}")
        laid = Script(script.transcript, cues, (), "en")
        for name in ("srt", "vtt", "ttml"):
            begun = time.perf_counter()
            OUTPUT_FORMATS[name].write(laid, WriteOptions(rules=RULES), "long.wav")
            parts.append(f"{name} {time.perf_counter() - begun:.2f}")
        print(
            f"{count} words in {len(cues)} cues: {time.perf_counter() - started:.2f} s "
            f"({', '.join(parts)})"
        )


if __name__ == "__main__":
    main()
