"""What a conjunction such as `and` joins: clauses, phrases or single words.

A break before one that joins clauses is as good as any inside of a sentence. Between two nouns,
adjectives or numbers it tears what is read as one. What stands on both sides decides: a verb on
each, a comma, and how long the parts are.
"""

from collections.abc import Sequence
from enum import Enum

from mantisreed.subtitles.language.languages import CAPITALISES_NOUNS, ROMANCE, LanguageWords
from mantisreed.subtitles.language.word_facts import WordFacts

_REACH = 9  # words; a clause that has no verb within them is rare in speech

# What hardly any other word ends with. `-ía` and `-ait` are left out: they end nouns as well.
_VERB_ENDINGS = {
    "en": ("ed",),
    "fr": (
        "issent",
        "issons",
        "issez",
        "aient",
        "èrent",
        "irent",
        "erons",
        "eront",
        "iront",
        "erez",
        "irez",
        "erais",
        "erait",
    ),
    "es": (
        "aron",
        "ieron",
        "aban",
        "ábamos",
        "arán",
        "erán",
        "irán",
        "arían",
        "erían",
        "ando",
        "iendo",
    ),
    "it": (
        "arono",
        "erono",
        "irono",
        "avano",
        "evano",
        "ivano",
        "eranno",
        "iranno",
        "ando",
        "endo",
    ),
    "pt": (
        "aram",
        "eram",
        "iram",
        "avam",
        "ávamos",
        "arão",
        "erão",
        "irão",
        "ando",
        "endo",
        "indo",
    ),
    "pl": (
        "emy",
        "imy",
        "ymy",
        "amy",
        "śmy",
        "łem",
        "łam",
        "ał",
        "ała",
        "ali",
        "ały",
        "ił",
        "iła",
        "ili",
        "iły",
        "ć",
    ),
    "ru": ("ет", "ёт", "ит", "ют", "ят", "ать", "ить", "ла", "ли", "ся", "йте", "ьте"),
}
# What a Romance word behind `and` is a verb by, where no article stands before it.
_PLURAL_VERBS = {
    "fr": ("ons", "ez", "ent"),
    "es": ("an", "en", "mos", "aba"),
    "it": ("ono", "ano", "iamo", "ava", "eva"),
    "pt": ("am", "em", "mos", "ou", "eu"),
}
GERMAN_VERB_ENDS = ("en", "st", "t", "te", "ten")
_LONG = 4  # words
_ASKING = frozenset(("ли",))  # Russian, behind the word that its clause asks about
_NEITHER = frozenset(("né", "ni", "nem"))  # stand before each of the parts that they join
_OPENERS = ("determiner", "preposition", "quantifier", "infinitive", "of", "number")
"""Kinds of words that begin a part of several words."""


class Joined(Enum):
    """What a coordinating conjunction joins."""

    CLAUSES = "clauses"
    LONG_PHRASES = "long phrases"
    PHRASES = "phrases"
    WORDS = "words"
    ADJECTIVES = "adjectives"
    NUMBERS = "numbers"


def joined_by(words: Sequence[WordFacts], at: int, known: LanguageWords, tongue: str) -> Joined:
    """What the conjunction at a place joins.

    Args:
        words: of a text, in order.
        at: the number of the conjunction; at least 1.
        known: the language's lists of words.
        tongue: the first part of the language's tag.
    """
    if words[at].head not in known.joins_words or at + 1 >= len(words):
        return Joined.CLAUSES
    before, behind = words[at - 1], words[at + 1]
    if _are_numbers(before, behind, known) or _is_or_so(words, at):
        return Joined.NUMBERS
    if _are_pronouns(before, behind, known):
        return Joined.ADJECTIVES
    if _is_second_participle(words, at, known, tongue):
        return Joined.WORDS
    near = words[max(0, at - _LONG) : at]
    if words[at].head in _NEITHER and any(one.head in _NEITHER for one in near):
        return Joined.LONG_PHRASES  # `ni électricité | ni eau courante`
    return _parts_joined(words, at, known, tongue)


