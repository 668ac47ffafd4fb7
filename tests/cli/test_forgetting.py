"""What was said in a job that is forgotten is nowhere in the workspace any more."""

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from subprocess import PIPE
from typing import Any

import pytest

from conftest import Command
from mantisreed import RunOptions, open_workspace, transcribe
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from web import QuietHandler, listening

WORD = "gannetquill"
"""Is in everything that engines and services say."""

SETTINGS = """
[settings]
engine = "first"
to = ["txt", "json"]
max_attempts = 1
hints = ["{word}hint"]

[engine.first]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
price = {{ per_minute = "0.01", currency = "credits" }}
send = {{ path = "/words", raw = "{{audio}}" }}
reply.text = "says"
reply.words = {{ each = "words", text = "w", start = "s", end = "e", confidence = "c" }}

[engine.second]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
price = {{ per_minute = "0.01", currency = "credits" }}
send = {{ path = "/text", raw = "{{audio}}" }}
reply.text = "says"

[engine.torn]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
send = {{ path = "/torn", raw = "{{audio}}" }}
reply.text = "says"

[engine.rude]
url = "http://127.0.0.1:{port}"
accepts.formats = ["flac"]
send = {{ path = "/rude", raw = "{{audio}}" }}
reply.text = "says"

[service.mirror]
url = "http://127.0.0.1:{port}"
accepts = {{ max_characters = 4000, languages = ["en", "de"] }}
send = {{ path = "/turn", json = {{ lines = "{{passages}}", into = "{{target}}" }} }}
reply.texts = "lines"

[follow_up.german]
service = "mirror"
target = "de"
to = ["srt"]
"""


class Talker(QuietHandler):
    """Says the word, in every way that an engine can."""

    def do_POST(self) -> None:  # noqa: N802
        body = self.rfile.read(int(self.headers["Content-Length"]))
        status, answer = self._answer(body)
        content = answer if isinstance(answer, bytes) else json.dumps(answer).encode()
        self.send(status, content, "application/json")

    def _answer(self, body: bytes) -> tuple[int, Any]:
        if self.path == "/turn":
            return 200, {"lines": [f"{WORD} {n}" for n, _ in enumerate(json.loads(body)["lines"])]}
        if self.path == "/torn":
            return 200, f'{{"heard": "{WORD}"}}'.encode()
        if self.path == "/rude":
            return 400, {"error": f"what is {WORD}?"}
        said = " ".join(f"{WORD}{number}" for number in range(12))
        words = [
            {"w": word, "s": number * 0.7, "e": number * 0.7 + 0.4, "c": 0.05}
            for number, word in enumerate(said.split())
        ]
        # Large replies are files, small ones are in the database.
        return 200, {"says": said, "words": words, "more": WORD * (40_000 if len(body) % 2 else 1)}


@pytest.fixture
def workspace(tmp_path: Path) -> Iterator[Path]:
    with listening(Talker) as port:
        settings = SETTINGS.format(port=port, word=WORD)
        (tmp_path / "mantisreed.toml").write_text(settings)
        yield tmp_path


@pytest.fixture
def recording(english: list[Phrase], tmp_path: Path) -> Path:
    file = tmp_path / "note.flac"
    compose(english, seed=70, duration=12).write(file)
    return file


def places_with(what: bytes, folder: Path, *but: Path) -> list[str]:
    """The files that hold something."""
    return [
        str(file.relative_to(folder))
        for file in sorted(folder.rglob("*"))
        if file.is_file() and file not in but and what in file.read_bytes()
    ]


def jobs(mantisreed: Command) -> list[str]:
    told = json.loads(mantisreed("jobs", "--json", "--limit", "0").stdout)
    return [job["id"] for job in told["jobs"]]


