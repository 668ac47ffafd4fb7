"""Where personal data is in a text, by how it is written."""

import re
import unicodedata
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from itertools import product

from mantisreed.exports.redaction import Redaction
from mantisreed.transcript.writing import is_spaceless

_DOT = "dot|punkt|point|punto|ponto|kropka"

_AT = "at|ät|arroba|arobase|chiocciola|małpa|apenstaartje"

_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]+@[\w-]+(?:\.[\w-]+)+")

_SPELLED = r"(?:\w[ ,]{1,3}){0,30}"  # a part of an address that is spelled out

_SPOKEN_MAIL = re.compile(
    rf"(?<!\w){_SPELLED}[\w.+-]{{1,64}}(?:[ ,]{{1,3}}(?:{_DOT}|underscore|dash|minus)[ "
    rf",]{{1,3}}[\w-]{{1,63}}){{0,9}}"
    rf"[ ,]{{1,3}}(?:{_AT})[ ,]{{1,3}}{_SPELLED}[\w-]{{1,63}}(?:[ ,]{{1,3}}[\w-]{{1,63}})?"
    rf"(?:[ ,]{{1,3}}(?:{_DOT})[ ,]{{1,3}}[\w-]{{2,63}}|\.[a-z]{{2,63}}){{1,9}}",
    re.IGNORECASE,
)

_PHONE = re.compile(
    r"(?<![\w.,])(?:(?:\+|00)[ ]?\d[\d ()./-]{5,18}\d|\(?0\d[\d ()./-]{4,16}\d|\d{3}[ .-]\d{3,4}[ "
    r".-]\d{3,4})(?!\w)"
)

# A shorter number is a telephone's where the words before it say so.
_CALLED = re.compile(
    r"(?<!\w)(?:phones?|telephone|call|dial|ring "
    r"me|tel|mobile|cell|fax|whatsapp|extension|telefon|handy|ruf|anrufen|"
    r"wähle|durchwahl|téléphone|portable|appelez|composez|teléfono|móvil|llame|marque|telefono|cellulare|chiami|"
    r"telefone|ligue|telefoon|bel|zadzwoń)\b[\w .:,'’-]{0,30}?"
    r"(?<![\w.,])(?P<number>\d[\d /-]{3,12}\d)(?![\w.,]\d|\w)",
    re.IGNORECASE,
)

_CARD = re.compile(r"(?<!\w)\d(?:[ -]?\d){12,18}(?!\w)")

_IBAN = re.compile(r"(?<!\w)[a-z]{2} ?\d{2}(?: ?[a-z0-9]){11,30}(?!\w)", re.IGNORECASE)

_DATE = re.compile(r"\d{4}-\d\d-\d\d|\d{1,2}[./-]\d{1,2}[./-]\d{2,4}")

CARD_DIGITS = range(13, 20)
"""How many digits the number of a card has (ISO/IEC 7812)."""

_PHONE_DIGITS = range(7, 16)

_SHORT_PHONE_DIGITS = range(5, 16)

# Signs that look alike or count alike, each for one: no-break and thin spaces, dashes, digits of
# other scripts.
_ALIKE = str.maketrans(
    dict.fromkeys("\u00a0\u2007\u2009\u202f\u3000\t\n", " ")
    | dict.fromkeys("\u2010\u2011\u2012\u2013\u2014\u2212\uff0d", "-")
    | {
        chr(first + digit): str(digit)
        for first, digit in product((0xFF10, 0x0660, 0x06F0, 0x0966), range(10))
    }
    | {"\uff20": "@", "\uff0e": ".", "\uff0b": "+"}
)

_ACCENTS = "[\u0300-\u036f]*"  # that stand by themselves behind a letter


def personal_spans(text: str, redaction: Redaction) -> Iterator[tuple[str, int, int]]:
    """Kinds of personal data and where they are in a text, those first that are told apart best:
    what follows may look like a part of it.
    """
    kinds, flat = redaction.kinds, _flat(text)
    if "iban" in kinds:
        yield from _accounts(flat)
    for kind, pattern, is_right in _SEARCHES:
        if kind in kinds:
            found = _places(kind, pattern, flat)
            yield from (place for place in found if is_right(flat[place[1] : place[2]]))
    if "phone" in kinds:
        yield from _called_numbers(flat)
    if "name" in kinds and redaction.names:
        yield from _places("name", _names(redaction.names), _plain(text))
    for given in redaction.patterns if "pattern" in kinds else ():
        yield from _places("pattern", re.compile(given), text)
    if redaction.strong_words:
        yield from _places("strong", _strong(redaction.strong_words), text)


