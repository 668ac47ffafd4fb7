"""Where language breaks: how good or bad it is to go on in another line or cue before a word.

The order of preference is that of subtitling guides: after a sentence, after a clause, before a conjunction or a
preposition; never between what belongs together.
"""

import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from itertools import accumulate
from pathlib import Path

from mantisreed.transcript.punctuation import ends_clause, ends_sentence
from mantisreed.transcript.writing import NOT_FIRST, NOT_LAST, is_spaceless, needs_space, phrases

PAIR = 36.0
"""The penalty between a pronoun or an auxiliary and its verb, and after a word that belongs to what follows it."""

SENTENCE, CLAUSE, CONJUNCTION, PREPOSITION, PLAIN, UNIT = 0.0, 3.0, 4.0, 9.0, 12.0, 60.0
"""Penalties: after a sentence, after a clause, before a conjunction, before a preposition, anywhere else, and inside
what belongs together."""

_OPENING, _CLOSING = "([{（［｛「『【〈《", ")]}）］｝」』】〉》"

_CONJUNCTIONS = {
    "en": (
        "and but or nor so yet because although though while when where if unless until since that which who "
        "whom whose than as"
    ),
    "de": (
        "und aber oder denn sondern weil dass daß wenn als ob obwohl während nachdem bevor bis seit damit "
        "sodass falls wo wie wer was"
    ),
    "fr": "et mais ou donc or ni car que qui quand lorsque parce puisque comme si où dont",
    "es": "y e pero o u ni sino que porque aunque cuando donde como si mientras pues",
}
_PREPOSITIONS = {
    "en": (
        "after before about above across against along among around at behind below beneath beside between "
        "beyond by down during except for from in inside into like near of off on onto out outside over past "
        "through throughout to toward towards under underneath up upon with within without"
    ),
    "de": (
        "auf aus außer bei durch für gegen hinter in mit nach neben ohne über um unter von vor zu zwischen "
        "wegen trotz entlang ab gegenüber an"
    ),
    "fr": (
        "à de en dans par pour sur sous avec sans chez vers entre contre depuis pendant avant après devant derrière"
    ),
    "es": "a ante bajo con contra de desde en entre hacia hasta para por según sin sobre tras",
}
_DETERMINERS = {
    "en": ("a an the this that these those my your his her its our their every each no some any"),
    "de": (
        "ein eine einen einem einer eines der die das den dem des dieser diese dieses diesen diesem mein "
        "meine meinen dein seine sein ihr ihre unser unsere kein keine keinen jeder jede jedes im am zum zur "
        "vom beim ins"
    ),
    "fr": (
        "un une des le la les l' du au aux ce cet cette ces mon ma mes ton ta tes son sa ses notre nos votre vos leur"
    ),
    "es": (
        "un una unos unas el la los las este esta estos estas ese esa mi mis tu tus su sus nuestro nuestra al del"
    ),
}
_UNITS_TEXT = (
    "mm cm m km g kg mg t l ml s ms min h hz khz % ‰ ° °c °f grams gram kilos kilometres kilometers metres "
    "meters millimetres millimeters centimetres inches feet miles hours hour minutes minute seconds second "
    "days day weeks years euros euro dollars pounds percent degrees knots gramm kilo meter millimeter "
    "zentimeter kilometer stunden stunde minuten minute sekunden uhr tage tag jahre jahr prozent grad"
)
_AROUND = "\"'“”„«»‹›()[]{}"  # quotes and brackets
_LANGUAGES = Path(__file__).with_name("languages.toml")
_STRIPPED = ".,;:!?\"'“”„«»()[]{}…"


def _sets(table: dict[str, str]) -> dict[str, frozenset[str]]:
    return {language: frozenset(words.split()) for language, words in table.items()}


_UNITS = frozenset(_UNITS_TEXT.split())
_CONJUNCTION_SETS, _PREPOSITION_SETS = _sets(_CONJUNCTIONS), _sets(_PREPOSITIONS)
_DETERMINER_SETS = _sets(_DETERMINERS)
_NAMES_ARE_CAPITALISED = frozenset(("en", "fr", "es"))


