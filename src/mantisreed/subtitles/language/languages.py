"""What breaks of lines and cues need to know of languages: the tables of `languages.toml`."""

import tomllib
from dataclasses import dataclass, fields
from functools import cache
from itertools import product
from pathlib import Path

_TABLES = Path(__file__).with_name("languages.toml")

CAPITALISES_NOUNS = frozenset(("de",))
"""Languages that write nouns with a capital letter."""

ROMANCE = frozenset(("fr", "es", "it", "pt"))
"""Languages whose adjectives follow their noun, and whose nouns repeat their article."""

SLAVIC = frozenset(("pl", "ru"))
"""Languages whose pronouns may stand before an infinitive as well as behind a verb."""

SLAVIC_INFINITIVES = {"pl": ("ć",), "ru": ("ть", "ться", "ти")}
"""What their infinitives end with."""

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
    relatives: frozenset[str] = frozenset()
    asides: frozenset[str] = frozenset()
    describing: frozenset[str] = frozenset()
    standing: frozenset[str] = frozenset()
    subjects: frozenset[str] = frozenset()
    negations: frozenset[str] = frozenset()
    numbered: frozenset[str] = frozenset()
    particle_verbs: frozenset[str] = frozenset()
    trailing: frozenset[str] = frozenset()
    genitives: frozenset[str] = frozenset()
    asking: frozenset[str] = frozenset()
    indefinite: frozenset[str] = frozenset()
    moments: frozenset[str] = frozenset()
    with_participle: frozenset[str] = frozenset()
    partitive: frozenset[str] = frozenset()
    floating: frozenset[str] = frozenset()
    trailing_phrases: frozenset[str] = frozenset()
    ranges: frozenset[str] = frozenset()
    range_openers: frozenset[str] = frozenset()
    between: frozenset[str] = frozenset()
    aspectual: frozenset[str] = frozenset()
    measures: frozenset[str] = frozenset()
    calendar: frozenset[str] = frozenset()
    formal_subjects: frozenset[str] = frozenset()
    names: frozenset[str] = frozenset()
    amounts: frozenset[str] = frozenset()
    possessives: frozenset[str] = frozenset()
    naming: frozenset[str] = frozenset()
    openers: frozenset[str] = frozenset()
    pronominal: frozenset[str] = frozenset()

    def particle_pairs(self) -> frozenset[tuple[str, str]]:
        """Verbs in all their forms, each with its particles; of English, which has such verbs."""
        pairs: set[tuple[str, str]] = set()
        for row in self.particle_verbs:
            verb, *particles = row.split()
            pairs.update(product(english_forms(verb), particles))
        return frozenset(pairs)


_IRREGULAR = """
break broke broken; bring brought; burn burnt; catch caught; cut; dig dug; draw drew drawn;
drive drove driven; fall fell fallen; find found; get got gotten; give gave given; go went gone;
grow grew grown; hang hung; hold held; keep kept; lay laid; leave left; let; lie lay lain; make
made; pay paid; put; read; ring rang rung; run ran; see saw seen; sell sold; send sent; set;
shake shook shaken; shut; sit sat; split; spread; stand stood; stick stuck; take took taken;
tear tore torn; think thought; throw threw thrown; wake woke woken; wear wore worn; wind wound;
write wrote written; show showed shown
"""


def english_forms(verb: str) -> set[str]:
    """A verb as it is written in all persons and tenses."""
    stem = verb.removesuffix("e")
    is_short = len(verb) < 5 and verb[-1] in "bdgmnpt" and verb[-2] in "aeiou"
    doubled = f"{verb}{verb[-1]}" if is_short and verb[-3] not in "aeiou" else stem
    forms = {verb, f"{verb}s", f"{verb}es", f"{stem}ing", f"{stem}ed", f"{doubled}ing"}
    forms.add(f"{doubled}ed")
    if verb.endswith("y"):
        forms |= {f"{verb[:-1]}ies", f"{verb[:-1]}ied"}
    return forms | _irregular_forms().get(verb, frozenset())


@cache
def _irregular_forms() -> dict[str, frozenset[str]]:
    """What the forms of irregular verbs are, by the first of them."""
    rows = (row.split() for row in _IRREGULAR.split(";"))
    return {first: frozenset(others) for first, *others in rows}


@cache
def _tables() -> dict[str, dict[str, str]]:
    tables: dict[str, dict[str, str]] = tomllib.loads(_TABLES.read_text(encoding="utf-8"))
    return tables


_OF_SEVERAL_WORDS = ("phrases", "trailing_phrases", "particle_verbs", "openers")


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
        if field.name in _OF_SEVERAL_WORDS:
            parts = written.split(";")
        else:
            parts = written.split()
        sets[field.name] = frozenset(" ".join(part.split()) for part in parts if part.strip())
    ordinals = product(*(table.get(key, "").split() for key in ("ordinals", "ordinal_endings")))
    sets["numbers"] |= frozenset(map("".join, ordinals))
    return LanguageWords(**sets)


def is_known_language(language: str) -> bool:
    """Whether there are tables of a language, by its tag."""
    return words_of_language(language.split("-")[0].lower()) != LanguageWords()
