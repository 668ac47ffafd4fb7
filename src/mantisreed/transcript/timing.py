"""Passages out of timed words."""

from collections.abc import Iterable, Iterator, Sequence

from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.writing import joined

LONGEST_PAUSE = 1.0
"""Seconds between two words that still belong to one passage."""


def passages_of(words: Iterable[Word], longest_pause: float = LONGEST_PAUSE) -> Iterator[Passage]:
    """Words in order of time, grouped where nobody speaks for longer than `longest_pause`
    seconds.
    """
    run: list[Word] = []
    for word in words:
        if run and word.start - run[-1].end > longest_pause:
            yield _passage(run)
            run = []
        run.append(word)
    if run:
        yield _passage(run)


def _passage(words: Sequence[Word]) -> Passage:
    text = joined(word.text for word in words)
    return Passage(words[0].start, max(word.end for word in words), text, words=tuple(words))
