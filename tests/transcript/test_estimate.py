"""Text without times laid over speech: as well as by looking at everything, in time that grows with
the speech.
"""

import random

import numpy as np
import pytest

from mantisreed.transcript import estimate
from mantisreed.transcript.estimate import spoken_length, words_over_speech

Speech = list[tuple[float, float]]


def spoken(
    count: int, seed: int, pauses: float, slower: float = 0.0
) -> tuple[str, Speech, list[float]]:
    """A made-up text, where somebody speaks, and when each word really begins; the second half may
    be faster.
    """
    chance = random.Random(seed)
    words, starts, speech, at, begin = [], [], Speech(), 0.0, 0.0
    for number in range(count):
        text = "".join(chance.choice("aeioubcdfghklmnprst") for _ in range(chance.randint(2, 9)))
        is_end = chance.random() < pauses
        words.append(text + (chance.choice([".", ",", ""]) if is_end else ""))
        starts.append(at)
        pace = 1 + slower * (1 if number < count / 2 else -1)
        at += spoken_length(words[-1]) * 0.09 * chance.uniform(0.85, 1.15) * pace
        if is_end:
            speech.append((begin, at))
            at += chance.uniform(0.2, 0.8)
            begin = at
    speech.append((begin, at + 0.01))
    return " ".join(words), speech, starts


def estimated_starts(text: str, speech: Speech) -> list[float]:
    passages = words_over_speech(text, speech, speech[-1][1])
    return [word.start for passage in passages for word in passage.words]


@pytest.mark.parametrize(("pauses", "slower"), [(0.12, 0.0), (0.03, 0.0), (0.12, 0.25)])
@pytest.mark.parametrize("seed", range(3))
def test_looking_near_the_likeliest_ends_finds_what_looking_everywhere_finds(
    monkeypatch: pytest.MonkeyPatch, pauses: float, slower: float, seed: int
) -> None:
    text, speech, _ = spoken(500, seed, pauses, slower)
    near = estimated_starts(text, speech)
    monkeypatch.setattr(estimate, "_BAND", 10_000)
    assert estimated_starts(text, speech) == near


def test_an_hour_is_laid_out_as_well_as_a_minute(monkeypatch: pytest.MonkeyPatch) -> None:
    cells = 0
    of_runs = estimate._Costs.of_runs

    def counted(
        costs: estimate._Costs, ends: np.ndarray, takes: np.ndarray, stretch: float
    ) -> np.ndarray:
        nonlocal cells
        cells += len(ends) * len(takes)
        return of_runs(costs, ends, takes, stretch)

    monkeypatch.setattr(estimate._Costs, "of_runs", counted)
    work = []
    for count in (1000, 4000, 16_000):
        cells = 0
        text, speech, starts = spoken(count, 1, 0.12)
        errors = np.abs(np.array(estimated_starts(text, speech)) - np.array(starts))
        assert errors.mean() < 0.15
        work.append(cells)
    assert work[1] < 5 * work[0] and work[2] < 5 * work[1]


def test_unbroken_speech_is_no_more_work_than_speech_with_pauses() -> None:
    text, speech, starts = spoken(9000, 2, 0.0)
    assert len(speech) == 1
    assert np.abs(np.array(estimated_starts(text, speech)) - np.array(starts)).mean() < 2.0