def test_nothing_of_a_job_is_left(mantisreed: Command, workspace: Path, recording: Path) -> None:
    settings, word = workspace / "mantisreed.toml", WORD.encode()
    done = mantisreed("run", "note.flac", "--second-opinion", "second", "--hint", f"{WORD}too")
    assert done.returncode == 0 and "second heard" in done.stderr, done.stderr
    assert mantisreed("run", "note.flac", "--engine", "torn").returncode == 1
    assert mantisreed("run", "note.flac", "--engine", "rude").returncode == 1
    state = workspace / ".mantisreed"
    assert {"ledger.sqlite", "unreadable", "opinions"} <= {
        Path(place).parts[0] for place in places_with(word, state)
    } | {"ledger.sqlite"}
    paid = mantisreed("costs", "--json").stdout
    told = mantisreed("forget", "--yes", *jobs(mantisreed))
    assert told.returncode == 0 and "--outputs removes them too" in told.stderr
    assert places_with(word, state) == []
    assert mantisreed("costs", "--json").stdout == paid
    assert places_with(word, workspace, settings)  # what was written for people
    assert mantisreed("forget", "--yes", "--outputs", *jobs(mantisreed)).returncode == 0


def test_outputs_go_too_where_that_is_wanted_unless_they_were_edited(
    mantisreed: Command, workspace: Path, recording: Path
) -> None:
    settings = workspace / "mantisreed.toml"
    assert mantisreed("run", "note.flac").returncode == 0
    (job,) = jobs(mantisreed)
    assert mantisreed("export", job, "--to", "srt").returncode == 0
    edited = workspace / "transcripts" / "note.txt"
    edited.write_text(f"{WORD}, corrected by hand\n")
    told = mantisreed("forget", "--yes", "--outputs", job)
    assert told.returncode == 0, told.stderr
    assert places_with(WORD.encode(), workspace, settings) == ["transcripts/note.txt"]
    again = mantisreed("retry", job)
    assert again.returncode != 0 and "was forgotten" in again.stderr
    assert mantisreed("run", "note.flac", "--overwrite").returncode == 0


def test_sound_that_lies_in_the_state_goes_too(
    mantisreed: Command, workspace: Path, recording: Path
) -> None:
    sound = recording.read_bytes()
    command = [sys.executable, "-m", "mantisreed", "run", "-", "--engine", "torn"]
    failed = subprocess.run(command, cwd=workspace, input=sound, capture_output=True, check=False)
    assert failed.returncode == 1
    assert places_with(sound, workspace / ".mantisreed")
    assert mantisreed("forget", "--yes", *jobs(mantisreed)).returncode == 0
    assert places_with(sound, workspace / ".mantisreed") == []


def test_what_another_job_needs_stays_and_is_told(
    mantisreed: Command, workspace: Path, recording: Path
) -> None:
    assert mantisreed("run", "note.flac").returncode == 0
    assert mantisreed("run", "note.flac", "--piece-length", "30min").returncode == 0
    first, second = jobs(mantisreed)
    told = mantisreed("forget", "--yes", first)
    assert f"replies that {second} need too stay" in told.stdout
    exported = mantisreed("export", second, "--to", "txt", "--stdout")
    assert WORD in exported.stdout
    told = mantisreed("forget", "--yes", second)
    assert "stay" not in told.stdout
    assert places_with(WORD.encode(), workspace / ".mantisreed") == []


# Runs that keep nothing
# ----------------------------------------------------------------------


def files_in(folder: Path) -> set[str]:
    return {str(path.relative_to(folder)) for path in folder.rglob("*")}


def in_memory(process: int) -> set[Path]:
    """What a process has left in memory."""
    return {
        path
        for place in ("/dev/shm", tempfile.gettempdir())
        for path in Path(place).glob(f"mantisreed-{process}-*")
    }


def test_a_run_to_stdout_writes_no_outputs_and_can_be_exported_later(
    mantisreed: Command, workspace: Path, recording: Path
) -> None:
    printed = mantisreed("run", "note.flac", "--stdout")
    assert printed.returncode == 0 and printed.stdout.startswith(f"{WORD}0 {WORD}1")
    # What is done after each transcript is done all the same, and has files.
    assert files_in(workspace / "transcripts") == {"note.de.srt"}
    (job,) = jobs(mantisreed)
    assert mantisreed("export", job, "--to", "txt", "--stdout").stdout == printed.stdout
    subtitles = mantisreed("run", "note.flac", "--stdout", "--to", "srt")
    assert subtitles.stdout.startswith("1\n00:00:0") and jobs(mantisreed) == [job]


