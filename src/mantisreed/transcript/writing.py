"""How scripts are written: with spaces between words or without, and where they may be parted
then.
"""

import re
import unicodedata
from collections.abc import Iterable, Sequence
from functools import cache
from itertools import chain, pairwise
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from budoux import Parser

NOT_FIRST = (
    "、。，．！？：；）］｝」』】〉》ー々ぁぃぅぇぉっゃゅょゎァィゥェォッャュョヮ・…ๆฯะาำๅະາຳ"
)
"""Signs that no line begins with."""

NOT_LAST = "（［｛「『【〈《เแโใไເແໂໃໄ"
"""And those that none ends with."""

_CLOSING, _OPENING = ".,:;!?)]}%'\"", "([{"
_TRADITIONAL = ("hant", "tw", "hk", "mo")  # subtags of Chinese
_TOKENS = 6.0  # signs; parts that are shorter on average are words, not clauses


_CONTROLS = re.compile(
    "[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x84\x86-\x9f\ud800-\udfff\ufdd0-\ufdef\ufffe\uffff\U000e0000-\U000e007f]"
)
"""What no text holds: control characters, halves of characters, what Unicode keeps for itself,
invisible tags.
"""


def has_controls(text: str) -> bool:
    """Whether a text holds something that is no text, and that XML, terminals or players stumble
    over.
    """
    return _CONTROLS.search(text) is not None


def without_controls(text: str) -> str:
    """The text without that; its white space folded where something was taken out."""
    if has_controls(text):
        return " ".join(_CONTROLS.sub(" ", text).split())
    return text


def one_line(text: str) -> str:
    """The text on one line, without control characters."""
    return " ".join(without_controls(text).split())


def is_spaceless(character: str) -> bool:
    """Whether a character is of a script that puts no spaces between words."""
    code = ord(character)
    return code >= 0x0E00 and (
        _parts_clauses(character)
        or 0x2E80 <= code <= 0x30FF  # CJK radicals, punctuation, kana
        or 0x31F0 <= code <= 0x9FFF  # CJK
        or 0xF900 <= code <= 0xFAFF
        or 0xFF01 <= code <= 0xFF9F  # full-width and half-width forms
        or 0x20000 <= code <= 0x3FFFF
    )


def needs_space(left: str, right: str) -> bool:
    """Whether two neighbouring words are written with a space between them."""
    if not left or not right or right.isascii():
        return bool(left and right)
    first, last = right[0], left[-1]
    if unicodedata.category(first) in ("Mn", "Mc", "Me"):
        return False
    return not (is_spaceless(first) and is_spaceless(last))


def joined(texts: Iterable[str]) -> str:
    """Texts one after the other, with spaces where the script has them."""
    some = [text for text in texts if text]
    if all(map(str.isascii, some)):
        return " ".join(some)
    whole, before = [], ""
    for text in some:
        whole.append(f" {text}" if needs_space(before, text) else text)
        before = text
    return "".join(whole)


def words_of(text: str, language: str | None = None) -> list[str]:
    """The words of a text; where its script has no spaces between them, phrases that can stand in
    lines of their own.

    Args:
        text: any.
        language: a tag; None goes by the script.
    """
    words = text.split()
    if text.isascii() or not any(map(is_spaceless, text)):
        return words
    return list(chain.from_iterable(phrases(word, language) for word in words))


def phrases(text: str, language: str | None = None) -> list[str]:
    """A text without spaces in parts between which a reader expects a break, by BudouX's models of
    Chinese, Japanese
    and Thai (https://github.com/google/budoux); the whole text where there is no model of its
    script.
    """
    name = _model_of(text, (language or "").lower())
    if name is None or len(text) < 2:
        return [text]
    parts: list[str] = []
    for part in _parser(name).parse(text):
        if parts and not _may_part(parts[-1][-1], part[0]):
            parts[-1] += part
        else:
            parts.append(part)
    return parts


def _may_part(before: str, after: str) -> bool:
    """Whether two signs may stand in different lines at all."""
    if (
        unicodedata.category(after).startswith("M")
        or after in NOT_FIRST + _CLOSING
        or before in NOT_LAST + _OPENING
    ):
        return False
    return not (before.isascii() and after.isascii() and before.isalnum() and after.isalnum())


