"""Rules for what stands behind articles and the like."""

from mantisreed.subtitles.language.break_place import (
    GERMAN_ADVERBS,
    INFLECTED,
    UNIT,
    BreakPlace,
)

_ARTICLES = frozenset(("der", "die", "das", "den", "dem"))


def after_determiner(place: BreakPlace) -> float | None:
    """`the | nets`; some articles stand for a noun as well."""
    if place.begins_phrase and place.before.tail in place.known.conjunctions:
        return None
    if place.before.tail in place.known.object_pronouns and place.begins_phrase:
        return 0.0  # Polish `zaobrączkowałem ich | ponad tysiąc`
    if place.before.tail in place.known.standing and _stands_alone(place):
        return None if place.before.tail in place.known.pronouns else 0.0
    return UNIT


def _stands_alone(place: BreakPlace) -> bool:
    """Whether a word stands for a noun, that is an article or the like elsewhere: `ask her |
    about it`, `all this | without ever`, `den | hat sie immer`.
    """
    word = place.word
    if word.kind == "of" or place.before.closes:
        return False
    is_first = place.at > 1 and place.words[place.at - 2].ends_clause
    if is_first and place.before.tail in place.known.describing:
        return False  # German `die Nummer angerufen, die | man uns gegeben hatte`
    if place.before.tail in place.known.conjunctions:
        # `after that | the wind got up`; elsewhere `that` may begin a clause
        return place.at > 1 and place.words[place.at - 2].kind == "preposition"
    # German `um die | achtzehntausend`
    is_noun = word.is_capital or word.is_number
    if place.capitalises_nouns and (is_noun or _has_noun_ahead(place)):
        return False
    if place.begins_phrase or word.kind in ("determiner", "pronoun", "auxiliary"):
        return True
    return place.capitalises_nouns and _stands_alone_in_german(place)


def _stands_alone_in_german(place: BreakPlace) -> bool:
    """Whether one does before a word in small letters: `ihr heute angefangen`, and not `ihr altes
    Boot`.
    """
    word, following = place.word, place.next_word
    is_inflected = word.head.endswith(INFLECTED)
    if place.before.tail in _ARTICLES:
        return word.kind == "content" and not is_inflected  # `die jüngeren unter ihnen`
    has_noun = following is not None and following.is_capital
    return word.kind == "content" and not (is_inflected and has_noun)


def _has_noun_ahead(place: BreakPlace) -> bool:
    """Whether adverbs stand between a German article and its adjective: `bei einem | auch noch so
    leichten Sturz`, `in der | dafür vorgesehenen Tasche`.
    """
    adverbs = (place.known.degree, place.known.pronominal, GERMAN_ADVERBS)
    at = place.at
    while at < min(len(place.words), place.at + 3):
        if not any(place.words[at].head in listed for listed in adverbs):
            break
        at += 1
    if at == place.at or at + 1 >= len(place.words):
        return False
    described, noun = place.words[at], place.words[at + 1]
    return described.head.endswith(INFLECTED) and not described.is_capital and noun.is_capital
