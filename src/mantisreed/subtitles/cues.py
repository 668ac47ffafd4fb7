"""Cues: timed words laid out in blocks that can be read."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.estimate import passages_over_speech
from mantisreed.transcript.punctuation import ends_sentence


@dataclass(frozen=True, slots=True)
class LayoutRules:
    """How cues may look.

    Attributes:
        line_length: characters in a line at most; a longer single word stands alone.
        lines: lines in a cue, 1 or 2.
        longest: seconds a cue stands at most.
        longest_pause: seconds of silence that a cue may bridge.
    """

    line_length: int = 42
    lines: int = 2
    longest: float = 7.0
    longest_pause: float = 0.7


@dataclass(frozen=True, slots=True)
class Cue:
    """One block of subtitle text; times in seconds."""

    start: float
    end: float
    lines: tuple[str, ...]
    speaker: str | None = None


def lay_out(passages: Iterable[Passage], rules: LayoutRules | None = None) -> Iterator[Cue]:
    """The cues of passages, in order. A cue ends at a sentence's end, a pause, or where it is full."""
    rules = rules or LayoutRules()
    for passage in passages_over_speech(passages, ()):
        for words in _runs(passage.words, rules):
            yield Cue(
                words[0].start,
                max(word.end for word in words),
                broken_into_lines([word.text for word in words], rules.line_length),
                passage.speaker,
            )


def broken_into_lines(words: Sequence[str], line_length: int) -> tuple[str, ...]:
    """One line if the words fit, else two of the most even lengths, the shorter one above."""
    whole = " ".join(words)
    if len(whole) <= line_length or len(words) < 2:
        return (whole,)
    splits = [(" ".join(words[:at]), " ".join(words[at:])) for at in range(1, len(words))]
    return min(splits, key=lambda lines: (max(map(len, lines)), len(lines[0])))


def _runs(words: Sequence[Word], rules: LayoutRules) -> Iterator[list[Word]]:
    run: list[Word] = []
    for word in words:
        if run and _must_end(run, word, rules):
            yield run
            run = []
        run.append(word)
    if run:
        yield run


def _must_end(run: Sequence[Word], following: Word, rules: LayoutRules) -> bool:
    last = run[-1]
    return (
        ends_sentence(last.text)
        or following.start - last.end > rules.longest_pause
        or following.end - run[0].start > rules.longest
        or not _fits([word.text for word in (*run, following)], rules)
    )


def _fits(words: Sequence[str], rules: LayoutRules) -> bool:
    if rules.lines == 1:
        return len(" ".join(words)) <= rules.line_length
    return max(map(len, broken_into_lines(words, rules.line_length))) <= rules.line_length


def in_order(cues: Iterable[Cue]) -> list[Cue]:
    """Cues by start, none ending after the next one of the same speaker has begun."""
    ordered = sorted(cues, key=lambda cue: (cue.start, cue.end))
    shortened = [
        Cue(cue.start, min(cue.end, following.start), cue.lines, cue.speaker)
        if cue.speaker == following.speaker and following.start > cue.start
        else cue
        for cue, following in pairwise(ordered)
    ]
    return [*shortened, *ordered[-1:]]
