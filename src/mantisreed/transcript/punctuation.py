"""What a word's punctuation says about the pause after it."""

import re

_CLOSING_MARKS = "\"'”’»)]"
# Full stops of Devanagari and its kin, Arabic and Urdu, Ethiopic, Burmese, Khmer, Armenian and
# Tibetan with them.
_SENTENCE_END = re.compile(rf"[.!?…。！？।॥؟۔።၊။។։།][{re.escape(_CLOSING_MARKS)}]*$")
_CLAUSE_END = re.compile(rf"[,;:、，；：–—-][{re.escape(_CLOSING_MARKS)}]*$")


def ends_sentence(text: str) -> bool:
    """Whether a text ends with a full stop or the like, marks that close quotations and brackets
    aside.
    """
    return _SENTENCE_END.search(text) is not None


def ends_clause(text: str) -> bool:
    """The same for commas, colons and dashes."""
    return _CLAUSE_END.search(text) is not None
