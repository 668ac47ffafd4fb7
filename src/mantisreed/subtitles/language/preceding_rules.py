"""Rules for a word that belongs to the one before it, a row each, in the order in which they
count.
"""

from itertools import product

from mantisreed.subtitles.language.break_place import (
    BEGIN_PHRASES,
    COMPARING,
    CONTENT,
    INFINITIVES,
    JOINING,
    LOOSE,
    PAIR,
    PLAIN,
    QUESTIONS,
    THAN,
    UNIT,
    VERBS_LAST,
    BreakPlace,
    Row,
    is_before_dutch_clause,
    is_copula,
    is_french_what,
    is_infinitive,
    is_out_of,
)
from mantisreed.subtitles.language.coordination import GERMAN_VERB_ENDS
from mantisreed.subtitles.language.languages import (
    CAPITALISES_NOUNS,
    ROMANCE,
    SLAVIC,
    UNITS,
)
from mantisreed.subtitles.language.pair_rules import (
    before_the_same,
    behind_range,
    in_range,
    stranded_to,
)
from mantisreed.subtitles.language.phrase_places import begins_trailing_phrase
from mantisreed.subtitles.language.verb_rules import (
    behind_aspect,
    infinitive,
    infinitive_with_sign,
    last_verb,
    slavic_infinitive,
)
from mantisreed.subtitles.language.word_facts import WordFacts

# German and Dutch prepositions that are parts of verbs as well, and begin no other phrase there.
_PARTICLES_TOO = frozenset(("an", "ab", "auf", "aus", "um", "zu", "vor", "nach", "aan", "af", "op"))
_NOUN_OR_VERB = (*CONTENT, "quantifier", "degree", "auxiliary")
_GENITIVE_ENDS = ("и", "х", "ста", "ёх", "ciu", "óch", "ech", "dziestu", "stu")
_VERB_ENDS = ("aan", *GERMAN_VERB_ENDS)  # and of Dutch verbs
# Pronouns that are objects as well as subjects.
_SUBJECTS_TOO = {"en": ("you",), "nl": ("je", "jullie", "u", "ze", "het"), "de": ("sie", "es")}
# Kinds of words that follow an object, and hardly ever a subject.
_BEHIND_OBJECTS = ("conjunction", "preposition", "infinitive", "determiner", "number")
# Infinitives with a pronoun for what is many.
_CLITIC_ENDS = {
    "it": tuple(map("".join, product(("ar", "er", "ir"), ("li", "le", "lo", "la")))),
    "es": tuple(map("".join, product(("ar", "er", "ir"), ("los", "las", "lo", "la")))),
    "pt": ("-os", "-as", "-los", "-las", "-nos", "-nas"),
}


# English verbs whose object has something done to it.
_WANTING = frozenset(
    [
        "want",
        "wants",
        "wanted",
        "need",
        "needs",
        "needed",
        "have",
        "had",
        "get",
        "got",
        "keep",
        "kept",
    ]
)


def _object(place: BreakPlace) -> float | None:
    """`saw her`; `her` may be an article as well, and then stands for nobody."""
    word, following = place.word, place.next_word
    if word.head in place.known.auxiliaries:
        return None
    if word.head in place.known.numbers and not place.is_verb(place.before.tail):
        return None  # `the birds | one by one`
    if word.head in place.known.pronouns and _is_subject(place):
        return None  # `in which direction | it has to fly`
    if word.head not in place.known.determiners or following is None or word.closes:
        return PAIR
    if following.kind in (*CONTENT, "degree"):
        return None
    return PAIR


def _is_subject(place: BreakPlace) -> bool:
    """Whether the verb of the word behind the place follows at once."""
    following = place.next_word
    if following is None or place.word.closes:
        return False
    if place.before.tail in _WANTING and following.head.endswith("ed"):
        return False  # `every reason to want | it mended`
    return following.kind == "auxiliary" or place.is_verb(following.head)


def _unit_behind(place: BreakPlace) -> float | None:
    before = place.before.tail
    if before in UNITS or before in place.known.behind:
        return UNIT
    return None