def _accounts(text: str) -> Iterator[tuple[str, int, int]]:
    """Account numbers, as long as their countries have them."""
    for match in _IBAN.finditer(text):
        length = _account_length(match[0])
        if length:
            yield "iban", match.start(), match.start() + length


def _called_numbers(text: str) -> Iterator[tuple[str, int, int]]:
    """Short numbers that a word before them makes those of phones; dates are none."""
    for match in _CALLED.finditer(text):
        number = match["number"]
        if len(_digits(number)) in _SHORT_PHONE_DIGITS and not _DATE.fullmatch(number):
            yield "phone", match.start("number"), match.end("number")


def _places(kind: str, pattern: re.Pattern[str], text: str) -> Iterator[tuple[str, int, int]]:
    """Where a pattern finds something."""
    for match in pattern.finditer(text):
        if match[0]:
            yield kind, match.start(), match.end()


def _flat(text: str) -> str:
    """A text as long, with plain spaces, dashes and digits; what is in a script without spaces
    parts words too.
    """
    if text.isascii():
        return text.translate(_ALIKE)
    return "".join(" " if is_spaceless(sign) else sign for sign in text.translate(_ALIKE))


def _plain(text: str) -> str:
    """A text as long, in which each letter with an accent is the one without: engines write `Zoe`
    for `Zoë`.
    """
    if text.isascii():
        return text
    return "".join(map(_without_accent, text))


@lru_cache(maxsize=4096)
def _without_accent(sign: str) -> str:
    parts = unicodedata.normalize("NFD", sign)
    if len(parts) > 1 and unicodedata.combining(parts[1]) and parts[0].isalpha():
        return parts[0]
    return sign


def _digits(text: str) -> str:
    return re.sub(r"\D", "", text)


def _is_phone(text: str) -> bool:
    return len(_digits(text)) in _PHONE_DIGITS and _DATE.fullmatch(text.strip()) is None


def is_card_number(text: str) -> bool:
    """Whether the check digit is right, by the formula of Luhn (ISO/IEC 7812)."""
    digits = list(map(int, _digits(text)))
    if len(digits) not in CARD_DIGITS or not any(digits):
        return False
    doubled = [
        digit if at % 2 == 0 else sum(divmod(2 * digit, 10))
        for at, digit in enumerate(reversed(digits))
    ]
    return sum(doubled) % 10 == 0


def _account_length(text: str) -> int:
    """How many characters of a text are the number of an account, the most for which the check
    digits are right.

    The remainder by 97 of its digits and letters, with the first four at the end, is 1 (ISO 13616).
    """
    for end in range(len(text), 14, -1):
        flat = re.sub(r"\W", "", text[:end]).upper()
        if not 15 <= len(flat) <= 34 or text[end - 1] == " ":
            continue
        if end < len(text) and text[end] != " ":
            continue
        number = "".join(str(int(sign, 36)) for sign in flat[4:] + flat[:4])
        if int(number) % 97 == 1:
            return end
    return 0


@lru_cache(maxsize=64)
def _names(names: tuple[str, ...]) -> re.Pattern[str]:
    plain = (_plain(unicodedata.normalize("NFC", name)) for name in _longest_first(names))
    return re.compile(
        "|".join(_bounded(name, "(?:['’]s|s)?", _ACCENTS) for name in plain), re.IGNORECASE
    )


@lru_cache(maxsize=64)
def _strong(words: tuple[str, ...]) -> re.Pattern[str]:
    return re.compile("|".join(map(_bounded, _longest_first(words))), re.IGNORECASE)


def _longest_first(texts: Iterable[str]) -> list[str]:
    return sorted(texts, key=len, reverse=True)


def _bounded(text: str, ending: str = "", behind_letters: str = "") -> str:
    """A pattern for a text as whole words; in a script without spaces wherever it stands."""
    begins = text.endswith("*")
    words = text.removesuffix("*").split()
    flat = r"[\s-]+".join(
        "".join(re.escape(sign) + behind_letters * sign.isalpha() for sign in word)
        for word in words
    )
    if any(map(is_spaceless, text)):
        return flat
    tail = r"\w*" if begins else ending
    return rf"(?<!\w){flat}{tail}(?!\w)"


_SEARCHES: tuple[tuple[str, re.Pattern[str], Callable[[str], bool]], ...] = (
    ("card", _CARD, is_card_number),
    ("mail", _MAIL, lambda given: True),
    ("mail", _SPOKEN_MAIL, lambda given: True),
    ("phone", _PHONE, _is_phone),
)
"""What is searched for, and which of the places found is right; those first that are told apart
best.
"""
