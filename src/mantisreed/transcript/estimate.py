"""Times for words that came without: the words are laid over the stretches in which somebody
speaks.

Each stretch of speech takes a run of words. Dynamic programming finds the runs whose spoken lengths
fit the stretches best, with pauses where the text has punctuation: no word in silence, none out of
order.
"""

import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

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
_NO_TIME = 1e-9  # seconds; so that nothing is divided by zero
_BAND = 100  # words on both sides of the likeliest end that are looked at first
_MOST_CHOICES = 8_000_000  # ends times lengths that are weighed at once
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
        passages.append(
            Passage(passage.start, passage.end, said, timing="estimated", words=passage.words),
        )
        first = last
    return tuple(passages)


def passages_over_speech(passages: Iterable[Passage], speech: Sequence[Span]) -> list[Passage]:
    """The passages, those without words with their text's words laid over the speech inside
    them.
    """
    return [passage if passage.words else _with_words(passage, speech) for passage in passages]


def estimated_words(texts: Sequence[str], speech: Sequence[Span]) -> list[Word]:
    """Words laid over stretches of speech, of which there is at least one."""
    if not texts:
        return []
    lengths = np.array(list(map(spoken_length, texts)))
    words: list[Word] = []
    for (first, last), (start, end) in zip(_best_runs(texts, lengths, speech), speech, strict=True):
        if last > first:
            edges = start + (end - start) * np.concatenate(
                [[0.0], np.cumsum(lengths[first:last])]
            ) / sum(lengths[first:last])
            words += [
                Word(texts[first + n], float(edges[n]), float(edges[n + 1]))
                for n in range(last - first)
            ]
    return words


def spoken_length(text: str) -> float:
    """How long a word takes to say, in syllables or so: by its vowels, letters, digits and
    full-width signs.
    """
    wide, digits = len(_WIDE.findall(text)), len(_DIGIT.findall(text))
    letters = sum(character.isalpha() for character in text) - wide
    vowels = len(_VOWELS.findall(text))
    return 0.35 + 0.55 * vowels + 0.18 * max(0, letters - vowels) + 1.6 * digits + 1.0 * wide


def _with_words(passage: Passage, speech: Sequence[Span]) -> Passage:
    words = estimated_words(words_of(passage.text), _within(speech, passage.start, passage.end))
    return Passage(
        passage.start,
        passage.end,
        passage.text,
        passage.speaker,
        "estimated",
        tuple(words),
        passage.alternatives,
    )


def _within(speech: Sequence[Span], start: float, end: float) -> list[Span]:
    """The speech inside a stretch of time; all of it where there is none."""
    inside = [
        (max(start, first), min(end, last))
        for first, last in speech
        if last > start and first < end
    ]
    return [span for span in inside if span[1] - span[0] > 0.02] or [(start, end)]


def _best_runs(
    texts: Sequence[str], lengths: NDArray[np.float64], speech: Sequence[Span]
) -> list[tuple[int, int]]:
    """For each stretch the run [first, last) of words that it takes; all words are taken.

    Dynamic programming over the stretches. Where a stretch ends is only looked for near where the
    words and the time that are left say, so that time grows with the length of the speech and not
    with its square. When the best runs come near the edge of what was looked at, more is looked at.
    """
    if len(speech) == 1:
        return [(0, len(texts))]
    stretches = np.array([end - start for start, end in speech])
    costs = _Costs(texts, lengths, stretches)
    band = _BAND
    # A stretch that takes most of many words has many choices: memory for them has an end.
    total = max(float(stretches.sum()), _NO_TIME)
    takes = min(len(texts), math.ceil(2.5 * len(texts) * float(stretches.max()) / total) + 6)
    while True:
        runs, is_at_edge = _best_runs_within(band, stretches, costs, len(texts))
        band *= 2
        if not is_at_edge or 2 * band * takes > _MOST_CHOICES:
            return runs


