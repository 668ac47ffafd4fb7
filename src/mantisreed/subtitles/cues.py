"""Cues, and the tokens that they are laid out from."""

import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass

from mantisreed.transcript.document import Word


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


def is_spaceless(character: str) -> bool:
    """Whether a character is of a script that puts no spaces between words."""
    code = ord(character)
    return code >= 0x0E00 and (
        code <= 0x0EFF  # Thai, Lao
        or 0x1000 <= code <= 0x109F  # Burmese
        or 0x1780 <= code <= 0x17FF  # Khmer
        or 0x2E80 <= code <= 0x30FF  # CJK radicals, punctuation, kana
        or 0x31F0 <= code <= 0x9FFF  # CJK
        or 0xF900 <= code <= 0xFAFF
        or 0xFF01 <= code <= 0xFF9F  # full-width and half-width forms
        or 0x20000 <= code <= 0x3FFFF
    )


def needs_space(left: str, right: str) -> bool:
    """Whether two neighbouring texts are written with a space between them."""
    if not left or not right or right.isascii():
        return bool(left and right)
    first, last = right[0], left[-1]
    if unicodedata.category(first) in ("Mn", "Mc", "Me"):
        return False
    return not (is_spaceless(first) and is_spaceless(last))


def joined(texts: Iterable[str]) -> str:
    """Texts one after the other, with spaces where the script has them."""
    whole = ""
    for text in texts:
        whole = f"{whole} {text}" if needs_space(whole[-1:], text) else whole + text
    return whole
