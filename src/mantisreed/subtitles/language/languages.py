"""What breaks of lines and cues need to know of languages: the tables of `languages.toml`."""

import tomllib
from dataclasses import dataclass, fields
from functools import cache
from itertools import pairwise
from pathlib import Path

_TABLES = Path(__file__).with_name("languages.toml")

CAPITALISES_NOUNS = frozenset(("de",))
"""Languages that write nouns with a capital letter."""

ROMANCE = frozenset(("fr", "es", "it", "pt"))
"""Languages whose adjectives follow their noun, and whose nouns repeat their article."""

_UNITS_TEXT = (
    "mm cm m km g kg mg t l ml s ms min h hz khz % ‰ ° °c °f ft lb oz grams gram kilos kilometres "
    "kilometers metres "
    "meters millimetres millimeters centimetres inches feet miles hours hour minutes minute "
    "seconds second "
    "days day weeks years knots euros euro dollars pounds percent degrees gramm kilo meter "
    "millimeter "
    "zentimeter kilometer stunden stunde minuten minute sekunden uhr tage tag jahre jahr prozent "
    "grad "
    "heures heure mètres ans jours euros horas metros días años ore giorni anni uur dagen jaar "
    "godzin dni lat"
)
UNITS = frozenset(_UNITS_TEXT.split())
"""Units of measurement, which stay with their number in any language."""


@dataclass(frozen=True, slots=True)
class LanguageWords:
    """Small words of a language by what they belong to; `languages.toml` says what each set is
    for.
    """

    never_ends: frozenset[str] = frozenset()
    may_end: frozenset[str] = frozenset()
    months: frozenset[str] = frozenset()
    determiners: frozenset[str] = frozenset()
    quantifiers: frozenset[str] = frozenset()
    prepositions: frozenset[str] = frozenset()
    of: frozenset[str] = frozenset()
    coordinating: frozenset[str] = frozenset()
    joins_words: frozenset[str] = frozenset()
    conjunctions: frozenset[str] = frozenset()
    pronouns: frozenset[str] = frozenset()
    object_pronouns: frozenset[str] = frozenset()
    auxiliaries: frozenset[str] = frozenset()
    degree: frozenset[str] = frozenset()
    particles: frozenset[str] = frozenset()
    adjectives: frozenset[str] = frozenset()
    verbs: frozenset[str] = frozenset()
    numbers: frozenset[str] = frozenset()
    behind: frozenset[str] = frozenset()
    titles: frozenset[str] = frozenset()
    phrases: frozenset[str] = frozenset()

    @property
    def phrase_pairs(self) -> frozenset[tuple[str, str]]:
        """Neighbours inside of the phrases."""
        pairs: set[tuple[str, str]] = set()
        for phrase in self.phrases:
            words = phrase.split()
            pairs.update(pairwise(words))
        return frozenset(pairs)


@cache
def _tables() -> dict[str, dict[str, str]]:
    tables: dict[str, dict[str, str]] = tomllib.loads(_TABLES.read_text(encoding="utf-8"))
    return tables


@cache
def words_of_language(tongue: str) -> LanguageWords:
    """What is known of a language, by the first part of its tag; of one that is not listed,
    nothing.
    """
    table = _tables().get(tongue)
    if table is None:
        return LanguageWords()
    sets = {}
    for field in fields(LanguageWords):
        written = table.get(field.name, "")
        if field.name == "phrases":
            parts = written.split(";")
        else:
            parts = written.split()
        sets[field.name] = frozenset(" ".join(part.split()) for part in parts if part.strip())
    return LanguageWords(**sets)


def is_known_language(language: str) -> bool:
    """Whether there are tables of a language, by its tag."""
    return words_of_language(language.split("-")[0].lower()) != LanguageWords()
