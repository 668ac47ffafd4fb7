"""`score`, as a user runs it."""

import json
from pathlib import Path

from conftest import Command

SRT = "1\n00:00:01,000 --> 00:00:03,000\nWe saw too old terns today.\n\n"


def test_a_transcript_is_scored_against_a_text(mantisreed: Command, tmp_path: Path) -> None:
    (tmp_path / "truth.txt").write_text("We saw 2 old terns today.\n")
    (tmp_path / "talk.srt").write_text(SRT)
    (tmp_path / "other.vtt").write_text("WEBVTT\n\n00:01.000 --> 00:02.000\nMud and more mud, nothing else.\n")
    shown = mantisreed("score", "truth.txt", "talk.srt", "other.vtt", "--alignment", "--plot", "errors.png")
    assert shown.returncode == 0 and "16.67%" in shown.stdout and "[2 -> too]" in shown.stdout
    assert "is it the same recording?" in shown.stderr
    assert (tmp_path / "errors.png").read_bytes().startswith(b"\x89PNG")
    result = mantisreed("score", "truth.txt", "talk.srt", "--json", "--html", "talk.html")
    (score,) = json.loads(result.stdout)["scores"]
    assert (score["substitutions"], score["deletions"], score["insertions"]) == (1, 0, 0)
    assert score["wer"] == round(1 / 6, 5) and 0 < score["cer"] < 0.2
    assert "<ins>too</ins>" in (tmp_path / "talk.html").read_text()
    exact = mantisreed("score", "truth.txt", "talk.srt", "--json", "--count", "numbers")
    assert json.loads(exact.stdout)["scores"][0]["confusions"] == [{"said": "2", "heard": "too", "count": 1}]


def test_what_cannot_be_scored_is_said_in_one_line(mantisreed: Command, tmp_path: Path) -> None:
    (tmp_path / "empty.txt").write_text("\n")
    (tmp_path / "talk.srt").write_text(SRT)
    for wrong, told in (
        (("empty.txt", "talk.srt"), "no words in the reference"),
        (("missing.txt", "talk.srt"), "cannot be read"),
        (("talk.srt", "talk.srt", "--count", "mud"), "nothing is called 'mud'"),
        (("talk.srt", "talk.srt", "talk.srt", "--html", "x.html"), "a page shows one transcript"),
    ):
        result = mantisreed("score", *wrong)
        assert result.returncode == 2 and told in result.stderr, result.stderr