def excerpt(text: str, words: Sequence[str], first: int, last: int) -> str:
    """What a passage's text says for its words from `first` to before `last`, with its marks and
    spaces.

    Args:
        text: of the passage.
        words: all of it.
        first, last: places in `words`.
    """
    places = places_of(text, words)
    if places is None:
        return joined(words[first:last])
    end = places[last] if last < len(words) else len(text)
    return " ".join(text[places[first] if first else 0 : end].split())


def spaced(text: str, words: Sequence[str]) -> list[bool]:
    """Whether each word has a space before it where they are written one after the other.

    In scripts such as Thai, where spaces part clauses, the passage's text knows; it is not believed
    when it has been taken apart into words.
    """
    spaces = [False, *(needs_space(left, right) for left, right in pairwise(words))]
    if not any(map(_parts_clauses, text)) or (places := places_of(text, words)) is None:
        return spaces
    chunks = text.split()
    if len(chunks) > 2 and len(text) / len(chunks) < _TOKENS:
        return spaces
    return [
        wants or (at > 0 and text[places[at] - 1].isspace() and _parts_clauses(word[0]))
        for at, (word, wants) in enumerate(zip(words, spaces, strict=True))
    ]


def places_of(text: str, words: Sequence[str]) -> list[int] | None:
    """Where each word begins in a text; None when they are not all in it, in order."""
    places, at = [], 0
    for word in words:
        found = text.find(word, at)
        if found < 0:
            return None
        places.append(found)
        at = found + len(word)
    return places


def _parts_clauses(character: str) -> bool:
    """Whether a character is of a script in which spaces part clauses: Thai, Lao, Burmese,
    Khmer.
    """
    code = ord(character)
    return 0x0E00 <= code <= 0x0EFF or 0x1000 <= code <= 0x109F or 0x1780 <= code <= 0x17FF


def _model_of(text: str, language: str) -> str | None:
    codes = list(map(ord, text))
    if any(0x0E00 <= code <= 0x0E7F for code in codes):
        return "thai"
    tongue, *subtags = language.split("-")
    if tongue == "ja" or any(0x3041 <= code <= 0x30FF for code in codes):
        return "japanese"
    if any(0x3400 <= code <= 0x9FFF or code >= 0x20000 for code in codes):
        is_traditional = tongue == "yue" or any(subtag in _TRADITIONAL for subtag in subtags)
        if is_traditional:
            return "traditional_chinese"
        return "simplified_chinese"
    return None


@cache
def _parser(name: str) -> "Parser":
    import budoux  # only for such texts

    loaders = {
        "thai": budoux.load_default_thai_parser,
        "japanese": budoux.load_default_japanese_parser,
        "simplified_chinese": budoux.load_default_simplified_chinese_parser,
        "traditional_chinese": budoux.load_default_traditional_chinese_parser,
    }
    return loaders[name]()


_SCRIPTS = (("ja", 0x3041, 0x30FF), ("ko", 0xAC00, 0xD7AF), ("zh", 0x4E00, 0x9FFF))
_TELLING = 0.2  # of the letters; a foreign name in a text does not tell its language


def language_of_script(text: str) -> str | None:
    """The language that a script is of, for Japanese, Korean and Chinese; None for scripts of many
    languages.
    """
    if text.isascii():
        return None
    letters = [ord(character) for character in text if character.isalpha()]
    for language, first, last in _SCRIPTS:
        if sum(first <= code <= last for code in letters) > _TELLING * len(letters):
            return language
    return None


_REVERSED = frozenset(("ar", "he", "fa", "ur", "yi", "ps", "sd", "ug", "dv", "ckb", "syr", "nqo"))
_REVERSED_SCRIPTS = frozenset(("arab", "hebr", "thaa", "syrc", "nkoo", "adlm", "rohg"))


def is_right_to_left(text: str, language: str | None = None) -> bool:
    """Whether a text is written from right to left, by its language or else by most of its
    letters.
    """
    if language:
        subtags = language.lower().split("-")
        scripts = [one for one in subtags[1:] if len(one) == 4 and one.isalpha()]
        if scripts:
            return scripts[0] in _REVERSED_SCRIPTS
        return subtags[0] in _REVERSED
    if text.isascii():
        return False
    classes = list(map(unicodedata.bidirectional, text))
    return sum(one in ("R", "AL") for one in classes) > classes.count("L")
