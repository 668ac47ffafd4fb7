"""What it costs to break behind a comma or the like: a case a row, in the order in which they
count.
"""

from collections.abc import Sequence

from mantisreed.subtitles.language.break_place import (
    CLAUSE,
    CONTENT,
    JOINING,
    LISTED,
    LOOSE,
    PHRASE,
    BreakPlace,
    Case,
    decided,
    part_begins,
)
from mantisreed.subtitles.language.word_facts import WordFacts

DASHES = ("—", "–")
"""Dashes between spaces, also behind a comma: Russian `показать, — | это`."""

_ANNOUNCING = ("determiner", "quantifier", "pronoun", "adjective", "number")
_INTERRUPTING = 3  # words
_JUST_BEGUN = 2  # words; so short a beginning of a clause goes on behind what interrupts it
_THAT = ("that", "que", "che", "dass", "dat", "że", "что")


def after_comma(place: BreakPlace) -> float:
    """The penalty of a place behind a comma or the like."""
    if not place.known.conjunctions:
        return decided(BEHIND_COMMAS, place, CLAUSE)
    # What no clause begins with may be the next of a list.
    return decided(BEHIND_COMMAS, place, LISTED)


def _is_short_part(place: BreakPlace) -> bool:
    """Whether a conjunction and a word that is described behind the comma stand before it: Polish
    `i każdy, | kto wybiera`, not `i poproś, | żeby`.
    """
    if place.at < 3 or place.word.kind != "conjunction":
        return False
    is_short = place.words[place.at - 2].kind == "coordinating"
    announced = place.before
    is_announced = announced.tail_kind in _ANNOUNCING or announced.tail in place.known.indefinite
    return is_short and is_announced


def _is_before_aside(place: BreakPlace) -> bool:
    """Whether a word between two commas says little by itself: `that sentence, | though,`."""
    asides, word, following = place.known.asides, place.word, place.next_word
    if following is None or place.texts[place.at - 1] in DASHES:
        return False
    if not word.closes:
        # Spanish `Lo que recuerdo, | sin embargo,`
        is_one = word.kind in ("preposition", "of") or place.at + 1 in place.inside
        return following.head in asides and following.ends_clause and is_one
    is_empty = word.kind not in CONTENT or word.head in asides
    return not word.ends_sentence and is_empty


def _is_behind_joining(place: BreakPlace) -> bool:
    """Whether nothing but what joins stands before the comma: Spanish `y que, | sin embargo`,
    Polish `, choć, | o ile`.
    """
    before = place.before.tail
    if place.at < 2 or before in place.known.asides:
        return False
    # Also German `, obwohl er, | soweit man wusste`.
    part = place.words[part_begins(place.words, place.at) : place.at]
    is_begun = part[0].kind == "conjunction" and part[-1].tail_kind in ("conjunction", "pronoun")
    is_of_which = len(part) == _JUST_BEGUN and before in place.known.relatives  # `, of which,`
    is_begun = (is_begun and len(part) <= _JUST_BEGUN) or is_of_which
    return is_begun or before in (*place.known.joins_words, *_THAT)


def _is_just_behind_dash(place: BreakPlace) -> bool:
    """Russian `— это, | в сущности, кольцо`."""
    return place.at > 1 and place.texts[place.at - 2] in DASHES


def _is_inside_phrase(place: BreakPlace) -> bool:
    """Whether what stands between two commas interrupts a phrase: `anything except, I'm told, | his
    own wedding`, `rather than, say, | an island`.
    """
    begins = part_begins(place.words, place.at)
    if begins == 0 or place.at - begins > _INTERRUPTING or place.word.kind in JOINING:
        return False
    opening = place.words[begins - 1]
    if opening.ends_sentence:
        return False
    return opening.kind in ("preposition", "of") or opening.head in ("than", "als", "dan")


def _is_behind_aside(place: BreakPlace) -> bool:
    """Spanish `y que, sin embargo, | cuenta`."""
    return place.before.tail in place.known.asides and place.word.kind not in JOINING


def _describes(place: BreakPlace, part: Sequence[WordFacts]) -> bool:
    """Whether words begin a clause that describes a noun, also with a preposition before it: German
    `die Schnur, | aus der sie gemacht sind, | reißt`.
    """
    is_behind_preposition = part[0].kind == "preposition" and len(part) > 1
    first = part[1] if is_behind_preposition else part[0]
    return first.head in place.known.describing


def _begins_description(place: BreakPlace) -> bool:
    """`the man, | who sat on it, was me`, which ends better behind its clause."""
    before = place.before
    is_noun = before.tail_kind == "content" and (not place.capitalises_nouns or before.is_capital)
    return is_noun and _describes(place, place.words[place.at : place.at + 2])


def _ends_subordinate(place: BreakPlace) -> bool:
    """Whether a clause ends that a conjunction began: `den man zu lange hält, | vergisst es`."""
    begins = part_begins(place.words, place.at)
    opening = place.words[begins : place.at - 1]
    is_relative = begins > 0 and _describes(place, place.words[begins : place.at])
    return is_relative or any(word.kind == "conjunction" for word in opening)


def _begins_clause(place: BreakPlace) -> bool:
    known, word = place.known, place.word.head
    return (
        word in known.conjunctions
        or word in known.coordinating
        or word in known.pronouns
        or word in known.prepositions
        or word in known.determiners
        or word in known.auxiliaries
    )


BEHIND_COMMAS: tuple[Case, ...] = (
    Case(lambda place: place.starts_sentence, PHRASE),  # `Well, | we had gone` looks forgotten
    Case(_is_short_part, PHRASE),
    Case(_is_before_aside, LOOSE),
    Case(_is_behind_joining, LOOSE),
    Case(_is_just_behind_dash, LOOSE),
    Case(_is_inside_phrase, LOOSE),
    Case(_is_behind_aside, PHRASE),
    Case(_begins_description, CLAUSE + 1),
    Case(_ends_subordinate, CLAUSE),
    Case(_begins_clause, CLAUSE),
)
