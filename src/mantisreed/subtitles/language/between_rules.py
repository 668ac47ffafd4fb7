"""What it costs to break between two words that nothing ties: rules by the kind of the word behind
the place, in the order in which they count.
"""

from collections.abc import Callable

from mantisreed.subtitles.language.break_place import (
    BEGIN_PHRASES,
    COMPARING,
    CONJUNCTION,
    CONTENT,
    JOINING,
    LOOSE,
    PAIR,
    PHRASE,
    PLAIN,
    PREPOSITION,
    UNIT,
    WELL,
    BreakPlace,
    Case,
    decided,
    is_before_object,
    is_behind_short_clause,
    is_copula,
    is_dutch_article,
    is_french_only,
    is_infinitive,
    is_out_of,
    is_short_relative,
    is_than_number,
    part_begins,
)
from mantisreed.subtitles.language.coordination import Joined, is_verb, joined_by
from mantisreed.subtitles.language.languages import ROMANCE, SLAVIC
from mantisreed.subtitles.language.word_facts import WordFacts

_MAY_BE = ("sea", "sean", "seja", "sejam", "fuera", "fuese", "fosse")
_SHORT = 6  # letters
# Before the verb of a sentence that a clause has interrupted; it begins anew there.
_RESUMED = CONJUNCTION + 2
_THAN_OF = {"de": "als", "nl": "dan"}
_MORE = ("mehr", "weniger", "meer", "minder")
_ONE = ("ein", "eine", "einen", "einem", "einer")
_LESS = ("lieber", "besser", "größer", "kleiner", "liever", "beter", "groter")
_OFTEN = ("often", "easily", "quickly", "slowly")
# That a clause begins with behind their preposition.
_RELATIVES = {"en": ("which", "whom", "whose"), "es": ("quien", "quienes", "cuyo", "cuya")}


def between(place: BreakPlace) -> float:
    """The penalty of a place where nothing ties two words."""
    if is_short_relative(place.words, place.at, place.tongue):
        return PLAIN
    kind = place.word.kind
    if kind == "conjunction":
        return decided(BEFORE_CONJUNCTIONS, place, CONJUNCTION)
    if kind in _BY_KIND:
        return _BY_KIND[kind](place)
    return decided(BEFORE_CONTENT, place, PLAIN)


def _german_content(place: BreakPlace) -> float:
    """German `der Wind | dreht`: nouns show themselves."""
    return PHRASE if place.before.is_capital and not place.is_capital else PLAIN - 4


def _is_out_of(place: BreakPlace) -> bool:
    return is_out_of(place.words, place.at)


def _is_behind_pronoun_of_phrase(place: BreakPlace) -> bool:
    """Romance `chacune d'entre elles | enjambe la barrière`: a verb, as an article follows."""
    following, known = place.next_word, place.known
    if place.tongue not in ROMANCE or place.at < 2 or following is None or place.word.closes:
        return False
    before = place.words[place.at - 2]
    is_phrase = before.kind in ("preposition", "of") and not before.closes
    is_pronoun = place.before.tail in known.pronouns
    return is_phrase and is_pronoun and following.head in known.determiners


def _is_resuming(place: BreakPlace) -> bool:
    return place.is_verb(place.word.head) and _is_behind_relative(place)


def _is_last_verb(place: BreakPlace) -> bool:
    return _is_verbal(place) and _ends_relative_clause(place)


def _is_verbal(place: BreakPlace) -> bool:
    """`the nets | caught`, `a bird | weighing less`; not Italian `un argine | rotto`."""
    if place.tongue == "it" and place.word.head.endswith(("tto", "rto", "sso")):
        return False
    return place.is_verb(place.word.head) or _is_participle(place)


def _is_in_romance_phrase(place: BreakPlace) -> bool:
    return place.tongue in ROMANCE and place.phrase_length == 2


def _is_behind_plain_verb(place: BreakPlace) -> bool:
    return place.phrase_length < 2 and place.is_verb(place.before.tail)


