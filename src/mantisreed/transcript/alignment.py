"""Comparing two word sequences: what was said and what was heard."""

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass

from rapidfuzz.distance import Levenshtein

_EDGE_MARKS = re.compile(r"^[\W_]+|(?<![\W_])[\W_]+$")


@dataclass(frozen=True, slots=True)
class WordErrors:
    """How a word sequence differs from the true one.

    Attributes:
        words: number of true words.
        substituted, missing, added: words heard as another, not heard, heard but not said.
    """

    words: int
    substituted: int
    missing: int
    added: int

    @property
    def rate(self) -> float:
        """The word error rate: all errors over the number of true words; for no true words, of
        1.
        """
        return (self.substituted + self.missing + self.added) / max(1, self.words)


def comparable(text: str) -> list[str]:
    """A text's words for comparing: lower case, no punctuation at the edges, canonical Unicode
    form.
    """
    words = (
        _EDGE_MARKS.sub("", word) for word in unicodedata.normalize("NFC", text).casefold().split()
    )
    return [word for word in words if word]


def word_errors(true: Sequence[str], heard: Sequence[str]) -> WordErrors:
    """The fewest changes that turn `heard` into `true`, by Levenshtein distance over whole
    words.
    """
    counts = {"replace": 0, "insert": 0, "delete": 0}
    # A hint near the true distance keeps time and memory linear for long, similar sequences.
    for edit in Levenshtein.editops(heard, true, score_hint=max(8, len(true) // 20)):
        counts[edit.tag] += 1
    return WordErrors(len(true), counts["replace"], counts["insert"], counts["delete"])
