"""`review`, as a user runs it."""

import json
from pathlib import Path

from conftest import Command, Note
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose


def test_a_page_is_written_for_a_job_a_transcript_and_subtitles(
    mantisreed: Command, settings: Path, note: Note, tmp_path: Path
) -> None:
    assert mantisreed("run", str(note.path), "--into", "out", "--to", "json,srt").returncode == 0
    job = json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["id"]
    of_job = mantisreed("review", job[:8], "--into", "pages")
    assert of_job.returncode == 0, of_job.stderr
    assert of_job.stdout.strip() == "pages/note.review.html"
    beside = mantisreed("review", "out/note.transcript.json", str(note.path))
    assert beside.stdout.strip() == "out/note.review.html" and beside.stderr == ""
    first, second = (tmp_path / folder / "note.review.html" for folder in ("pages", "out"))
    assert first.read_text() == second.read_text()
    assert (
        "exists already" in mantisreed("review", "out/note.transcript.json", str(note.path)).stderr
    )
    subtitles = mantisreed(
        "review", "out/note.srt", str(note.path), "--without-sound", "--into", "srt"
    )
    assert subtitles.returncode == 0, subtitles.stderr
    assert len((tmp_path / "srt" / "note.review.html").read_text()) < len(first.read_text())


def test_what_is_wrong_is_told_in_one_line(
    mantisreed: Command, settings: Path, note: Note, english: list[Phrase], tmp_path: Path
) -> None:
    mantisreed("run", str(note.path), "--into", "out", "--to", "json")
    compose(english, seed=77, duration=40).write(tmp_path / "other.wav")
    (tmp_path / "empty.wav").write_bytes(b"")
    (tmp_path / "empty.srt").write_bytes(b"")
    document = "out/note.transcript.json"
    for arguments, told in (
        ((document, "other.wav"), "it lasts 0:40, and the transcript 0:15"),
        ((document,), "does not say where its recording is"),
        ((document, "nowhere.wav"), "no such file"),
        ((document, "empty.wav"), "empty.wav"),
        (("nothing", "other.wav"), "nothing"),
        ((document, str(note.path), "--layout", "huge"), "there is no layout"),
    ):
        result = mantisreed("review", *arguments)
        assert result.returncode in (1, 2) and told in result.stderr, (arguments, result.stderr)
        assert len(result.stderr.strip().splitlines()) <= 2
    assert not list((tmp_path / "out").glob("*.html"))
