"""Composed recordings and the bank they are made of."""

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from conftest import Note
from mantisreed.audio.decode import SAMPLE_RATE
from mantisreed.errors import InputError
from mantisreed.standin.bank import BUNDLED, Phrase, load_bank
from mantisreed.standin.composer import Composition, compose


def rendered(composition: Composition) -> np.ndarray:
    return np.concatenate(list(composition.blocks()), axis=1)


def test_the_bundled_bank_is_as_large_as_promised(bank: tuple[Phrase, ...]) -> None:
    english = [phrase for phrase in bank if phrase.language == "en"]
    assert len(english) >= 120 and len({phrase.voice for phrase in english}) in (2, 3)
    assert len({phrase.text for phrase in bank}) == len(bank)
    assert sum(phrase.language == "de" for phrase in bank) >= 25
    assert sum(file.stat().st_size for file in BUNDLED.rglob("*.*")) < 3_000_000


def test_word_times_of_the_bank_lie_on_sound_in_order(bank: tuple[Phrase, ...]) -> None:
    for phrase in bank:
        assert [word.text for word in phrase.words] == phrase.text.split()
        edges = [edge for word in phrase.words for edge in (word.start, word.end)]
        assert edges == sorted(edges) and edges[-1] <= phrase.duration + 0.001
        level = np.sqrt(np.mean(np.square(phrase.samples)))
        for word in phrase.words:
            sound = phrase.samples[round(word.start * SAMPLE_RATE) : round(word.end * SAMPLE_RATE)]
            assert np.sqrt(np.mean(np.square(sound))) > level / 10


def test_the_same_seed_gives_the_same_recording_and_another_seed_another(
    english: list[Phrase],
) -> None:
    first, again, other = (compose(english, seed=seed, duration=20, snr=20) for seed in (1, 1, 2))
    assert (rendered(first) == rendered(again)).all()
    assert [spoken.phrase.name for spoken in first.truth] != [
        spoken.phrase.name for spoken in other.truth
    ]


def test_length_pauses_levels_and_channels_are_as_asked(english: list[Phrase]) -> None:
    composition = compose(
        english, seed=3, duration=60.5, pauses=(0.2, 0.3), level_range=6, channels=2
    )

    sound = rendered(composition)

    assert sound.shape == (2, round(60.5 * SAMPLE_RATE))
    pauses = [b.start - a.end for a, b in pairwise(composition.truth)]
    assert all(0.199 < pause < 0.301 for pause in pauses)
    gains = [20 * np.log10(spoken.gain) for spoken in composition.truth]
    assert -3 <= min(gains) < max(gains) <= 3
    for spoken in composition.truth:
        stretch = sound[:, spoken.first : spoken.first + len(spoken.phrase.samples)]
        assert np.abs(stretch[spoken.channel] - spoken.phrase.samples * spoken.gain).max() < 1e-6


@pytest.mark.parametrize("snr", [20.0, 5.0])
def test_noise_has_the_level_asked_for(english: list[Phrase], snr: float) -> None:
    noisy, clean = (
        compose(english, seed=4, duration=60, snr=snr),
        compose(english, seed=4, duration=60),
    )

    speech = rendered(clean)[0]
    noise = rendered(noisy)[0] - speech

    spoken = np.concatenate(
        [speech[s.first : s.first + len(s.phrase.samples)] for s in clean.truth]
    )
    assert 10 * np.log10(np.mean(spoken**2) / np.mean(noise**2)) == pytest.approx(snr, abs=0.5)


def test_a_folder_of_sounds_and_texts_is_a_bank(note: Note, tmp_path: Path) -> None:
    (tmp_path / "deep").mkdir()
    (tmp_path / "deep" / "one.wav").write_bytes(note.path.read_bytes())
    (tmp_path / "deep" / "one.txt").write_text("a few  words\n")
    (tmp_path / "alone.wav").write_bytes(note.path.read_bytes())

    (phrase,) = load_bank(tmp_path)

    assert (phrase.name, phrase.text, phrase.language) == ("deep/one", "a few words", None)
    spoken = note.composition.truth
    assert phrase.words[0].start == pytest.approx(spoken[0].words[0].start, abs=0.05)
    assert phrase.words[-1].end == pytest.approx(spoken[-1].words[-1].end, abs=0.05)


def test_a_folder_without_phrases_is_refused(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="no phrases"):
        load_bank(tmp_path)
