"""`compare`, as a user runs it."""

import json
from pathlib import Path

import pytest

from conftest import Command, Moody
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.habits import Habits

BAD = FaultProfile(habits={"brook": Habits(loop=0.3, missing=0.2)})


@pytest.fixture
def recording(english: list[Phrase], tmp_path: Path) -> Path:
    path = tmp_path / "round.flac"
    composition = compose(english, seed=43, duration=30, pauses=(1.0, 2.0))
    composition.write(path)
    (tmp_path / "round.txt").write_text("\n".join(said.phrase.text for said in composition.truth))
    return path


def test_engines_are_compared_on_the_same_recording(
    mantisreed: Command, moody: Moody, recording: Path
) -> None:
    arguments = ("compare", "round.flac", "--engines", "brook,heron,sedge", "--language", "en")
    with moody(BAD, engine="brook"):
        shown = mantisreed(*arguments, "--reference", "round.txt", "--plot", "engines.png")
        result = mantisreed(*arguments, "--reference", "round.txt", "--json")
    assert shown.returncode == 0, shown.stderr
    first, *_ = shown.stderr.splitlines()
    assert first.startswith("0:30 of sound, at most: brook 0.0020 credits, heron 0.0045 credits")
    assert "WER" in shown.stdout and "agreement" in shown.stdout and "brook *" in shown.stdout
    assert (recording.parent / "engines.png").read_bytes().startswith(b"\x89PNG")
    assert (recording.parent / "comparison" / "heron" / "round.transcript.json").exists()
    found = json.loads(result.stdout)
    brook, heron, sedge = found["engines"]
    assert brook["wer"] > 0.1 and heron["wer"] == sedge["wer"] == 0.0 and brook["doubts"] > 0
    # An hour costs 0.24 credits, good or bad.
    assert brook["price_of_a_good_hour"] > 1.1 * 60 * 0.004
    assert found["agreement"][1][2] == 1.0 > found["agreement"][0][1] == found["agreement"][1][0]
    differences = found["recordings"][0]["differences"]
    assert differences and all(one["outvoted"] == [True, False, False] for one in differences)
    assert all(
        len(one["readings"]) == 3 and one["readings"][1] == one["readings"][2]
        for one in differences
    )


def test_the_limit_is_for_all_engines_together(
    mantisreed: Command, moody: Moody, recording: Path
) -> None:
    with moody(FaultProfile(), engine="brook"):
        result = mantisreed(
            "compare", "round.flac", "--engines", "brook,brook:quick", "--spend-limit", "0.003"
        )
    assert result.returncode == 3 and "over the limit" in result.stderr, result.stderr


def test_wrong_comparisons_are_told_before_anything_is_sent(
    mantisreed: Command, settings: Path, recording: Path
) -> None:
    for arguments, told in (
        (("--engines", "brook"), "two engines or more"),
        (("--engines", "brook,nobody"), "nobody"),
        (
            ("--engines", "brook,heron", "--reference", "round.txt", "--reference", "round.txt"),
            "2 references",
        ),
        (("--engines", "brook,heron", "--reference", "missing.txt"), "cannot be read"),
        (("--engines", "brook,heron", "--plot", "engines.pdf"), "PNG"),
        (("--engines", "brook,wren", "--spend-limit", "1"), "names no price"),
    ):
        result = mantisreed("compare", "round.flac", *arguments)
        assert result.returncode == 2 and told in result.stderr, result.stderr
    assert json.loads(mantisreed("jobs", "--json").stdout)["jobs"] == []
