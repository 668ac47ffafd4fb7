"""Rules for two words that a small one joins: the ends of a range, and a word that comes again."""

from collections.abc import Sequence

from mantisreed.subtitles.language.break_place import (
    CONTENT,
    PAIR,
    UNIT,
    BreakPlace,
    is_measure,
)
from mantisreed.subtitles.language.languages import ROMANCE, LanguageWords
from mantisreed.subtitles.language.word_facts import WordFacts

_BETWEEN = 6  # words from `between` to its `and`


def stranded_to(place: BreakPlace) -> float | None:
    """English `the only person I spoke | to between two and four`: of the verb before it."""
    following = place.next_word
    if place.before.closes or place.word.closes or following is None:
        return None
    is_stranded = following.kind == "preposition" and not is_measure(place.words, place.at + 1)
    if is_stranded and place.before.tail_kind == "content":
        return PAIR
    return None


def behind_range(place: BreakPlace) -> float | None:
    """German `sechs | bis sieben`, Polish `sześć | do siedmiu`."""
    following = place.next_word
    if not place.before.is_number or place.before.closes:
        return None
    if following is None or not following.is_number:
        return None
    return UNIT


def in_range(place: BreakPlace) -> float | None:
    """`from November | to March`, German `von November | bis März`: one word on either side."""
    following = place.next_word
    if place.at < 2 or place.before.closes or place.word.closes or following is None:
        return None
    openers = place.known.range_openers
    # French `d'octobre | à mars`
    is_elided = place.before.head != place.before.tail and place.before.head in openers
    if not is_elided and place.words[place.at - 2].tail not in openers:
        return None
    if _are_ends(place, place.before, following):
        return PAIR
    return None


def _are_ends(place: BreakPlace, first: WordFacts, last: WordFacts) -> bool:
    if place.tongue in ROMANCE:
        # `de pagar a gasolina` has the same two small words.
        return place.known.calendar.issuperset((first.tail, last.head))
    if first.tail_kind not in CONTENT or last.kind not in CONTENT:
        return False
    if place.is_verb(first.tail) or place.is_verb(last.head):
        return False
    return first.is_number == last.is_number


def before_the_same(place: BreakPlace) -> float | None:
    """`stone | by stone`, German `Stein | für Stein`."""
    following = place.next_word
    if following is None or place.before.closes or place.before.tail_kind not in CONTENT:
        return None
    if following.head == place.before.tail:
        return PAIR
    return None


def after_the_first(place: BreakPlace) -> float | None:
    """`stone by | stone`."""
    if place.at < 2 or place.before.closes or place.word.kind not in CONTENT:
        return None
    if place.words[place.at - 2].tail == place.word.head:
        return UNIT
    return None


def parts_between(words: Sequence[WordFacts], at: int, known: LanguageWords) -> bool:
    """Whether the second of two begins that something is between: `between the sluice | and the
    pump`.
    """
    if words[at].kind != "coordinating":
        return False
    for word in reversed(words[max(0, at - _BETWEEN) : at]):
        if word.closes or word.kind == "coordinating":
            return False
        if word.head in known.between:
            return True
    return False
