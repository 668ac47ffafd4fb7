"""Whether a text is in the language that it should be in, and whether it is likely in it at all."""

import re
from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import accumulate, chain

import numpy as np
from numpy.typing import NDArray

from mantisreed.review.likelihood import unlikely_stretches
from mantisreed.review.normalising import normalised_word
from mantisreed.review.runs import runs_where
from mantisreed.subtitles.language.languages import words_of_language
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.punctuation import ends_sentence

_SHORTEST_SENTENCE = 4  # words; of fewer nobody knows the language
# Words, and how much more small words another language has among them.
_LANGUAGE_WINDOW, _CLEARLY = 12, 0.25
_SMALL_WORDS = 0.3  # share of small words from which a window is of a language
_UNSURE = 0.75  # confidence below which a text is held to the stricter limits of its language
_FEWEST_UNLIKELY = 6  # words that a stretch has to have without those in another language
# Shapes of words that the other languages hardly have; short sentences may have few small words.
_SHAPES = {
    "en": "th|^wh|ight|ough|[a-z]{2}ing$|[^aeiou]y$|"
    "^(?:one|two|four|five|six|seven|nine|ten|eleven|twelve)$",
    "de": "[äöüß]|sch|cht|pf|ung$|keit$|tz|"
    "^(?:eins|zwei|drei|vier|fünf|sechs|sieben|acht|neun|zehn|elf)$",
    "fr": "[èêùçœ]|é|eux$|eau|[a-z]+ent$|^(?:[ldjncmts]|qu)['’]",
    "es": "ñ|ción$|[áíóú]|ll|dad$|^qu",
    "it": "zion[ei]$|gli|[àèìòù]$|cch|tt[aoie]$",
    "pt": "[ãõ]|ç|nh|lh|dade$",
    "nl": "ij|[a-z]oe|aa|uu|eeuw|sch",
    "pl": "[ąćęłńśźż]|sz|cz|rz|ów$",
}
_LANGUAGES = tuple(_SHAPES)


@dataclass(frozen=True, slots=True)
class LanguageFinding:
    """A stretch of words that is not what its language has.

    Attributes:
        first: the first word.
        last: the word behind the last one.
        language: the one that it looks like; the text's own where it is only unlikely in it.
        excess: by how much it is over the limit of what is likely; 0 where it is in another one.
    """

    first: int
    last: int
    language: str
    excess: float = 0.0


@dataclass(frozen=True, slots=True)
class LanguageFindings:
    """What was found in a text.

    Attributes:
        language: the text's own.
        others: stretches in another one.
        unlikely: stretches that are unlikely in it, and in no other.
    """

    language: str
    others: tuple[LanguageFinding, ...]
    unlikely: tuple[LanguageFinding, ...]


def language_findings(passages: Sequence[Passage], language: str | None) -> LanguageFindings:
    """Stretches in another language than the text's own, and those that are unlikely in it.

    Args:
        passages: of the text.
        language: its tag; None or one of which nothing is known takes the one that most of its
            words are of.
    """
    words = list(chain.from_iterable(passage.words for passage in passages))
    ends = set(accumulate(len(passage.words) for passage in passages))
    flags = _words_of(["".join(normalised_word(word.text)) for word in words])
    tag = (language or "").split("-")[0].lower()
    if tag in flags:
        own = tag
    else:
        own = max(flags, key=lambda tongue: int(flags[tongue].sum()))
    others = tuple(_others(words, ends, flags, own))
    # Whether a language of which nothing is known is likely cannot be told by a similar one.
    if tag in ("", own):
        unlikely = tuple(_unlikely(words, own, others))
    else:
        unlikely = ()
    return LanguageFindings(own, others, unlikely)


def _words_of(keys: Sequence[str]) -> dict[str, NDArray[np.int64]]:
    """For each language which words look like its own: 1, or 0."""
    different = list(dict.fromkeys(keys))
    flags = {}
    for tongue, shape in _SHAPES.items():
        known, shaped = _small_words(tongue), re.compile(shape)
        own = {key for key in different if key in known or shaped.search(key)}
        flags[tongue] = np.array([key in own for key in keys], np.int64)
    return flags


def _others(
    words: Sequence[Word],
    ends: Container[int],
    flags: dict[str, NDArray[np.int64]],
    own: str,
) -> Iterator[LanguageFinding]:
    """Windows and sentences that have more words of another language than of their own."""
    tongues = [tongue for tongue in _LANGUAGES if tongue != own]
    sums = {tongue: np.concatenate([[0], np.cumsum(one)]) for tongue, one in flags.items()}
    is_other = [""] * len(words)
    for first, last in _windows(words, ends):
        counts = {tongue: int(sums[tongue][last] - sums[tongue][first]) for tongue in tongues}
        best = max(tongues, key=lambda tongue: counts[tongue])
        if _is_another(counts[best], int(sums[own][last] - sums[own][first]), last - first):
            for place in range(first, last):
                is_other[place] = is_other[place] or best
    for first, last in runs_where(list(map(bool, is_other))):
        yield LanguageFinding(first, last, is_other[first])


def _unlikely(
    words: Sequence[Word], own: str, others: Sequence[LanguageFinding]
) -> Iterator[LanguageFinding]:
    """Stretches that are unlikely in the text's own language, without what is in another one."""
    unsure = [word.confidence is not None and word.confidence < _UNSURE for word in words]
    is_told = np.zeros(len(words), np.bool_)
    for other in others:
        is_told[other.first : other.last] = True
    for first, last, excess in unlikely_stretches([word.text for word in words], unsure, own):
        for begin, end in runs_where((~is_told[first:last]).tolist()):
            if end - begin >= _FEWEST_UNLIKELY:
                yield LanguageFinding(first + begin, first + end, own, excess)


def _windows(words: Sequence[Word], ends: Container[int]) -> Iterator[tuple[int, int]]:
    """Windows of words [first, last), and sentences that are shorter; a passage's end is one of a
    sentence too.
    """
    begin = 0
    for at, word in enumerate(words, 1):
        if at in ends or ends_sentence(word.text):
            if _SHORTEST_SENTENCE <= at - begin < 2 * _LANGUAGE_WINDOW:
                yield begin, at
            begin = at
        if at >= _LANGUAGE_WINDOW:
            yield at - _LANGUAGE_WINDOW, at


def _is_another(theirs: int, own: int, count: int) -> bool:
    """Whether so many small words of another language, and so many of one's own, among so many say
    that it is it.

    A sentence of one's own may have none of its small words, such as one that only lists numbers;
    one in another language has two or more of that one's. Some words are small in several
    languages.
    """
    if (
        count >= _LANGUAGE_WINDOW
        and theirs - own >= _CLEARLY * count
        and theirs >= _SMALL_WORDS * count
    ):
        return True
    is_most = theirs >= 0.4 * count and theirs - own >= max(3, 2 * own)
    return is_most or (theirs >= 0.2 * count and own == 0 and theirs >= 2)


@cache
def _small_words(tongue: str) -> frozenset[str]:
    """Articles, prepositions, conjunctions, pronouns and auxiliaries: half of any text, and its
    language's own.
    """
    known = words_of_language(tongue)
    small = known.determiners | known.prepositions | known.conjunctions | known.coordinating
    return small | known.pronouns | known.auxiliaries
