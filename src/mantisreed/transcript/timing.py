"""Passages out of timed words, and times for words that came without."""

import math
from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate, pairwise

from mantisreed.transcript.document import Passage, Word

LONGEST_PAUSE = 1.0
"""Seconds between two words that still belong to one passage."""


def passages_of(words: Iterable[Word], longest_pause: float = LONGEST_PAUSE) -> Iterator[Passage]:
    """Words in order of time, grouped where nobody speaks for longer than `longest_pause` seconds."""
    run: list[Word] = []
    for word in words:
        if run and word.start - run[-1].end > longest_pause:
            yield _passage(run)
            run = []
        run.append(word)
    if run:
        yield _passage(run)


def with_estimated_words(passage: Passage) -> Passage:
    """The passage with its text's words spread over its length, longer words longer; `timing` says so."""
    texts = passage.text.split()
    return Passage(
        passage.start,
        passage.end,
        passage.text,
        passage.speaker,
        "estimated",
        tuple(_spread(texts, passage.start, passage.end)),
    )


def _passage(words: Sequence[Word]) -> Passage:
    text = " ".join(word.text for word in words)
    return Passage(words[0].start, max(word.end for word in words), text, words=tuple(words))


def _spread(texts: Sequence[str], start: float, end: float) -> Iterator[Word]:
    # The time a word takes to say grows with its letters, but less than in proportion.
    weights = [math.sqrt(len(text)) for text in texts]
    scale = (end - start) / max(math.fsum(weights), 1e-9)
    edges = [start + before * scale for before in accumulate(weights, initial=0.0)]
    for text, (left, right) in zip(texts, pairwise(edges), strict=True):
        yield Word(text, left, right)
