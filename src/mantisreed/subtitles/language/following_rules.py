"""Rules for a word that belongs to what follows it, a row each, in the order in which they
count.
"""

from mantisreed.subtitles.language.adjective_rules import (
    after_adjective,
    after_adverb,
    after_amount,
    after_attributive,
    after_genitive,
    after_graded,
    after_inflected_adjective,
    after_measure,
    after_pronominal,
    before_noun,
)
from mantisreed.subtitles.language.auxiliary_rules import (
    after_auxiliary,
    after_auxiliary_with_last_verb,
    after_negation,
)
from mantisreed.subtitles.language.break_place import (
    GERMAN_ADVERBS,
    JOINING,
    LOOSE,
    PAIR,
    PHRASE,
    PLAIN,
    PREPOSITION,
    QUESTIONS,
    THAN,
    UNIT,
    VERBS_LAST,
    WELL,
    BreakPlace,
    Row,
    is_before_dutch_clause,
    is_copula,
    is_infinitive,
    is_measure,
    particle_pairs,
)
from mantisreed.subtitles.language.determiner_rules import after_determiner
from mantisreed.subtitles.language.languages import (
    CAPITALISES_NOUNS,
    ROMANCE,
    SLAVIC,
    SLAVIC_INFINITIVES,
    UNITS,
)
from mantisreed.subtitles.language.pair_rules import after_the_first
from mantisreed.subtitles.language.phrase_places import ends_opener
from mantisreed.subtitles.language.word_facts import is_number
from mantisreed.transcript.writing import is_spaceless

_WHOM = ("quien", "quienes")
_HOW_OFTEN = ("always", "often", "usually", "still", "already", "never", "sometimes")
_CLITICS = frozenset(("ne", "n"))
_BEFORE_VERBS = ("pronoun", "auxiliary", "infinitive")
# English verbs that another verb follows without `to`, behind their object.
_CAUSING = frozenset(
    [
        "let",
        "lets",
        "make",
        "makes",
        "made",
        "help",
        "helps",
        "helped",
        "see",
        "saw",
        "hear",
        "heard",
        "watch",
    ]
)
_REACH = 6  # words between the two parts of a conjunction
_SHORT = 2  # letters


def _inside_name(place: BreakPlace) -> float | None:
    if place.capitalises_nouns or place.starts_sentence or len(place.texts[place.at - 1]) < 2:
        return None
    if place.before.is_capital and place.is_capital:
        return UNIT
    return None


def _after_title(place: BreakPlace) -> float | None:
    if place.is_capital:
        return UNIT
    return None


def _after_number(place: BreakPlace) -> float | None:
    """`3 km`, `three birds`, `two of them`."""
    if not place.before.is_number:
        return None
    known, following = place.known, place.word.head
    is_unit = following in UNITS or following in known.behind or place.texts[place.at] in UNITS
    if is_unit or is_number(following) or following in known.numbers:
        return UNIT
    further = place.next_word
    if following in known.coordinating and further is not None and further.is_number:
        return UNIT
    # Nouns in `ść` end as infinitives do.
    is_behind_date = (
        place.tongue == "pl" and place.is_verb(following) and not following.endswith("ść")
    )
    if following in known.auxiliaries or is_behind_date:
        return PHRASE  # Polish `w dwa tysiące dwunastym | złapaliśmy`
    is_adverb = place.tongue == "de" and following in GERMAN_ADVERBS  # `sechs | noch einmal`
    if is_adverb or place.word.kind not in ("content", "adjective", "quantifier", "degree"):
        return 0.0
    # `one` and `ein` are articles as well; a number behind a noun, such as `room 12`, ends its
    # phrase, and so does a year.
    is_year = len(place.before.tail) == 4 and place.before.tail.isdigit()
    return LOOSE if is_year else PAIR + 4


def _after_number_alone(place: BreakPlace) -> float | None:
    """`three on the bank and three | by the river`: it stands for a noun."""
    if not place.before.is_number or place.word.kind != "preposition":
        return None
    before = place.words[place.at - 2] if place.at > 1 else None
    begins = before is None or before.closes or before.kind == "coordinating"
    return LOOSE - 4 if begins else None


