"""Tables of recordings: read, filled in row by row, and gone on with."""

import csv
import json
import os
import signal
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler
from pathlib import Path

import pytest

from cli.ferry import Ferry
from conftest import Command
from mantisreed.errors import InputError
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.transcribe import transcribe
from mantisreed.sources.tables import read_table
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.transcript.document import Passage, with_speaker_names
from mantisreed.workspace import open_workspace


@pytest.fixture
def folder(tmp_path: Path, recordings: Path, ferry: Ferry) -> Iterator[Path]:
    """A workspace with two recordings, and its engine."""
    with ferry.sailing(tmp_path):
        yield tmp_path


def rows_of(file: Path) -> list[dict[str, str]]:
    with file.open(encoding="utf-8-sig", newline="") as source:
        return list(csv.DictReader(source))


def test_a_table_is_filled_in_and_gone_on_with(
    folder: Path, ferry: Ferry, mantisreed: Command
) -> None:
    file = folder / "calls.csv"
    file.write_bytes(
        b"\xef\xbb\xbfnumber,source,language,remark\r\n"
        b'007,recordings/note 0.flac,en,"a, ""b"""\r\n'
        b"008,missing.flac,en,=1+1\r\n009,recordings/note 1.flac,,\r\n010,recordings/note "
        b"0.flac,en,again\r\n"
    )
    ended = mantisreed("run", "calls.csv", "--fill")
    assert ended.returncode == 1 and "missing.flac: no such file" in ended.stderr
    rows = rows_of(file)
    assert [row["state"] for row in rows] == ["done", "failed", "done", "done"]
    assert [row["number"] for row in rows] == ["007", "008", "009", "010"]
    assert rows[0]["remark"] == 'a, "b"' and rows[1]["remark"] == "=1+1", (
        "what was there is not ours to change"
    )
    assert rows[0]["text"] and rows[0]["text"] == rows[3]["text"] != rows[2]["text"]
    assert rows[1]["error"].endswith("missing.flac: no such file") and not rows[1]["text"]
    assert (
        float(rows[0]["cost"]) > 0
        and int(rows[0]["words"]) == 6
        and "note 0.txt" in rows[0]["files"]
    )
    assert file.read_bytes().startswith(b"\xef\xbb\xbf") and b"\r\n" in file.read_bytes()
    (folder / "missing.flac").write_bytes((folder / "recordings" / "note 1.flac").read_bytes())
    ferry.forget()
    ended = mantisreed("run", "calls.csv", "--fill")
    assert ended.returncode == 0 and "3 rows have their results already" in ended.stderr
    assert [row["state"] for row in rows_of(file)] == ["done"] * 4
    assert not ferry.asked, "the sound was known"
    assert mantisreed("run", "calls.csv", "--fill").returncode == 0


def test_rows_say_what_is_known_of_their_recordings(
    folder: Path, ferry: Ferry, mantisreed: Command
) -> None:
    (folder / "calls.jsonl").write_text(
        '{"file": "recordings/note 0.flac", "engine": "barge", "more": {"kept": [1]}}\n\n'
        '{"file": "recordings/note 1.flac", "engine": "curlew"}\n'
        '{"file": "recordings/note 1.flac", "language": "english_uk"}\n'
        '{"file": "recordings/note 1.flac", "channels": "seven"}\n'
        '{"file": "recordings/note 1.flac", "hints": ["knot", "dunlin"]}\n'
        '{"file": "gopher://marsh.example/a.flac"}\n{"file": 5}\n'
    )
    ended = mantisreed("run", "calls.jsonl", "--fill", "--column", "file")
    assert ended.returncode == 1
    rows = [json.loads(line) for line in (folder / "calls.jsonl").read_text().splitlines()]
    assert [row["state"] for row in rows] == [
        "done",
        "failed",
        "failed",
        "failed",
        "done",
        "failed",
        "failed",
    ]
    assert rows[0]["more"] == {"kept": [1]}
    told = (
        "curlew",
        "english_uk",
        "seven",
        None,
        "nothing is read from gopher",
        "nothing in its column 'file'",
    )
    for row, words in zip(rows[1:], told, strict=True):
        assert words is None or words in row["error"]
    jobs = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    assert sorted(job["engine"] for job in jobs) == ["barge", "ferry"]


def test_a_spend_limit_is_for_the_whole_table(
    folder: Path, ferry: Ferry, mantisreed: Command
) -> None:
    (folder / "calls.csv").write_text(
        "source,engine\nrecordings/note 0.flac,ferry\nrecordings/note "
        "1.flac,barge\nrecordings/note 1.flac,ferry\n"
    )
    ended = mantisreed("run", "calls.csv", "--fill", "--spend-limit", "0.015")
    assert ended.returncode == 3
    assert sum(ferry.answered.values()) == 1, "each row costs a hundredth of a shell"
    assert [row["state"] for row in rows_of(folder / "calls.csv")].count("waiting") == 2


