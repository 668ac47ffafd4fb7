"""Recordings over an engine's cap, through the built command: no word lost, doubled or broken."""

import json
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import Command, Note
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition, compose
from mantisreed.transcript.document import Transcript, from_json


def transcribed(
    mantisreed: Command, folder: Path, composition: Composition, *options: str
) -> Transcript:
    composition.write(folder / "long.flac")
    result = mantisreed("run", "long.flac", "--to", "json", "--overwrite", *options)
    assert result.returncode == 0, result.stderr
    return from_json((folder / "transcripts" / "long.transcript.json").read_bytes())


def assert_nothing_is_lost(transcript: Transcript, composition: Composition) -> None:
    assert [word.text for word in transcript.words] == [word.text for word in composition.words]
    for word, true in zip(transcript.words, composition.words, strict=True):
        assert abs(word.start - true.start) < 0.02


@pytest.mark.parametrize(
    ("pauses", "snr", "length"),
    [((0.4, 1.5), None, "30s"), ((0.4, 1.5), 20.0, "30s"), ((0.15, 0.25), 20.0, "60s")],
)
def test_pieces_are_cut_in_pauses(
    mantisreed: Command,
    settings: Path,
    english: list[Phrase],
    pauses: tuple[float, float],
    snr: float | None,
    length: str,
) -> None:
    composition = compose(english, seed=51, duration=240, pauses=pauses, snr=snr)
    transcript = transcribed(mantisreed, settings.parent, composition, "--piece-length", length)
    assert_nothing_is_lost(transcript, composition)


def test_speech_without_pauses_is_cut_with_an_overlap(
    mantisreed: Command, settings: Path, english: list[Phrase]
) -> None:
    composition = compose(english, seed=52, duration=90, pauses=(0.0, 0.02))
    transcript = transcribed(mantisreed, settings.parent, composition, "--piece-length", "25s")
    assert_nothing_is_lost(transcript, composition)


def test_what_the_engine_finds_too_big_is_cut_smaller(
    mantisreed: Command, settings: Path, english: list[Phrase]
) -> None:
    settings.write_text(
        settings.read_text().replace('/brook"', '/small/brook"').replace("/small/brook", "/small")
    )
    composition = compose(english, seed=53, duration=120)
    transcript = transcribed(mantisreed, settings.parent, composition)
    assert_nothing_is_lost(transcript, composition)


def test_a_cap_by_bytes_is_kept_to_without_asking(
    mantisreed: Command, settings: Path, english: list[Phrase]
) -> None:
    text = (
        settings.read_text()
        .replace('"16 MiB"', '"200 KiB"')
        .replace('"flac", "wav", "opus", "mp3"]', '"flac"]', 1)
    )
    settings.write_text(text)
    composition = compose(english, seed=54, duration=60)
    transcript = transcribed(mantisreed, settings.parent, composition)
    assert_nothing_is_lost(transcript, composition)


def test_a_piece_length_that_is_none_is_told(mantisreed: Command, settings: Path) -> None:
    for length, told in (("soon", "a number with a unit"), ("2 s", "has to last 5 s or more")):
        result = mantisreed("run", "mantisreed.toml", "--piece-length", length)
        assert result.returncode == 2 and told in result.stderr


def test_a_call_sent_apart_has_a_speaker_for_each_channel_and_keeps_talk_at_the_same_time(
    mantisreed: Command, settings: Path, english: list[Phrase]
) -> None:
    voices = [phrase for phrase in english if phrase.voice in ("ringer", "skipper")]
    composition = compose(voices, seed=56, duration=60, pauses=(-1.5, 0.8), channels=2)
    transcript = transcribed(
        mantisreed, settings.parent, composition, "--channels", "apart", "--piece-length", "20s"
    )
    assert set(transcript.speakers) == {"channel 1", "channel 2"}
    for channel in (0, 1):
        said = [
            word.text
            for spoken in composition.truth
            if spoken.channel == channel
            for word in spoken.words
        ]
        passages = [p for p in transcript.passages if p.speaker == f"channel {channel + 1}"]
        assert [word.text for passage in passages for word in passage.words] == said
    assert [p.start for p in transcript.passages] == sorted(p.start for p in transcript.passages)
    assert any(b.start < a.end for a, b in pairwise(transcript.passages))
    only = transcribed(mantisreed, settings.parent, composition, "--channels", "2")
    assert {word.text for word in only.words} == {
        w.text for s in composition.truth if s.channel for w in s.words
    }


def test_a_recording_without_speech_is_no_speech_and_costs_no_request(
    mantisreed: Command, settings: Path, tmp_path: Path
) -> None:
    (tmp_path / "standin.key").write_text("a key that the engine would refuse")
    soundfile.write(
        tmp_path / "night.wav", np.random.default_rng(4).standard_normal(320_000) * 0.01, 16_000
    )
    result = mantisreed("run", "night.wav", "--json")
    assert result.returncode == 0, result.stderr
    (outcome,) = json.loads(result.stdout)["recordings"]
    assert (outcome["state"], outcome["notes"]) == ("no speech", ["no speech"])
    assert mantisreed("run", "night.wav", "--keep-silence").returncode == 1


def test_options_that_make_no_sense_are_told(
    mantisreed: Command, settings: Path, note: Note
) -> None:
    for options, told in (
        (("--channels", "left"), "neither mix nor apart"),
        (("--overlap", "20s"), "share at most"),
        (("--overlap", "0.1s"), "has to last 1 s or more"),
        (("--channels", "3"), "there is no channel 3"),
    ):
        result = mantisreed("run", note.path, *options)
        assert result.returncode in (1, 2) and told in result.stderr
