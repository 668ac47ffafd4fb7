"""Rules for what stands behind an auxiliary or a negation: it belongs to the verb that follows."""

from mantisreed.subtitles.language.break_place import (
    CONTENT,
    JOINING,
    LOOSE,
    PAIR,
    PHRASE,
    PLAIN,
    PREPOSITION,
    BreakPlace,
    Case,
    decided,
    is_behind_short_clause,
    is_copula,
    is_french_what,
    is_measure,
)
from mantisreed.subtitles.language.languages import ROMANCE

_NEGATIONS = frozenset(("nicht", "zu", "nie", "kaum", "niet", "te", "nooit"))
_OF_PHRASES = ("preposition", "determiner", "quantifier", "number")


def after_auxiliary_with_last_verb(place: BreakPlace) -> float | None:
    """German `hat | gegessen.` is one, `haben | schon einmal einen gefangen` is not."""
    kind = place.word.kind
    if place.before.tail in _NEGATIONS or kind in JOINING:
        return None
    is_end = place.word.closes or place.next_word is None
    is_last = kind == "content" and is_end and not place.is_capital
    if is_last or kind in ("auxiliary", "pronoun"):
        return PAIR
    return PHRASE


def after_negation(place: BreakPlace) -> float | None:
    """German `so gut wie nie | zu Gesicht`, Dutch `vertelde me nooit | hoe`."""
    kind = place.word.kind
    if place.before.tail not in _NEGATIONS or kind not in ("preposition", "conjunction"):
        return None
    return PLAIN if kind == "preposition" else 0.0


def after_auxiliary(place: BreakPlace) -> float | None:
    """English `have | seen`, French `nous avions | posé`."""
    return decided(AFTER_AUXILIARIES, place, PAIR)


def _is_french_what(place: BreakPlace) -> bool:
    return is_french_what(place.words, place.at, place.tongue)


def _is_inside_verb(place: BreakPlace) -> bool:
    """English `they had | both been hearing`, `has | once again called`."""
    following = place.next_word
    if place.word.head == "once":
        return place.at + 1 in place.inside
    is_verb = following is not None and (
        following.kind == "auxiliary" or place.is_verb(following.head)
    )
    return is_verb and place.tongue == "en" and place.word.head in place.known.floating


def _is_joining_adverb(place: BreakPlace) -> bool:
    """`était | si épais que`."""
    return place.word.kind in JOINING and place.word.head in place.known.degree


def _is_before_article(place: BreakPlace) -> bool:
    """Whether a Romance article follows, which is a pronoun before a verb."""
    following = place.next_word
    if place.tongue not in ROMANCE or place.word.head not in place.known.determiners:
        return False
    if following is None or following.kind not in CONTENT:
        return False
    return not place.is_verb(following.head)


def _is_indefinite(place: BreakPlace) -> bool:
    is_english = place.tongue == "en" and is_copula(place.before, place.tongue)
    return is_english and place.word.head in place.known.indefinite


def _to_phrase(place: BreakPlace) -> float:
    is_to = place.before.tail == "to"
    if is_to and place.word.kind == "preposition" and not is_measure(place.words, place.at):
        return PREPOSITION  # `the only person I spoke to | between two and four`
    if is_to:
        return PAIR  # of a place or person it is a preposition
    return LOOSE - 4


AFTER_AUXILIARIES: tuple[Case, ...] = (
    Case(is_behind_short_clause, 0.0),
    Case(_is_french_what, PREPOSITION),
    Case(_is_inside_verb, PAIR),
    Case(_is_joining_adverb, LOOSE),
    Case(lambda place: place.word.kind in JOINING, PREPOSITION),
    Case(lambda place: place.word.kind in _OF_PHRASES, _to_phrase),
    Case(_is_before_article, LOOSE + 8),  # Spanish `a quien debemos | la mayor parte`
    Case(_is_indefinite, LOOSE - 4),  # `if there is | anything at all`
)
