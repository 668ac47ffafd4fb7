"""Cues, what is marked in them, and how wide their text is."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import msgspec

from mantisreed.subtitles.remarks import Remark
from mantisreed.transcript.document import Word
from mantisreed.transcript.writing import joined


@dataclass(frozen=True, slots=True)
class Mark:
    """A stretch of a cue's line that is shown in another way.

    Attributes:
        line: which, from 0.
        first, last: its characters [first, last).
        tag: `b`, `i` or `u`, or what else stands in a WebVTT start tag, such as `c.loud`, `lang de`
            or `ruby`; or `color #rrggbb` for a colour that WebVTT has no class for.
    """

    line: int
    first: int
    last: int
    tag: str


@dataclass(frozen=True, slots=True)
class Turn:
    """A line of a cue that several speakers share.

    Attributes:
        speaker: who.
        words: how many of the cue's words stand on it.
    """

    speaker: str | None
    words: int


@dataclass(frozen=True, slots=True)
class Cue:
    """One block of subtitle text; times in seconds.

    Attributes:
        start, end: when it stands.
        lines: its text.
        speaker: who says it; None where nobody knows.
        words: those in it, where their times are known.
        marks: what is marked in its lines.
        settings: its WebVTT settings, such as `line:0 align:start`.
        name: its WebVTT identifier.
        inner: which of the words a time stood before, where the cue was read from WebVTT; None
            where it was not.
        turns: line by line, whose it is, where several speakers share the cue; empty otherwise.
    """

    start: float
    end: float
    lines: tuple[str, ...]
    speaker: str | None = None
    words: tuple[Word, ...] = ()
    marks: tuple[Mark, ...] = ()
    settings: str = ""
    name: str = ""
    turns: tuple[Turn, ...] = ()
    inner: tuple[int, ...] | None = None

    @property
    def text(self) -> str:
        """The text on one line."""
        return joined(self.lines)


def moved_cue(cue: Cue, move: Callable[[float], float]) -> Cue:
    """The cue at other times, and its words with it; what would lie before 0 is at 0."""
    words = tuple(moved_word(word, move) for word in cue.words)
    return replace(cue, start=max(0.0, move(cue.start)), end=max(0.0, move(cue.end)), words=words)


def moved_word(word: Word, move: Callable[[float], float]) -> Word:
    """The same of a word."""
    return msgspec.structs.replace(
        word, start=max(0.0, move(word.start)), end=max(0.0, move(word.end))
    )


@dataclass(slots=True)
class Subtitles:
    """What a reader made of a file.

    Attributes:
        cues: in the order they stand in.
        remarks: what was mended, left out or wrong.
        head: WebVTT blocks of styles, regions and comments before the cues, as they stand.
        language: a tag; None where the file does not say.
    """

    cues: list[Cue] = field(default_factory=list)
    remarks: list[Remark] = field(default_factory=list)
    head: list[str] = field(default_factory=list)
    language: str | None = None


def text_width(text: str) -> int:
    """Columns that a text takes on a screen: 2 for full-width characters, 0 for combining ones."""
    if text.isascii():
        return len(text)
    from wcwidth import wcwidth  # only for such texts: it takes long to import

    return sum(max(0, wcwidth(character)) for character in text)
