"""Doubts of every job, and second opinions on them, as a user meets them."""

import csv
import json
from pathlib import Path

import pytest

from conftest import Command, Moody
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.habits import Habits
from mantisreed.transcript.document import Transcript, from_json

BAD = FaultProfile(habits={"brook": Habits(silence=0.5, loop=0.2, missing=0.15)})


@pytest.fixture
def recording(english: list[Phrase], tmp_path: Path) -> Path:
    path = tmp_path / "round.flac"
    compose(english, seed=41, duration=90, pauses=(1.0, 3.0)).write(path)
    return path


def transcript_in(folder: Path) -> Transcript:
    return from_json((folder / "round.transcript.json").read_bytes())


def rows_of(result_json: str) -> dict[str, object]:
    row: dict[str, object] = json.loads(result_json)["recordings"][0]
    return row


def test_doubts_are_found_kept_counted_and_coloured(
    mantisreed: Command, moody: Moody, recording: Path
) -> None:
    folder = recording.parent
    with moody(BAD, engine="brook"):
        result = mantisreed(
            "run", "round.flac", "--into", "out", "--to", "json,md,html,srt", "--report", "r.csv"
        )
        assert result.returncode == 0, result.stderr
        listed = mantisreed(
            "run", "round.flac", "--into", "out", "--to", "json,md,html,srt", "--json"
        )
    found = transcript_in(folder / "out").doubts
    kinds = {doubt.kind for doubt in found}
    assert {"silence", "loop"} <= kinds
    counted = sum(doubt.grade >= 0.3 for doubt in found)
    assert rows_of(listed.stdout)["doubts"] == counted
    heading, row = result.stdout.strip().splitlines()[-2:]
    assert heading.split().index("doubts") == row.split().index(str(counted))
    assert f",{counted}," in (folder / "r.csv").read_text()
    marked = (folder / "out" / "round.md").read_text()
    assert '<mark title="loop: ' in marked and '<mark title="silence: ' in marked
    page = (folder / "out" / "round.html").read_text()
    assert '<mark title="loop: ' in page and f"{counted} stretches to listen to" in page
    assert "<mark" not in (folder / "out" / "round.srt").read_text()
    shown = mantisreed("doubts", "out/round.transcript.json", "--json")
    told = json.loads(shown.stdout)["doubts"]
    assert len(told) == counted and set(told[0]) >= {"kind", "start", "end", "why", "grade"}
    assert (
        "with their times"
        in mantisreed("amend", "out/round.transcript.json", "out/round.md", "--into", "b").stdout
    )


def test_a_second_opinion_replaces_what_is_doubtful_and_says_so(
    mantisreed: Command, moody: Moody, recording: Path
) -> None:
    folder = recording.parent
    with moody(BAD, engine="brook"):
        mantisreed("run", "round.flac", "--into", "first", "--to", "json")
        asked = mantisreed(
            "run", "round.flac", "--into", "both", "--to", "json,txt", "--second-opinion", "heron"
        )
        again = mantisreed(
            "run", "round.flac", "--into", "both", "--to", "json,txt", "--second-opinion", "heron"
        )
        listed = mantisreed(
            "run",
            "round.flac",
            "--into",
            "both",
            "--second-opinion",
            "heron",
            "--report",
            "told.csv",
        )
        jobs = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    assert asked.returncode == 0 and "heron heard" in asked.stderr, asked.stderr
    first, both = transcript_in(folder / "first"), transcript_in(folder / "both")
    assert len(both.doubts) < len(first.doubts) / 2
    assert both.replacements and {one.engine for one in both.replacements} == {"heron"}
    assert all("less than half" in one.why for one in both.replacements)
    assert again.stdout == asked.stdout and transcript_in(folder / "both") == both
    assert sorted(job["engine"] for job in jobs) == ["brook", "heron"]  # nothing was asked twice
    # The job's outputs are written from what is kept, with the second opinion.
    (own,) = [job for job in jobs if job["engine"] == "brook"]
    (theirs,) = [job for job in jobs if job["engine"] == "heron"]
    # Both are what the recording has cost.
    (row,) = csv.DictReader((folder / "told.csv").read_text().splitlines())
    assert listed.returncode == 0 and own["currency"] == theirs["currency"]
    assert float(row["cost"]) == pytest.approx(own["cost"] + theirs["cost"]) and theirs["cost"] > 0
    exported = mantisreed("export", own["id"], "--to", "json", "--into", "exported")
    assert exported.returncode == 0, exported.stderr
    assert transcript_in(folder / "exported") == both


def test_a_second_opinion_keeps_to_the_spend_limit(
    mantisreed: Command, moody: Moody, recording: Path
) -> None:
    with moody(BAD, engine="brook"):
        # The first reading of a minute and a half costs 0.006 credits; the stretches would cost
        # more than is left.
        result = mantisreed(
            "run",
            "round.flac",
            "--into",
            "out",
            "--second-opinion",
            "brook",
            "--spend-limit",
            "0.0062",
        )
    assert result.returncode == 0 and "no second opinion by brook" in result.stderr, result.stderr
    assert "over the limit" in result.stderr
    assert transcript_in(recording.parent / "out").replacements == ()


def test_a_second_opinion_that_was_asked_for_is_given_by_every_way_to_go_on(
    mantisreed: Command, moody: Moody, recording: Path
) -> None:
    folder = recording.parent
    with moody(FaultProfile(habits={"dipper": BAD.habits["brook"]}), engine="dipper"):
        submitted = mantisreed(
            "submit", "round.flac", "--into", "sent", "--to", "json", "--second-opinion", "heron"
        )
        assert submitted.returncode == 0, submitted.stderr
        collected = mantisreed("collect", "--wait")
    assert collected.returncode == 0 and "heron heard" in collected.stderr, collected.stderr
    sent = transcript_in(folder / "sent")
    assert sent.replacements and {one.engine for one in sent.replacements} == {"heron"}


def test_a_retry_keeps_the_second_opinion_and_the_limit(
    mantisreed: Command, moody: Moody, recording: Path
) -> None:
    folder = recording.parent
    with moody(BAD, engine="brook"):
        stopped = mantisreed(
            *("run", "round.flac", "--into", "out", "--to", "json", "--second-opinion", "heron"),
            *("--spend-limit", "0.001"),
        )
        assert stopped.returncode == 3 and "over the limit of 0.0010" in stopped.stderr
        again = mantisreed("retry")
        assert again.returncode == 3 and "over the limit of 0.0010" in again.stderr, again.stderr
        raised = mantisreed("retry", "--spend-limit", "1")
    assert raised.returncode == 0 and "heron heard" in raised.stderr, raised.stderr
    assert transcript_in(folder / "out").replacements


def test_wrong_uses_are_told_in_one_line(
    mantisreed: Command, settings: Path, recording: Path
) -> None:
    for arguments, told in (
        (("run", "round.flac", "--second-opinion", "nobody"), "nobody"),
        (("doubts", "missing.srt"), "cannot be read"),
        (("standin", "--habit", "loop=2"), "a habit such as"),
        (("standin", "--habit", "swan:loop=0.2"), "no stand-in engine"),
    ):
        result = mantisreed(*arguments)
        assert result.returncode == 2 and told in result.stderr, result.stderr
        assert len(result.stderr.strip().splitlines()) <= 2