def _is_described(place: BreakPlace) -> bool:
    """Whether English `put coloured | flags` has an adjective there: no verb follows another."""
    if place.tongue != "en" or place.at < 2 or place.before.closes:
        return False
    verb = place.words[place.at - 2]
    is_behind_verb = verb.tail_kind == "content" and place.is_verb(verb.tail) and not verb.closes
    return is_behind_verb and place.before.tail.endswith("ed")


def _ends_relative_clause(place: BreakPlace) -> bool:
    """Whether the verb of the sentence follows: `the question that a careful person | asks is`."""
    has_verb = is_copula(place.next_word, place.tongue)
    return place.tongue == "en" and has_verb and not place.word.closes


def _is_behind_bare_noun(place: BreakPlace) -> bool:
    """Whether a Romance noun without an article stands before a place, behind its preposition: `de
    mango | rojo`.
    """
    if place.tongue not in ROMANCE or place.at < 2 or place.phrase_length or place.before.closes:
        return False
    is_noun = place.before.tail_kind == "content" and not place.is_verb(place.before.tail)
    return is_noun and place.words[place.at - 2].tail_kind in ("of", "preposition", "coordinating")


def _is_participle(place: BreakPlace) -> bool:
    """English `a bird | weighing less than a letter`, not `the bird ringing | in spring`."""
    following = place.next_word
    if place.tongue != "en" or following is None or place.word.closes:
        return False
    is_long = place.word.head.endswith("ing") and len(place.word.head) > 5
    # `wondering whether to save it`
    kinds = ("determiner", "quantifier", "degree", "pronoun", "conjunction")
    has_object = following.kind in kinds
    return is_long and has_object and place.word.head not in place.known.moments


def _is_strong_pronoun(place: BreakPlace, word: WordFacts) -> bool:
    """Whether the word behind a preposition stands for somebody: `for us`, `a ella`."""
    known = place.known
    is_romance_one = place.tongue in ROMANCE and word.kind == "pronoun"
    is_romance_one = is_romance_one and word.tail not in known.determiners
    return (
        is_romance_one or word.head in known.object_pronouns or word.head in ("it", "that", "this")
    )


def _is_short_infinitive(word: WordFacts, tongue: str) -> bool:
    """`qu'ils réussissent | à faire.`, `quería volver | a entrar.`: alone it looks forgotten."""
    return word.closes and len(word.head) <= _SHORT and is_infinitive(word, tongue)


def _begins_with_preposition(place: BreakPlace, following: WordFacts) -> bool:
    """Whether a clause begins with the preposition behind a place: Spanish `| para que`, English
    `the day | on which`.
    """
    if following.kind == "conjunction" and place.at + 1 in place.inside:
        return True
    return following.head in _RELATIVES.get(place.tongue, ())


def _before_preposition(place: BreakPlace) -> float:
    following = place.next_word
    if following is not None and _begins_with_preposition(place, following):
        return CONJUNCTION
    if following is not None and _is_strong_pronoun(place, following):
        # Two short words, such as `for us`; alone on a line they look forgotten.
        is_forgotten = following.closes and place.tongue not in ROMANCE
        return LOOSE + 4 if is_forgotten else PLAIN
    if following is not None and _is_short_infinitive(following, place.tongue):
        return LOOSE
    return decided(BEFORE_PREPOSITIONS, place, PREPOSITION)


def _is_too_much(place: BreakPlace) -> bool:
    """Whether `too big | for the nest`, `deep enough | for it` goes on."""
    is_more = place.before.tail == "enough" or place.words[place.at - 2].tail == "too"
    return place.word.head == "for" and is_more


def _is_behind_phrase(place: BreakPlace) -> bool:
    """Whether a preposition and its noun stand before a place, which what follows may describe:
    `comes with a lamp | on his head`.
    """
    noun_at = place.at - 1
    begins = noun_at - 1
    if begins > 0 and place.words[begins].kind == "determiner":
        begins -= 1
    return begins >= 0 and place.words[begins].kind in ("preposition", "of")


def _before_to(place: BreakPlace) -> float:
    """English `to`: of a place or person as before other prepositions, of a verb a little worse."""
    following = place.next_word
    is_place = following is not None and (
        following.is_capital or following.kind in ("determiner", "number", "quantifier")
    )
    if not is_place or place.is_verb(place.before.tail):
        return PHRASE + 1
    return PREPOSITION