def test_an_interruption_is_for_the_whole_table(folder: Path, ferry: Ferry) -> None:
    (folder / "calls.csv").write_text(
        "source,engine\nrecordings/note 0.flac,ferry\nrecordings/note "
        "1.flac,barge\nrecordings/note 1.flac,ferry\n"
    )
    ferry.slowness = 0.3
    signals = [signal.SIGINT]

    def interrupt(event: Event) -> None:
        if event.stage == "sending" and signals:
            os.kill(os.getpid(), signals.pop())

    outcomes = transcribe(
        [folder / "calls.csv"], open_workspace(folder / "mantisreed.toml"), on_event=interrupt
    )
    assert not signals
    assert [outcome.state for outcome in outcomes].count("waiting") >= 1
    assert not any(outcome.job and outcome.job.engine == "barge" for outcome in outcomes)


def test_a_table_is_a_source_like_any_other(folder: Path, mantisreed: Command) -> None:
    (folder / "calls.tsv").write_text(
        "source\tnote\nrecordings/note 0.flac\tx\nrecordings/note 1.flac\ty\n"
    )
    for command in ("plan", "inspect", "run"):
        ended = mantisreed(command, "calls.tsv", "--json")
        assert ended.returncode == 0
        assert len(json.loads(ended.stdout)["recordings"]) == 2


def test_patterns_choose_from_folders_and_partial_files_are_left_out(
    folder: Path, mantisreed: Command
) -> None:
    sound = (folder / "recordings" / "note 0.flac").read_bytes()
    for name in ("~note.flac", "note 7.flac.part", ".hidden.flac"):
        (folder / "recordings" / name).write_bytes(sound)
    (folder / "recordings" / "empty.flac").touch()
    for options, count in (((), 2), (("--include", "*1.flac"), 1), (("--exclude", "note 0*"), 1)):
        ended = mantisreed("inspect", "recordings", "--json", *options)
        assert len(json.loads(ended.stdout)["recordings"]) == count
    ended = mantisreed("inspect", "recordings", "--include", "*.ogg")
    assert ended.returncode == 2 and "--include" in ended.stderr


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        ("a.csv", b"file,x\na,b\n", "no column 'source'"),
        ("a.csv", b"", "no column 'source'"),
        ("a.csv", b"source\n", "no rows"),
        ("a.csv", b"source,source\na,b\n", "two columns have the same name"),
        ("a.csv", b"source\n\xff\xfe\n", "not in UTF-8"),
        ("a.jsonl", b"[1]\n", "line 1 is no JSON object"),
        ("a.jsonl", b"{\n", "line 1 is not JSON"),
        ("a.csv", b"source,text\na.wav,mine\n", "the column 'text' holds something already"),
        ("a.wav", b"source\n", "no table to be filled in"),
    ],
)
def test_what_is_wrong_with_a_table_is_told_in_a_line(
    folder: Path, mantisreed: Command, name: str, content: bytes, told: str
) -> None:
    (folder / name).write_bytes(content)
    ended = mantisreed("run", name, "--fill")
    assert ended.returncode == 2 and len(ended.stderr.splitlines()) <= 2
    assert told in ended.stderr
    assert (folder / name).read_bytes() == content


def test_what_is_filled_in_is_no_formula(tmp_path: Path) -> None:
    file = tmp_path / "a.csv"
    file.write_text("source\nx.wav\n")
    table = read_table(file)
    table.fill(table.sources[0], {"text": "=cmd()", "state": "done"})
    table.write()
    assert rows_of(file)[0]["text"] == "'=cmd()"
    with pytest.raises(InputError):
        read_table(tmp_path / "none.csv")


def test_speakers_have_the_names_that_their_row_gives(
    mantisreed: Command, ferry: Ferry, english: list[Phrase], tmp_path: Path
) -> None:
    compose(english, seed=4, duration=20, channels=2).write(tmp_path / "call.flac")
    (tmp_path / "calls.csv").write_text(
        "source,channels,speakers\ncall.flac,apart,Warden; Skipper\n"
    )
    with ferry.sailing(tmp_path):
        assert mantisreed("run", "calls.csv", "--engine", "ferry", "--to", "json").returncode == 0
    (file,) = (tmp_path / "transcripts").iterdir()
    assert set(json.loads(file.read_text())["speakers"]) == {"Warden", "Skipper"}


@pytest.mark.parametrize(
    ("labels", "names", "wanted"),
    [
        (("S2", "S1"), "Ada; Ben", ("Ben", "Ada")),
        (("x", "a", "x"), "Ada; Ben", ("Ada", "Ben", "Ada")),
        (("channel 10", "channel 9"), "Ada", ("channel 10", "Ada")),
        ((None, "x"), "Ada", (None, "Ada")),
        ((), "Ada", ()),
    ],
)
def test_names_go_to_labels_in_their_order(
    labels: tuple[str | None, ...], names: str, wanted: tuple[str | None, ...]
) -> None:
    passages = tuple(Passage(float(n), n + 0.5, "x", label) for n, label in enumerate(labels))
    assert tuple(one.speaker for one in with_speaker_names(passages, names)) == wanted


