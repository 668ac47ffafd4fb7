"""`redact` and `--redact`, as a user runs them."""

import itertools
import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import Command, Moody, Note
from mantisreed.audio.decode import decode
from mantisreed.standin.ear import EAR_RATE, Ear
from mantisreed.standin.faults import FaultProfile


@pytest.fixture
def names(tmp_path: Path, note: Note) -> str:
    """A list with a rare word of the recording as if it were a name."""
    words = {
        word.strip(".,!?") for said in note.composition.truth for word in said.phrase.text.split()
    }
    chosen = max(sorted(words), key=len)
    (tmp_path / "people.txt").write_text(f"# who is in it\n{chosen}\n")
    return chosen


def test_names_are_hidden_in_everything_that_a_run_writes_and_sends_on(
    mantisreed: Command, moody: Moody, note: Note, names: str, tmp_path: Path
) -> None:
    after = (
        '\n[follow_up.row]\n[follow_up.row.rows]\nfile = "rows.csv"\n'
        '[follow_up.row.rows.columns]\ntext = "text"\n'
    )
    with moody(FaultProfile(), engine="brook"):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(settings.read_text() + after)
        arguments = (
            "--into",
            "out",
            "--to",
            "txt,timed,md,srt,vtt,ttml,csv,html,json",
            "--redact-names",
            "people.txt",
        )
        result = mantisreed("run", str(note.path), *arguments)
        assert result.returncode == 0, result.stderr
        job = json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["id"]
        mantisreed("export", job, "--into", "again", "--to", "json,txt")
    files = [
        *(tmp_path / "out").iterdir(),
        *(tmp_path / "again").glob("*.*"),
        tmp_path / "rows.csv",
    ]
    assert len(files) == 12
    for file in files:
        text = file.read_text()
        assert names.lower() not in text.lower(), file
    assert "[name]" in (tmp_path / "rows.csv").read_text()


def test_settings_hide_as_the_option_does(
    mantisreed: Command, settings: Path, note: Note, names: str, tmp_path: Path
) -> None:
    settings.write_text(
        settings.read_text().replace("[settings]", '[settings]\nredact_names = "people.txt"')
    )
    assert mantisreed("run", str(note.path), "--into", "out", "--trust").returncode == 0
    assert names.lower() not in (tmp_path / "out" / "note.txt").read_text().lower()


@pytest.mark.usefixtures("settings")
@pytest.mark.parametrize(
    "kind", list(itertools.product(("tone", "silence"), (".wav", ".flac", ".opus")))
)
def test_a_copy_of_the_recording_has_nothing_of_the_words(
    mantisreed: Command, note: Note, names: str, tmp_path: Path, ear: Ear, kind: tuple[str, str]
) -> None:
    cover, suffix = kind
    recording = tmp_path / f"note{suffix}"
    note.composition.write(recording)
    mantisreed("run", recording.name, "--into", "out", "--to", "json")
    arguments = (
        "redact",
        "out/note.transcript.json",
        recording.name,
        "--redact-names",
        "people.txt",
        "--cover",
        cover,
    )
    result = mantisreed(*arguments, "--into", "clean", "--to", "json,srt,vtt")
    assert result.returncode == 0, result.stderr
    assert names.lower() not in result.stdout.lower()
    for file in (tmp_path / "clean").glob("note.*[tn]"):
        assert names.lower() not in file.read_text().lower(), file
    copy = tmp_path / "clean" / f"note{suffix if suffix != '.opus' else '.flac'}"
    sound, rate = soundfile.read(copy, dtype="int16")
    (place, *_) = json.loads(
        mantisreed(*arguments[:2], "--redact-names", "people.txt", "--json").stdout
    )["found"]
    first, last = round((place["start"] - 0.1) * rate), round((place["end"] + 0.1) * rate)
    if suffix != ".opus":
        before, _ = soundfile.read(recording, dtype="int16")
        assert np.array_equal(sound[: first - 1], before[: first - 1])
        assert len(sound) == len(before) and not np.array_equal(
            sound[first:last], before[first:last]
        )
    if cover == "silence":
        assert not sound[first + 1 : last - 1].any()
    heard = [
        word.text
        for phrase in ear.listen(decode(copy, sample_rate=EAR_RATE))
        for word in phrase.words
    ]
    assert len(heard) > 10  # the rest is heard as before
    assert names not in " ".join(heard)


