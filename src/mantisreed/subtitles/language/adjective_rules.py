"""Rules for what stands behind an adjective or the like, inside of a noun phrase."""

from mantisreed.subtitles.language.break_place import (
    BEGIN_PHRASES,
    COMPARING,
    CONTENT,
    INFLECTED,
    LOOSE,
    PAIR,
    BreakPlace,
)

_NOUNS_TOO = frozenset(("can", "will", "might", "must"))  # auxiliaries that are nouns as well
# What nouns and verbs hardly ever end with.
_ADJECTIVE_ENDS = {
    "pl": (
        "owe",
        "sza",
        "szy",
        "sze",
        "ski",
        "ska",
        "skie",
        "one",
        "ane",
        "ące",
        "ąca",
        "ego",
        "emu",
        "ych",
        "ymi",
        "owej",
        "owany",
        "iony",
        "owana",
        "owane",
        "nej",
        "iej",
    ),
    "ru": (
        "ый",
        "ая",
        "яя",
        "ое",
        "ые",
        "ого",
        "его",
        "ому",
        "ему",
        "ым",
        "ыми",
        "ими",
        "ую",
        "юю",
        "ых",
        # Not all in `ой` and `ей`, as many nouns end so too.
        "ской",
        "овой",
        "чной",
        "нной",
        "льной",
        "рной",
        "тной",
        "дной",
        "жной",
        "осной",
        "шней",
        "щей",
        "вшей",
    ),
}
# And participles, which have words of their own before the noun that they describe.
_PARTICIPLE_ENDS = {
    "pl": ("oną", "onej", "aną", "anej", "onego", "anego", "ąca", "ącej", "ącą", "ącego"),
    "ru": ("нную", "нного", "нной", "нный", "нные", "нных", "ющий", "ющая", "ющие", "вший", "вшие"),
}
_COMPARATIVE_ENDS = {
    "en": ("er", "more", "less", "too"),
    "de": ("er", "mehr"),
    "nl": ("er",),
    "pl": ("ej", "szy", "sza", "sze"),
    "ru": ("ее", "ше", "же", "че"),
}


def after_attributive(place: BreakPlace) -> float | None:
    """English `their working | lives`, `a well-ventilated | place`: a form of a verb between an
    article and its noun.
    """
    before = place.before
    if place.at < 2 or not before.tail.endswith(("ing", "ed")) or before.tail_kind != "content":
        return None
    if place.words[place.at - 2].kind not in ("determiner", "of") or place.word.kind != "content":
        return None
    return PAIR - 4


def after_graded(place: BreakPlace) -> float | None:
    """English `an absolutely faultless | race`: an adverb between an article and its adjective."""
    if place.at < 3 or place.before.tail_kind != "content" or place.word.kind not in CONTENT:
        return None
    adverb, article = place.words[place.at - 2], place.words[place.at - 3]
    if not adverb.tail.endswith("ly") or article.kind != "determiner" or adverb.closes:
        return None
    return PAIR - 4


def after_amount(place: BreakPlace) -> float | None:
    """Italian `un po' | più forte`, English `a little | harder`, Polish `trochę | później`."""
    known, word = place.known, place.word.head
    if place.before.closes:
        return None
    is_more = word in known.degree or word in COMPARING
    is_comparative = word.endswith(_COMPARATIVE_ENDS.get(place.tongue, ())) and len(word) > 3
    if is_more or is_comparative:
        return PAIR - 4
    return None


def after_pronominal(place: BreakPlace) -> float | None:
    """German `in der dafür | vorgesehenen Tasche`."""
    if place.at < 2 or place.words[place.at - 2].kind != "determiner":
        return None
    return PAIR if place.word.kind in CONTENT and not place.is_capital else None


def after_adjective(place: BreakPlace) -> float | None:
    """`old | nets`, `the last few | days`."""
    if place.at - 1 in place.inside:
        return None  # Italian `abbia di nuovo | spostato`
    # English `the spare can`
    following = place.next_word
    ends_there = place.word.closes or following is None or following.kind in BEGIN_PHRASES
    is_inside = place.phrase_length > 0
    is_noun = is_inside and place.word.head in _NOUNS_TOO and ends_there
    is_counted = is_inside and place.word.kind == "quantifier"  # `the last few | days`
    if place.word.kind in CONTENT or place.word.is_number or is_noun or is_counted:
        return PAIR + 4
    return None


def after_genitive(place: BreakPlace) -> float | None:
    """`the warden's hut`."""
    word = place.before.tail
    if not word.endswith("'s") or word in place.known.pronouns:
        return None
    if place.word.kind in CONTENT:
        return PAIR + 4
    return None


def after_adverb(place: BreakPlace) -> float | None:
    """English `slowly | walking`."""
    word = place.before.tail
    if not word.endswith("ly") or len(word) < 5:
        return None
    if place.word.kind in CONTENT:
        return LOOSE
    return None


def after_inflected_adjective(place: BreakPlace) -> float | None:
    """Russian `старая | лодка`, Polish `starego | mostu`: adjectives show themselves."""
    word = place.before.tail
    endings = _ADJECTIVE_ENDS[place.tongue]
    if place.before.tail_kind != "content" or place.before.closes:
        return None
    is_participle = place.word.kind == "preposition" and word.endswith(
        _PARTICIPLE_ENDS[place.tongue]
    )
    if is_participle and place.at > 1 and not place.words[place.at - 2].closes:
        return LOOSE - 4  # `в предназначенную | для этого сумку`
    if place.word.kind != "content":
        return None
    return LOOSE if len(word) > 4 and word.endswith(endings) else None


def after_measure(place: BreakPlace) -> float | None:
    """German `eine Flasche | trockenen Apfelwein`, Dutch `een stuk | boter`."""
    following = place.next_word
    if place.before.closes or place.word.kind not in CONTENT:
        return None
    has_noun = following is not None and following.is_capital and not place.word.closes
    is_noun = place.is_capital or (has_noun and place.word.head.endswith(INFLECTED))
    return LOOSE + 4 if is_noun or not place.capitalises_nouns else None


def before_noun(place: BreakPlace) -> float | None:
    """`die großen Vögel`, `Herr Tiede`."""
    if not place.is_capital:
        return None
    written, word = place.texts[place.at - 1], place.before.tail
    if written[:1].islower() and word.endswith(INFLECTED) and word not in place.known.verbs:
        return PAIR
    if place.before.is_capital and place.word.kind == "content" and not place.starts_sentence:
        return LOOSE
    return None
