"""A phrase as a stand-in engine heard it."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from mantisreed.standin.ear import HeardWord


@dataclass(frozen=True, slots=True)
class Line:
    """One phrase as it was heard; times in seconds."""

    text: str
    voice: str | None
    words: tuple[HeardWord, ...]

    @property
    def start(self) -> float:
        """Where its first word begins."""
        return self.words[0].start

    @property
    def end(self) -> float:
        """Where its last word ends."""
        return self.words[-1].end

    @property
    def confidence(self) -> float:
        """The mean over its words."""
        return sum(word.confidence for word in self.words) / len(self.words)


def retold(line: Line, texts: Sequence[str], confidence: float | None = None) -> Line:
    """Other words over the time of a line, evenly; None keeps the line's confidence."""
    sure = line.confidence if confidence is None else confidence
    edges = [line.start + (line.end - line.start) * n / len(texts) for n in range(len(texts) + 1)]
    words = (
        HeardWord(text, *edge, sure) for text, edge in zip(texts, pairwise(edges), strict=True)
    )
    return Line(" ".join(texts), line.voice, tuple(words))
