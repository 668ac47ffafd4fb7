"""Rules for infinitives, and for verbs that a clause ends with: they hang on what stands before
them.
"""

from mantisreed.subtitles.language.break_place import (
    BEGIN_PHRASES,
    LOOSE,
    PLAIN,
    BreakPlace,
    is_infinitive,
    is_subordinate,
)
from mantisreed.subtitles.language.languages import SLAVIC_INFINITIVES

_PARTICIPLES = ("gehad", "geweest", "geworden")  # of Dutch auxiliaries
_SHORT = 4  # letters of a Dutch word that is hardly a participle


def infinitive(place: BreakPlace) -> float | None:
    """Romance `voulez | faire`, `supieron | decirme`: a bare infinitive hangs on the verb before
    it.
    """
    word = place.word
    if word.kind != "content" or place.before.closes:
        return None
    if is_infinitive(word, place.tongue) and place.before.tail_kind == "content":
        return LOOSE
    return None


def behind_aspect(place: BreakPlace) -> float | None:
    """Romance `tornare | a parlare`, `d'aller | s'y promener`: of the verb that says how it goes
    on.
    """
    following = place.next_word
    if following is None or place.before.closes or place.word.closes:
        return None
    is_aspect = place.before.tail in place.known.aspectual
    return PLAIN + 4 if is_aspect and is_infinitive(following, place.tongue) else None


def slavic_infinitive(place: BreakPlace) -> float | None:
    """Russian `начнёт | собираться`: an infinitive hangs on the verb before it."""
    ends = SLAVIC_INFINITIVES[place.tongue]
    is_verbal = place.word.kind == "content" and place.word.head.endswith(ends)
    is_behind_verb = place.is_verb(place.before.tail) and not place.before.closes
    return LOOSE if is_verbal and is_behind_verb else None


def infinitive_with_sign(place: BreakPlace) -> float | None:
    """German `den Topf | zu setzen`, Dutch `de pan | te zetten`."""
    following = place.next_word
    if following is None or place.before.closes:
        return None
    is_verbal = following.kind == "content" and not following.is_capital
    if place.word.head in ("zu", "te") and is_verbal and following.head.endswith("n"):
        return LOOSE
    return None


def last_verb(place: BreakPlace) -> float | None:
    """The verb that a clause waited for."""
    is_small = place.texts[place.at][:1].islower()
    if not is_small or place.word.kind not in ("content", "auxiliary"):
        return None
    if place.word.closes or _ends_before_and(place) or _ends_with_verbs(place):
        return LOOSE + 4
    if _ends_dutch_clause(place):
        return LOOSE + 4
    return None


def _ends_before_and(place: BreakPlace) -> bool:
    """Whether a clause ends with a verb, and another one follows: `nasse Füße | bekommen und eine
    gute Geschichte`, `wenn die Sonne | aufgeht und`, `als ich sechs Jahre alt | war und`.
    """
    word, following = place.word, place.next_word
    if following is None or following.kind != "coordinating":
        return False
    is_behind_noun = place.before.is_capital and word.head.endswith(("en", "t", "te"))
    is_behind_object = place.before.tail in place.known.object_pronouns
    is_last_auxiliary = word.kind == "auxiliary" and is_subordinate(place)
    return is_behind_noun or is_last_auxiliary or (is_behind_object and word.head.endswith("en"))


def _ends_with_verbs(place: BreakPlace) -> bool:
    """Whether an auxiliary belongs to the verb before it: German `behandelt | werden musste.`,
    Dutch `aan wie we het meeste te danken | hebben`.
    """
    if place.word.kind != "auxiliary" or place.before.is_capital:
        return False
    has_sign = place.at > 1 and place.words[place.at - 2].head in ("zu", "te")
    is_infinitive_before = has_sign and place.before.tail_kind == "content"
    return is_infinitive_before or _ends_with_auxiliary(place)


def _ends_with_auxiliary(place: BreakPlace) -> bool:
    """Whether one more auxiliary follows, with which the clause ends."""
    following = place.next_word
    return following is not None and following.closes and following.kind == "auxiliary"


def _ends_dutch_clause(place: BreakPlace) -> bool:
    """Whether a Dutch verb ends a clause that goes on: `dat in de la | ligt en kijk`, `geen tijd |
    gehad om te eten`, `tenminste | kunt lezen.`. German nouns show it by their capital letter.
    """
    following = place.next_word
    if place.tongue != "nl" or following is None or place.before.tail_kind != "content":
        return False
    head = place.word.head
    if place.word.kind == "auxiliary":
        # `die naar haar toe gekeerd | is een heel klein beetje harder`
        verb = place.before.tail
        if verb.startswith("ge") and verb.endswith(("d", "t")) and len(verb) > _SHORT:
            return True
        is_last = following.closes and following.kind in ("content", "auxiliary")
        is_last = is_last or following.head == "om"  # `die bereid | is om te blijven`
        return is_last or (head in _PARTICIPLES and following.kind in BEGIN_PHRASES)
    is_verbal = place.is_verb(head) or head.endswith(("en", "t"))
    if following.head == "zonder" and head.endswith("en"):
        return True  # `niet langs een schoenmaker | lopen zonder het gevoel`
    return is_verbal and following.kind == "coordinating" and is_subordinate(place)
