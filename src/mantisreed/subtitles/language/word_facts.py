"""What is known of a word by itself, for finding where language breaks."""

from dataclasses import dataclass
from functools import lru_cache

from mantisreed.subtitles.language.languages import LanguageWords, words_of_language
from mantisreed.transcript.punctuation import ends_clause, ends_sentence

_OPENING, _CLOSING = "([{（［｛「『【〈《", ")]}）］｝」』】〉》"
_STRIPPED = ".,;:!?\"'“”„«»()[]{}…¿¡♪♫"
ELIDES = frozenset(("fr", "it"))
"""Languages that write an article or pronoun and its word as one: `l'eau`."""

_WHOLE = frozenset(("quelqu'un", "quelqu'une", "aujourd'hui", "presqu'île", "c'est-à-dire"))
"""Words with an apostrophe that nobody takes for two."""

_COMPOUNDS_NUMBERS = frozenset(("de", "nl", "it"))


@dataclass(frozen=True, slots=True)
class WordFacts:
    """What is known of a word by itself.

    Attributes:
        bare: in lower case but for a few names, without marks around it.
        head, tail: what stands before and behind its apostrophe, where its language elides: `l'eau`
            is an article for what stands before it, and a noun for what stands behind it. The bare
            word elsewhere.
        kind, tail_kind: of the head and of the tail.
        is_number: whether the tail is a number, in digits or words.
        ends_sentence, ends_clause: whether it has a mark that does, abbreviations with them.
        in_phrase: what it does to a noun phrase: `ends`, `begins`, `fills` (article and noun in
            one) or `goes on`.
        brackets: how many more it opens than closes.
        is_capital: it begins with a capital letter.
        is_plain: it has letters and digits only.
    """

    bare: str
    head: str
    tail: str
    kind: str
    tail_kind: str
    is_number: bool
    ends_sentence: bool
    ends_clause: bool
    in_phrase: str
    brackets: int
    is_capital: bool
    is_plain: bool

    @property
    def closes(self) -> bool:
        """Whether a clause or a sentence ends with it."""
        return self.ends_clause or self.ends_sentence


# As many as a long talk has different words: of ten thousand recordings it takes no more memory.
@lru_cache(maxsize=1 << 13)
def facts_of(text: str, tongue: str) -> WordFacts:
    """What is known of a word as it is written, in a language."""
    known = words_of_language(tongue)
    bare = text.lower().replace("’", "'").strip(_STRIPPED)
    # English `May`: it keeps its capital letter, so that it is in no list but that of names.
    if known.names and text.strip(_STRIPPED) in known.names:
        bare = text.strip(_STRIPPED)
    elides = tongue in ELIDES and bare not in _WHOLE
    head = bare.partition("'")[0] if elides else bare
    tail = bare.rpartition("'")[2] if elides else bare
    is_numeral = _is_numeral(tail, known, tongue)
    tail_kind = _kind_of(tail, known)
    in_phrase = "goes on"
    if ends_clause(text) or ends_sentence(text):
        in_phrase = "ends"
    elif "'" in bare and head in known.determiners:
        in_phrase = "fills"
    elif tail in known.determiners or tail in known.quantifiers or is_numeral:
        in_phrase = "begins"
    elif tail_kind != "content" and tail not in known.adjectives:
        in_phrase = "ends"
    brackets = sum(map(text.count, _OPENING)) - sum(map(text.count, _CLOSING))
    return WordFacts(
        bare=bare,
        head=head,
        tail=tail,
        kind=_kind_of(head, known),
        tail_kind=tail_kind,
        is_number=is_numeral,
        ends_sentence=ends_sentence(text),
        ends_clause=ends_clause(text),
        in_phrase=in_phrase,
        brackets=brackets,
        is_capital=text[:1].isupper(),
        is_plain=text.isalnum(),
    )


def _is_numeral(word: str, known: LanguageWords, tongue: str) -> bool:
    if is_number(word) or word in known.numbers:
        return True
    if tongue not in _COMPOUNDS_NUMBERS or len(word) <= 8:
        return False
    # `dreihundertzwölf`
    begins = any(map(word.startswith, known.numbers))
    return begins and any(map(word.endswith, known.numbers))


def _kind_of(word: str, known: LanguageWords) -> str:
    """The kind of a word, of those that its tables give the one that matters most before a
    break.
    """
    if word == "to" and "to" in known.auxiliaries:
        return "infinitive"
    kinds = (
        ("of", known.of),
        ("coordinating", known.coordinating),
        ("conjunction", known.conjunctions),
        ("preposition", known.prepositions),
        ("pronoun", known.pronouns),
        ("auxiliary", known.auxiliaries),
        ("determiner", known.determiners),
        ("quantifier", known.quantifiers),
        ("number", known.numbers),
        ("degree", known.degree),
        ("adjective", known.adjectives),
    )
    for name, words in kinds:
        if word in words:
            return name
    if is_number(word):
        return "number"
    return "content"


def is_number(word: str) -> bool:
    """Whether a word is written in digits, with its sign or currency."""
    return bool(word) and (word[0].isdigit() or word[-1].isdigit())


def phrase_length(word: WordFacts, length: int) -> int:
    """How many content words a noun phrase has, with one more word."""
    if word.in_phrase == "goes on":
        if length:
            return length + 1
        return 0
    return {"ends": 0, "begins": 1, "fills": 2}[word.in_phrase]
