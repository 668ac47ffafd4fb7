"""How tightly two words belong together: one rule a row, in the order in which they count.

The first rule that has something to say of a place decides. A rule that begins with the name of a
word list is asked only where the word is in that list of the language (`languages.toml`).
"""

from collections.abc import Callable, Container, Sequence
from functools import cache

from mantisreed.subtitles.language.break_place import (
    COMPARING,
    CONJUNCTION,
    CONTENT,
    LOOSE,
    PAIR,
    PHRASE,
    PLAIN,
    PREPOSITION,
    UNIT,
    BreakPlace,
    Rule,
    is_behind_short_clause,
    is_dutch_article,
    is_short_relative,
)
from mantisreed.subtitles.language.coordination import Joined, joined_by
from mantisreed.subtitles.language.following_rules import FOLLOWING
from mantisreed.subtitles.language.languages import ROMANCE, words_of_language
from mantisreed.subtitles.language.preceding_rules import PRECEDING, is_infinitive
from mantisreed.subtitles.language.word_facts import WordFacts

_SHORT = 6  # letters

Compiled = Sequence[tuple[Container[str] | None, Rule]]
"""Rules of one language, each with the words that it is asked about."""


def tied_to_following(place: BreakPlace) -> float:
    """How tightly the word before a place belongs to what comes; 0 where nothing ties it."""
    return _decided(_compiled(place.tongue)[0], place, place.before.tail)


def tied_to_preceding(place: BreakPlace) -> float:
    """How tightly the word behind a place belongs to the one before it."""
    return _decided(_compiled(place.tongue)[1], place, place.word.head)


def between(place: BreakPlace) -> float:
    """The penalty of a place where nothing ties two words."""
    if is_short_relative(place.words, place.at, place.tongue):
        return PLAIN
    rule = _BY_KIND.get(place.word.kind, _between_content)
    return rule(place)


def _decided(rules: Compiled, place: BreakPlace, word: str) -> float:
    for words, rule in rules:
        if words is None or word in words:
            tie = rule(place)
            if tie is not None:
                return tie
    return 0.0


# ---- nothing ties the two


def _between_content(place: BreakPlace) -> float:
    if place.capitalises_nouns:
        return PHRASE if place.before.is_capital and not place.is_capital else PLAIN - 4
    length = place.phrase_length
    if place.is_verb(place.word.head) or _is_participle(place):
        return PHRASE
    if place.tongue in ROMANCE and _is_behind_bare_noun(place):
        return LOOSE  # `de mango | rojo`
    if length == 2:
        return LOOSE if place.tongue in ROMANCE else LOOSE + 4
    if length < 2 and place.is_verb(place.before.tail):
        return PLAIN - 4
    return PLAIN


def _is_behind_bare_noun(place: BreakPlace) -> bool:
    """Whether a noun without an article stands before a place, behind its preposition."""
    if place.at < 2 or place.phrase_length or place.before.closes:
        return False
    is_noun = place.before.tail_kind == "content" and not place.is_verb(place.before.tail)
    return is_noun and place.words[place.at - 2].tail_kind in ("of", "preposition")


def _is_participle(place: BreakPlace) -> bool:
    """English `a bird | weighing less than a letter`, not `the bird ringing | in spring`."""
    following = place.next_word
    if place.tongue != "en" or following is None or place.word.closes:
        return False
    is_long = place.word.head.endswith("ing") and len(place.word.head) > 5
    has_object = following.kind in ("determiner", "quantifier", "degree", "pronoun")
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


def _before_preposition(place: BreakPlace) -> float:
    following = place.next_word
    if following is not None and following.kind == "conjunction" and place.at + 1 in place.inside:
        return CONJUNCTION  # Spanish `| para que`, French `| pour que`
    if following is not None and _is_strong_pronoun(place, following):
        # Two short words, such as `for us`; alone on a line they look forgotten.
        is_forgotten = following.closes and place.tongue not in ROMANCE
        return LOOSE + 4 if is_forgotten else PLAIN
    if following is not None and _is_short_infinitive(following, place.tongue):
        return LOOSE
    if place.is_verb(place.before.tail):
        return PHRASE + 1
    if _is_behind_phrase(place):
        return PREPOSITION + 2
    return PREPOSITION


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
    if place.tongue == "en":
        return LOOSE - 2
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
    return behind[0].kind == "conjunction" or (has_article and behind[1].kind == "conjunction")


def _before_pronoun(place: BreakPlace) -> float:
    following = place.next_word
    is_article = place.tongue in ROMANCE and place.word.head in place.known.determiners
    if is_article and following is not None and following.kind in CONTENT:
        return _before_noun_phrase(place)  # `oublier | ce bruit`
    if place.before.tail in place.known.indefinite:
        return LOOSE  # `we bring everything | we might need`
    is_last = following is not None and following.closes and following.kind == "auxiliary"
    if is_last and not place.before.closes:
        return LOOSE  # `nobody knows how strong | they are.`
    if place.word.head in ("it", "you"):
        return PLAIN - 4  # as likely an object
    return PREPOSITION


def _before_auxiliary(place: BreakPlace) -> float:
    # Behind another auxiliary it is no subject that its verb follows.
    is_chain = place.before.tail in place.known.auxiliaries
    if is_chain and not is_behind_short_clause(place):
        return LOOSE
    return PHRASE - 1


def _before_noun_phrase(place: BreakPlace) -> float:
    """An object belongs to its verb more than a subject does."""
    if place.word.head in place.known.asking:
        return CONJUNCTION  # `elle notait | quels oiseaux se tenaient là`
    if _is_behind_verb(place) or place.before.tail_kind == "auxiliary":
        return PHRASE + 3
    return PHRASE


def _before_degree(place: BreakPlace) -> float:
    """`weighing | less than a letter`, `they flew | very low`: it belongs to the verb; a Romance
    one to the noun: `la parte | più importante`.
    """
    following = place.next_word
    describes = following is not None and following.kind in ("content", "adjective")
    if describes and place.word.head in COMPARING and place.phrase_length > 1:
        return LOOSE
    if _is_behind_verb(place):
        return PHRASE + 3
    return PHRASE


def _is_behind_verb(place: BreakPlace) -> bool:
    """Whether what follows is an object or the like, also of an English participle."""
    before = place.before.tail
    is_participle = place.tongue == "en" and before.endswith("ing")
    return is_participle or place.is_verb(before)


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


def _before_conjunction(place: BreakPlace) -> float:
    if place.is_moment:
        return PHRASE  # `who was there | that night`
    if is_dutch_article(place.words, place.at, place.tongue):
        return _before_noun_phrase(place)
    following = place.next_word
    # `a map as well`, but `| as well as a compass`
    is_adverb = following is not None and following.head == "well" and following.closes
    if place.word.head == "as" and is_adverb:
        return LOOSE
    if place.word.head == "as" and following is not None and following.closes:
        return PAIR  # `admitted | as much.`
    return CONJUNCTION


def _before_coordinating(place: BreakPlace) -> float:
    return _JOINS[joined_by(place.words, place.at, place.known, place.tongue)]


_BY_KIND: dict[str, Callable[[BreakPlace], float]] = {
    "conjunction": _before_conjunction,
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


@cache
def _compiled(tongue: str) -> tuple[Compiled, Compiled]:
    """The rules of a language, with its lists in place of their names."""
    known = words_of_language(tongue)
    following, preceding = (
        [
            (None if row.words is None else getattr(known, row.words), row.rule)
            for row in rows
            if row.tongues is None or tongue in row.tongues
        ]
        for rows in (FOLLOWING, PRECEDING)
    )
    return following, preceding
