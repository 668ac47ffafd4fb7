"""Where a text stands inside of a phrase that is not torn, such as `as soon as` or `switch on`."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from functools import cache

from mantisreed.subtitles.language.break_place import particle_pairs
from mantisreed.subtitles.language.languages import words_of_language
from mantisreed.subtitles.language.word_facts import ELIDES, WordFacts

# Prepositions that are one with an article behind them: a phrase that ends with one holds for all.
_WITH_ARTICLE = {
    "it": {
        "di": "del dello della dell dei degli delle",
        "a": "al allo alla all ai agli alle",
        "da": "dal dallo dalla dall dai dagli dalle",
    },
    "pt": {"de": "do da dos das", "a": "ao à aos às"},
    "es": {"de": "del", "a": "al"},
    "fr": {"de": "du des", "à": "au aux"},
}
_ELIDED = {"que": "qu", "de": "d", "si": "s", "di": "d", "che": "ch"}

Parts = tuple[str, ...]


def places_inside_phrases(words: Sequence[WordFacts], tongue: str) -> set[int]:
    """The numbers of the words that stand in a phrase behind its first word.

    Args:
        words: of a text, in order.
        tongue: the first part of the language's tag.
    """
    inside: set[int] = set()
    phrases = _by_first_word(tongue)
    for at, word in enumerate(words):
        for parts in phrases.get(word.tail, ()):
            # A comma inside parts the words after all: `as long, as soon`.
            if _stands_at(words, at, parts):
                inside.update(range(at + 1, at + len(parts)))
    return inside


def _stands_at(words: Sequence[WordFacts], at: int, parts: Parts) -> bool:
    """Whether a phrase stands at a place; its first word is known to."""
    last = at + len(parts) - 1
    if last >= len(words) or words[last].head != parts[-1]:
        return False
    return all(words[at + nth].bare == parts[nth] for nth in range(1, len(parts) - 1))


def begins_trailing_phrase(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether a phrase that belongs to what it follows begins with a word, such as `all'ora`."""
    for parts in _trailing_by_first_word(tongue).get(words[at].bare, ()):
        if parts == tuple(word.bare for word in words[at : at + len(parts)]):
            return True
    return False


def ends_opener(words: Sequence[WordFacts], at: int, tongue: str) -> bool:
    """Whether a conjunction of several words ends before a place: `by the time | we came`."""
    for parts in _openers_by_last_word(tongue).get(words[at - 1].bare, ()):
        if parts == tuple(word.bare for word in words[max(0, at - len(parts)) : at]):
            return True
    return False


@cache
def _openers_by_last_word(tongue: str) -> Mapping[str, Sequence[Parts]]:
    found: defaultdict[str, list[Parts]] = defaultdict(list)
    for phrase in words_of_language(tongue).openers:
        parts = tuple(phrase.split())
        found[parts[-1]].append(parts)
    return {last: tuple(rows) for last, rows in found.items()}


@cache
def _trailing_by_first_word(tongue: str) -> Mapping[str, Sequence[Parts]]:
    found: defaultdict[str, list[Parts]] = defaultdict(list)
    for phrase in words_of_language(tongue).trailing_phrases:
        parts = tuple(phrase.split())
        found[parts[0]].append(parts)
    return {first: tuple(rows) for first, rows in found.items()}


@cache
def _by_first_word(tongue: str) -> Mapping[str, Sequence[Parts]]:
    """Phrases of a language, and its verbs with their particles, by what they begin with."""
    known = words_of_language(tongue)
    found: defaultdict[str, set[Parts]] = defaultdict(set)
    several = (phrase for phrase in known.phrases | known.trailing_phrases if " " in phrase)
    for phrase in several:
        first, *middle, last = phrase.split()
        if tongue in ELIDES:
            # `d'abord`: one word on paper, of which the phrase needs the half that it meets.
            first, last = first.rpartition("'")[2], last.partition("'")[0]
            found[first].add((first, *middle, _ELIDED.get(last, last)))
        with_article = _WITH_ARTICLE.get(tongue, {}).get(last, "")
        for end in (last, *with_article.split()):
            found[first].add((first, *middle, end))
    for verb, particle in particle_pairs(tongue):
        found[verb].add((verb, particle))
    return {first: tuple(rows) for first, rows in found.items()}