def _before_of(place: BreakPlace) -> float:
    following = place.next_word
    if place.tongue == "en" and place.before.tail in place.known.indefinite:
        return PAIR - 4  # `anything | of the kind`
    if place.tongue == "en":
        return LOOSE - 2
    if following is not None and is_infinitive(following, place.tongue) and not following.closes:
        return PLAIN - 2  # `a oublié | de fermer la porte`
    return _before_of_noun(place)


def _before_of_noun(place: BreakPlace) -> float:
    # `pommes de terre` is one thing, `le bord de la rivière` are two
    following, tail = place.next_word, place.word.tail_kind
    if _is_clause_of(place):
        return CONJUNCTION  # `più aironi | di quanti ne avessimo`
    if place.tongue == "nl" and place.is_verb(place.before.tail):
        return PREPOSITION  # `kwam | van de dijk`
    is_bare = following is not None and following.kind == "content" and not following.is_capital
    if place.tongue in ROMANCE and place.word.head in ("de", "di") and is_bare:
        return LOOSE
    if place.word.head == "d" and tail == "content":
        return LOOSE
    return PLAIN


def _is_clause_of(place: BreakPlace) -> bool:
    """Whether a clause follows behind `of`: Italian `di quanti`, Spanish `de las que`."""
    behind = place.words[place.at + 1 : place.at + 3]
    if len(behind) < 2:
        return False
    has_article = behind[0].head in place.known.determiners
    if place.word.tail_kind not in ("of", "preposition"):
        return False  # Italian `via | d'uscita quando`
    return behind[0].kind == "conjunction" or (has_article and behind[1].kind == "conjunction")


def _before_pronoun(place: BreakPlace) -> float:
    following = place.next_word
    is_article = place.tongue in ROMANCE and place.word.head in place.known.determiners
    if is_article and following is not None and following.kind in CONTENT:
        return _before_noun_phrase(place)  # `oublier | ce bruit`
    is_in_phrase = place.at - 1 in place.inside  # `anything at all | you own`
    if place.before.tail in place.known.indefinite and not is_in_phrase:
        return LOOSE  # `we bring everything | we might need`
    is_last = following is not None and following.closes and following.kind == "auxiliary"
    if is_last and not place.before.closes:
        return LOOSE  # `nobody knows how strong | they are.`
    if place.word.head in ("it", "you"):
        return PLAIN - 4  # as likely an object
    return PREPOSITION


def _before_auxiliary(place: BreakPlace) -> float:
    following = place.next_word
    is_article = place.tongue in ROMANCE and place.word.head in place.known.determiners
    if is_article and following is not None and not place.is_verb(following.head):
        return _before_noun_phrase(place)  # `apagar | la luz`, and not `ce métier | le savent`
    # Behind another auxiliary it is no subject that its verb follows.
    is_chain = place.before.tail in place.known.auxiliaries
    if is_chain and not is_behind_short_clause(place):
        return LOOSE
    return _RESUMED if _is_behind_relative(place) else PHRASE - 1


def _is_behind_relative(place: BreakPlace) -> bool:
    """Whether the verb behind a place is that of a sentence which a clause has interrupted: `the
    line that runs down the coast | is wrong`.
    """
    describing, words = place.known.describing, place.words
    behind = range(place.at - 1, part_begins(words, place.at), -1)
    openings = (at for at in behind if words[at].kind in JOINING or words[at].head in describing)
    opened = next(openings, place.at - 1)
    inside = words[opened + 1 : place.at]
    word = words[opened]
    is_described = word.head == "that" or word.head in describing
    if not inside or not is_described or words[opened - 1].tail_kind == "auxiliary":
        return False
    is_subject = word.head in ("que", "qu") and place.tongue == "fr"
    if place.tongue in ROMANCE and inside[0].kind == "content" and not is_subject:
        return True  # Portuguese `as pessoas que passeiam`: nothing but a verb follows at once
    return any(is_verb(one, place.known, place.tongue) for one in inside)


