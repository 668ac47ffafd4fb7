"""`mantisreed inspect` and the pictures."""

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from audio.making import several_tracks
from conftest import Command, Note
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose


def size_of(png: Path) -> tuple[int, int]:
    content = png.read_bytes()
    assert content.startswith(b"\x89PNG")
    return int.from_bytes(content[16:20]), int.from_bytes(content[20:24])


@pytest.fixture
def call(english: list[Phrase], tmp_path: Path) -> Path:
    compose(english, seed=91, duration=40, snr=20, channels=2).write(tmp_path / "call.flac")
    return tmp_path / "call.flac"


def test_a_recording_is_described_for_people_and_for_programs(
    mantisreed: Command, call: Path, tmp_path: Path
) -> None:
    (tmp_path / "broken.wav").write_text("not sound")
    read = mantisreed("inspect", "call.flac", "broken.wav")
    assert read.returncode == 1 and "broken.wav: this is not a recording" in read.stderr
    for text in (
        "length    0:40",
        "flac in flac",
        "16000 Hz, stereo",
        "LUFS",
        "channel 2",
        "--channels apart",
    ):
        assert text in read.stdout
    found = json.loads(mantisreed("inspect", "call.flac", "broken.wav", "--json").stdout)[
        "recordings"
    ]
    assert found[0]["duration"] == 40.0 and found[0]["snr"] == pytest.approx(20, abs=3)
    assert [channel["is_empty"] for channel in found[0]["channels"]] == [False, False]
    assert found[0]["tracks"][0]["codec"] == "flac" and "error" in found[1]


def test_pictures_are_drawn(
    mantisreed: Command, settings: Path, call: Path, tmp_path: Path
) -> None:
    inspected = mantisreed("inspect", "call.flac", "--plot", "call.png")
    assert inspected.returncode == 0 and size_of(tmp_path / "call.png") == (1280, 720)
    soundfile.write(tmp_path / "a $ 🪶.wav", np.zeros(16_000), 16_000)
    plan = mantisreed(
        *(
            "plan",
            "call.flac",
            "a $ 🪶.wav",
            "--channels",
            "apart",
            "--piece-length",
            "15s",
            "--plot",
            "plan.png",
        )
    )
    assert plan.returncode == 0, plan.stderr
    assert size_of(tmp_path / "plan.png")[0] == 1280
    assert "nobody speaks: nothing would be sent" in plan.stdout


def test_a_picture_that_cannot_be_drawn_is_refused_with_the_reason(
    mantisreed: Command, call: Path, tmp_path: Path
) -> None:
    two = mantisreed("inspect", "call.flac", ".", "--plot", "a.png")
    assert two.returncode == 0  # the same recording, named twice
    soundfile.write(tmp_path / "b.wav", np.zeros(16_000), 16_000)
    for arguments, told in (
        (("call.flac", "b.wav", "--plot", "a.png"), "one recording"),
        (("b.wav", "--plot", "a.jpg"), "PNG"),
    ):
        refused = mantisreed("inspect", *arguments)
        assert refused.returncode == 2 and told in refused.stderr


def test_speech_on_the_second_track_is_found_sent_and_told(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    samples, rate = soundfile.read(note.path, dtype="float32")
    several_tracks(tmp_path / "camera.mka", np.zeros_like(samples), samples, rate=rate)

    told = "nobody speaks on track 1: track 2 (flac) was taken"
    assert told in mantisreed("inspect", "camera.mka").stdout
    result = mantisreed("run", "camera.mka", "--into", "out", "--to", "json")
    assert result.returncode == 0, result.stderr
    document = json.loads((tmp_path / "out" / "camera.transcript.json").read_text())
    assert document["recording"]["track"] == 2 and document["passages"]
    assert any(told in note for note in document["notes"])

    page = mantisreed("review", "out/camera.transcript.json", "camera.mka")
    assert page.returncode == 0, page.stderr
    first = mantisreed("run", "camera.mka", "--track", "1", "--into", "first")
    assert "1 no speech" in first.stderr
