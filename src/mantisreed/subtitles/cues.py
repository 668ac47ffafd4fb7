"""Cues, and how wide their text is."""

from dataclasses import dataclass

from mantisreed.transcript.document import Word
from mantisreed.transcript.writing import joined


@dataclass(frozen=True, slots=True)
class Cue:
    """One block of subtitle text; times in seconds. `words` are those in it, where their times are known."""

    start: float
    end: float
    lines: tuple[str, ...]
    speaker: str | None = None
    words: tuple[Word, ...] = ()

    @property
    def text(self) -> str:
        """The text on one line."""
        return joined(self.lines)


def text_width(text: str) -> int:
    """Columns that a text takes on a screen: 2 for full-width characters, 0 for combining ones."""
    if text.isascii():
        return len(text)
    from wcwidth import wcwidth  # only for such texts: it takes long to import

    return sum(max(0, wcwidth(character)) for character in text)