def test_what_a_folder_skips_is_counted_and_named(
    mantisreed: Command, english: list[Phrase], tmp_path: Path
) -> None:
    folder = tmp_path / "inbox"
    folder.mkdir()
    compose(english, seed=4, duration=5).write(folder / "whole.flac")
    left_out = (".hidden.wav", "a.wav.part", "~b.wav", "c.wav~")
    for name in left_out:
        (folder / name).write_bytes(b"x")
    (folder / "empty.wav").touch()
    (folder / "empty.wav").touch()
    for number in range(7):
        (folder / f"map{number}.pdf").write_bytes(b"x")
    (folder / ".DS_Store").touch()
    told = mantisreed("inspect", "inbox").stderr
    assert "4 files left out, hidden or partial: " in told and all(
        name in told for name in left_out
    )
    assert "1 file left out, empty: empty.wav" in told
    assert "7 files left out, not recordings by their names: map" in told and "and 2 more" in told
    assert ".DS_Store" not in told


def test_what_somebody_types_meanwhile_stays_and_is_told(
    folder: Path, ferry: Ferry, mantisreed: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = folder / "calls.csv"
    file.write_text("source,note\nrecordings/note 0.flac,first\nrecordings/note 1.flac,second\n")
    answer = ferry.answer

    def typed(request: BaseHTTPRequestHandler, digest: str) -> None:
        # While the engine is at work: a row in front, a column, notes, and a text of one's own.
        file.write_text(
            "source,who,note,text\nrecordings/note 7.flac,Tilda,new,\n"
            "recordings/note 1.flac,Tilda,changed,I heard it myself\n"
            "recordings/note 0.flac,Uwe,first,\n"
        )
        answer(request, digest)

    monkeypatch.setattr(ferry, "answer", typed)
    ended = mantisreed("run", "calls.csv", "--fill")
    assert ended.returncode == 1
    assert "row 2: somebody has typed into 'text', which stays" in ended.stderr
    rows = rows_of(file)
    assert [row["note"] for row in rows] == ["new", "changed", "first"]
    assert [row["who"] for row in rows] == ["Tilda", "Tilda", "Uwe"]
    assert rows[1]["text"] == "I heard it myself" and rows[1]["state"] == "done"
    assert rows[2]["text"] and rows[2]["state"] == "done"
    assert not rows[0]["text"] and not rows[0]["state"]


def test_what_is_typed_never_becomes_ours_however_often_the_file_is_written(
    tmp_path: Path,
) -> None:
    file = tmp_path / "calls.csv"
    file.write_text("source\nnote 0.flac\nnote 1.flac\n")
    table = read_table(file)
    first, second = table.sources
    results = {"text": "heard", "state": "done"}
    table.fill(first, results)
    assert not table.write()
    file.write_text("source,text,state\nnote 0.flac,mine,done\nnote 1.flac,mine too,\n")
    for source in (first, second, first, second):
        table.fill(source, results | {"words": 1})
        told = table.write()
        assert len(told) == 1 and "typed into 'text', which stays" in told[0]
    rows = rows_of(file)
    assert [row["text"] for row in rows] == ["mine", "mine too"]
    assert [row["state"] for row in rows] == ["done", "done"]


@pytest.mark.parametrize(
    ("content", "told"),
    [
        ("source\nrecordings/note 0.flac\n", "row 2 is gone"),
        ("file\nnothing\n", "no column 'source'"),
        (None, ""),
    ],
    ids=["row", "table", "file"],
)
def test_a_table_that_is_another_one_meanwhile_is_not_overwritten(
    folder: Path,
    ferry: Ferry,
    mantisreed: Command,
    monkeypatch: pytest.MonkeyPatch,
    content: str | None,
    told: str,
) -> None:
    file = folder / "calls.csv"
    file.write_text("source\nrecordings/note 0.flac\nrecordings/note 1.flac\n")
    answer = ferry.answer

    def changed(request: BaseHTTPRequestHandler, digest: str) -> None:
        file.write_text(content) if content else file.unlink(missing_ok=True)
        answer(request, digest)

    monkeypatch.setattr(ferry, "answer", changed)
    ended = mantisreed("run", "calls.csv", "--fill")
    assert ended.returncode == (1 if content else 0) and told in ended.stderr
    if content is None:
        assert [row["state"] for row in rows_of(file)] == ["done", "done"]
    elif content.startswith("file"):
        assert file.read_text() == content
    else:
        assert [row["state"] for row in rows_of(file)] == ["done"]
