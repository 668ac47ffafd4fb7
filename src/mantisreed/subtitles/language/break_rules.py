"""How tightly two words belong together: one rule a row, in the order in which they count.

The first rule that has something to say of a place decides. A rule that begins with the name of a
word list is asked only where the word is in that list of the language (`languages.toml`).
"""

from collections.abc import Callable, Container, Sequence
from dataclasses import dataclass
from functools import cache

from mantisreed.subtitles.language.coordination import Joined, is_verb_form, joined_by
from mantisreed.subtitles.language.languages import (
    CAPITALISES_NOUNS,
    ROMANCE,
    UNITS,
    LanguageWords,
    words_of_language,
)
from mantisreed.subtitles.language.word_facts import WordFacts, is_number
from mantisreed.transcript.writing import is_spaceless

SENTENCE, CLAUSE, CONJUNCTION, LISTED, PREPOSITION, PHRASE = 0.0, 2.0, 4.0, 6.0, 8.0, 11.0
"""Penalties of good places: after a sentence, after a clause, before a conjunction, after a part of
a list, before a preposition, and between phrases, such as a subject and its verb or a verb and its
object.
"""

PLAIN, LOOSE, PAIR, UNIT = 20.0, 32.0, 70.0, 140.0
"""And of poor ones: between any two words, between words that probably belong together, such as a
noun and the word before it; between those that do, such as a pronoun and its verb; inside of what
is one thing, such as a name.
"""

_VERBS_LAST = frozenset(("de", "nl"))
_INFLECTED = ("e", "en", "er", "es", "em")  # endings of German adjectives

_BEGIN_PHRASES = ("preposition", "infinitive", "of", "conjunction", "coordinating")
"""Kinds of words that begin a phrase of their own."""

_SHORT = 2  # letters
_CONTENT = ("content", "adjective", "number")
_JOINING = ("conjunction", "coordinating")


@dataclass(slots=True)
class BreakPlace:
    """A place between two words of a text, which rules are asked about.

    Attributes:
        texts: all words as they are written.
        words: what is known of each.
        at: the number of the word behind the place; at least 1.
        known: the language's lists of words.
        tongue: the first part of the language's tag.
        pairs: words that belong together, as `depend` and `on` do.
        starts_sentence: whether the word before begins a sentence.
        phrase_length: words of the noun phrase that the place is in; 0 outside of one.
    """

    texts: Sequence[str]
    words: Sequence[WordFacts]
    at: int
    known: LanguageWords
    tongue: str
    pairs: Container[tuple[str, str]]
    starts_sentence: bool
    phrase_length: int

    @property
    def before(self) -> WordFacts:
        """The word before the place."""
        return self.words[self.at - 1]

    @property
    def word(self) -> WordFacts:
        """The word behind the place."""
        return self.words[self.at]

    @property
    def next_word(self) -> WordFacts | None:
        """The one after that."""
        if self.at + 1 < len(self.words):
            return self.words[self.at + 1]
        return None

    @property
    def begins_phrase(self) -> bool:
        """Whether a phrase of its own begins behind the place."""
        return self.word.kind in _BEGIN_PHRASES

    @property
    def is_capital(self) -> bool:
        """Whether the word behind the place has a capital letter."""
        return self.word.is_capital

    @property
    def capitalises_nouns(self) -> bool:
        """Whether the language writes nouns with a capital letter."""
        return self.tongue in CAPITALISES_NOUNS

    def is_verb(self, word: str) -> bool:
        """Whether a word is a verb as far as its form tells."""
        return is_verb_form(word, self.known, self.tongue)


Rule = Callable[[BreakPlace], float | None]


def tied_to_following(place: BreakPlace) -> float:
    """How tightly the word before a place belongs to what comes; 0 where nothing ties it."""
    return _decided(_compiled(place.tongue)[0], place, place.before.tail)


def tied_to_preceding(place: BreakPlace) -> float:
    """How tightly the word behind a place belongs to the one before it."""
    return _decided(_compiled(place.tongue)[1], place, place.word.head)


def between(place: BreakPlace) -> float:
    """The penalty of a place where nothing ties two words."""
    rule = _BY_KIND.get(place.word.kind, _between_content)
    return rule(place)


def _decided(
    rules: Sequence[tuple[Container[str] | None, Rule]], place: BreakPlace, word: str
) -> float:
    for words, rule in rules:
        if words is None or word in words:
            tie = rule(place)
            if tie is not None:
                return tie
    return 0.0


# ---- the word before belongs to what follows


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
    if following in known.auxiliaries:
        return PHRASE
    if place.word.kind not in ("content", "adjective", "quantifier", "degree"):
        return 0.0
    # `one` and `ein` are articles as well; a number behind a noun, such as `room 12`, ends its
    # phrase, and so does a year.
    is_year = len(place.before.tail) == 4 and place.before.tail.isdigit()
    return LOOSE if is_year else PAIR + 4