def _best_runs_within(
    band: int, stretches: NDArray[np.float64], costs: "_Costs", count: int
) -> tuple[list[tuple[int, int]], bool]:
    """The best runs that end within so many words of the likeliest ends, and whether one is at the
    edge of that.
    """
    # Seconds from the beginning of each stretch on; a stretch may have no length at all.
    left = np.maximum(np.cumsum(stretches[::-1])[::-1], _NO_TIME)
    reached = _Reached(0, np.zeros(1), np.zeros(1, np.int64))
    path = [reached]
    for number, stretch in enumerate(stretches):
        step = _Step(
            float(stretch),
            fitting=float((count - reached.best) * stretch / left[number]),
            count=count,
            is_last=number == len(stretches) - 1,
        )
        reached = _next_reached(reached, costs, step, band)
        path.append(reached)
    runs, last, is_at_edge = [], count, False
    for reached in reversed(path[1:]):
        taken = int(reached.takes[last - reached.first])
        is_at_edge = is_at_edge or reached.is_near_edge(last, count, band // 8)
        runs.append((last - taken, last))
        last -= taken
    return runs[::-1], is_at_edge


@dataclass(frozen=True, slots=True)
class _Reached:
    """What it costs to have used up so many words by the end of a stretch.

    Attributes:
        first: the number of words that the first entry stands for; the next one stands for one
            more.
        costs: of each number of words, shape (n,).
        takes: how many of them the stretch takes then, shape (n,).
    """

    first: int
    costs: NDArray[np.float64]
    takes: NDArray[np.int64]

    @property
    def best(self) -> int:
        """The number of words that costs least."""
        return self.first + int(self.costs.argmin())

    def is_near_edge(self, words: int, count: int, distance: int) -> bool:
        """Whether a number of words is near the edge of those that were looked at, where more would
        be possible.
        """
        last = self.first + len(self.costs) - 1
        if self.first == last:  # the last stretch, which has no choice
            return False
        return (self.first > 0 and words - self.first < distance) or (
            last < count and last - words < distance
        )


@dataclass(frozen=True, slots=True)
class _Step:
    """One stretch.

    Attributes:
        stretch: seconds.
        fitting: words that it should take, by what is left of words and time.
        count: of all words.
        is_last: whether all words have to be used up.
    """

    stretch: float
    fitting: float
    count: int
    is_last: bool


class _Costs:
    """What a stretch costs that takes a run of words."""

    def __init__(
        self,
        texts: Sequence[str],
        lengths: NDArray[np.float64],
        stretches: NDArray[np.float64],
    ) -> None:
        kinds = list(map(_kind, texts))
        before = np.concatenate([[0.0], np.cumsum(lengths)])
        # Seconds for each unit of length.
        self.pace = max(float(stretches.sum() / before[-1]), _NO_TIME)
        self.mean_length = float(before[-1]) / len(texts)
        self._said = before * self.pace
        self._broken = np.array([0.0, *(_BREAK[kind] for kind in kinds[:-1]), 0.0])
        self._unbroken = np.concatenate([[0.0], np.cumsum([_NO_BREAK[kind] for kind in kinds])])

    def of_runs(
        self, ends: NDArray[np.int64], takes: NDArray[np.int64], stretch: float
    ) -> NDArray[np.float64]:
        """Shape (ends, takes): a stretch of so many seconds that takes so many words up to each
        end.
        """
        first = np.maximum(ends[:, None] - takes[None, :], 0)
        misfit = np.square(self._said[ends][:, None] - self._said[first] - stretch)
        misfit /= max(stretch, _LEAST_LENGTH) * 0.5
        # A sentence's end inside a run, not at its end, should have been a pause.
        inner = np.maximum(
            0.0, self._unbroken[np.maximum(ends - 1, 0)][:, None] - self._unbroken[first]
        )
        costs = misfit + inner + self._broken[ends][:, None]
        return np.where(takes > 0, costs, _EMPTY_STRETCH * stretch)


def _next_reached(before: _Reached, costs: _Costs, step: _Step, band: int) -> _Reached:
    """From what it costs before a stretch to what it costs behind it."""
    latest = before.first + len(before.costs) - 1
    if step.is_last:
        ends = np.array([step.count])
        most = step.count - before.first
    else:
        middle = before.best + round(step.fitting)
        first = min(max(before.first, middle - band), step.count)
        ends = np.arange(first, min(step.count, max(first, middle + band)) + 1)
        usual = step.stretch / (costs.pace * costs.mean_length)
        most = min(int(ends[-1]) - before.first, math.ceil(2.5 * max(usual, step.fitting)) + 6)
    takes = np.arange(max(0, int(ends[0]) - latest), most + 1)
    starts = ends[:, None] - takes[None, :] - before.first
    is_known = (starts >= 0) & (starts < len(before.costs))
    so_far = np.where(is_known, before.costs[np.clip(starts, 0, len(before.costs) - 1)], math.inf)
    total = so_far + costs.of_runs(ends, takes, step.stretch)
    best = total.argmin(axis=1)
    return _Reached(int(ends[0]), total[np.arange(len(ends)), best], takes[best])


def _kind(text: str) -> str:
    if ends_sentence(text):
        return "sentence"
    return "clause" if ends_clause(text) else "none"