def _is_preposition(place: BreakPlace) -> bool:
    """Whether it belongs to what follows it, and not to the verb before."""
    following, known = place.next_word, place.known
    if following is None:
        return False
    if following.head in known.relatives and not place.word.closes:
        return True  # `the day | on which`
    if following.head in known.determiners or following.head in QUESTIONS:
        return True  # `you argue | about who left it`
    if place.at + 1 in place.inside and following.kind == "coordinating":
        return True  # German `zwischen Insel und Festland | hin und her`
    # `a shed | out of the wind`
    return is_out_of(place.words, place.at) and not place.is_verb(place.before.tail)


def _particle(place: BreakPlace) -> float | None:
    """`took off`, unless it is a preposition of what follows."""
    following = place.next_word
    if _is_preposition(place):
        return None
    is_adverb = place.word.head not in place.known.prepositions or place.word.closes
    if is_adverb or following is None:
        return PAIR
    if following.kind in ("preposition", "of", "infinitive"):
        # `the bird | out of the net` is a preposition of two words; `went | out of` is its verb's
        before = place.before.tail
        is_torn = place.is_verb(before) or (place.tongue == "en" and before.endswith("ing"))
    else:
        is_torn = following.kind in BEGIN_PHRASES
    return PAIR if is_torn else None


def _is_last_dutch_verb(word: WordFacts) -> bool:
    return word.closes and word.kind == "content" and word.head.endswith(("t", "en"))


def _last_preposition(place: BreakPlace) -> float | None:
    """`looking | for.`, German `fängt heute | an.`; in Romance languages it is an adverb there.

    German and Dutch particles also stand before a phrase: `drehte sich | um ohne ein Wort`.
    """
    if place.word.closes and place.tongue not in ROMANCE:
        return PAIR
    following = place.next_word
    if is_copula(following, place.tongue) and not place.before.closes:
        return PAIR  # `what they're waiting | for is`, Italian `quello che ha messo | su è`
    if is_before_dutch_clause(place.words, place.at, place.tongue):
        return PAIR
    # Dutch `wanneer u er met de rug van een mes | op tikt,`
    if place.tongue == "nl" and following is not None and _is_last_dutch_verb(following):
        return LOOSE + 4 if place.word.head in _PARTICLES_TOO else None
    is_particle = place.tongue in VERBS_LAST and place.word.head in _PARTICLES_TOO
    if is_particle and following is not None and following.kind in ("preposition", *JOINING):
        return PAIR
    return None


def _trailing(place: BreakPlace) -> float | None:
    """`used to sit | there half the night`, `works for us full time | now and`: such an adverb
    belongs to what it follows, unless it begins what comes: `there is`, `now we`.
    """
    word, following = place.word, place.next_word
    if place.before.closes or (following is not None and following.head in THAN):
        return None  # `mehr als zehn`
    if following is not None and following.kind == "of" and not word.closes:
        return None  # Spanish `dentro de la red`
    if word.closes or following is None:
        return LOOSE
    # `when I got there | nobody had`
    is_behind_verb = place.is_verb(place.before.tail) and word.head in ("here", "there")
    if is_behind_verb and following.kind == "pronoun":
        return LOOSE
    goes_on = following.kind in (*BEGIN_PHRASES, "determiner", "quantifier", "number")
    # German `keine Fragen | mehr haben`
    goes_on = goes_on or (place.tongue in VERBS_LAST and following.kind == "auxiliary")
    is_verb = following.kind == "content" and place.is_verb(following.head)
    return LOOSE if goes_on or is_verb else None


def _floating(place: BreakPlace) -> float | None:
    """`we rang them | all`, Italian `bisogna cambiarli | tutti`; not `we watched it | all day`."""
    before, following = place.before, place.next_word
    if before.closes:
        return None
    goes_on = following is not None and following.kind in (*CONTENT, "determiner")
    if goes_on and not place.word.closes and place.tongue not in SLAVIC:
        return None  # it counts the noun behind it
    known = place.known
    has_pronoun = before.tail in known.object_pronouns or before.tail in known.pronouns
    if has_pronoun or before.tail.endswith(_CLITIC_ENDS.get(place.tongue, ())):
        return PAIR
    return None


