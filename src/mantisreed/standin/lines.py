"""A phrase as a stand-in engine heard it."""

from dataclasses import dataclass

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
