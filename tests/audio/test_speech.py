"""The speech map, held against composed recordings with truth."""

from itertools import pairwise

import numpy as np
import pytest

from mantisreed.audio.speech import Stretch, speech_map
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition, compose


def covered(composition: Composition, stretches: list[Stretch]) -> tuple[float, float]:
    """The share of speech inside the map, and the share of pauses over 0.3 s that it has a gap in."""
    count = round(composition.duration * 100) + 1
    inside, spoken = np.zeros(count, bool), np.zeros(count, bool)
    for stretch in stretches:
        inside[round(stretch.start * 100) : round(stretch.end * 100)] = True
    for word in composition.words:
        spoken[round(word.start * 100) : round(word.end * 100)] = True
    pauses = [(a.end, b.start) for a, b in pairwise(composition.words) if b.start - a.end > 0.3]
    found = [not inside[round(start * 100) : round(end * 100)].all() for start, end in pauses]
    return float(inside[spoken].mean()), float(np.mean(found))


@pytest.mark.parametrize(("snr", "speech", "pauses"), [(None, 0.99, 0.99), (20.0, 0.98, 0.9), (10.0, 0.92, 0.75)])
def test_speech_is_inside_and_pauses_are_found(
    english: list[Phrase], snr: float | None, speech: float, pauses: float
) -> None:
    composition = compose(english, seed=41, duration=90, pauses=(0.3, 1.5), level_range=6, snr=snr)
    inside, found = covered(composition, speech_map(composition.blocks()))
    assert inside >= speech and found >= pauses


def test_hum_and_dc_are_not_speech_and_hide_none(english: list[Phrase]) -> None:
    composition = compose(english, seed=42, duration=60, pauses=(0.4, 1.5))
    time = np.arange(composition.samples) / 16_000
    disturbance = (0.1 + 0.02 * np.sin(2 * np.pi * 50 * time)).astype(np.float32)
    sound = np.concatenate(list(composition.blocks()), axis=1) + disturbance
    inside, found = covered(composition, speech_map([sound]))
    assert inside > 0.95 and found > 0.9


def test_blocks_of_any_size_give_the_same_map(english: list[Phrase]) -> None:
    composition = compose(english, seed=43, duration=20, snr=25)
    sound = np.concatenate(list(composition.blocks()), axis=1)
    pieces = np.array_split(sound, 37, axis=1)
    assert speech_map(pieces) == speech_map([sound])


def test_silence_and_nothing_hold_no_speech() -> None:
    assert speech_map([]) == []
    assert speech_map([np.zeros((1, 50_000), np.float32)]) == []