def _in_pair(place: BreakPlace) -> float | None:
    is_pair = (place.before.tail, place.word.head) in place.pairs
    return PAIR - 6 if is_pair else None


def _after_determiner(place: BreakPlace) -> float | None:
    if place.begins_phrase and place.before.tail in place.known.conjunctions:
        return None
    return UNIT


def _after_coordinating(place: BreakPlace) -> float | None:
    joins_numbers = place.at > 1 and place.words[place.at - 2].is_number and place.word.is_number
    if joins_numbers:
        return UNIT
    return PAIR


def _after_conjunction(place: BreakPlace) -> float | None:
    if place.word.kind == "conjunction" and place.before.tail not in place.known.prepositions:
        return PHRASE
    return PAIR


def _after_of(place: BreakPlace) -> float | None:
    return UNIT


def _after_preposition(place: BreakPlace) -> float | None:
    # `went out in the rain`, `looked after the birds`: some belong to the verb before them
    if place.begins_phrase:
        return PREPOSITION
    if place.at > 1:
        verb = place.words[place.at - 2].tail
        if place.is_verb(verb) and (verb, place.before.tail) in place.pairs:
            return PLAIN - 2
    return PAIR


def _after_pronoun(place: BreakPlace) -> float | None:
    if place.begins_phrase or place.word.kind in ("determiner", "pronoun"):
        return None
    return PAIR


def _after_auxiliary(place: BreakPlace) -> float | None:
    kind = place.word.kind
    if kind in _JOINING:
        return PREPOSITION
    if kind in ("preposition", "determiner", "quantifier", "number"):
        if place.tongue in _VERBS_LAST:
            return PHRASE
        # English `to` of a place or person is a preposition.
        return PAIR if place.before.tail == "to" else LOOSE - 4
    if place.tongue in _VERBS_LAST and kind == "content" and place.is_capital:
        return PHRASE
    return PAIR


def _after_degree(place: BreakPlace) -> float | None:
    if place.word.kind in (*_JOINING, "pronoun"):
        return None
    if place.begins_phrase:
        return LOOSE
    return PAIR - 4


def _after_quantifier(place: BreakPlace) -> float | None:
    kind = place.word.kind
    # Romance articles are pronouns before a verb as well: `toda la bandada`.
    is_verbal = kind == "auxiliary" and place.word.head not in place.known.determiners
    if kind in _JOINING or is_verbal:
        return None
    if place.begins_phrase and kind != "of":
        return LOOSE
    return PAIR - 4


def _after_adjective(place: BreakPlace) -> float | None:
    if place.word.kind in _CONTENT:
        return PAIR + 4
    return None


def _after_genitive(place: BreakPlace) -> float | None:
    """`the warden's hut`."""
    word = place.before.tail
    if not word.endswith("'s") or word in place.known.pronouns:
        return None
    if place.word.kind in _CONTENT:
        return PAIR + 4
    return None


def _after_adverb(place: BreakPlace) -> float | None:
    word = place.before.tail
    if place.tongue != "en" or not word.endswith("ly") or len(word) < 5:
        return None
    if place.word.kind in _CONTENT:
        return LOOSE
    return None


def _before_noun(place: BreakPlace) -> float | None:
    """`die großen Vögel`, `Herr Tiede`."""
    if not place.capitalises_nouns or not place.is_capital:
        return None
    written, word = place.texts[place.at - 1], place.before.tail
    if written[:1].islower() and word.endswith(_INFLECTED) and word not in place.known.verbs:
        return PAIR
    if place.before.is_capital and place.word.kind == "content" and not place.starts_sentence:
        return LOOSE
    return None


def _after_short_word(place: BreakPlace) -> float | None:
    """In a language without a table, a word of one or two letters is an article or the like."""
    is_unknown = not place.known.conjunctions
    word = place.before.bare
    if is_unknown and len(word) <= _SHORT and word.isalpha() and not is_spaceless(word[0]):
        return PAIR
    return None


_FOLLOWING: tuple[tuple[str | None, Rule], ...] = (
    (None, _inside_name),
    ("titles", _after_title),
    (None, _after_number),
    (None, _in_pair),
    ("determiners", _after_determiner),
    ("coordinating", _after_coordinating),
    ("conjunctions", _after_conjunction),
    ("of", _after_of),
    ("prepositions", _after_preposition),
    ("pronouns", _after_pronoun),
    ("auxiliaries", _after_auxiliary),
    ("degree", _after_degree),
    ("quantifiers", _after_quantifier),
    ("adjectives", _after_adjective),
    (None, _after_genitive),
    (None, _after_adverb),
    (None, _before_noun),
    (None, _after_short_word),
)