def _after_numbered(place: BreakPlace) -> float | None:
    """`room | seven`, `numéro | onze`."""
    if place.word.is_number and not place.before.closes:
        return UNIT
    return None


def _after_naming(place: BreakPlace) -> float | None:
    """`a folder called | counts`, `un hombre llamado | Rufo`."""
    if place.before.closes or place.word.kind != "content":
        return None
    return PAIR


def _after_opener(place: BreakPlace) -> float | None:
    """`by the time | the tide had turned`, and not `it was time | to go`."""
    opens = ("determiner", "pronoun", "content", "adjective", "number", "quantifier")
    if place.before.closes or place.word.kind not in opens:
        return None
    if not ends_opener(place.words, place.at, place.tongue):
        return None
    return PAIR


def _in_pair(place: BreakPlace) -> float | None:
    # `a | few`: an article belongs to its noun still more
    if place.at not in place.inside:
        return None
    # By its list, as Romance articles are of another kind: Spanish `debemos la | mayor parte`.
    before, known = place.before.tail, place.known
    if before in known.determiners and before not in known.standing:
        return None
    following = place.next_word
    if following is not None and following.head in _WHOM and place.word.kind == "preposition":
        return None  # `dar las gracias | a quienes`
    return PAIR - 6


def _after_coordinating(place: BreakPlace) -> float | None:
    if place.at > 1 and place.before.tail == "so" and place.words[place.at - 2].head == "or":
        return None  # `fifty minutes or so | to catch up`
    joins_numbers = place.at > 1 and place.words[place.at - 2].is_number and place.word.is_number
    if joins_numbers:
        return UNIT
    return PAIR


def _after_conjunction(place: BreakPlace) -> float | None:
    if place.before.tail in THAN and place.word.head in place.known.determiners:
        return PAIR  # `rather than | that bit of cardboard`
    if place.word.kind == "conjunction" and place.before.tail not in place.known.prepositions:
        return PHRASE
    return PAIR


def _after_of(place: BreakPlace) -> float | None:
    return UNIT


def _after_particle(place: BreakPlace) -> float | None:
    """`turned off | the light`, `looked after | the birds`: some belong to the verb before them."""
    if place.at < 2 or place.begins_phrase or place.word.head in place.known.relatives:
        return None
    if is_infinitive(place.word, place.tongue):
        return None  # Spanish `empiezan a | ponerse nerviosos`
    pair = place.words[place.at - 2].tail, place.before.tail
    # English `to` is never a particle: `got to the top`.
    is_pair = place.is_verb(pair[0]) and place.at - 1 in place.inside and pair[1] != "to"
    if is_pair or pair in particle_pairs(place.tongue):
        if place.tongue == "en" and place.word.head.endswith("ing"):
            return LOOSE + 4  # `given up | noticing it`
        return PLAIN - 2
    return None


def _after_preposition(place: BreakPlace) -> float | None:
    if is_before_dutch_clause(place.words, place.at - 1, place.tongue):
        return 0.0
    if place.word.head in place.known.relatives:
        return UNIT  # `in which`
    if is_copula(place.word, place.tongue):
        return 0.0  # `what they're waiting for | is`
    following = place.next_word
    if place.tongue == "en":
        is_about = is_measure(place.words, place.at)
    else:
        is_before_number = following is not None and following.is_number
        is_about = place.word.kind == "preposition" and is_before_number
    if place.tongue == "en" and place.word.head in QUESTIONS:
        return LOOSE + 8  # `it depends on | where you are`
    if place.begins_phrase and place.word.head not in place.known.determiners and not is_about:
        return PREPOSITION  # `went out in the rain`, and not `for about | five minutes`
    return PAIR  # also `for that moment`, where `that` is no conjunction


def _after_verb_like(place: BreakPlace) -> float | None:
    """`I like | the way she holds a bird`: the verb, and not the preposition."""
    if place.at < 2 or place.before.tail != "like":
        return None
    if place.words[place.at - 2].tail_kind in _BEFORE_VERBS:
        return 0.0
    return None