def _before_noun_phrase(place: BreakPlace) -> float:
    """An object belongs to its verb more than a subject does."""
    if _describes_verb(place):
        return LOOSE
    if place.word.head in place.known.asking:
        return CONJUNCTION  # `elle notait | quels oiseaux se tenaient là`
    if _is_behind_verb(place) or place.before.tail_kind == "auxiliary":
        return PHRASE + 3
    return PHRASE


def _describes_verb(place: BreakPlace) -> bool:
    """Whether a Romance adverb ends a phrase: `je me garderai | bien de prendre parti`."""
    behind = place.words[place.at + 1 : place.at + 3]
    if place.word.head not in WELL or len(behind) < 2 or behind[0].kind not in BEGIN_PHRASES:
        return False
    return is_infinitive(behind[1], place.tongue)


def _before_degree(place: BreakPlace) -> float:
    """`weighing | less than a letter`, `they flew | very low`: it belongs to the verb; a Romance
    one to the noun: `la parte | più importante`.
    """
    following = place.next_word
    if _describes_verb(place):
        return LOOSE
    describes = following is not None and following.kind in ("content", "adjective")
    if describes and place.word.head in COMPARING and place.phrase_length > 1:
        return LOOSE
    if _is_behind_verb(place):
        return PHRASE + 3
    return PHRASE


def _is_behind_verb(place: BreakPlace) -> bool:
    """Whether what follows is an object or the like, also of an English participle."""
    before = place.before.tail
    is_verbal = place.tongue == "en" and before.endswith("ing")
    if is_infinitive(place.before, place.tongue):
        # Not `ce métier`, which ends as infinitives do.
        is_verbal = place.at < 2 or place.words[place.at - 2].kind != "determiner"
    return is_verbal or place.is_verb(before)


def _before_number(place: BreakPlace) -> float:
    is_figure = place.word.head[:1].isdigit()
    if is_figure and not place.is_verb(place.before.tail):
        return PLAIN + 4
    return PHRASE


_JOINS = {
    Joined.CLAUSES: CONJUNCTION,  # `the tide turned | and the nets were down`
    Joined.LONG_PHRASES: PHRASE,  # `the nets by the hut | and the poles on the bank`
    Joined.PHRASES: PLAIN,  # `the mother and her young`
    Joined.WORDS: LOOSE,  # `terns and gulls`
    Joined.ADJECTIVES: PAIR,  # `cold and wet`
    Joined.NUMBERS: UNIT,  # `two or three`
}


def _is_french_so(place: BreakPlace) -> bool:
    """Whether French `si` is no condition: `d'être venus | si nombreux malgré le temps`."""
    following = place.next_word
    if place.tongue != "fr" or place.word.head != "si" or following is None:
        return False
    behind = place.words[place.at + 2] if place.at + 2 < len(place.words) else following
    is_described = following.kind in ("content", "adjective") and not following.is_capital
    return is_described and (following.closes or behind.kind in BEGIN_PHRASES)


def _is_than_number(place: BreakPlace) -> bool:
    following = place.next_word
    is_article = following is not None and following.head in _ONE
    if place.word.head == "als" and is_article and place.before.tail in _MORE:
        return True  # German `etwas mehr | als eine Viertelmillion`
    return is_than_number(place.words, place.at)


def _is_before_object(place: BreakPlace) -> bool:
    return is_before_object(place.words, place.at, place.known)


def _is_french_only(place: BreakPlace) -> bool:
    return is_french_only(place.words, place.at, place.tongue)


def _is_however_much(place: BreakPlace) -> bool:
    """Whether Spanish or Portuguese `que` belongs to `por` before it: `por leve que sea`."""
    following = place.next_word
    if place.tongue not in ("es", "pt") or place.word.head != "que" or following is None:
        return False
    near = place.words[max(0, place.at - 3) : place.at]
    return following.head in _MAY_BE and any(word.head == "por" for word in near)


def _is_provided(place: BreakPlace) -> bool:
    """Whether English `provided` describes the noun before it, and sets no condition."""
    following = place.next_word
    if place.word.head != "provided" or place.before.tail_kind != "content":
        return False
    return place.word.closes or following is None or following.kind in (*BEGIN_PHRASES, "auxiliary")


