"""Learn how likely texts are in their languages, for `review/likelihood.py`.

    python tools/learn_likelihood.py FOLDER

`FOLDER` has a text for each language, such as `de.txt`, with a paragraph on each line. The numbers
that ship were learned from the sayings and the manual pages of a Linux distribution, 0.6 to 4 MB of
each language. Prints for texts that were kept apart how much of them is called unlikely, and how
much of three kinds of nonsense: the same words in another order, words drawn from the vocabulary,
and words with other letters.
"""

import argparse
import io
import random
import textwrap
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mantisreed.review import likelihood
from mantisreed.review.likelihood import (
    BEGIN,
    EDGE,
    END,
    LETTER_STEPS,
    OTHER,
    PAIR_STEPS,
    RARE,
    Judgement,
    LanguageModel,
    Window,
)
from mantisreed.subtitles.language.languages import words_of_language

_COMMON = 300  # words
_ALPHABET = 40  # letters
_LENGTHS = (16, 32, 64)  # words of a window
_SMOOTHING = 20.0  # how often a pair would have to be seen to be believed by half
_UNSEEN = 0.3  # of what smoothing gives to pairs that are never seen
_FARTHEST = 4.0
_LEAST_SMALL = 0.2  # share of small words below which a paragraph is in another language
# Shares of windows of good text that may be over the limits.
_FALSE, _FALSE_IF_UNSURE = 0.0002, 0.01

Sentences = Sequence[Sequence[str]]


def paragraphs(file: Path, tag: str) -> list[list[str]]:
    """The words of each paragraph that is in the language of its file."""
    known = words_of_language(tag)
    small = known.determiners | known.prepositions | known.conjunctions | known.pronouns
    small |= known.auxiliaries | known.coordinating
    found = []
    for line in file.read_text(encoding="utf-8").splitlines():
        words = likelihood._parts(line)
        if len(words) >= 5 and sum(word in small for word in words) / len(words) > _LEAST_SMALL:
            found.append(words)
    random.Random(3).shuffle(found)
    return found


def learned(texts: Sentences) -> LanguageModel:
    """Letters and pairs of words, without any window yet."""
    words = Counter(word for text in texts for word in text)
    letters = Counter(letter for word, count in words.items() for letter in word * min(count, 50))
    alphabet = {
        letter: at for at, (letter, _) in enumerate(letters.most_common(_ALPHABET), OTHER + 1)
    }
    common = {word: at for at, (word, _) in enumerate(words.most_common(_COMMON), RARE + 1)}
    return LanguageModel(alphabet, _trigrams(words, alphabet), common, _pairs(texts, common), ())


def _trigrams(words: Counter[str], alphabet: dict[str, int]) -> NDArray[np.int8]:
    size = len(alphabet) + OTHER + 1
    counts = np.zeros((size, size, size))
    for word, count in words.items():
        places = [BEGIN, BEGIN, *(alphabet.get(letter, OTHER) for letter in word), END]
        for first, second, third in zip(places, places[1:], places[2:], strict=False):
            counts[first, second, third] += count
    singles = counts.sum(axis=(0, 1)) + 1.0
    doubles = counts.sum(axis=0) + 5.0 * singles / singles.sum()
    doubles /= doubles.sum(axis=1, keepdims=True)
    mixed = counts + 5.0 * doubles[None, :, :]
    likely = mixed / mixed.sum(axis=2, keepdims=True)
    steps: NDArray[np.int8] = (
        np.clip(np.log(likely) * LETTER_STEPS, -127, 0).round().astype(np.int8)
    )
    return steps


def _pairs(texts: Sentences, common: dict[str, int]) -> NDArray[np.int8]:
    counts = np.zeros((len(common) + RARE + 1,) * 2)
    for text in texts:
        places = [EDGE, *(common.get(word, RARE) for word in text), EDGE]
        for first, second in pairwise(places):
            counts[first, second] += 1
    anywhere = counts.sum(axis=0) / counts.sum()
    smoothed = _SMOOTHING * anywhere[None, :]
    rows = counts.sum(axis=1, keepdims=True) + _SMOOTHING
    behind = np.where(counts == 0, smoothed * _UNSEEN, counts + smoothed) / rows
    ratio = np.log(np.maximum(behind, 1e-12) / np.maximum(anywhere, 1e-12)[None, :])
    bounded = np.clip(ratio, -_FARTHEST, _FARTHEST) * PAIR_STEPS
    steps: NDArray[np.int8] = bounded.round().astype(np.int8)
    return steps


@dataclass
class Nonsense:
    """Three kinds of nonsense, made of good text."""

    vocabulary: list[str]
    chance: random.Random

    def reordered(self, words: Sequence[str]) -> list[str]:
        """The same words in another order."""
        return self.chance.sample(list(words), len(words))

    def drawn(self, words: Sequence[str]) -> list[str]:
        """Words drawn from the vocabulary."""
        return [self.chance.choice(self.vocabulary) for _ in words]

    def misspelt(self, words: Sequence[str]) -> list[str]:
        """Words of which half of the letters are others; short ones stay."""
        letters = "abcdefghijklmnoprstuvw"
        return [
            word
            if len(word) < 3
            else "".join(
                self.chance.choice(letters) if self.chance.random() < 0.5 else one for one in word
            )
            for word in words
        ]