# ---- the word behind belongs to the one before


def _object(place: BreakPlace) -> float | None:
    """`saw her`; `her` may be an article as well, and then stands for nobody."""
    word, following = place.word, place.next_word
    if word.head in place.known.auxiliaries:
        return None
    if word.head not in place.known.determiners or following is None or word.closes:
        return PAIR
    if following.kind in (*_CONTENT, "degree"):
        return None
    return PAIR


def _unit_behind(place: BreakPlace) -> float | None:
    before = place.before.tail
    if before in UNITS or before in place.known.behind:
        return UNIT
    return None


def _particle(place: BreakPlace) -> float | None:
    """`took off`, unless it is a preposition of what follows."""
    following = place.next_word
    if following is not None and following.head in place.known.determiners:
        return None
    if place.word.head not in place.known.prepositions or place.word.closes:
        return PAIR
    if following is not None and following.kind in _BEGIN_PHRASES:
        return PAIR
    return None


def _last_preposition(place: BreakPlace) -> float | None:
    if place.word.closes:
        return PAIR
    return None


def _inverted_pronoun(place: BreakPlace) -> float | None:
    """Behind the verb: in questions, and in some languages elsewhere."""
    before = place.before.tail
    if before in place.known.auxiliaries:
        return PAIR
    if place.tongue in _VERBS_LAST and place.is_verb(before):
        return PAIR
    return None


def _last_verb(place: BreakPlace) -> float | None:
    """The verb that a clause waited for."""
    word = place.word
    may_be_verb = place.texts[place.at][:1].islower() and word.kind in ("content", "auxiliary")
    if place.tongue in _VERBS_LAST and may_be_verb and word.closes:
        return LOOSE
    return None


_PRECEDING: tuple[tuple[str | None, Rule], ...] = (
    ("object_pronouns", _object),
    ("behind", _unit_behind),
    ("particles", _particle),
    ("prepositions", _last_preposition),
    ("pronouns", _inverted_pronoun),
    (None, _last_verb),
)


# ---- nothing ties the two


def _between_content(place: BreakPlace) -> float:
    length = place.phrase_length
    if place.capitalises_nouns:
        is_noun_before = place.before.is_capital
        return PHRASE if is_noun_before and not place.is_capital else PLAIN - 4
    if place.is_verb(place.word.head):
        return PHRASE
    if length == 2:
        return LOOSE if place.tongue in ROMANCE else LOOSE + 4
    if length < 2 and place.is_verb(place.before.tail):
        return PLAIN - 4
    return PLAIN


def _before_preposition(place: BreakPlace) -> float:
    following = place.next_word
    head = following.head if following is not None else ""
    if head in place.known.object_pronouns or head in ("it", "that", "this"):
        return PLAIN  # two short words, such as `for us`
    if place.is_verb(place.before.tail):
        return PHRASE + 1
    return PREPOSITION


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
    if place.tongue == "en":
        return LOOSE - 2
    return PLAIN


def _before_pronoun(place: BreakPlace) -> float:
    if place.word.head in ("it", "you"):
        return PLAIN - 4  # as likely an object
    return PREPOSITION


def _before_auxiliary(place: BreakPlace) -> float:
    # Behind another auxiliary it is no subject that its verb follows.
    if place.before.tail in place.known.auxiliaries:
        return LOOSE
    return PHRASE - 1


def _before_noun_phrase(place: BreakPlace) -> float:
    """An object belongs to its verb more than a subject does."""
    is_behind_verb = place.is_verb(place.before.tail) or place.before.tail_kind == "auxiliary"
    return PHRASE + 3 if is_behind_verb else PHRASE


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


def _before_coordinating(place: BreakPlace) -> float:
    return _JOINS[joined_by(place.words, place.at, place.known, place.tongue)]


_BY_KIND: dict[str, Callable[[BreakPlace], float]] = {
    "conjunction": lambda place: CONJUNCTION,
    "coordinating": _before_coordinating,
    "of": _before_of,
    "infinitive": _before_to,
    "preposition": _before_preposition,
    "pronoun": _before_pronoun,
    "auxiliary": _before_auxiliary,
    "determiner": _before_noun_phrase,
    "quantifier": _before_noun_phrase,
    "degree": lambda place: PHRASE,
    "number": _before_number,
}


@cache
def _compiled(
    tongue: str,
) -> tuple[list[tuple[Container[str] | None, Rule]], list[tuple[Container[str] | None, Rule]]]:
    """The rules of a language, with its lists in place of their names."""
    known = words_of_language(tongue)
    following, preceding = (
        [(None if name is None else getattr(known, name), rule) for name, rule in rows]
        for rows in (_FOLLOWING, _PRECEDING)
    )
    return following, preceding
