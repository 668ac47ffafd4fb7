"""What a recording is like."""

from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import Note
from mantisreed.audio.examine import Examination, examine
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose


def examined(folder: Path, samples: np.ndarray, rate: int = 16_000) -> Examination:
    soundfile.write(folder / "a.wav", samples, rate, subtype="FLOAT")
    return examine(folder / "a.wav")


def test_loudness_is_that_of_the_standard(tmp_path: Path) -> None:
    """EBU Tech 3341, case 1: a stereo sine of 1 kHz at -23 dBFS, 20 s, has -23.0 LUFS, within
    0.1.
    """
    sine = 10 ** (-23 / 20) * np.sin(2 * np.pi * 1000 * np.arange(48_000 * 20) / 48_000)
    found = examined(tmp_path, np.stack([sine, sine], axis=1), 48_000)
    assert found.loudness == pytest.approx(-23.0, abs=0.1)
    assert found.peak == pytest.approx(-23.0, abs=0.01)
    assert found.same_channels and "all channels are the same" in " ".join(found.advice)
    assert found.bit_rate == pytest.approx(48_000 * 64, rel=0.01)


@pytest.mark.parametrize("snr", [20.0, 10.0])
def test_noise_and_snr_are_near_the_truth(
    english: list[Phrase], tmp_path: Path, snr: float
) -> None:
    composition = compose(english, seed=71, duration=90, pauses=(0.6, 2.0), snr=snr)
    composition.write(tmp_path / "a.flac")
    found = examine(tmp_path / "a.flac")
    assert found.snr == pytest.approx(snr, abs=2.0)
    assert found.speech_seconds == pytest.approx(
        sum(s.phrase.duration for s in composition.truth), rel=0.08
    )
    assert 0.5 < found.longest_silence < 4.5
    assert any(text.startswith("noisy") for text in found.advice) == (snr < 12)


def test_clipping_is_counted_and_told(note: Note, tmp_path: Path) -> None:
    samples = np.concatenate(list(note.composition.blocks()), axis=1)[0]
    clean = examined(tmp_path, samples)
    assert clean.clipped == 0 and clean.advice == ["no resampling is needed"]
    loud = examined(tmp_path, np.clip(samples * 20, -1, 1))
    assert loud.clipped > 100 and loud.peak == 0.0
    assert f"clipped in {loud.clipped} samples" in loud.advice[0]
    quiet = examined(tmp_path, samples / 30)
    assert quiet.advice[0].startswith("too quiet")


def test_channels_are_told_apart(note: Note, english: list[Phrase], tmp_path: Path) -> None:
    samples = np.concatenate(list(note.composition.blocks()), axis=1)[0]
    half = examined(tmp_path, np.stack([samples, np.zeros_like(samples)], axis=1))
    assert [channel.is_empty for channel in half.channels] == [False, True]
    assert half.advice[0].startswith("channel 2 is empty")
    compose(english, seed=72, duration=60, channels=2).write(tmp_path / "call.flac")
    call = examine(tmp_path / "call.flac")
    assert not call.same_channels and "--channels apart" in " ".join(call.advice)
    assert all(channel.speech for channel in call.channels)


@pytest.mark.parametrize("count", [1, 700, 160_000])
def test_silence_has_no_levels_and_says_that_nobody_speaks(tmp_path: Path, count: int) -> None:
    found = examined(tmp_path, np.zeros(count))
    assert (found.loudness, found.peak, found.noise, found.snr) == (None, None, None, None)
    assert found.advice[0].startswith("nobody speaks")
    assert found.longest_silence == found.duration


def test_other_rates_are_heard_as_well(note: Note, tmp_path: Path) -> None:
    samples = np.concatenate(list(note.composition.blocks()), axis=1)[0]
    times = np.arange(0, len(samples) / 16_000, 1 / 44_100)
    found = examined(tmp_path, np.interp(times, np.arange(len(samples)) / 16_000, samples), 44_100)
    truth = examined(tmp_path, samples)
    assert found.speech_seconds == pytest.approx(truth.speech_seconds, abs=0.3)
    assert "brought to 16000 Hz" in found.advice[-1]
    assert "telephones" in examined(tmp_path, samples[::2], 8000).advice[-1]
