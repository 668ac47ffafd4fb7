"""Hearing the bank's phrases again."""

import io
import json
import random
import urllib.request
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from mantisreed.audio.decode import SAMPLE_RATE, decode
from mantisreed.standin import server
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.ear import EAR_RATE, Ear, HeardPhrase
from mantisreed.standin.hearing import Listener


def through(composition: Composition, path: Path, ear: Ear) -> list[HeardPhrase]:
    composition.write(path)
    return ear.listen(decode(path, sample_rate=EAR_RATE))


def same_words(heard: list[HeardPhrase], composition: Composition) -> bool:
    said = [(word.text, word.start) for spoken in composition.truth for word in spoken.words]
    got = [(word.text, word.start) for phrase in heard for word in phrase.words]
    return [text for text, _ in said] == [text for text, _ in got] and all(
        abs(a - b) < 0.005 for (_, a), (_, b) in zip(said, got, strict=True)
    )


@pytest.mark.parametrize(
    ("name", "snr"),
    [("a.wav", None), ("a.mp3", 20.0), ("a.mp3", 10.0), ("a.opus", 10.0), ("a.m4a", 10.0)],
)
def test_every_phrase_is_heard_at_its_time(
    english: list[Phrase], ear: Ear, tmp_path: Path, name: str, snr: float | None
) -> None:
    composition = compose(english, seed=21, duration=120, level_range=6, snr=snr)
    assert same_words(through(composition, tmp_path / name, ear), composition)


def test_an_ear_hears_the_same_by_what_is_kept_of_its_bank(
    english: list[Phrase], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    phrases = english[:6]
    composition = compose(phrases, seed=24, duration=12)
    first = through(composition, tmp_path / "a.wav", Ear(phrases))
    (kept,) = (tmp_path / "mantisreed/banks").iterdir()
    made = kept.read_bytes()
    assert first
    assert through(composition, tmp_path / "a.wav", Ear(phrases)) == first
    kept.write_bytes(made[: len(made) // 2])  # its writing broke off
    assert through(composition, tmp_path / "a.wav", Ear(phrases)) == first
    assert kept.read_bytes() == made
    # Of other sounds, something else is kept.
    Ear(english[:5])
    assert len(list(kept.parent.iterdir())) == 2


def test_confidence_falls_with_noise(english: list[Phrase], ear: Ear, tmp_path: Path) -> None:
    means = []
    for snr in (30.0, 20.0, 10.0, 5.0):
        heard = through(compose(english, seed=22, duration=40, snr=snr), tmp_path / "a.wav", ear)
        means.append(np.mean([word.confidence for phrase in heard for word in phrase.words]))
    assert means == sorted(means, reverse=True)
    assert means[0] > 0.9 > means[-1]


def test_two_voices_at_once_are_both_heard(english: list[Phrase], ear: Ear, tmp_path: Path) -> None:
    composition = compose(english, seed=23, duration=60, pauses=(-0.8, 0.2), channels=2, snr=25)
    heard = through(composition, tmp_path / "a.wav", ear)
    assert sorted(phrase.phrase.name for phrase in heard) == sorted(
        s.phrase.name for s in composition.truth
    )


def test_a_cut_loses_or_breaks_the_word_it_goes_through_and_no_other(
    english: list[Phrase], ear: Ear
) -> None:
    composition = compose(english, seed=24, duration=60, snr=20)
    sound = np.concatenate([block[:, ::2] for block in composition.blocks()], axis=1)
    chance = random.Random(24)
    for _ in range(20):
        start = chance.uniform(0, 45)
        end = start + chance.uniform(5, 15)
        heard = ear.listen([sound[:, round(start * EAR_RATE) : round(end * EAR_RATE)]])
        got = [
            (word.text, round(word.start + start, 1)) for phrase in heard for word in phrase.words
        ]
        whole = [w for w in composition.words if w.start >= start and w.end <= end]
        cut = [
            w
            for w in composition.words
            if w.start + 0.03 < start < w.end or w.start < end < w.end - 0.03
        ]
        assert all(any(t == w.text and abs(s - w.start) < 0.1 for t, s in got) for w in whole)
        assert not any(any(t == w.text and abs(s - w.start) < 0.1 for t, s in got) for w in cut)
        assert len(got) <= len(whole) + len(cut) + 2


def test_silence_and_noise_say_nothing(ear: Ear) -> None:
    noise = np.random.default_rng(1).normal(0, 0.1, (1, 20 * EAR_RATE)).astype(np.float32)
    assert ear.listen([]) == []
    assert ear.listen([np.zeros((1, 20 * EAR_RATE), np.float32)]) == []
    assert ear.listen([noise]) == []
    assert ear.listen([noise[:, :10]]) == []


def test_only_the_language_asked_for_is_heard(
    bank: tuple[Phrase, ...], ear: Ear, tmp_path: Path
) -> None:
    german = compose([phrase for phrase in bank if phrase.language == "de"], seed=25, duration=15)
    german.write(tmp_path / "a.wav")
    assert len(ear.listen(decode(tmp_path / "a.wav", sample_rate=EAR_RATE), "de-AT")) == len(
        german.truth
    )
    assert ear.listen(decode(tmp_path / "a.wav", sample_rate=EAR_RATE), "en") == []


def test_a_bank_that_does_not_say_its_languages_is_heard_in_any(english: list[Phrase]) -> None:
    phrases = [replace(phrase, language=None) for phrase in english[:12]]
    listener = Listener(phrases)
    sink = io.BytesIO()
    soundfile.write(sink, phrases[3].samples, SAMPLE_RATE, format="WAV")
    application = server.standins(listener, "a key")
    with server.bound_socket(0) as waiting, server.serving(application, waiting) as address:
        form: dict[str, tuple[str | None, str | bytes]] = {
            "creek": (None, "deep"),
            "tongue": (None, "en"),
            "sound": ("a.wav", sink.getvalue()),
        }
        said = posted(f"{address}/brook/listen", form)
    assert said["says"] == phrases[3].text


def posted(address: str, form: dict[str, tuple[str | None, str | bytes]]) -> dict[str, object]:
    """The JSON that a multipart form is answered with."""
    body = b""
    for name, (file, value) in form.items():
        about = f'name="{name}"' + (f'; filename="{file}"' if file else "")
        content = value.encode() if isinstance(value, str) else value
        body += (
            f"--marsh\r\nContent-Disposition: form-data; {about}\r\n\r\n".encode()
            + content
            + b"\r\n"
        )
    headers = {
        "Content-Type": "multipart/form-data; boundary=marsh",
        "Authorization": "Bearer a key",
    }
    request = urllib.request.Request(address, body + b"--marsh--\r\n", headers)
    with urllib.request.urlopen(request) as answer:
        found: dict[str, object] = json.load(answer)
    return found