def _is_slavic_genitive(place: BreakPlace) -> bool:
    """Whether a Slavic relative pronoun belongs to the noun before it: its clause has begun, as
    there is no comma.
    """
    is_relative = place.word.head.startswith(("котор", "któr"))
    return place.tongue in SLAVIC and is_relative and place.before.tail_kind == "content"


def _is_dutch_article(place: BreakPlace) -> bool:
    return is_dutch_article(place.words, place.at, place.tongue)


def _ends_with(place: BreakPlace) -> str:
    """The word that a clause ends with behind English `as`; empty where it does not end there."""
    following = place.next_word
    if place.word.head != "as" or following is None or not following.closes:
        return ""
    return following.head


def _is_compared(place: BreakPlace) -> bool:
    """Whether English `than` follows what it compares at once: `higher | than`, `more often |
    than`, and not `more rain | than`; the same of German `mehr erzählt | als`.
    """
    before = place.before.tail
    earlier = place.words[place.at - 2] if place.at > 1 else place.before
    if place.word.head == _THAN_OF.get(place.tongue):
        return any(one in _MORE for one in (before, earlier.tail)) or before in _LESS
    if place.word.head != "than":
        return False
    is_adverb = before in _OFTEN and earlier.tail in ("more", "less")
    return before.endswith("er") or before in ("more", "less") or is_adverb


def _before_coordinating(place: BreakPlace) -> float:
    return _JOINS[joined_by(place.words, place.at, place.known, place.tongue)]


_BY_KIND: dict[str, Callable[[BreakPlace], float]] = {
    "coordinating": _before_coordinating,
    "of": _before_of,
    "infinitive": _before_to,
    "preposition": _before_preposition,
    "pronoun": _before_pronoun,
    "auxiliary": _before_auxiliary,
    "determiner": _before_noun_phrase,
    "quantifier": _before_noun_phrase,
    "degree": _before_degree,
    "number": _before_number,
}
BEFORE_CONJUNCTIONS: tuple[Case, ...] = (
    Case(_is_provided, LOOSE),  # `in the bag | provided and`
    Case(_is_french_only, PLAIN),  # `ils n'ont eu | que quelques jours`
    Case(_is_however_much, PAIR),  # `por leve | que sea`
    Case(_is_slavic_genitive, PAIR),  # Russian `часть | которого`
    Case(_is_french_so, LOOSE),
    Case(lambda place: place.word.head != "as" and place.word.closes, PAIR),  # `tell me | why.`
    Case(lambda place: place.is_moment, PHRASE),  # `who was there | that night`
    Case(_is_dutch_article, _before_noun_phrase),  # `dat was | die jongen`
    Case(_is_than_number, LOOSE + 4),  # `fewer | than three`
    Case(_is_before_object, _before_preposition),  # `whoever came | after me`
    Case(_is_compared, PHRASE),
    # `a map | as well`, but `a map | as well as a compass`
    Case(lambda place: _ends_with(place) == "well", LOOSE),
    Case(lambda place: _ends_with(place) != "", PAIR),  # `admitted | as much.`
)
BEFORE_PREPOSITIONS: tuple[Case, ...] = (
    Case(_is_too_much, PLAIN),
    Case(lambda place: place.is_verb(place.before.tail), PHRASE + 1),
    Case(_is_behind_phrase, PREPOSITION + 2),
)
BEFORE_CONTENT: tuple[Case, ...] = (
    Case(_is_out_of, PREPOSITION),  # `a shed | out of the wind`
    Case(lambda place: place.capitalises_nouns, _german_content),
    Case(_is_behind_pronoun_of_phrase, PREPOSITION),
    Case(_is_described, LOOSE + 4),
    Case(_is_resuming, _RESUMED),
    Case(_is_last_verb, PLAIN),
    Case(_is_verbal, PHRASE),
    Case(_is_behind_bare_noun, LOOSE),
    Case(_is_in_romance_phrase, LOOSE),
    Case(lambda place: place.phrase_length == 2, LOOSE + 4),
    Case(_is_behind_plain_verb, PLAIN - 4),
)
