"""Words of two texts made comparable: differences of spelling that nobody hears are taken out, by named sets."""

import re
import unicodedata
from collections.abc import Iterable
from functools import lru_cache

from mantisreed.transcript.writing import is_spaceless, words_of

SETS = ("case", "punctuation", "numbers", "apostrophes", "hesitations")
"""The sets, in the order in which they work. All hold unless one is switched off."""

_HESITATIONS = {
    "en": "uh um uhm er erm eh ah hm hmm mm mhm",
    "de": "äh ähm öh öhm hm hmm mhm",
    "fr": "euh heu hum ben hein",
    "es": "eh em este mmm",
    "it": "eh ehm mah uhm",
    "pt": "eh hum ahn",
    "nl": "eh uh uhm hm",
    "pl": "yyy eee hm",
}
_ANY = frozenset(" ".join(_HESITATIONS.values()).split())
_APOSTROPHES = re.compile("[’‘ʼ`´]")
_DASHES = re.compile(r"(?<=\w)[-‐–—](?=\w)")
_GROUPED = re.compile(r"(?<=\d)[,.\u00a0\u202f'](?=\d{3}(?:\D|$))")
_NUMBER = re.compile(r"(?<!\w)(\d+(?:[.,]\d+)?)(st|nd|rd|th)?(?!\w)")
_LONGEST_NUMBER = 15  # digits; what is longer is a code, and is read digit by digit


def normalised(text: str, language: str | None = None, without: Iterable[str] = ()) -> list[str]:
    """The words of a text for comparing; of scripts without spaces, its characters.

    Args:
        text: any.
        language: a tag, for how numbers are said and which sounds are hesitations.
        without: sets of `SETS` that are switched off.
    """
    off = frozenset(without)
    tongue = (language or "en").split("-")[0].lower()
    flat = unicodedata.normalize("NFC", text)
    if "apostrophes" not in off:
        flat = _APOSTROPHES.sub("'", flat)
    if "numbers" not in off:
        flat = _NUMBER.sub(lambda found: f" {_said(found[1], tongue, bool(found[2]))} ", _GROUPED.sub("", flat))
    if "case" not in off:
        flat = flat.casefold()
    if "punctuation" not in off:
        flat = _DASHES.sub(" ", flat)
    words = [part for word in flat.split() for part in _parts(word)]
    if "punctuation" not in off:
        words = [_bare(word) for word in words]
    if "apostrophes" not in off:
        words = [word.replace("'", "") for word in words]
    if "hesitations" not in off:
        known = frozenset(_HESITATIONS[tongue].split()) if tongue in _HESITATIONS else _ANY
        words = [word for word in words if word.casefold() not in known]
    return [word for word in words if word]


@lru_cache(maxsize=1 << 16)
def normalised_word(written: str, language: str | None = None, without: tuple[str, ...] = ()) -> tuple[str, ...]:
    """The same for one word, remembered: a text says most of its words again and again."""
    return tuple(normalised(written, language, without))


def key_of(written: str, language: str | None = None, without: tuple[str, ...] = ()) -> str:
    """By what a word is compared with others; as it is written where normalising leaves nothing of it."""
    return " ".join(normalised_word(written, language, without)) or written


def _parts(word: str) -> list[str]:
    """A word; of one in a script without spaces, its characters, since nobody agrees on its words."""
    if word.isascii() or not any(map(is_spaceless, word)):
        return [word]
    return [sign for part in words_of(word) for sign in part]


def _bare(word: str) -> str:
    """A word without punctuation around it, and without what is no letter or digit where nothing else is left."""
    start, end = 0, len(word)
    while start < end and _is_mark(word[start]):
        start += 1
    while end > start and _is_mark(word[end - 1]):
        end -= 1
    return word[start:end]


def _is_mark(sign: str) -> bool:
    return not sign.isalnum() and unicodedata.category(sign)[0] in "PSZC"


@lru_cache(maxsize=1 << 14)
def _said(written: str, tongue: str, is_ordinal: bool = False) -> str:
    """A number as it is said: `23` is `twenty three`, in another language what it is there.

    Args:
        written: in digits.
        tongue: the first part of the language's tag.
        is_ordinal: whether it had an ending such as that of `10th`.
    """
    from num2words import num2words  # only for texts with digits

    digits = written.replace(",", ".")
    if len(digits) > _LONGEST_NUMBER or (len(digits) > 1 and digits[0] == "0" and "." not in digits):
        return " ".join(_said(digit, tongue) for digit in digits if digit.isdigit())
    number: int | float = float(digits) if "." in digits else int(digits)
    try:
        said = str(num2words(number, lang=tongue, to="ordinal" if is_ordinal else "cardinal"))
    except (NotImplementedError, OverflowError, TypeError):
        return written
    # `two thousand, three hundred and fifty` may be said with `and` or without it.
    words = said.replace(",", " ").replace("-", " ").split()
    return " ".join(word for word in words if not (tongue == "en" and word == "and"))