@pytest.mark.parametrize("source", ["note.flac", "-"])
def test_a_run_that_keeps_nothing_leaves_nothing_but_what_it_cost(
    workspace: Path, recording: Path, source: str, mantisreed: Command
) -> None:
    before = files_in(workspace)
    command = [sys.executable, "-m", "mantisreed", "run", source, "--stdout", "--no-keep"]
    second = ["--second-opinion", "second"]
    sound = recording.read_bytes() if source == "-" else b""
    ran = subprocess.Popen([*command, *second], cwd=workspace, stdin=PIPE, stdout=PIPE, stderr=PIPE)
    printed, said = ran.communicate(sound)
    assert ran.returncode == 0, said
    assert printed.decode().startswith(f"{WORD}0 {WORD}1") and in_memory(ran.pid) == set()
    left = files_in(workspace) - before
    assert all(file.startswith(".mantisreed") for file in left)
    assert places_with(WORD.encode(), workspace / ".mantisreed") == []
    assert places_with(b"note.flac", workspace / ".mantisreed") == []
    assert jobs(mantisreed) == []
    (engine, other) = json.loads(mantisreed("costs", "--json").stdout)["costs"]
    assert {engine["engine"], other["engine"]} == {"first", "second"} and engine["cost"] > 0


def test_what_it_cost_is_noted_also_when_it_fails(
    mantisreed: Command, workspace: Path, recording: Path
) -> None:
    failed = mantisreed("run", "note.flac", "--engine", "torn", "--stdout", "--no-keep")
    assert failed.returncode == 1 and failed.stdout == "" and in_memory(os.getpid()) == set()
    assert "nothing was to be kept" in failed.stderr
    assert len(json.loads(mantisreed("costs", "--json").stdout)["costs"]) == 1


def test_from_python_the_transcript_is_all_that_there_is(
    workspace: Path, recording: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("MANTISREED_TRUST", str(workspace))
    before = files_in(workspace)
    found = open_workspace(workspace / "mantisreed.toml")
    (outcome,) = transcribe(recording, found, RunOptions(engine="second", keep=False))
    assert outcome.transcript is not None and WORD in outcome.transcript.passages[0].text
    assert outcome.files == () and places_with(WORD.encode(), workspace / ".mantisreed") == []
    assert not {file for file in files_in(workspace) - before if "transcripts" in file}


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (("--no-keep",), "--stdout prints the text"),
        (("--stdout", "--into", "out"), "has no effect with --stdout"),
        (("--stdout", "--to", "srt,vtt"), "prints one format"),
        (("--stdout", "--json"), "has no effect with"),
        (("--stdout", "--fill"), "has no effect with"),
        (("--stdout", "--name", "a.wav"), "has no effect without the source -"),
        (("other.flac", "--stdout", "--to", "srt"), "there are 2"),
    ],
)
def test_what_makes_no_sense_without_files_is_refused_before_anything_is_sent(
    mantisreed: Command, workspace: Path, recording: Path, arguments: tuple[str, ...], told: str
) -> None:
    (workspace / "other.flac").write_bytes(recording.read_bytes())
    refused = mantisreed("run", *arguments[:1], "note.flac", *arguments[1:])
    assert refused.returncode == 2 and told in refused.stderr and refused.stdout == ""


def test_several_texts_are_printed_one_behind_the_other(
    mantisreed: Command, workspace: Path, recording: Path
) -> None:
    (workspace / "other.flac").write_bytes(recording.read_bytes() + b"\0")
    printed = mantisreed("run", "note.flac", "other.flac", "--stdout", "--no-keep")
    assert printed.returncode == 0 and printed.stdout.count(f"{WORD}0 ") == 2