def _more_of_it(place: BreakPlace) -> float | None:
    """Spanish `unos cincuenta minutos | más para`: it follows what it counts."""
    following = place.next_word
    if place.word.head not in COMPARING or place.before.closes:
        return None
    ends_there = place.word.closes or following is None or following.kind in BEGIN_PHRASES
    is_counted = place.before.tail_kind == "content" and place.phrase_length > 0
    return LOOSE if ends_there and is_counted else None


def _counted_genitive(place: BreakPlace) -> float | None:
    """Russian `в радиусе | десяти километров`, Polish `w promieniu | dziesięciu`: of a number."""
    before = place.before
    is_noun = before.tail_kind == "content" and not place.is_verb(before.tail)
    if not is_noun or before.closes or not place.word.head.endswith(_GENITIVE_ENDS):
        return None
    return LOOSE - 8


def _possessive(place: BreakPlace) -> float | None:
    """Italian `con parole | sue`, Spanish `un amigo | mío`: behind its noun."""
    following = place.next_word
    is_noun = place.before.tail_kind == "content" and not place.before.closes
    goes_on = following is not None and following.kind in _NOUN_OR_VERB
    return LOOSE + 4 if is_noun and (place.word.closes or not goes_on) else None


def _german_of(place: BreakPlace) -> float | None:
    """German `eine Gruppe | von Studenten`: nearly a genitive."""
    if place.word.head in ("von", "vom") and place.before.is_capital and not place.before.closes:
        return PLAIN
    return None


def _somebody_described(place: BreakPlace) -> float | None:
    """English `there is always | somebody who prays`: an object, which its clause follows."""
    following = place.next_word
    if following is None or following.kind != "conjunction" or place.word.closes:
        return None
    return PLAIN


def _object_alone(place: BreakPlace) -> float | None:
    """French `j'en prends | un quand il vient`: it stands for a noun."""
    following = place.next_word
    if following is None or place.word.closes:
        return _last_of_clause(place)
    if following.head in place.known.determiners or place.at + 1 in place.inside:
        return None  # `all that way`
    return _last_of_clause(place)


def _last_of_clause(place: BreakPlace) -> float | None:
    """What a clause ends with, also before a conjunction, belongs to the verb before it."""
    following = place.next_word
    if place.before.tail_kind != "content" or place.before.closes:
        return None
    is_last = place.word.closes or following is None or following.kind in JOINING
    return LOOSE if is_last else None


def _trailing_phrase(place: BreakPlace) -> float | None:
    """Italian `quello che mi preoccupa | di più`, `venti chilometri | all'ora`, which do not
    begin what comes.
    """
    if place.before.closes or place.before.kind in JOINING:
        return None
    return LOOSE if begins_trailing_phrase(place.words, place.at, place.tongue) else None


def _strong_subject(place: BreakPlace) -> float | None:
    """Italian `te lo dico | io che ne ho presi tanti`: the subject of the verb before it; always
    behind an infinitive: `aprirlo | io per nessuna ragione`.
    """
    if is_infinitive(place.before, place.tongue) and not place.before.closes:
        return PAIR if place.word.head in place.known.subjects else None
    return _last_of_clause(place)


def _inverted_pronoun(place: BreakPlace) -> float | None:
    """Behind the verb: in questions, and in some languages elsewhere."""
    before = place.before.tail
    if is_french_what(place.words, place.at, place.tongue):
        return None
    if before in place.known.auxiliaries:
        return PAIR
    if place.tongue in VERBS_LAST and place.is_verb(before):
        return PAIR
    # `davon ziehen | wir`: in these languages a subject follows what it does at once
    written = place.texts[place.at - 1]
    is_small = written[:1].islower() or place.starts_sentence
    is_verbal = place.before.tail_kind == "content" and is_small
    is_sure = before.endswith(_VERB_ENDS) or place.word.head in place.known.subjects
    if place.tongue in VERBS_LAST and is_verbal and is_sure and not place.before.closes:
        return PAIR
    return None


