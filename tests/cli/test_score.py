"""`score` and `amend`, as a user runs them."""

import json
import subprocess
import sys
from pathlib import Path

from conftest import Command
from mantisreed.transcript.document import (
    Passage,
    RecordingFacts,
    Transcript,
    Word,
    from_json,
    to_json,
)

SRT = "1\n00:00:01,000 --> 00:00:03,000\nWe saw too old terns today.\n\n"


def test_a_transcript_is_scored_against_a_text(mantisreed: Command, tmp_path: Path) -> None:
    (tmp_path / "truth.txt").write_text("We saw 2 old terns today.\n")
    (tmp_path / "talk.srt").write_text(SRT)
    (tmp_path / "other.vtt").write_text(
        "WEBVTT\n\n00:01.000 --> 00:02.000\nMud and more mud, nothing else.\n"
    )
    shown = mantisreed(
        "score", "truth.txt", "talk.srt", "other.vtt", "--alignment", "--plot", "errors.png"
    )
    assert shown.returncode == 0 and "16.67%" in shown.stdout and "[2 -> too]" in shown.stdout
    assert "is it the same recording?" in shown.stderr
    assert (tmp_path / "errors.png").read_bytes().startswith(b"\x89PNG")
    result = mantisreed("score", "truth.txt", "talk.srt", "--json", "--html", "talk.html")
    (score,) = json.loads(result.stdout)["scores"]
    assert (score["substitutions"], score["deletions"], score["insertions"]) == (1, 0, 0)
    assert score["wer"] == round(1 / 6, 5) and 0 < score["cer"] < 0.2
    assert "<ins>too</ins>" in (tmp_path / "talk.html").read_text()
    exact = mantisreed("score", "truth.txt", "talk.srt", "--json", "--count", "numbers")
    assert json.loads(exact.stdout)["scores"][0]["confusions"] == [
        {"said": "2", "heard": "too", "count": 1}
    ]


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


WORDS = ["We", "saw", "too", "old", "terns", "today."]


def a_transcript() -> bytes:
    words = tuple(Word(word, 1.0 + 0.4 * at, 1.3 + 0.4 * at, 0.9) for at, word in enumerate(WORDS))
    passage = Passage(1.0, words[-1].end, " ".join(WORDS), None, "engine", words)
    facts = RecordingFacts("talk.wav", "sha256:1", 5.0)
    return to_json(
        Transcript(recording=facts, engine="brook", job="1", language="en", passages=(passage,))
    )


def test_a_corrected_text_is_laid_over_its_transcript(mantisreed: Command, tmp_path: Path) -> None:
    (tmp_path / "talk.transcript.json").write_bytes(a_transcript())
    (tmp_path / "talk.txt").write_text("We saw two very old terns today.\n")
    result = mantisreed(
        "amend", "talk.transcript.json", "talk.txt", "--into", "new", "--to", "json,srt"
    )
    assert result.returncode == 0 and "5 words kept with their times" in result.stdout, (
        result.stderr
    )
    anew = from_json((tmp_path / "new" / "talk.transcript.json").read_bytes())
    times = {word.text: word.start for word in anew.words}
    assert (times["We"], times["today."], times["old"]) == (1.0, 3.0, 2.2) and times["two"] < times[
        "very"
    ] < 2.2
    assert "two very old" in (tmp_path / "new" / "talk.srt").read_text()
    assert mantisreed("amend", "talk.transcript.json", "talk.txt", "--into", "new").returncode == 2
    srt = "1\n00:00:01,000 --> 00:00:03,000\nWe saw two\nold terns today.\n"
    (tmp_path / "talk.srt").write_text(srt)
    as_json = mantisreed("amend", "talk.transcript.json", "talk.srt", "--into", "other", "--json")
    described = json.loads(as_json.stdout)
    assert (
        described["corrections"] == [{"was": "too", "is": "two", "count": 1}]
        and described["kept"] == 5
    )
    (tmp_path / "mud.txt").write_text("Nothing of this was ever there.\n")
    for corrected in ("mud.txt", "missing.txt"):
        assert mantisreed("amend", "talk.transcript.json", corrected, "--into", "x").returncode == 2


def test_corrections_are_kept_in_a_glossary_when_asked(tmp_path: Path) -> None:
    (tmp_path / "talk.transcript.json").write_bytes(a_transcript())
    (tmp_path / "talk.txt").write_text("We saw two old terns today.\n")
    command = [
        sys.executable,
        "-m",
        "mantisreed",
        "amend",
        "talk.transcript.json",
        "talk.txt",
        "--into",
        "new",
    ]
    for number, answer in enumerate(("n\n", "y\n", "y\n")):
        subprocess.run(
            [*command, "--overwrite", "--learn-glossary", "glossary.txt"],
            input=answer,
            text=True,
            cwd=tmp_path,
            check=True,
            capture_output=True,
            timeout=60,
        )
        learnt = (tmp_path / "glossary.txt").read_text() if number else ""
        assert learnt == ("too -> two\n" if number else "")


def test_one_transcript_is_made_out_of_several(mantisreed: Command, tmp_path: Path) -> None:
    for name, wrong in (("a", "too"), ("b", "two"), ("c", "two")):
        (tmp_path / f"{name}.srt").write_text(SRT.replace("too", wrong))
    result = mantisreed("vote", "a.srt", "b.srt", "c.srt", "--into", "voted", "--name", "talk")
    assert result.returncode == 0 and "1 place was not unanimous" in result.stdout, result.stderr
    assert "We saw two old terns today." in (tmp_path / "voted" / "talk.srt").read_text()
    as_json = mantisreed("vote", "a.srt", "b.srt", "--into", "other", "--json")
    assert len(json.loads(as_json.stdout)["transcripts"]) == 2
    assert mantisreed("vote", "a.srt", "--into", "other").returncode == 2


def test_doubts_are_listed(mantisreed: Command, tmp_path: Path) -> None:
    loop = "thank you for watching " * 4
    (tmp_path / "talk.srt").write_text(
        f"1\n00:00:01,000 --> 00:00:09,000\nWe went home. {loop}\n\n"
    )
    shown = mantisreed("doubts", "talk.srt")
    assert shown.returncode == 0 and "1 doubt: 1 loop" in shown.stdout, shown.stdout
    (doubt,) = json.loads(mantisreed("doubts", "talk.srt", "--json").stdout)["doubts"]
    assert {"kind", "start", "end", "why", "grade"} <= set(doubt)
    (tmp_path / "good.srt").write_text(SRT)
    assert "no doubts" in mantisreed("doubts", "good.srt").stdout
