"""Times for words that came without: the words are laid over the stretches in which somebody speaks.

Each stretch of speech takes a run of words. Dynamic programming finds the runs whose spoken lengths fit the stretches
best, with pauses where the text has punctuation: no word in silence, none out of order.
"""

import math
import re
from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.punctuation import ends_clause, ends_sentence
from mantisreed.transcript.timing import passages_of
from mantisreed.transcript.writing import places_of, words_of

Span = tuple[float, float]

_VOWELS = re.compile(r"[aeiouyäöüàâéèêëîïôùûáíóúåæøœ]+", re.IGNORECASE)
_WIDE = re.compile(r"[\u0e00-\u0e7f\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af]")
_DIGIT = re.compile(r"\d")

# Costs, in units of the misfit of a run by its own length.
_BREAK = {"sentence": 0.0, "clause": 0.05, "none": 0.5}
_NO_BREAK = {"sentence": 0.35, "clause": 0.08, "none": 0.0}
_EMPTY_STRETCH = 1.2  # per second that is left without words
_LEAST_LENGTH = 0.3  # seconds: short stretches are not taken too exactly


def words_over_speech(text: str, speech: Sequence[Span], duration: float) -> tuple[Passage, ...]:
    """A text as passages with estimated times.

    Args:
        text: what was said.
        speech: where somebody speaks, (start, end) in seconds, in order; empty means everywhere.
        duration: of the sound, in seconds.
    """
    texts = words_of(text)
    places = [*(places_of(text, texts) or ()), len(text)]
    passages, first = [], 0
    for passage in passages_of(estimated_words(texts, _within(speech, 0.0, duration))):
        last = first + len(passage.words)
        said = " ".join(text[places[first] : places[last]].split())
        passages.append(Passage(passage.start, passage.end, said, timing="estimated", words=passage.words))
        first = last
    return tuple(passages)


def passages_over_speech(passages: Iterable[Passage], speech: Sequence[Span]) -> list[Passage]:
    """The passages, those without words with their text's words laid over the speech inside them."""
    return [passage if passage.words else _with_words(passage, speech) for passage in passages]


def estimated_words(texts: Sequence[str], speech: Sequence[Span]) -> list[Word]:
    """Words laid over stretches of speech, of which there is at least one."""
    if not texts:
        return []
    lengths = np.array([spoken_length(text) for text in texts])
    words: list[Word] = []
    for (first, last), (start, end) in zip(_best_runs(texts, lengths, speech), speech, strict=True):
        if last > first:
            edges = start + (end - start) * np.concatenate([[0.0], np.cumsum(lengths[first:last])]) / sum(
                lengths[first:last]
            )
            words += [Word(texts[first + n], float(edges[n]), float(edges[n + 1])) for n in range(last - first)]
    return words


def spoken_length(text: str) -> float:
    """How long a word takes to say, in syllables or so: by its vowels, letters, digits and full-width signs."""
    wide, digits = len(_WIDE.findall(text)), len(_DIGIT.findall(text))
    letters = sum(character.isalpha() for character in text) - wide
    vowels = len(_VOWELS.findall(text))
    return 0.35 + 0.55 * vowels + 0.18 * max(0, letters - vowels) + 1.6 * digits + 1.0 * wide


def _with_words(passage: Passage, speech: Sequence[Span]) -> Passage:
    words = estimated_words(words_of(passage.text), _within(speech, passage.start, passage.end))
    return Passage(
        passage.start, passage.end, passage.text, passage.speaker, "estimated", tuple(words), passage.alternatives
    )


def _within(speech: Sequence[Span], start: float, end: float) -> list[Span]:
    """The speech inside a stretch of time; all of it where there is none."""
    inside = [(max(start, first), min(end, last)) for first, last in speech if last > start and first < end]
    return [span for span in inside if span[1] - span[0] > 0.02] or [(start, end)]


def _best_runs(texts: Sequence[str], lengths: NDArray[np.float64], speech: Sequence[Span]) -> list[tuple[int, int]]:
    """For each stretch the run [first, last) of words that it takes; all words are taken."""
    count = len(texts)
    stretches = np.array([end - start for start, end in speech])
    before = np.concatenate([[0.0], np.cumsum(lengths)])
    pace = stretches.sum() / before[-1]
    kinds = [_kind(text) for text in texts]
    broken = np.array([0.0, *(_BREAK[kind] for kind in kinds[:-1]), 0.0])
    unbroken = np.concatenate([[0.0], np.cumsum([_NO_BREAK[kind] for kind in kinds])])
    longest = _longest_run(stretches, lengths, pace, count)
    cost = np.full(count + 1, math.inf)
    cost[0] = 0.0
    choices: list[NDArray[np.int64]] = []
    takes = np.arange(longest + 1)
    first = np.arange(count + 1)[:, None] - takes[None, :]
    valid = first >= 0
    first = np.maximum(first, 0)
    said = (before[:, None] - before[first]) * pace
    # A sentence's end inside a run, not at its end, should have been a pause.
    inner = np.where(
        takes > 0, np.maximum(0.0, unbroken[np.maximum(np.arange(count + 1) - 1, 0)][:, None] - unbroken[first]), 0.0
    )
    for stretch in stretches:
        misfit = np.square(said - stretch) / np.maximum(stretch, _LEAST_LENGTH) / 0.5
        step = np.where(takes > 0, misfit + inner + broken[:, None], _EMPTY_STRETCH * stretch)
        total = np.where(valid, cost[first] + step, math.inf)
        best = total.argmin(axis=1)
        choices.append(best)
        cost = total[np.arange(count + 1), best]
    runs, last = [], count
    for best in reversed(choices):
        runs.append((last - int(best[last]), last))
        last -= int(best[last])
    return runs[::-1]


def _longest_run(stretches: NDArray[np.float64], lengths: NDArray[np.float64], pace: float, count: int) -> int:
    """Words that one stretch may take at most: with margin, and enough that all words find room."""
    if len(stretches) == 1:
        return count
    fitting = float(stretches.max()) / (pace * float(np.median(lengths)))
    return min(count, max(math.ceil(2.5 * fitting) + 6, math.ceil(count / len(stretches)) + 6))


def _kind(text: str) -> str:
    if ends_sentence(text):
        return "sentence"
    return "clause" if ends_clause(text) else "none"
