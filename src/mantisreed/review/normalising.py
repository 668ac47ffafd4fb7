"""Words of two texts made comparable: differences of spelling that nobody hears are taken out, by
named sets.
"""

import re
import unicodedata
from collections.abc import Iterable
from functools import lru_cache
from itertools import chain

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
# A number with groups of three digits or without, decimals, an ending such as that of `10th`, and a
# sign of per cent.
_NUMBER = re.compile(
    r"(?<!\w)(?P<whole>\d{1,3}(?:[,.\u00a0\u202f'’]\d{3})+|\d+)(?P<part>[.,]\d+)?(?P<ending>st|nd|rd|th)?"
    r"(?:\s?(?P<share>%))?(?!\w)"
)
_SHARE = re.compile(r"(?<!\S)%(?!\S)")
_GROUP_SIGNS = re.compile(r"[,.\u00a0\u202f'’]")
# Where 3.142 is a bit more than three.
_DOT_IS_POINT = frozenset(("en", "zh", "ja", "ko", "he", "th"))
_YEARS = ((1100, 2000), (2010, 2100))  # that are said in two halves, as nineteen eighty-four
_LONGEST_NUMBER = 15  # digits; what is longer is a code, and is read digit by digit
_SHARES = {
    "en": "percent",
    "de": "prozent",
    "fr": "pour cent",
    "es": "por ciento",
    "it": "per cento",
    "pt": "por cento",
    "nl": "procent",
    "pl": "procent",
}
# `one hundred and five` is as good as `one hundred five`.
_FILLERS = {"en": ("and", frozenset(("hundred", "thousand", "million", "billion")))}
_NUMBER_WORDS = {
    "en": "one two three four five six seven eight nine ten eleven twelve thirteen fourteen "
    "fifteen sixteen seventeen eighteen nineteen twenty thirty forty fifty sixty seventy eighty "
    "ninety"
}


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
        flat = _NUMBER.sub(lambda found: f" {_as_said(found, tongue)} ", flat)
        flat = _SHARE.sub(_SHARES.get(tongue, "%"), flat)
    if "case" not in off:
        flat = flat.casefold()
    if "punctuation" not in off:
        flat = _DASHES.sub(" ", flat)
    words = list(chain.from_iterable(map(_parts, flat.split())))
    if "punctuation" not in off:
        words = list(map(_bare, words))
    if "apostrophes" not in off:
        words = [word.replace("'", "") for word in words]
    if "hesitations" not in off:
        if tongue in _HESITATIONS:
            known = frozenset(_HESITATIONS[tongue].split())
        else:
            known = _ANY
        words = [word for word in words if word.casefold() not in known]
    return [word for word in words if word]


# As many as a long talk has different words: of ten thousand recordings it takes no more memory.
@lru_cache(maxsize=1 << 13)
def normalised_word(
    written: str, language: str | None = None, without: tuple[str, ...] = ()
) -> tuple[str, ...]:
    """The same for one word, remembered: a text says most of its words again and again."""
    return tuple(normalised(written, language, without))


def key_of(written: str, language: str | None = None, without: tuple[str, ...] = ()) -> str:
    """By what a word is compared with others; as it is written where normalising leaves nothing of
    it.
    """
    return " ".join(normalised_word(written, language, without)) or written


def without_number_fillers(words: list[str], language: str | None = None) -> list[bool]:
    """Which words stay when those go that may be said in a number or not, as the `and` of `hundred
    and five`.

    Args:
        words: normalised.
        language: a tag.
    """
    tongue = (language or "en").split("-")[0].lower()
    stays = [True] * len(words)
    if tongue not in _FILLERS:
        return stays
    filler, before = _FILLERS[tongue]
    numbers = frozenset(_NUMBER_WORDS[tongue].split())
    for at in range(1, len(words) - 1):
        is_filler = words[at] == filler and words[at - 1] in before
        stays[at] = not (is_filler and words[at + 1] in numbers)
    return stays


def _as_said(found: re.Match[str], tongue: str) -> str:
    """A number that was found, as it is said."""
    whole, part = found["whole"], found["part"] or ""
    is_grouped = not whole.isdigit()
    if (
        is_grouped
        and not part
        and tongue in _DOT_IS_POINT
        and whole.count(".") == 1
        and _GROUP_SIGNS.findall(whole) == ["."]
    ):
        whole, _, decimals = whole.partition(".")
        is_grouped, part = False, f".{decimals}"
    digits = _GROUP_SIGNS.sub("", whole) + part
    said = _said(
        digits,
        tongue,
        is_ordinal=bool(found["ending"]),
        may_be_year=not (is_grouped or part or found["share"]),
    )
    if found["share"]:
        return f"{said} {_SHARES.get(tongue, '')}"
    return said


def _parts(word: str) -> list[str]:
    """A word; of one in a script without spaces, its characters, since nobody agrees on its
    words.
    """
    if word.isascii() or not any(map(is_spaceless, word)):
        return [word]
    return list(chain.from_iterable(words_of(word)))


def _bare(word: str) -> str:
    """A word without punctuation around it, and without what is no letter or digit where nothing
    else is left.
    """
    start, end = 0, len(word)
    while start < end and _is_mark(word[start]):
        start += 1
    while end > start and _is_mark(word[end - 1]):
        end -= 1
    return word[start:end]


def _is_mark(sign: str) -> bool:
    return not sign.isalnum() and unicodedata.category(sign)[0] in "PSZC"


@lru_cache(maxsize=1 << 14)
def _said(written: str, tongue: str, *, is_ordinal: bool = False, may_be_year: bool = False) -> str:
    """A number as it is said: `23` is `twenty three`, in another language what it is there.

    Args:
        written: in digits.
        tongue: the first part of the language's tag.
        is_ordinal: whether it had an ending such as that of `10th`.
        may_be_year: whether it is written as years are; those that sound like years are read so.
    """
    from num2words import num2words  # only for texts with digits

    digits = written.replace(",", ".")
    if len(digits) > _LONGEST_NUMBER or (
        len(digits) > 1 and digits[0] == "0" and "." not in digits
    ):
        return " ".join(_said(digit, tongue) for digit in digits if digit.isdigit())
    number: int | float = float(digits) if "." in digits else int(digits)
    way = "ordinal" if is_ordinal else "cardinal"
    if (
        may_be_year
        and not is_ordinal
        and any(first <= number < last for first, last in _YEARS)
        and number % 100
    ):
        way = "year"
    try:
        said = str(num2words(number, lang=tongue, to=way))
    except (NotImplementedError, OverflowError, TypeError):
        return written
    # `two thousand, three hundred and fifty` may be said with `and` or without it.
    words = said.replace(",", " ").replace("-", " ").split()
    return " ".join(word for word in words if not (tongue == "en" and word == "and"))