def test_what_is_found_is_listed_and_wrong_uses_are_told(
    mantisreed: Command, note: Note, tmp_path: Path
) -> None:
    (tmp_path / "call.srt").write_text(
        "1\n00:00:01,000 --> 00:00:04,000\nCall 0171-2345678\nor mail odo@hut.example\n"
    )
    listed = mantisreed("redact", "call.srt")
    assert listed.returncode == 0 and "2 found: 1 phone, 1 mail" in listed.stdout
    assert "odo@hut.example" in listed.stdout and not (tmp_path / "clean").exists()
    assert "nothing found" in mantisreed("redact", "call.srt", "--redact-kinds", "iban").stdout
    converted = mantisreed("convert", "call.srt", "clean.vtt", "--redact")
    assert converted.returncode == 0 and "odo" not in (tmp_path / "clean.vtt").read_text()
    for arguments, told in (
        (("redact", "call.srt", str(note.path)), "nobody said where to"),
        (("redact", "call.srt", "--redact-kinds", "shoes"), "nothing of the kind"),
        (("redact", "call.srt", "--redact-pattern", "("), "no regular expression"),
        (("redact", "call.srt", "--redact-names", "nobody.txt"), "cannot be read"),
        (("redact", "call.srt", "call.srt", "--into", "x"), "call.srt"),
    ):
        result = mantisreed(*arguments)
        assert result.returncode in (1, 2) and told in result.stderr, result.stderr


def test_a_copy_is_not_written_over_what_is_there(
    mantisreed: Command, note: Note, tmp_path: Path
) -> None:
    (tmp_path / "call.srt").write_text("1\n00:00:01,000 --> 00:00:04,000\nCall 0171-2345678\n")
    arguments = ("redact", "call.srt", str(note.path), "--into", "clean")
    assert mantisreed(*arguments).returncode == 0
    assert "exists already" in mantisreed(*arguments).stderr
    assert mantisreed(*arguments, "--overwrite").returncode == 0
    assert sorted(file.name for file in (tmp_path / "clean").iterdir()) == [
        "note.srt",
        "note.transcript.json",
        "note.wav",
    ]
    assert (
        "would be written over"
        in mantisreed("redact", "call.srt", str(note.path), "--into", str(note.path.parent)).stderr
    )


def test_sound_of_another_recording_is_never_covered(
    mantisreed: Command, settings: Path, note: Note, names: str, tmp_path: Path
) -> None:
    mantisreed("run", str(note.path), "--into", "out", "--to", "json")
    samples, rate = soundfile.read(note.path)
    soundfile.write(tmp_path / "other.wav", samples[: len(samples) // 2], rate)
    for command in (
        (
            "redact",
            "out/note.transcript.json",
            "other.wav",
            "--redact-names",
            "people.txt",
            "--into",
            "clean",
        ),
        ("doubts", "out/note.transcript.json", "--recording", "other.wav"),
        ("review", "out/note.transcript.json", "other.wav"),
    ):
        result = mantisreed(*command)
        assert result.returncode == 2, command
        assert "other.wav: it lasts" in result.stderr and "and the transcript" in result.stderr
    assert not (tmp_path / "clean").exists()


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (("--redact-kinds", "name"), "hides nothing without a list of names"),
        (("--redact-kinds", "mail,pattern"), "hides nothing without a pattern"),
    ],
)
def test_a_kind_that_can_hide_nothing_is_refused(
    mantisreed: Command, settings: Path, note: Note, arguments: tuple[str, ...], told: str
) -> None:
    result = mantisreed("run", str(note.path), *arguments)
    assert result.returncode == 2 and told in result.stderr
