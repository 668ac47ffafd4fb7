"""A place between two words, and what it may cost to break there."""

from collections.abc import Callable, Container, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import product
from typing import NamedTuple

from mantisreed.subtitles.language.coordination import is_verb_form
from mantisreed.subtitles.language.languages import (
    CAPITALISES_NOUNS,
    LanguageWords,
    words_of_language,
)
from mantisreed.subtitles.language.word_facts import WordFacts

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

VERBS_LAST = frozenset(("de", "nl"))
INFLECTED = ("e", "en", "er", "es", "em")  # endings of German adjectives

COMPARING = frozenset(
    ["plus", "moins", "très", "más", "menos", "muy", "più", "meno", "molto", "mais", "muito"]
)
"""Romance adverbs that make an adjective of what follows."""

WELL = ("bien", "mal", "mucho", "bene", "male", "molto", "bem", "muito")
"""Romance adverbs that describe a verb as well: `je me garderai | bien de`."""

BEGIN_PHRASES = ("preposition", "infinitive", "of", "conjunction", "coordinating")
"""Kinds of words that begin a phrase of their own."""

QUESTIONS = ("what", "where", "how", "who", "whether", "why")
"""English words that a question begins with behind its preposition: `you argue about | who`."""

GERMAN_ADVERBS = frozenset(("auch", "noch", "nur", "schon"))
"""They stand anywhere in a clause, also between an article and its adjective."""

CONTENT = ("content", "adjective", "number")
JOINING = ("conjunction", "coordinating")


@dataclass(slots=True)
class BreakPlace:
    """A place between two words of a text, which rules are asked about.

    Attributes:
        texts: all words as they are written.
        words: what is known of each.
        at: the number of the word behind the place; at least 1.
        known: the language's lists of words.
        tongue: the first part of the language's tag.
        inside: the numbers of the words that stand in a phrase behind its first word.
        starts_sentence: whether the word before begins a sentence.
        phrase_length: words of the noun phrase that the place is in; 0 outside of one.
    """

    texts: Sequence[str]
    words: Sequence[WordFacts]
    at: int
    known: LanguageWords
    tongue: str
    inside: Container[int]
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
    def is_moment(self) -> bool:
        """Whether English `that night` and the like follow, where `that` begins no clause."""
        return is_moment(self.words, self.at, self.known)

    @property
    def begins_phrase(self) -> bool:
        """Whether a phrase of its own begins behind the place."""
        return self.word.kind in BEGIN_PHRASES

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


def part_begins(words: Sequence[WordFacts], at: int) -> int:
    """Where what ends before a place begins, behind a comma or the like."""
    begins = at - 1
    while begins > 0 and not words[begins - 1].closes:
        begins -= 1
    return begins


def is_subordinate(place: BreakPlace) -> bool:
    """Whether the clause before a place is one that a conjunction or a relative began."""
    begins = part_begins(place.words, place.at)
    if place.tongue in VERBS_LAST and begins and place.words[begins].head in place.known.describing:
        return True  # German `die Mannschaft, die voriges Jahr Letzte wurde`
    return any(word.kind == "conjunction" for word in place.words[begins : place.at])


def is_moment(words: Sequence[WordFacts], at: int, known: LanguageWords) -> bool:
    """Whether English `that night` and the like begin with a word, where `that` begins no
    clause.
    """
    if words[at].head != "that" or at + 1 >= len(words):
        return False
    return words[at + 1].head in known.moments


COPULAS = {
    "en": ("is", "was", "are", "were"),
    "fr": ("est", "était", "sont", "étaient"),
    "es": ("es", "era", "son", "eran", "fue"),
    "it": ("è", "era", "sono", "erano"),
    "pt": ("é", "era", "são", "eram", "foi"),
    "nl": ("is", "was", "zijn", "waren"),
}
"""Forms of `to be` that a short clause may stand before."""