def _you_as_object(place: BreakPlace) -> float | None:
    """English `going to ask you | why`, `gave you | the pliers`, Dutch `ik waarschuw je | dat`:
    what no verb follows is an object.
    """
    word, following = place.word, place.next_word
    if (
        word.head not in _SUBJECTS_TOO[place.tongue]
        or place.before.closes
        or place.before.tail_kind != "content"
    ):
        return None
    if word.closes or following is None:
        return PAIR
    return PAIR if following.kind in _BEHIND_OBJECTS else None


def _pronoun_behind_pronoun(place: BreakPlace) -> float | None:
    """`habe ich | sie vergessen`, `wird dich | jemand fragen`."""
    known = place.known
    is_pronoun = place.before.tail in known.pronouns or (
        place.before.tail in known.object_pronouns and place.word.head in known.pronouns
    )
    is_pair = is_pronoun and place.at > 1
    if is_pair and not place.before.closes:
        return PAIR
    return None


def _negation(place: BreakPlace) -> float | None:
    """French `ne prenez | pas`."""
    before = range(max(0, place.at - 3), place.at)
    if any(place.words[number].head in ("ne", "n") for number in before):
        return PAIR
    return None


def _usted(place: BreakPlace) -> float | None:
    """Spanish `no se marchó | usted`: behind its verb."""
    is_behind_verb = place.before.tail_kind in ("content", "auxiliary")
    return PAIR if is_behind_verb and not place.before.closes else None


def _number_behind_noun(place: BreakPlace) -> float | None:
    """`platform | seven`, `Gleis | sieben`."""
    is_noun = place.before.tail_kind == "content" and not place.is_verb(place.before.tail)
    if place.capitalises_nouns and not place.before.is_capital:
        return None
    if is_noun and place.word.closes and not place.before.closes:
        return PAIR
    return None


def _part_of_number(place: BreakPlace) -> float | None:
    """German `ein Drittel | davon hat`: of the noun before it, where a verb follows."""
    following = place.next_word
    if place.before.tail_kind != "content" or not place.before.is_capital or following is None:
        return None
    return PAIR if following.kind == "auxiliary" and not place.before.closes else None


def _genitive(place: BreakPlace) -> float | None:
    """German `die Hilfe | der Feuerwehr`: a noun's noun stays with it."""
    following = place.next_word
    if not place.before.is_capital or place.starts_sentence or following is None:
        return None
    if place.before.closes or place.before.kind != "content":
        return None
    return PLAIN + 4 if following.is_capital or place.word.head in ("des", "eines") else None


PRECEDING: tuple[Row, ...] = (
    Row("object_pronouns", _object),
    Row("behind", _unit_behind),
    Row("particles", _particle),
    Row("prepositions", _last_preposition),
    Row("ranges", stranded_to, frozenset(("en",))),
    Row("trailing", _trailing),
    Row("floating", _floating),
    Row(None, _trailing_phrase),
    Row("possessives", _possessive),
    Row("degree", _more_of_it, ROMANCE),
    Row("prepositions", behind_aspect, ROMANCE),
    Row("auxiliaries", behind_aspect, frozenset(("fr",))),
    Row("numbers", _counted_genitive, SLAVIC),
    Row("standing", _object_alone),
    Row("ranges", behind_range),
    Row("ranges", in_range),
    Row("prepositions", before_the_same),
    Row("of", before_the_same),
    Row("formal_subjects", _usted, frozenset(("es",))),
    Row("prepositions", _german_of, CAPITALISES_NOUNS),
    Row("indefinite", _somebody_described),
    Row("genitives", _genitive, CAPITALISES_NOUNS),
    Row("partitive", _part_of_number),
    Row("pronouns", _you_as_object, frozenset(_SUBJECTS_TOO)),
    Row("pronouns", _inverted_pronoun),
    Row("pronouns", _pronoun_behind_pronoun, VERBS_LAST),
    Row("object_pronouns", _pronoun_behind_pronoun, VERBS_LAST),
    Row("pronouns", _strong_subject, frozenset(("it", "es", "pt"))),
    Row("negations", _negation),
    Row("numbers", _number_behind_noun),
    Row(None, infinitive, frozenset(INFINITIVES)),
    Row(None, slavic_infinitive, SLAVIC),
    Row(None, infinitive_with_sign, VERBS_LAST),
    Row(None, last_verb, VERBS_LAST),
)