def break_penalties(
    texts: Sequence[str], language: str | None, is_glued: Sequence[bool] | None = None
) -> list[float]:
    """How bad a break before each text is; the first one has none.

    Args:
        texts: words in order.
        language: a tag; None takes the rules that hold in any language.
        is_glued: which are written without a space before; None lets the script decide.
    """
    tongue = (language or "").split("-")[0].lower()
    conjunctions = _CONJUNCTION_SETS.get(tongue, frozenset())
    prepositions = _PREPOSITION_SETS.get(tongue, frozenset())
    determiners = _DETERMINER_SETS.get(tongue, frozenset())
    known = words_of_language(tongue)
    leaning = conjunctions | prepositions | known.leaning
    has_names = tongue in _NAMES_ARE_CAPITALISED
    bare = [text.lower().strip(_STRIPPED) for text in texts]
    penalties, depth, starts_sentence = [0.0] * len(texts), 0, True
    for at, text in enumerate(texts):
        if at:
            before = texts[at - 1]
            is_end = is_sentence_end(before, text, tongue)
            if is_end:
                penalty = SENTENCE
            elif depth > 0:
                penalty = UNIT
            elif ends_clause(before):
                penalty = CLAUSE
            elif (
                bare[at - 1] in determiners
                or _is_number_with_unit(bare[at - 1], bare[at])
                or (has_names and not starts_sentence and _look_like_a_name(before, text))
            ):
                penalty = UNIT
            elif ends_sentence(before):
                penalty = UNIT  # the full stop of an abbreviation, which belongs to what follows
            elif bare[at - 1] in leaning or (
                bare[at] in known.particles and not (at + 1 < len(bare) and bare[at + 1] in determiners)
            ):
                penalty = PAIR
            elif bare[at] in conjunctions:
                penalty = CONJUNCTION
            elif bare[at] in prepositions:
                penalty = PREPOSITION
            elif text[0] in NOT_FIRST or before[-1:] in NOT_LAST:
                penalty = UNIT
            else:
                penalty = PLAIN
            penalties[at] = penalty
            starts_sentence = is_end
        if not text.isalnum():
            depth = max(0, depth + sum(text.count(mark) for mark in _OPENING) - sum(text.count(m) for m in _CLOSING))
            if depth and ends_sentence(text):
                depth = 0  # a bracket that nobody closed
    if not all(map(str.isascii, texts)):
        _part_phrases(penalties, texts, language, is_glued)
    return penalties


def _part_phrases(
    penalties: list[float], texts: Sequence[str], language: str | None, is_glued: Sequence[bool] | None
) -> None:
    """In scripts without spaces: what is inside a phrase belongs together, and a space is as good as a comma."""
    run: list[int] = []

    def judge() -> None:
        parts = [texts[number] for number in run]
        starts = {0, *accumulate(map(len, phrases("".join(parts), language)))}
        for number, at in zip(run, accumulate(map(len, parts), initial=0), strict=False):
            if at not in starts:
                penalties[number] = max(penalties[number], UNIT)

    for number, text in enumerate(texts):
        before = texts[number - 1] if number else ""
        is_same = bool(before) and is_spaceless(before[-1]) and is_spaceless(text[0])
        glued = is_same and (not needs_space(before, text) if is_glued is None else is_glued[number])
        if is_same and not glued:
            penalties[number] = min(penalties[number], CLAUSE)
        if not glued:
            if len(run) > 1:
                judge()
            run = []
        run.append(number)
    if len(run) > 1:
        judge()


@dataclass(frozen=True, slots=True)
class LanguageWords:
    """What is known of a language besides its articles, prepositions and conjunctions.

    Attributes:
        never_ends: abbreviations that something always follows.
        may_end: abbreviations that may stand at the end of a sentence.
        months: what follows an ordinal that is written with a full stop.
        leaning: pronouns and auxiliaries, which belong to what follows them.
        particles: which belong to the verb before them.
    """

    never_ends: frozenset[str] = frozenset()
    may_end: frozenset[str] = frozenset()
    months: frozenset[str] = frozenset()
    leaning: frozenset[str] = frozenset()
    particles: frozenset[str] = frozenset()


@cache
def _tables() -> dict[str, dict[str, str]]:
    tables: dict[str, dict[str, str]] = tomllib.loads(_LANGUAGES.read_text(encoding="utf-8"))
    return tables


@cache
def words_of_language(tongue: str) -> LanguageWords:
    """What is known of a language, by the first part of its tag; of one that is not listed, nothing."""
    table = {key: frozenset(words.split()) for key, words in _tables().get(tongue, {}).items()}
    if not table:
        return LanguageWords()
    leaning = table["pronouns"] | table["auxiliaries"]
    return LanguageWords(table["never_ends"], table["may_end"], table["months"], leaning, table["particles"])


def is_sentence_end(text: str, following: str, tongue: str) -> bool:
    """Whether a sentence ends with a word, and not only an abbreviation, an initial or an ordinal.

    Args:
        text: the word, with what is written at it.
        following: the next one.
        tongue: the first part of the language's tag.
    """
    if not ends_sentence(text):
        return False
    bare = text.lower().strip(_AROUND)
    if not bare.endswith(".") or bare.endswith("..") or not following:
        return True
    first = following.lstrip(_AROUND)[:1]
    if first.islower():
        return False
    word = bare.rstrip(".")
    known = words_of_language(tongue)
    if word in known.never_ends:
        return word in known.may_end and not first.isdigit()
    if word in known.may_end:
        return not first.isdigit()
    if word.isdigit():  # `3. Februar` is a date, `we counted 3.` an end
        return following.lower().strip(_STRIPPED) not in known.months
    # An initial, or letters with full stops between them such as `J. R.`
    is_initial = len(word) == 1 and word.isalpha() and text.strip(_AROUND)[:1].isupper() and word != "i"
    return not is_initial


def _look_like_a_name(before: str, text: str) -> bool:
    return len(before) > 1 and before[0].isupper() and text[:1].isupper()


def _is_number_with_unit(before: str, text: str) -> bool:
    return bool(before) and before[-1].isdigit() and (text in _UNITS or text.isdigit())