def _parts_joined(words: Sequence[WordFacts], at: int, known: LanguageWords, tongue: str) -> Joined:
    """The same where neither numbers nor two forms of one verb are joined."""
    before, behind = words[at - 1], words[at + 1]
    right = _part_behind(words, at)
    if behind.head in known.particles and not behind.closes:
        return Joined.LONG_PHRASES  # `off the mud | and back into the channel`
    if _is_clause(words, at, right, known, tongue):
        return Joined.CLAUSES
    if _are_described_alike(words, at, right):
        return Joined.LONG_PHRASES
    if behind.kind in _OPENERS:
        return Joined.LONG_PHRASES if _is_long(words, at, right) else Joined.PHRASES
    if before.tail_kind == "adjective" and behind.kind == "adjective":
        return Joined.ADJECTIVES
    return Joined.WORDS


def _are_numbers(before: WordFacts, behind: WordFacts, known: LanguageWords) -> bool:
    """Whether `two or three`, `neuf heures et demie` are joined."""
    is_measure = before.tail in known.behind and (behind.is_number or behind.head in known.behind)
    return is_measure or (before.is_number and behind.is_number)


def _is_or_so(words: Sequence[WordFacts], at: int) -> bool:
    """English `another fifty minutes | or so`."""
    return words[at].head == "or" and words[at + 1].head == "so"


def _are_pronouns(before: WordFacts, behind: WordFacts, known: LanguageWords) -> bool:
    """Whether two pronouns are joined: English `you or I`, Spanish `ustedes o yo`."""
    is_subject = behind.head in known.subjects and behind.head not in known.determiners
    is_one = before.tail in known.pronouns and before.tail not in known.determiners
    return is_subject and is_one and before.tail not in known.indefinite and not before.closes


def _are_described_alike(words: Sequence[WordFacts], at: int, right: Sequence[WordFacts]) -> bool:
    """Whether a phrase with a preposition follows both nouns: `a lamp on the head | and bags at the
    belt`.
    """
    describe = ("preposition", "of")
    noun = int(right[0].kind in ("determiner", "of"))  # behind its article, French `des` too
    is_noun = len(right) > noun + 2 and right[noun].kind == "content"
    is_noun = is_noun and right[noun + 1].kind in describe
    near = words[max(0, at - _LONG) : at]
    return is_noun and any(word.kind in describe for word in near)


def _is_second_participle(
    words: Sequence[WordFacts], at: int, known: LanguageWords, tongue: str
) -> bool:
    """English `was drained | and ploughed,`: one word that goes on with what an auxiliary began."""
    before, behind = words[at - 1], words[at + 1]
    if tongue != "en" or at < 2 or not behind.closes:
        return False
    is_passive = words[at - 2].tail_kind == "auxiliary"
    return is_passive and all(is_verb_form(one.head, known, tongue) for one in (before, behind))


def _is_long(words: Sequence[WordFacts], at: int, right: Sequence[WordFacts]) -> bool:
    """Whether a phrase with a preposition follows, or each side has several words, the right one
    up to the end of its clause.
    """
    if right[0].kind == "preposition":
        return True
    if right[0].is_number and len(right) > 1 and right[1].kind == "preposition":
        return True  # `three on the bank | and three by the river`
    return len(_part_before(words, at)) > _LONG and right[-1].closes and len(right) >= _LONG


def _is_clause(
    words: Sequence[WordFacts],
    at: int,
    right: Sequence[WordFacts],
    known: LanguageWords,
    tongue: str,
) -> bool:
    """Whether a clause follows a conjunction, or the second verb of the one before it."""
    if _begins_clause(right):
        return True
    first = right[0]
    if _is_bare_verb(words, at, tongue) or is_verb(first, known, tongue):
        return True
    if tongue in CAPITALISES_NOUNS and _ends_in_verb(right):
        # `ausgiebig bedauern und die Tiere gebeten haben`: such an end is no noun's
        is_sure = len(right) > 2 and right[-1].kind == "auxiliary" and right[-1].closes
        if is_sure or _is_clause_before(words, at):
            return True
    if tongue == "nl" and _has_dutch_clauses(words, at, right, known):
        return True
    parts = right, _part_before(words, at)
    return all(any(is_verb(word, known, tongue) for word in part) for part in parts)