def is_short_relative(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether a clause begins with a word that is over in two more, as it tells a noun apart:
    Italian `la prima cosa che facciamo | è guardare`, Dutch `het eerste wat we doen | is
    luisteren`.
    """
    # English leaves `that` out: `the first thing | we do is`
    opens = ("conjunction", "pronoun") if tongue == "en" else ("conjunction",)
    copulas = COPULAS.get(tongue)
    if (
        copulas is None
        or words[at - 1].closes
        or words[at].kind not in opens
        or words[at - 1].tail_kind not in CONTENT
    ):
        return False
    for number in range(at + 2, min(at + 4, len(words) - 1)):
        if words[number - 1].closes:
            return False
        if words[number].head in copulas:
            if words[number - 2].kind == "determiner":
                return False  # `so late that the ice was`: a noun, and no verb before it
            verb = words[number - 1].tail_kind
            return verb == "content" or (tongue == "en" and verb == "auxiliary")
    return False


def is_copula(word: WordFacts | None, tongue: str) -> bool:
    """Whether a word is a form of `to be`, in languages where it is nothing else: Dutch `zijn` is
    `his` as well.
    """
    return word is not None and tongue not in VERBS_LAST and word.head in COPULAS.get(tongue, ())


def is_behind_short_clause(place: BreakPlace) -> bool:
    """Whether the verb of a sentence stands behind a clause that ends with `do`: `the first thing
    we do | is listen`.
    """
    return place.before.tail in ("do", "does", "did") and place.word.head in COPULAS["en"]


def is_out_of(words: Sequence[WordFacts], at: int) -> bool:
    """Whether English `out of` begins at a place, a preposition of two words."""
    has_more = at + 1 < len(words) and not words[at].closes
    return has_more and words[at].head == "out" and words[at + 1].head == "of"


_MEASURES = {
    "at": ("least", "most"),
    "as": ("much", "many", "little", "few"),
    "up": ("to",),
}
_TIMES = ("second", "minute", "hour", "day", "week", "month", "year", "decade", "century")


def _is_time(words: Sequence[WordFacts], at: int) -> bool:
    return at < len(words) and words[at].head in _TIMES


_ABOUT = ("about", "around", "within", "over", "under", "nearly", "almost")


def is_measure(words: Sequence[WordFacts], at: int) -> bool:
    """Whether what begins with a word says how much of what follows: English `by at least one`,
    `to within about ten minutes`, `up to about here`.
    """
    if at + 1 >= len(words) or words[at].closes:
        return False
    following = words[at + 1]
    if following.head in _MEASURES.get(words[at].head, ()):
        return True
    is_amount = following.is_number or following.head in (*_ABOUT, "here", "there", "half")
    # `in over a month`
    is_amount = is_amount or (following.head == "a" and _is_time(words, at + 2))
    return words[at].head in _ABOUT and is_amount


THAN = ("than", "als", "dan")
"""What one is compared by; before a number they begin no clause."""


def is_than_number(words: Sequence[WordFacts], at: int) -> bool:
    """Whether a number is compared with: `fewer than three`, German `mehr als zehn`."""
    return words[at].head in THAN and at + 1 < len(words) and words[at + 1].is_number


def is_before_object(words: Sequence[WordFacts], at: int, known: LanguageWords) -> bool:
    """Whether a conjunction is a preposition as well, and a pronoun follows that is no subject:
    `whoever came after me`.
    """
    if words[at].kind != "conjunction" or words[at].closes or at + 1 >= len(words):
        return False
    following = words[at + 1].head
    if words[at + 1].closes and following in ("that", "this"):
        return words[at].head in known.prepositions  # `the day before that,`
    is_object = following in known.object_pronouns and following not in known.determiners
    return is_object and words[at].head in known.prepositions and following not in known.pronouns


_BEGIN_NOUN_PHRASES = ("determiner", "quantifier", "number", "degree", "preposition", "of")


def is_french_what(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether French `ce que` begins a clause: `ne savait | ce qu'il y avait`."""
    has_clause = at + 1 < len(words) and words[at + 1].kind == "conjunction"
    return tongue == "fr" and words[at].head == "ce" and has_clause


def is_french_only(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether French `que` begins no clause, but says `only` with `ne` before it: `ils n'ont eu que
    quelques jours`.
    """
    if tongue != "fr" or words[at].head not in ("que", "qu") or at + 1 >= len(words):
        return False
    is_denied = any(word.head in ("ne", "n") for word in words[max(0, at - 4) : at])
    following = words[at + 1].kind if words[at].head == "que" else words[at].tail_kind
    return is_denied and following in _BEGIN_NOUN_PHRASES


_OBJECTS_OF_VERBS = ("", "me", "te", "se", "lo", "la", "le", "les", "nos", "los", "las")
INFINITIVES = {
    "fr": ("er", "ir", "oir", "ire", "dre"),
    "es": tuple(map("".join, product(("ar", "er", "ir"), _OBJECTS_OF_VERBS))),
    "it": ("are", "ere", "ire", "arsi", "ersi", "irsi"),
    "pt": ("ar", "er", "ir"),
}
"""What infinitives of Romance languages end with."""


def is_infinitive(word: WordFacts, tongue: str) -> bool:
    """Whether a word of a Romance language ends as infinitives do."""
    return len(word.head) > 3 and word.head.endswith(INFINITIVES.get(tongue, ()))


def is_before_dutch_clause(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether a preposition belongs to the verb before it, and a clause follows: Dutch `er woonde
    een man in | die door iedereen`; not `in die tijd`.
    """
    behind = words[at + 1 : at + 3]
    if tongue != "nl" or len(behind) < 2 or behind[0].head not in ("die", "dat"):
        return False
    is_noun_before = at > 0 and words[at - 1].tail_kind == "content" and not words[at - 1].closes
    return is_noun_before and behind[1].kind in ("preposition", "pronoun", "determiner")


def is_dutch_article(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether Dutch `die` stands before its noun, where it begins no clause: `dat was die jongen`,
    and not `een vogel die vliegt`.
    """
    if tongue != "nl" or words[at].head != "die" or at + 1 >= len(words):
        return False
    following = words[at + 1]
    known = words_of_language(tongue)
    is_noun = following.kind in CONTENT and following.head not in known.moments
    return is_noun and not is_verb_form(following.head, known, tongue)


@cache
def particle_pairs(tongue: str) -> frozenset[tuple[str, str]]:
    """Verbs of a language with their particles, as `languages.toml` has them."""
    return words_of_language(tongue).particle_pairs()


Rule = Callable[[BreakPlace], float | None]
"""Says how tightly two words belong together; None where it has nothing to say of a place."""


class Case(NamedTuple):
    """What a place may be, and its penalty then.

    Attributes:
        test: whether it is.
        penalty: or what gives it.
    """

    test: Callable[[BreakPlace], bool]
    penalty: float | Callable[[BreakPlace], float]


def decided(cases: Sequence[Case], place: BreakPlace, otherwise: float) -> float:
    """The penalty of the first case that a place is."""
    for test, penalty in cases:
        if test(place):
            return penalty if isinstance(penalty, float) else penalty(place)
    return otherwise


class Row(NamedTuple):
    """A rule, and where it is asked.

    Attributes:
        words: the name of the list in `languages.toml` that the word must be in; None asks for any
            word.
        rule: it.
        tongues: the languages that it is for; None for all.
    """

    words: str | None
    rule: Rule
    tongues: frozenset[str] | None = None
