"""Phrases in a stream: found as soon as the speaker pauses, whole, and with memory that does not
grow.
"""

import sys
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mantisreed.audio.decode import SAMPLE_RATE
from mantisreed.audio.phrases import LivePhrase, PhraseListener
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose

PAUSE = 0.8


def heard(samples: np.ndarray, block: int = 1600, longest: float = 30.0) -> list[LivePhrase]:
    listener = PhraseListener(SAMPLE_RATE, pause=PAUSE, longest=longest)
    found = [
        phrase
        for n in range(0, len(samples), block)
        for phrase in listener.hear(samples[n : n + block])
    ]
    return found + listener.finish()


@pytest.mark.parametrize("snr", [None, 30.0, 20.0, 12.0])
def test_each_phrase_is_given_whole_as_soon_as_the_speaker_pauses(
    english: list[Phrase], snr: float | None
) -> None:
    composition = compose(english, seed=31, duration=60, pauses=(1.4, 2.0), snr=snr)
    samples = (np.concatenate(list(composition.blocks()), axis=1)[0] * 32767).astype(np.int16)
    found = heard(samples)
    spoken = [(said.words[0].start, said.words[-1].end) for said in composition.truth]
    assert len(found) == len(spoken)
    for phrase, (start, end) in zip(found, spoken, strict=True):
        last = phrase.start + len(phrase.samples) / SAMPLE_RATE
        assert phrase.start <= start + 0.05 and last >= end - 0.15
        assert phrase.heard <= end + PAUSE + 0.3 or phrase is found[-1]


@settings(max_examples=20, deadline=None)
@given(st.lists(st.integers(1, 5000), min_size=1, max_size=30), st.integers(0, 2**32 - 1))
def test_blocks_of_any_size_give_the_same_phrases(sizes: list[int], seed: int) -> None:
    random = np.random.default_rng(seed)
    bursts = [random.normal(0, 3000 if n % 2 else 3, 12_000).astype(np.int16) for n in range(6)]
    samples = np.concatenate([*bursts, np.zeros(SAMPLE_RATE, np.int16)])
    listener, found, place = PhraseListener(SAMPLE_RATE, pause=0.3), [], 0
    while place < len(samples):
        for size in sizes:
            found += listener.hear(samples[place : place + size])
            place += size
    found += listener.finish()
    whole = PhraseListener(SAMPLE_RATE, pause=0.3)
    once = whole.hear(samples) + whole.finish()
    assert [(one.start, len(one.samples)) for one in found] == [
        (one.start, len(one.samples)) for one in once
    ]


def test_who_never_pauses_is_cut_where_it_is_quietest_and_nothing_is_lost() -> None:
    time = np.arange(40 * SAMPLE_RATE) / SAMPLE_RATE
    loudness = 0.2 + 0.15 * np.sin(2 * np.pi * 0.5 * time)
    samples = (loudness * np.random.default_rng(2).normal(0, 8000, len(time))).astype(np.int16)
    found = heard(samples, longest=10.0)
    assert len(found) >= 4
    for phrase, following in pairwise(found):
        end = phrase.start + len(phrase.samples) / SAMPLE_RATE
        assert len(phrase.samples) <= 10.1 * SAMPLE_RATE and abs(following.start - end) < 1e-6


def test_memory_does_not_grow_with_silence_or_noise() -> None:
    listener = PhraseListener(SAMPLE_RATE)
    random = np.random.default_rng(3)
    for _ in range(600):
        assert listener.hear(random.normal(0, 20, SAMPLE_RATE).astype(np.int16)) == []
    held = sum(sys.getsizeof(getattr(listener, name)) for name in vars(listener))
    assert held < 100_000 and not listener.is_speaking