def _after_pronoun_object(place: BreakPlace) -> float | None:
    """`half of you | have not slept`, `explain it | to the farmer`, German `müssen wir | noch die
    Netze zumachen`.
    """
    if place.at < 2 or place.words[place.at - 2].closes:
        return None
    before = place.words[place.at - 2]
    is_object = place.before.tail not in place.known.subjects and "'" not in place.before.tail
    # Romance `chacune d'entre elles | enjambe la barrière`: no subject stands there.
    is_object = is_object or place.tongue in ("es", "fr", "it")
    if before.kind in ("preposition", "of") and is_object:
        return 0.0
    is_verb = before.tail_kind == "auxiliary" or place.is_verb(before.tail)
    if place.tongue in VERBS_LAST and is_verb:
        return 0.0
    return 0.0 if place.begins_phrase and _is_object(place) else None


def _after_pronoun(place: BreakPlace) -> float | None:
    following = place.word
    if place.before.tail in place.known.trailing and following.kind != "auxiliary":
        return None  # `the shop there | shut its doors`
    # English `like` is a verb there; French `ne` is one with the verb behind it.
    if following.head == "like" or (following.kind == "pronoun" and following.head in _CLITICS):
        return PAIR
    if following.kind in ("determiner", "pronoun", "coordinating"):
        return None  # `you | or I` is asked what it joins
    if place.begins_phrase:
        return PLAIN
    if place.tongue in VERBS_LAST and not _may_be_verb(place):
        return PLAIN + 4  # its verb comes later: `wenn sie | nichts sieht`
    return PAIR


def _after_indefinite(place: BreakPlace) -> float | None:
    """French `à moins que quelqu'un | ne vienne`: nearly a noun."""
    if place.before.tail not in place.known.pronouns:
        return None  # German `davon | hat`
    return PLAIN + 4 if place.word.kind in ("auxiliary", "pronoun") else None


def _made_to_do(place: BreakPlace) -> float | None:
    """English `let them | go through the window`, `help us | find it`: a bare infinitive."""
    if place.at < 2 or place.words[place.at - 2].tail not in _CAUSING:
        return None
    is_verb = place.word.kind == "content" and not place.begins_phrase
    return LOOSE if is_verb and not place.before.closes else None


def _pronoun_before_infinitive(place: BreakPlace) -> float | None:
    """Polish `da się go | odczytać`: the object of an infinitive."""
    if place.before.closes or not place.word.head.endswith(SLAVIC_INFINITIVES[place.tongue]):
        return None
    return PAIR


def _is_object(place: BreakPlace) -> bool:
    """Whether the pronoun before a place is no subject, as it stands behind a verb."""
    is_free = place.before.tail in ("it", "you") and not place.before.closes
    return is_free and place.words[place.at - 2].tail_kind == "content"


def _may_be_verb(place: BreakPlace) -> bool:
    word = place.word
    # In a clause that a conjunction begins the verb comes last: `wenn wir | doppelt so viele haben`
    is_subordinate = place.at > 1 and place.words[place.at - 2].kind == "conjunction"
    if is_subordinate and word.kind == "content" and not word.closes:
        return False
    return word.kind == "auxiliary" or (word.kind == "content" and not word.is_capital)


def _after_degree(place: BreakPlace) -> float | None:
    following = place.next_word
    # Italian `quello che mi preoccupa di più | non sono le reti`
    ends_phrase = place.at - 1 in place.inside and place.word.kind == "auxiliary"
    # `vérifie toujours | ce que la machine a trouvé`
    is_clause = following is not None and following.kind == "conjunction"
    if ends_phrase or (is_clause and place.word.kind == "pronoun"):
        return None
    if place.word.kind in (*JOINING, "pronoun"):
        # `how | that was found out`
        return PAIR if place.word.head in place.known.determiners else None
    is_behind_well = place.before.tail in WELL and place.word.kind == "of"
    if is_behind_well and following is not None and is_infinitive(following, place.tongue):
        return 0.0  # `elle se gardera bien | de venir`, and not `bien | des livres`
    if place.begins_phrase or (place.tongue in ROMANCE and place.word.kind == "determiner"):
        return LOOSE
    if place.before.tail in _HOW_OFTEN and place.word.kind == "determiner":
        return LOOSE - 4  # `is always | a bit later than`
    return PAIR - 4


