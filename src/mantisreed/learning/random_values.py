"""Values that look random, and so may be secrets, told from those that are plainly options.

A name does not tell: keys are called `k`, `sig` or `code`. A value of twelve or more characters is
plain when it is made of words, short numbers and the like of `linear16`; whatever is not is taken
for a secret, as one that was written into settings by mistake is worse than a setting to fill in.
"""

import re
from functools import cache

from mantisreed.review.likelihood import models

_SHORTEST = 12  # characters; a shorter value is told by the name of its field alone
_UUID = re.compile(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}", re.IGNORECASE)
_JWT = re.compile(r"eyJ[\w-]+\.[\w-]+(?:\.[\w-]*)?")
_PART = re.compile(r"[^\W_]+")
_CAMEL = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])")
# linear16, 16khz, s16le, v2beta1, 04T05: short letters around few digits.
_WITH_DIGITS = re.compile(r"([A-Za-z]*)\d{1,4}([A-Za-z]{0,8})\d{0,2}")
_VOWEL = re.compile("[aeiouy]")
_LONGEST_NUMBER = 8  # digits; a date without dashes has so many
_MOST_WITH_DIGITS = 3
_SHORTEST_CAMEL = 3.5  # letters of a word in a name such as niceLayout, on average
# Mean logarithms of how likely a word's letters are in any language that is known: of 50 words of
# options the least likely has -3.4, of 1000 random texts of 12 or more letters 2 have more.
_LEAST_LIKELY = -3.8
_LEAST_LIKELY_LONG = -3.0
_SHORT_WORD, _LONG_WORD = 4, 10  # letters


def looks_random(word: str) -> bool:
    """Whether a text without blanks may be a secret."""
    if len(word) < _SHORTEST:
        return False
    if _UUID.search(word) or _JWT.search(word):
        return True
    parts = _PART.findall(word)
    # Names of models have a number or two: `narration-2-16k`. Keys alternate.
    if sum(_has_both(part) for part in parts) > _MOST_WITH_DIGITS:
        return True
    return not all(map(_is_plain, parts))


def _has_both(part: str) -> bool:
    return not part.isalpha() and not part.isdecimal()


def _is_plain(part: str) -> bool:
    if not part.isascii():
        return True  # nobody makes keys of other scripts
    if part.isdecimal():
        return len(part) <= _LONGEST_NUMBER
    if part.isalpha():
        return _are_words(part)
    # `aB3x` in a short name is common (`iPhone4`); in a long one it is a key.
    is_mixed = not (part.islower() or part.isupper() or part[0] + part[1:].lower() == part)
    if is_mixed and len(part) >= _LONGEST_NUMBER:
        return False
    matched = _WITH_DIGITS.fullmatch(part)
    return matched is not None and all(_are_words(group) for group in matched.groups())


def _are_words(letters: str) -> bool:
    if letters.islower() or letters.isupper() or letters.istitle():
        return _is_word(letters.lower())
    words = _CAMEL.findall(letters)
    # `aXbQzT` falls into words of a letter or two.
    if len(letters) / max(1, len(words)) < _SHORTEST_CAMEL:
        return len(letters) <= _SHORT_WORD
    return all(_is_word(word.lower()) and _VOWEL.search(word.lower()) for word in words)


@cache
def _is_word(letters: str) -> bool:
    if len(letters) <= _SHORT_WORD:
        return True
    # A long random text has no way to look like a word; a short one may.
    least = _LEAST_LIKELY_LONG if len(letters) >= _LONG_WORD else _LEAST_LIKELY
    return max(model.of_letters(letters) for model in models().values()) > least