def judged(model: LanguageModel, good: Sequence[str], nonsense: Nonsense, length: int) -> Window:
    """How windows of a length are judged, by logistic regression, and limits by good text."""
    right = likelihood.means(model.measured(good), length)
    usual = [nonsense.reordered, nonsense.misspelt]
    every = [*usual, nonsense.drawn]
    wrong = [likelihood.means(model.measured(kind(good)), length) for kind in every]
    return Window(
        length,
        _judgement(right, np.vstack(wrong[:2]), length, columns=2, false=_FALSE),
        _judgement(right, np.vstack(wrong), length, columns=3, false=_FALSE_IF_UNSURE),
    )


def _judgement(
    right: NDArray[np.float64],
    wrong: NDArray[np.float64],
    length: int,
    *,
    columns: int,
    false: float,
) -> Judgement:
    """What tells wrong means from right ones, by the first columns of them."""
    chosen = np.vstack([right[:: length // 2], wrong[:: length // 2]])[:, :columns]
    is_wrong = np.repeat([0.0, 1.0], [len(right[:: length // 2]), len(wrong[:: length // 2])])
    centre, spread = right[:, :columns].mean(axis=0), right[:, :columns].std(axis=0)
    rows = np.column_stack([np.ones(len(chosen)), (chosen - centre) / spread])
    weights = np.zeros(3)
    weights[:columns] = _regression(rows, is_wrong)[1:] / spread
    limit = float(np.quantile(right @ weights, 1 - false))
    return Judgement((float(weights[0]), float(weights[1]), float(weights[2])), limit)


def _regression(rows: NDArray[np.float64], is_wrong: NDArray[np.float64]) -> NDArray[np.float64]:
    parts = np.zeros(rows.shape[1])
    balance = np.where(is_wrong == 1, (is_wrong == 0).sum() / max(1, is_wrong.sum()), 1.0)
    for _ in range(60):
        likely = 1 / (1 + np.exp(-np.clip(rows @ parts, -30, 30)))
        slope = rows.T @ (balance * (is_wrong - likely)) - 0.1 * parts
        bend = (rows.T * (balance * likely * (1 - likely))) @ rows + 0.1 * np.eye(len(parts))
        parts += np.linalg.solve(bend, slope)
    return parts


def _share(model: LanguageModel, words: Sequence[str], *, is_unsure: bool = False) -> float:
    """The share of words that are called unlikely."""
    kept, likelihood.models = likelihood.models, lambda: {"xx": model}
    try:
        flags = [is_unsure] * len(words)
        found = likelihood.unlikely_stretches(words, flags, "xx")
        return sum(last - first for first, last, _ in found) / len(words)
    finally:
        likelihood.models = kept


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("folder", type=Path)
    folder = parser.parse_args().folder
    kept: dict[str, NDArray[np.generic]] = {}
    print("share that is called unlikely: good text, reordered, drawn, misspelt; unsure: the same")
    for file in sorted(folder.glob("??.txt")):
        tag = file.stem
        texts = paragraphs(file, tag)
        first, second = int(len(texts) * 0.6), int(len(texts) * 0.85)
        model = learned(texts[:first])
        good = [word for text in texts[first:second] for word in text]
        apart = [word for text in texts[second:] for word in text]
        vocabulary = sorted({word for text in texts[:first] for word in text})
        nonsense = Nonsense(vocabulary, random.Random(7))
        windows = tuple(judged(model, good, nonsense, length) for length in _LENGTHS)
        model = replace(model, windows=windows)
        tried = [apart, nonsense.reordered(apart), nonsense.drawn(apart), nonsense.misspelt(apart)]
        shown = [
            " ".join(f"{_share(model, words, is_unsure=unsure):.3f}" for words in tried)
            for unsure in (False, True)
        ]
        print(f"{tag} {len(apart):6} words  {shown[0]}  unsure {shown[1]}")
        kept |= {
            f"{tag}.letters": np.frombuffer("".join(model.letters).encode(), np.uint8),
            f"{tag}.words": np.frombuffer("\n".join(model.words).encode(), np.uint8),
            f"{tag}.trigrams": model.trigrams,
            f"{tag}.pairs": model.pairs,
            f"{tag}.windows": np.array(
                [
                    (
                        one.length,
                        *(*one.usual.weights, one.usual.limit),
                        *(*one.unsure.weights, one.unsure.limit),
                    )
                    for one in windows
                ],
                np.float32,
            ),
        }
    target = Path(likelihood.__file__).with_name(likelihood.NUMBERS_FILE)
    packed = io.BytesIO()
    np.savez_compressed(packed, **kept)  # type: ignore[arg-type]
    # In hexadecimal, so that no word is in it by chance, and that it is a text as all else here.
    target.write_text("\n".join(textwrap.wrap(packed.getvalue().hex(), 100)) + "\n")
    print(f"{target.name}: {target.stat().st_size} bytes")


if __name__ == "__main__":
    main()
