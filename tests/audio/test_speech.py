"""The speech map, held against composed recordings with truth."""

from collections.abc import Callable
from itertools import pairwise

import numpy as np
import pytest

from mantisreed.audio.decode import to_int16
from mantisreed.audio.speech import SpeechListener, SpeechSegment, speech_map
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition, compose

Change = Callable[[np.ndarray], np.ndarray]


def covered(
    composition: Composition, stretches: list[SpeechSegment], later: float = 0.0
) -> tuple[float, float]:
    """The share of speech inside the map, and the share of pauses over 0.3 s that it has a gap
    in.
    """
    count = round(composition.duration * 100) + 1
    inside, spoken = np.zeros(count, bool), np.zeros(count, bool)
    for stretch in stretches:
        inside[
            max(0, round((stretch.start - later) * 100)) : max(
                0, round((stretch.end - later) * 100)
            )
        ] = True
    for word in composition.words:
        spoken[round(word.start * 100) : round(word.end * 100)] = True
    pauses = [(a.end, b.start) for a, b in pairwise(composition.words) if b.start - a.end > 0.3]
    found = [not inside[round(start * 100) : round(end * 100)].all() for start, end in pauses]
    return float(inside[spoken].mean()), float(np.mean(found))


def sound_of(composition: Composition) -> np.ndarray:
    return np.concatenate(list(composition.blocks()), axis=1)


@pytest.mark.parametrize(
    ("snr", "speech", "pauses"), [(None, 0.995, 0.99), (20.0, 0.99, 0.9), (10.0, 0.97, 0.75)]
)
def test_speech_is_inside_and_pauses_are_found(
    english: list[Phrase], snr: float | None, speech: float, pauses: float
) -> None:
    composition = compose(english, seed=41, duration=120, pauses=(0.3, 1.5), level_range=6, snr=snr)
    inside, found = covered(composition, speech_map(composition.blocks()))
    assert inside >= speech and found >= pauses


def hummed(sound: np.ndarray) -> np.ndarray:
    return sound + 0.1 + 0.02 * np.sin(2 * np.pi * 50 * np.arange(sound.shape[1]) / 16_000)


def drifting(sound: np.ndarray) -> np.ndarray:
    """Up and down by 16 dB in all within two minutes."""
    return sound * 10 ** (8 * np.sin(2 * np.pi * np.arange(sound.shape[1]) / 16_000 / 120) / 20)


def as_by_telephone(sound: np.ndarray) -> np.ndarray:
    spectrum = np.fft.rfft(sound)
    spectrum[:, round(3400 / 8000 * spectrum.shape[1]) :] = 0
    return np.fft.irfft(spectrum, sound.shape[1])


@pytest.mark.parametrize("change", [hummed, drifting, as_by_telephone])
def test_hum_drift_and_a_narrow_band_hide_no_speech(english: list[Phrase], change: Change) -> None:
    composition = compose(english, seed=42, duration=120, pauses=(0.4, 1.5), level_range=6, snr=20)
    inside, found = covered(
        composition, speech_map([change(sound_of(composition)).astype(np.float32)])
    )
    assert inside > 0.98 and found > 0.9


@pytest.mark.parametrize("snr", [None, 20.0])
def test_speech_after_minutes_of_silence_is_heard_and_the_silence_is_not(
    english: list[Phrase], snr: float | None
) -> None:
    composition = compose(english, seed=43, duration=60, pauses=(0.4, 1.5), snr=snr)
    sound = sound_of(composition)
    # Nearly three minutes of what is before the first word.
    lead = np.tile(sound[:, :7000], (1, 400))
    later = lead.shape[1] / 16_000
    stretches = speech_map(np.array_split(np.concatenate([lead, sound], axis=1), 60, axis=1))
    assert sum(s.end - s.start for s in stretches if s.start < later) < 0.5
    assert covered(composition, stretches, later)[0] > 0.99


def test_blocks_of_any_size_and_whole_numbers_give_the_same_map(english: list[Phrase]) -> None:
    composition = compose(english, seed=43, duration=100, snr=25)
    sound = sound_of(composition)
    stretches = speech_map([sound])
    assert speech_map(np.array_split(sound, 37, axis=1)) == stretches
    whole = speech_map([to_int16(sound)])
    assert [(s.start, s.end) for s in whole] == [(s.start, s.end) for s in stretches]


def test_what_is_settled_never_changes(english: list[Phrase]) -> None:
    sound = sound_of(compose(english, seed=44, duration=150, snr=20))[0]
    listener, told = SpeechListener(), []
    for part in np.array_split(sound, 30):
        before = listener.settled
        fresh = listener.hear(part)
        assert all(before <= stretch.start and stretch.end <= listener.settled for stretch in fresh)
        told += fresh
    assert listener.settled > 80
    assert told + listener.finish() == speech_map([sound[np.newaxis]])


def test_speech_that_never_pauses_is_told_in_parts(english: list[Phrase]) -> None:
    sound = sound_of(compose(english, seed=45, duration=400, pauses=(-0.5, -0.4)))[0]
    listener = SpeechListener()
    told = [stretch for part in np.array_split(sound, 40) for stretch in listener.hear(part)]
    assert told and max(stretch.end - stretch.start for stretch in told) < 180


@pytest.mark.parametrize("count", [0, 1, 159, 160, 1600, 50_000])
def test_silence_of_any_length_holds_no_speech(count: int) -> None:
    assert speech_map([np.zeros((1, count), np.float32)]) == []


def test_steady_noise_holds_no_speech() -> None:
    noise = np.random.default_rng(1).standard_normal((1, 16_000 * 90)).astype(np.float32) * 0.05
    assert speech_map([noise]) == []
