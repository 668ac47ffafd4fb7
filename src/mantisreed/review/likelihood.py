"""How likely a text is in its language: by its letters, by which common words follow each other,
and by how many of its words are common.

Nonsense of real words has the right letters in the wrong order of words; nonsense of made-up words
has the wrong letters. Both are told from windows of words, by numbers that
`tools/learn_likelihood.py` has learned from sayings and manuals and that lie beside this module.
"""

import io
import re
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

NUMBERS_FILE = "likelihood.hex"
"""The numbers, for each language, as NumPy has them, in hexadecimal: see `LanguageModel`."""

WORD = re.compile(r"[^\W\d_]+(?:['’][^\W\d_]+)*")
"""What counts as a word here; numbers in digits do not."""

BEGIN, END, OTHER = 0, 1, 2
"""Places in the alphabet: the beginning and the end of a word, and letters that are hardly used."""

EDGE, RARE = 0, 1
"""Places among the common words: the edge of a text, and any word that is not common."""

LETTER_STEPS, PAIR_STEPS = 12.0, 30.0
"""Steps of the numbers as they are kept, in whole numbers from -127 to 127, to one."""


@dataclass(frozen=True, slots=True)
class Judgement:
    """How the means over a window are judged.

    Attributes:
        weights: of the order of words, of letters, and of the share of common words; what they come
            to is higher for nonsense.
        limit: over which hardly any text of the language is.
    """

    weights: tuple[float, float, float]
    limit: float

    def excess(self, means: NDArray[np.float64]) -> NDArray[np.float64]:
        """By how much means over windows, shape (windows, 3), are over the limit."""
        found: NDArray[np.float64] = means @ np.array(self.weights) - self.limit
        return found


@dataclass(frozen=True, slots=True)
class Window:
    """How windows of so many words are judged.

    Attributes:
        length: words.
        usual: for text that the engine is sure of. That few words are common counts for nothing:
            lists of names, numbers and kinds of birds are like that.
        unsure: for text that it is less sure of than it should be.
    """

    length: int
    usual: Judgement
    unsure: Judgement


@dataclass(frozen=True, slots=True)
class LanguageModel:
    """What was learned of a language.

    Attributes:
        letters: places of letters in the alphabet.
        trigrams: logarithms of how likely a letter is behind two others, shape (letters, letters,
            letters), in steps.
        words: places of common words.
        pairs: logarithms of how much likelier a common word is behind another than anywhere, shape
            (words, words), in steps.
        windows: how windows are judged, the shortest first.
    """

    letters: dict[str, int]
    trigrams: NDArray[np.int8]
    words: dict[str, int]
    pairs: NDArray[np.int8]
    windows: tuple[Window, ...]

    def can_write(self, word: str) -> bool:
        """Whether most letters are of the language: what is in another script says nothing."""
        return 2 * sum(letter in self.letters for letter in word) > len(word)

    def of_letters(self, word: str) -> float:
        """How likely a word's letters are, as the mean of logarithms."""
        places = [BEGIN, BEGIN, *(self.letters.get(one, OTHER) for one in word), END]
        kept = [
            int(self.trigrams[first, second, third])
            for first, second, third in zip(places, places[1:], places[2:], strict=False)
        ]
        return sum(kept) / len(kept) / LETTER_STEPS

    def measured(self, words: Sequence[str]) -> NDArray[np.float64]:
        """What each word adds to a window, shape (words, 3): its place behind the word before, its
        letters, whether it is common.
        """
        places = np.array([self.words.get(word, RARE) for word in words], np.intp)
        letters = {word: self.of_letters(word) for word in set(words)}
        measured = np.empty((len(words), 3))
        measured[0, 0] = 0.0
        measured[1:, 0] = self.pairs[places[:-1], places[1:]] / PAIR_STEPS
        measured[:, 1] = [letters[word] for word in words]
        measured[:, 2] = places != RARE
        return measured


def means(measured: NDArray[np.float64], length: int) -> NDArray[np.float64]:
    """Means over windows [first, first + length), shape (words - length + 1, 3)."""
    sums = np.cumsum(np.vstack([np.zeros((1, 3)), measured]), axis=0)
    found: NDArray[np.float64] = (sums[length:] - sums[:-length]) / length
    return found


_READING = threading.Lock()


def models() -> dict[str, LanguageModel]:
    """The languages that were learned, by their tags."""
    # One thread reads them: NumPy's reader goes through a parser that fails in two threads at once
    # on Python 3.11.
    with _READING:
        return _read_models()


@cache
def _read_models() -> dict[str, LanguageModel]:
    written = (files("mantisreed.review") / NUMBERS_FILE).read_text(encoding="ascii")
    with np.load(io.BytesIO(bytes.fromhex(written))) as kept:
        tags = sorted({name.partition(".")[0] for name in kept.files})
        return {tag: _model(kept, tag) for tag in tags}


def _model(kept: "np.lib.npyio.NpzFile", tag: str) -> LanguageModel:
    letters = bytes(kept[f"{tag}.letters"]).decode()
    words = bytes(kept[f"{tag}.words"]).decode().split("\n")
    windows = [
        Window(
            int(row[0]),
            Judgement((float(row[1]), float(row[2]), float(row[3])), float(row[4])),
            Judgement((float(row[5]), float(row[6]), float(row[7])), float(row[8])),
        )
        for row in kept[f"{tag}.windows"]
    ]
    return LanguageModel(
        {letter: place for place, letter in enumerate(letters, OTHER + 1)},
        kept[f"{tag}.trigrams"],
        {word: place for place, word in enumerate(words, RARE + 1)},
        kept[f"{tag}.pairs"],
        tuple(windows),
    )


def unlikely_stretches(
    texts: Sequence[str], is_unsure: Sequence[bool], language: str
) -> Iterator[tuple[int, int, float]]:
    """Stretches of a text that are unlikely in its language.

    Args:
        texts: words as they are written.
        is_unsure: for each whether the engine is less sure of it than it should be.
        language: a tag; nothing is told of a language that was not learned.

    Yields:
        The stretch [first, last) of the words, and by how much it is over the limit.
    """
    model = models().get(language.split("-")[0].lower())
    if model is None:
        return
    parts = []
    for number, text in enumerate(texts):
        parts += [(part, number) for part in _parts(text) if model.can_write(part)]
    if not parts:
        return
    owners = [at for _, at in parts]
    measured = model.measured([part for part, _ in parts])
    unsure = np.cumsum([0, *(is_unsure[at] for at in owners)])
    over = np.full(len(parts), -np.inf)
    for window in model.windows:
        if len(parts) < window.length:
            continue
        share = (unsure[window.length :] - unsure[: -window.length]) / window.length
        over_words = means(measured, window.length)
        usual, doubted = window.usual.excess(over_words), window.unsure.excess(over_words)
        excess = np.where(share > 0.5, np.maximum(usual, doubted), usual)
        for first in np.flatnonzero(excess > 0):
            inside = slice(first, first + window.length)
            over[inside] = np.maximum(over[inside], excess[first])
    flags = over > 0
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(int)))
    for first, last in zip(edges[::2], edges[1::2], strict=True):
        yield owners[first], owners[last - 1] + 1, float(over[first:last].max())


def _parts(text: str) -> list[str]:
    return [part.casefold().replace("’", "'") for part in WORD.findall(text)]