def _begins_clause(part: Sequence[WordFacts]) -> bool:
    """Whether a part is a clause by what it begins with, or by what asks in it."""
    first = part[0]
    if first.kind in ("conjunction", "coordinating"):
        return True
    has_subject = first.kind == "pronoun" and not first.closes and len(part) > 1
    return has_subject or any(word.head in _ASKING for word in part)


def _is_bare_verb(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether the word behind a conjunction must be a verb by what stands beside it.

    Romance nouns repeat their article: `la cabane et attendez`. German ones have a capital letter.
    """
    before, behind = words[at - 1], words[at + 1]
    if behind.kind != "content" or before.tail_kind not in ("content", "adjective"):
        return False
    if tongue in ROMANCE:
        is_noun = before.tail_kind == "content" and at > 1
        has_article = is_noun and words[at - 2].in_phrase in ("begins", "fills")
        return has_article or _is_plural_verb(behind.head, tongue)
    if tongue not in CAPITALISES_NOUNS or behind.is_capital or before.tail_kind != "content":
        return False
    if before.is_capital:
        return True
    # `gibst die Kartoffeln dazu und gießt alles`: an adjective would have its noun behind it.
    has_noun = at + 2 < len(words) and words[at + 2].is_capital
    return behind.bare.endswith(GERMAN_VERB_ENDS) and not behind.closes and not has_noun


def _is_plural_verb(word: str, tongue: str) -> bool:
    """Whether a Romance word ends as verbs do; French adverbs end alike."""
    is_verbal = len(word) > _LONG and word.endswith(_PLURAL_VERBS.get(tongue, ()))
    return is_verbal and not word.endswith("ment")


def _is_clause_before(words: Sequence[WordFacts], at: int) -> bool:
    """Whether a German subordinate clause ends before a conjunction, with its verb: `wenn die Sonne
    aufgeht`.
    """
    before = _part_before(words, at)
    return before[0].kind == "conjunction" and len(before) > 2 and _ends_in_verb(before)


def _has_dutch_clauses(
    words: Sequence[WordFacts], at: int, right: Sequence[WordFacts], known: LanguageWords
) -> bool:
    """Whether a Dutch subordinate clause ends before a conjunction and another follows: `die met
    een hond aankomen | en alles willen zien`.
    """
    before = _part_before(words, at)
    is_subordinate = before[0].kind == "conjunction" and len(before) >= _LONG
    ends_in_verb = before[-1].head.endswith(("en", "t"))
    return is_subordinate and ends_in_verb and any(is_verb(word, known, "nl") for word in right)


def _ends_in_verb(part: Sequence[WordFacts]) -> bool:
    last = part[-1]
    return not last.is_capital and last.bare.endswith(GERMAN_VERB_ENDS)


def is_verb(word: WordFacts, known: LanguageWords, tongue: str) -> bool:
    """Whether a word is a verb as far as lists and its form tell."""
    # Romance articles are pronouns before a verb as well, and stand among the auxiliaries.
    is_auxiliary = word.tail_kind == "auxiliary" and word.tail not in known.determiners
    return is_auxiliary or is_verb_form(word.tail, known, tongue)


def is_verb_form(word: str, known: LanguageWords, tongue: str) -> bool:
    """Whether a word, in lower case, is in a list of verbs or ends as verbs do."""
    if word in known.verbs:
        return True
    endings = _VERB_ENDINGS.get(tongue)
    return endings is not None and len(word) > 4 and word.endswith(endings)


def _part_behind(words: Sequence[WordFacts], at: int) -> Sequence[WordFacts]:
    """The words behind a conjunction, as far as the clause goes."""
    for place in range(at + 1, min(at + 1 + _REACH, len(words))):
        word = words[place]
        begins_clause = place > at + 1 and word.kind in ("conjunction", "coordinating")
        if begins_clause:
            return words[at + 1 : place]
        if word.closes:
            return words[at + 1 : place + 1]
    return words[at + 1 : at + 1 + _REACH]


def _part_before(words: Sequence[WordFacts], at: int) -> Sequence[WordFacts]:
    """The words before it, back to where the clause began."""
    for place in range(at - 1, max(-1, at - 1 - _REACH), -1):
        word = words[place]
        if word.closes and place < at - 1:
            return words[place + 1 : at]
        if word.kind == "conjunction":
            return words[place:at]
    return words[max(0, at - _REACH) : at]
