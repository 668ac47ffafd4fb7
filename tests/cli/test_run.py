"""`mantisreed run` and `standin` as a user runs them: what they need, what they say, how they
end.
"""

import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from audio.making import write_sound
from conftest import KEY, Command, Note, Standin
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose

AWKWARD = [
    b"two words.wav",
    b'it\'s "quoted" & [b]bold[b] $HOME.wav',
    b"--engine.wav",
    b"line\nbreak.wav",
    "Möwe 🪶 沼.wav".encode(),
    b"latin-\xe9\xff.wav",
]


def test_names_that_hold_anything_work_one_by_one_and_from_a_folder(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    folder = tmp_path / "recordings"
    folder.mkdir()
    for name in AWKWARD:
        (folder / os.fsdecode(name)).write_bytes(note.path.read_bytes())

    whole = mantisreed("run", folder, "--config", settings, "--json")
    again = mantisreed(
        "run", "--config", settings, "--", *[folder / os.fsdecode(name) for name in AWKWARD]
    )

    assert whole.returncode == again.returncode == 0, whole.stderr + again.stderr
    assert "Traceback" not in whole.stderr + again.stderr
    described = json.loads(whole.stdout)["recordings"]
    assert {entry["state"] for entry in described} == {"done"} and len(described) == len(AWKWARD)
    written = {os.fsencode(path.name) for path in (tmp_path / "transcripts").iterdir()}
    for name in AWKWARD:
        assert {
            name[:-4] + end for end in (b".txt", b".srt", b".vtt", b".transcript.json")
        } <= written
    assert len(again.stdout.splitlines()) == len(AWKWARD) + 1


def test_a_name_with_a_dash_is_told_how_to_be_given(
    mantisreed: Command, settings: Path, tmp_path: Path
) -> None:
    (tmp_path / "-note.wav").touch()
    result = mantisreed("run", "-note.wav")
    assert result.returncode == 2 and "put -- before" in result.stderr


BAD_SOURCES = {
    "absent.wav": (None, 2, "no such file or folder"),
    "empty.mp3": (b"", 1, "the file is empty"),
    "text.mp3": (b"dunlin, 312\n" * 9, 1, "not a recording"),
    "tiny.mp3": (b"ID3\x04" + bytes(100), 1, "not a recording"),
}


@pytest.mark.parametrize("name", BAD_SOURCES)
def test_a_bad_source_gets_two_lines_at_most(
    mantisreed: Command, settings: Path, tmp_path: Path, name: str
) -> None:
    content, code, told = BAD_SOURCES[name]
    if content is not None:
        (tmp_path / name).write_bytes(content)
    result = mantisreed("run", name, "-q")
    assert result.returncode == code and told in result.stderr and name in result.stderr
    assert len(result.stderr.splitlines()) <= 2 and not result.stdout


def test_a_folder_without_sound_and_a_video_without_sound(
    mantisreed: Command, settings: Path, tmp_path: Path
) -> None:
    (tmp_path / "notes").mkdir()
    (tmp_path / "notes" / "readme.txt").touch()
    write_sound(tmp_path / "silent.mp4", "aac", np.zeros(16_000), tracks=0, video=True)
    nothing, silent = mantisreed("run", "notes", "-q"), mantisreed("run", "silent.mp4", "-q")
    assert nothing.returncode == 2 and "no recording in this folder" in nothing.stderr
    assert silent.returncode == 1 and "a video without sound" in silent.stderr


@pytest.mark.parametrize(
    ("options", "code", "told"),
    [
        (["--config", "absent.toml"], 2, "absent.toml: no such settings file"),
        (["--engine", "curlew"], 2, "no engine is called 'curlew'"),
        (["--language", "english_uk"], 2, "'english_uk' is not a language tag"),
        (["--language", "fr"], 2, "does not know the language 'fr'"),
        (["--to", "srt,docx"], 2, "unknown output format 'docx'"),
        (["--to", ","], 2, "there is no output format"),
        (["--into", "mantisreed.toml"], 2, "mantisreed.toml: cannot be written"),
        (["--into", "/proc/nowhere"], 2, "/proc/nowhere: cannot be written"),
        (["--track", "4"], 1, "there is no track 4"),
        (["--log-file", "/proc/nowhere"], 2, "cannot write the log file"),
        (["--colour"], 2, "unknown option '--colour'"),
    ],
)
def test_a_wrong_option_is_told(
    mantisreed: Command, settings: Path, note: Note, options: list[str], code: int, told: str
) -> None:
    result = mantisreed("run", note.path, "-q", *options)
    assert result.returncode == code and told in result.stderr, result.stderr
    assert len(result.stderr.splitlines()) <= 2 and not result.stdout


@pytest.mark.parametrize(
    ("change", "code", "told"),
    [
        (
            lambda folder, toml: (folder / "standin.key").unlink(),
            2,
            "file:standin.key: the secret is empty or not set",
        ),
        (
            lambda folder, toml: (folder / "standin.key").write_text("wrong"),
            1,
            "it refuses the key (HTTP 401)",
        ),
        (
            lambda folder, toml: toml.write_text("[engine.brook]\n"),
            2,
            "[engine.brook]: key 'reply' is missing",
        ),
        (lambda folder, toml: toml.unlink(), 2, "no mantisreed.toml here or in a folder above"),
        (
            lambda folder, toml: edit(toml, "/listen", "/lissen"),
            1,
            "nothing is at this address (HTTP 404)",
        ),
        (
            lambda folder, toml: readdress(toml, 9),
            1,
            "cannot reach http://127.0.0.1:9 (connection refused)",
        ),
        (lambda folder, toml: edit(toml, '["flac", "wav", "opus", "mp3"]', '["wav"]'), 0, ""),
        (
            lambda folder, toml: edit(toml, '"16 MiB"', '"3 KiB"'),
            1,
            "over the 3.0 KiB that it takes in one request",
        ),
        (
            lambda folder, toml: edit(toml, 'creek = "deep"', 'creek = "salt"'),
            1,
            "creek has to be one of shallow",
        ),
    ],
)
def test_what_stands_between_us_and_the_engine_is_told(
    mantisreed: Command,
    settings: Path,
    note: Note,
    tmp_path: Path,
    change: Callable[[Path, Path], object],
    code: int,
    told: str,
) -> None:
    change(tmp_path, settings)
    result = mantisreed("run", note.path, "-q")
    assert result.returncode == code and told in result.stderr, result.stderr
    assert len(result.stderr.splitlines()) <= 2 and KEY not in result.stderr + result.stdout


def readdress(toml: Path, port: int) -> None:
    toml.write_text(re.sub(r"127\.0\.0\.1:\d+", f"127.0.0.1:{port}", toml.read_text()))


def edit(file: Path, old: str, new: str) -> None:
    text = file.read_text()
    assert old in text
    file.write_text(text.replace(old, new))


def test_no_speech_is_done_and_said(mantisreed: Command, settings: Path, tmp_path: Path) -> None:
    write_sound(
        tmp_path / "quiet.flac",
        "flac",
        np.random.default_rng(1).normal(0, 0.01, 80_000).astype(np.float32),
    )
    result = mantisreed("run", "quiet.flac")
    assert (
        result.returncode == 0 and "none heard" in result.stdout and "1 no speech" in result.stderr
    )
    assert (tmp_path / "transcripts" / "quiet.srt").read_bytes() == b""
    assert (tmp_path / "transcripts" / "quiet.vtt").read_text() == "WEBVTT\n"


def test_the_key_is_nowhere_but_in_its_file(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    result = mantisreed("run", note.path, "-v", "--log-file", "log.txt")
    assert result.returncode == 0
    assert KEY not in result.stdout + result.stderr
    holders = [
        path.name
        for path in tmp_path.rglob("*")
        if path.is_file() and KEY.encode() in path.read_bytes()
    ]
    assert holders == ["standin.key"]
    assert (tmp_path / "standin.key").stat().st_mode & 0o077 == 0
    assert "POST http://127.0.0.1" in (tmp_path / "log.txt").read_text()


def test_what_is_kept_loads_nothing_that_sends(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    """Whoever writes a transcript in another format does not wait for what sends recordings."""
    assert mantisreed("run", note.path).returncode == 0
    command = ["run", str(note.path), "--to", "md", "--config", str(settings)]
    program = (
        "import sys\n"
        "from mantisreed.cli.main import main\n"
        f"assert main({command}) == 0\n"
        "print([name for name in ('aiohttp', 'urllib.request') if name in sys.modules])"
    )
    kept = subprocess.run(
        [sys.executable, "-c", program], cwd=tmp_path, capture_output=True, text=True
    )
    assert kept.returncode == 0 and kept.stdout.splitlines()[-1] == "[]", kept
    assert (tmp_path / "transcripts" / "note.md").exists()


def test_edits_are_kept_until_replace(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    assert mantisreed("run", note.path, "--to", "txt").returncode == 0
    text = tmp_path / "transcripts" / "note.txt"
    text.write_text("better words")
    kept = mantisreed("run", note.path, "--to", "txt")
    assert (
        kept.returncode == 1 and "was edited" in kept.stderr and text.read_text() == "better words"
    )
    assert mantisreed("run", note.path, "--to", "txt", "--overwrite").returncode == 0
    assert text.read_text() != "better words"


def test_ctrl_c_ends_with_130_and_leaves_nothing_half_written(
    settings: Path, note: Note, tmp_path: Path
) -> None:
    with socket.create_server(("127.0.0.1", 0)) as never_answers:
        readdress(settings, never_answers.getsockname()[1])
        process = subprocess.Popen(
            [sys.executable, "-m", "mantisreed", "run", note.path],
            cwd=tmp_path,
            stderr=subprocess.PIPE,
            text=True,
        )
        connection, _ = never_answers.accept()
        assert process.stderr is not None
        while "sending" not in process.stderr.readline():
            pass
        process.send_signal(signal.SIGINT)
        assert (
            "interrupted; waiting for 1 on their way, once more leaves" in process.stderr.readline()
        )
        process.send_signal(signal.SIGINT)
        _, errors = process.communicate(timeout=20)
        connection.close()
    assert process.returncode == 130 and "interrupted" in errors and "Traceback" not in errors
    assert list((tmp_path / "transcripts").iterdir()) == []


JOBS = ["submit", "collect", "jobs", "retry", "cancel", "forget", "costs", "serve"]


@pytest.mark.parametrize(
    "command", ["run", "watch", "plan", "inspect", *JOBS, "engines", "trust", "demo", "standin"]
)
def test_help_shows_two_examples(mantisreed: Command, command: str) -> None:
    result = mantisreed(command, "--help")
    assert result.returncode == 0
    assert result.stdout.split("examples:")[1].count(f"mantisreed {command}") == 2


def test_a_standin_serves_any_bank_and_its_cards_work_as_they_are(
    standin_process: Standin,
    mantisreed: Command,
    english: list[Phrase],
    tmp_path: Path,
) -> None:
    bank = tmp_path / "bank"
    bank.mkdir()
    own = compose(english, seed=31, duration=8)
    own.write(bank / "own.wav")
    (bank / "own.txt").write_text("Words of our own making.")
    own.write(tmp_path / "said.mp3")
    with standin_process(
        "standin", "--bank", str(bank), "--cards", str(tmp_path / "cards" / "e.toml")
    ):
        result = mantisreed(
            "run", "said.mp3", "--config", "cards/e.toml", "--engine", "brook", "--into", "out"
        )
    assert result.returncode == 0, result.stderr
    assert (tmp_path / "out" / "said.txt").read_text() == "Words of our own making.\n"


def test_a_standin_refuses_a_taken_port_and_a_file_that_is_not_its_own(
    mantisreed: Command, tmp_path: Path
) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        result = mantisreed("standin", "--port", str(taken.getsockname()[1]))
    assert result.returncode == 2 and "address already in use" in result.stderr
    (tmp_path / "mine.toml").write_text("[settings]\n")
    result = mantisreed("standin", "--cards", "mine.toml")
    assert result.returncode == 2 and "was not written by a stand-in" in result.stderr
    assert (tmp_path / "mine.toml").read_text() == "[settings]\n"


def test_a_standin_can_be_stopped_and_says_nothing_more(
    standin_process: Standin, tmp_path: Path
) -> None:
    with standin_process("standin") as process:
        time.sleep(0.1)
        process.send_signal(signal.SIGINT)
        out, _ = process.communicate(timeout=20)
    assert out == ""