def _after_quantifier(place: BreakPlace) -> float | None:
    kind = place.word.kind
    # Romance articles are pronouns before a verb as well: `toda la bandada`.
    is_verbal = kind == "auxiliary" and place.word.head not in place.known.determiners
    is_subject = kind == "pronoun" and place.word.head in place.known.subjects
    # `anything at all | you are unsure about`
    is_at_all = place.before.tail == "all" and place.at - 1 in place.inside
    is_subject = is_subject or (kind == "pronoun" and is_at_all)
    if kind in JOINING or is_verbal or is_subject:
        return None
    if place.begins_phrase and kind != "of":
        return LOOSE
    return PAIR - 4


def _after_floating(place: BreakPlace) -> float | None:
    """English `had both | been`, `were all | ringing`: it stands inside of a verb."""
    is_inside = place.at > 1 and place.words[place.at - 2].tail_kind == "auxiliary"
    is_verbal = place.word.kind == "auxiliary" or place.is_verb(place.word.head)
    return PAIR if is_inside and is_verbal else None


def _after_short_word(place: BreakPlace) -> float | None:
    """In a language without a table, a word of one or two letters is an article or the like."""
    is_unknown = not place.known.conjunctions
    word = place.before.bare
    if is_unknown and len(word) <= _SHORT and word.isalpha() and not is_spaceless(word[0]):
        return PAIR
    return None


def _with_participle(place: BreakPlace) -> float | None:
    """English `keep | coming back`, `started | counting them`."""
    if place.word.head.endswith("ing") and not place.before.closes:
        return PAIR
    return None


def _second_of_two(place: BreakPlace) -> float | None:
    """German `weder der Arzt noch | die Schwester`."""
    if place.before.tail != "noch":
        return None
    reach = range(max(0, place.at - _REACH), place.at)
    if any(place.words[number].head == "weder" for number in reach):
        return PAIR
    return None


FOLLOWING: tuple[Row, ...] = (
    Row(None, _inside_name),
    Row("titles", _after_title),
    Row(None, _after_number_alone),
    Row(None, _after_number),
    Row("numbered", _after_numbered),
    Row(None, _in_pair),
    Row(None, _after_opener),
    Row("naming", _after_naming),
    Row("determiners", after_determiner),
    Row("coordinating", _after_coordinating),
    Row("conjunctions", _after_conjunction),
    Row("of", _after_of),
    Row("prepositions", after_the_first),
    Row("prepositions", _after_verb_like, frozenset(("en",))),
    Row("particles", _after_particle),
    Row("prepositions", _after_particle),
    Row("prepositions", _after_preposition),
    Row("pronouns", _after_pronoun_object),
    Row("object_pronouns", _made_to_do, frozenset(("en",))),
    Row("object_pronouns", _pronoun_before_infinitive, SLAVIC),
    Row("indefinite", _after_indefinite),
    Row("pronouns", _after_pronoun),
    Row("auxiliaries", after_auxiliary_with_last_verb, VERBS_LAST),
    Row("auxiliaries", after_negation, VERBS_LAST),
    Row("auxiliaries", after_auxiliary),
    Row("with_participle", _with_participle),
    Row("degree", _after_degree),
    Row("floating", _after_floating, frozenset(("en",))),
    Row("quantifiers", _after_quantifier),
    Row("adjectives", after_adjective),
    Row("amounts", after_amount),
    Row("measures", after_measure),
    Row("pronominal", after_pronominal, VERBS_LAST),
    Row(None, after_attributive, frozenset(("en",))),
    Row(None, after_graded, frozenset(("en",))),
    Row(None, after_genitive, frozenset(("en",))),
    Row(None, after_adverb, frozenset(("en",))),
    Row(None, after_inflected_adjective, SLAVIC),
    Row(None, before_noun, CAPITALISES_NOUNS),
    Row(None, _second_of_two, frozenset(("de",))),
    Row(None, _after_short_word),
)
