"""`export`, `convert` and `check`, as a user runs them."""

import csv
import json
import re
from pathlib import Path

import pytest

from cli.ferry import Ferry, outputs
from conftest import Command, Moody, Note
from mantisreed.formats.srt import read_srt
from mantisreed.standin.faults import FaultProfile
from mantisreed.transcript.document import (
    Passage,
    RecordingFacts,
    Transcript,
    Word,
    from_json,
    to_json,
)

SAID = (
    "Damn, the kettle wal stolen. Two dunlins and a kettles man were ringed at the old sluice "
    "in the fog."
)


@pytest.fixture
def transcript(tmp_path: Path) -> Path:
    words = tuple(Word(text, n * 0.4, n * 0.4 + 0.35) for n, text in enumerate(SAID.split()))
    passage = Passage(0.0, words[-1].end, SAID, "Ada", "engine", words)
    facts = RecordingFacts("fog.wav", "sha256:1", 9.0)
    document = Transcript(
        recording=facts, engine="brook", job="abc", language="en", passages=(passage,)
    )
    file = tmp_path / "fog.transcript.json"
    file.write_bytes(to_json(document))
    return file


def test_any_output_is_made_again_from_what_is_kept_and_costs_nothing(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        assert mantisreed("run", "recordings/note 0.flac").returncode == 0
        asked = sum(ferry.asked.values())
        job = json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["id"]
        result = mantisreed("export", job[:5], "--to", "srt,ttml,md,timed,csv,tsv,ctm,vtt")
        assert result.returncode == 0, result.stderr
        assert sum(ferry.asked.values()) == asked
        before = outputs(tmp_path)
        assert {name.removeprefix("note 0") for name in before} == {
            *(
                ".txt",
                ".transcript.json",
                ".srt",
                ".ttml",
                ".md",
                ".timed.txt",
                ".csv",
                ".tsv",
                ".ctm",
                ".vtt",
            )
        }
        by_file = mantisreed(
            "export", "transcripts/note 0.transcript.json", "--to", "srt", "--into", "again"
        )
        assert (
            by_file.returncode == 0
            and (tmp_path / "again" / "note 0.srt").read_bytes() == before["note 0.srt"]
        )
        (tmp_path / "transcripts" / "note 0.srt").write_text("my own")
        assert mantisreed("export", job, "--to", "srt").returncode == 2
        assert mantisreed("export", job, "--to", "srt", "--overwrite").returncode == 0
        assert mantisreed("export", "zzz", "--to", "srt").returncode == 2


def test_words_are_changed_in_outputs_and_the_transcript_stays(
    mantisreed: Command, transcript: Path, tmp_path: Path
) -> None:
    (tmp_path / "glossary").write_text("wal -> was  # a slip\nold sluice -> Old Sluice\n")
    kept = transcript.read_bytes()
    command = (
        "export",
        transcript,
        "--to",
        "srt",
        "--stdout",
        "--strong-words",
        "mask",
        "--replace",
        "glossary",
    )
    text = " ".join(mantisreed(*command).stdout.split("\n"))
    assert "D***, the k***** was stolen." in text and "kettles man" in text and "Old Sluice" in text
    dropped = mantisreed(*command[:6], "drop").stdout
    assert "kettle " not in dropped and "kettles" in dropped
    (tmp_path / "list").write_text("dunlin*\n")
    own = mantisreed(*command[:7], "--strong-words-file", "list").stdout
    assert "d******" in own and "Damn" in own and transcript.read_bytes() == kept
    words = mantisreed(
        "export", transcript, "--to", "csv", "--rows", "words", "--stdout", "--replace", "glossary"
    )
    rows = [line.split(",") for line in words.stdout.splitlines()]
    assert [row[2] for row in rows].count("was") == 1 and len(rows) == len(SAID.split()) + 1
    assert (
        "wal -> was, 1 time"
        in mantisreed("export", transcript, "--to", "md", "--replace", "glossary").stderr
    )
    assert mantisreed("export", transcript, "--replace", "missing", "--to", "md").returncode == 2


def test_words_are_changed_wherever_outputs_are_written_and_the_report_says_how_often(
    mantisreed: Command, moody: Moody, recordings: Path, tmp_path: Path
) -> None:
    (tmp_path / "glossary").write_text("the -> THE\n")
    (tmp_path / "list").write_text("a*\n")
    with moody(FaultProfile(), more='strong_words = "mask"\nstrong_words_file = "list"'):
        options = ("--to", "txt,json", "--replace", "glossary")
        assert mantisreed("submit", "recordings/note 0.flac", *options).returncode == 0
        collected = mantisreed("collect", "--wait", "--report", "report.csv")
        assert collected.returncode == 0, collected.stderr
        found = outputs(tmp_path)
        words = found["note 0.txt"].decode().split()
        heard = from_json(found["note 0.transcript.json"])
        count = sum(word.text.lower().strip(".,") == "the" for word in heard.words)
        assert count and sum(word.strip(".,") == "THE" for word in words) == count
        assert not any(re.fullmatch(r"a\w+", word) for word in words) and any(
            word[1:2] == "*" for word in words
        )
        (row,) = csv.DictReader((tmp_path / "report.csv").read_text().splitlines())
        assert f"the -> THE, {count} time" in row["changes"] and "strong words" in row["changes"]
        assert f"note: note 0.flac: the -> THE, {count} time" in collected.stderr
        again = mantisreed(
            "run", "recordings/note 0.flac", "--strong-words", "keep", *options, "--json"
        )
        (one,) = json.loads(again.stdout)["recordings"]
        assert one["changes"] == {"the -> THE": count}
        missing = mantisreed("run", "recordings/note 0.flac", "--replace", "missing")
        assert missing.returncode == 2 and "glossary cannot be read" in missing.stderr


def test_layout_rules_come_from_options_and_from_sets_of_ones_own(
    mantisreed: Command, transcript: Path, tmp_path: Path
) -> None:
    (tmp_path / "mantisreed.toml").write_text(
        '[layout.tiny]\nline_length = 20\nlines = 3\n[settings]\nlayout = "tiny"\n'
    )
    tiny = read_srt(mantisreed("export", transcript, "--to", "srt", "--stdout").stdout).cues
    assert (
        max(len(line) for cue in tiny for line in cue.lines) <= 20
        and max(len(cue.lines) for cue in tiny) == 3
    )
    single = read_srt(
        mantisreed("export", transcript, "--to", "srt", "--stdout", "--layout", "single").stdout
    ).cues
    assert {len(cue.lines) for cue in single} == {1}
    mantisreed("convert", transcript, "tiny.srt")
    assert read_srt((tmp_path / "tiny.srt").read_text()).cues == tiny
    for wrong in (("--layout", "wide"), ("--line-length", "2"), ("--shortest", "soon")):
        assert mantisreed("export", transcript, "--to", "srt", "--stdout", *wrong).returncode == 2
    (tmp_path / "mantisreed.toml").write_text("[layout.tiny]\nline_lenght = 20\n")
    assert "line_lenght" in mantisreed("export", transcript, "--to", "srt").stderr


def test_files_are_converted_shifted_stretched_cut_and_joined(
    mantisreed: Command, transcript: Path
) -> None:
    folder = transcript.parent
    assert mantisreed("convert", transcript, "fog.vtt", "--shift", "2.5s").returncode == 0
    assert (folder / "fog.vtt").read_text().startswith("WEBVTT\n\n00:00:02.500 --> ")
    assert mantisreed("convert", transcript, "fog.vtt").returncode == 2
    for target in ("fog.ttml", "fog.srt", "fog.csv", "fog.md"):
        assert mantisreed("convert", "fog.vtt", target).returncode == 0
    joined = mantisreed(
        "convert", "fog.srt", "fog.ttml", "-", "--to", "srt", "--join", "--offsets", "0,1:00"
    )
    cues = read_srt(joined.stdout).cues
    assert cues[0].start == 2.5 and any(cue.start == 62.5 for cue in cues)
    behind = mantisreed("convert", transcript, "fog.srt", "-", "--to", "srt", "--join")
    assert "the files begin at 00:00:00.000, 00:00:09.000" in behind.stderr
    assert next(cue.start for cue in read_srt(behind.stdout).cues if cue.start >= 9) == 11.5
    slow = mantisreed(
        "convert",
        "fog.srt",
        "-",
        "--to",
        "srt",
        "--stretch",
        "25/12.5",
        "--from",
        "3s",
        "--shift=-1s",
    )
    assert read_srt(slow.stdout).cues[0].start == pytest.approx(5.0, abs=0.5)
    for wrong in (("--stretch", "0"), ("--offsets", "1,2"), ("--shift", "soon")):
        assert mantisreed("convert", "fog.srt", "-", "--to", "vtt", *wrong).returncode == 2
    assert "not known by its ending" in mantisreed("convert", "fog.srt", "fog.doc").stderr


def test_a_plain_text_is_timed_by_its_recordings_speech(
    mantisreed: Command, note: Note, tmp_path: Path
) -> None:
    said = " ".join(word.text for word in note.composition.words)
    (tmp_path / "note.txt").write_text(said)
    assert "has no times" in mantisreed("convert", "note.txt", "note.srt").stderr
    assert mantisreed("convert", "note.txt", "note.srt", "--recording", note.path).returncode == 0
    cues = read_srt((tmp_path / "note.srt").read_text()).cues
    assert " ".join(cue.text for cue in cues) == said
    assert abs(cues[0].start - note.composition.words[0].start) < 0.5


BAD = """1
00:00:01,000 --> 00:00:01,300
Far too much text for so short a moment, and a line that is far too long for any screen as well

2
00:00:01,310 --> 00:00:20,000
Tea?
"""


def test_what_breaks_a_rule_is_listed_and_mended(mantisreed: Command, tmp_path: Path) -> None:
    (tmp_path / "bad.srt").write_text(BAD)
    found = mantisreed("check", "bad.srt")
    assert found.returncode == 1
    for rule in (
        "line-length",
        "max-cps",
        "shortest",
        "longest",
        "gap",
        "2 of 2 cues break a rule",
    ):
        assert rule in found.stdout
    as_json = json.loads(mantisreed("check", "bad.srt", "--json", "--plot", "bad.png").stdout)
    (file,) = as_json["files"]
    assert file["cues"] == 2 and file["notes"] == []
    by_rule = {finding["rule"]: finding for finding in file["findings"]}
    assert set(by_rule["shortest"]) == {
        *("cue", "start_seconds", "rule", "found_seconds", "allowed_seconds", "text", "line")
    }
    assert (by_rule["shortest"]["found_seconds"], by_rule["line-length"]["allowed_columns"]) == (
        0.3,
        42,
    )
    assert by_rule["max-cps"]["found_characters_per_second"] > 300
    assert (tmp_path / "bad.png").read_bytes().startswith(b"\x89PNG")
    mantisreed("check", "bad.srt", "--fix")
    assert (tmp_path / "bad.srt.before").read_text() == BAD
    cues = read_srt((tmp_path / "bad.srt").read_text()).cues
    assert all(len(line) <= 42 for cue in cues for line in cue.lines) and cues[-1].lines == (
        "Tea?",
    )
    (tmp_path / "good.vtt").write_text("WEBVTT\n\n00:01.000 --> 00:03.000\nTea?\n")
    assert mantisreed("check", "good.vtt").returncode == 0
    (tmp_path / "odd.vtt").write_text("00:01.000 --> 00:03.000 align:up\nTea?\n")
    odd = mantisreed("check", "odd.vtt")
    assert odd.returncode == 1 and "align:up" in odd.stdout and "2 format" in odd.stdout
    assert mantisreed("check", "odd.vtt", "--fix").returncode == 0
    assert (tmp_path / "odd.vtt").read_text() == "WEBVTT\n\n00:00:01.000 --> 00:00:03.000\nTea?\n"
    (tmp_path / "words.csv").write_text("start,end,word\n0,1,Tern\n")
    assert "there are no cues in it" in mantisreed("check", "words.csv").stderr


def test_no_input_is_ever_written_over(
    mantisreed: Command, transcript: Path, tmp_path: Path
) -> None:
    for name in ("a.srt", "b.srt"):
        assert mantisreed("convert", transcript, name).returncode == 0
    before = outputs(tmp_path, ".")
    for arguments, told in (
        (
            ("a.srt", "b.srt", "--to", "vtt", "--overwrite"),
            "exists already and is srt, but vtt would be written",
        ),
        (("a.srt", "a.srt", "--overwrite"), "is read, and would be written over"),
        (
            ("a.srt", "./b.srt", "b.srt", "--join", "--overwrite"),
            "is read, and would be written over",
        ),
        (("a.srt", "b.srt"), "exists already"),
    ):
        result = mantisreed("convert", *arguments)
        assert result.returncode == 2 and told in result.stderr, result.stderr
    assert outputs(tmp_path, ".") == before
    assert mantisreed("convert", "a.srt", "b.srt", "--shift", "1s", "--overwrite").returncode == 0


def test_every_earlier_version_of_a_fixed_file_is_kept(mantisreed: Command, tmp_path: Path) -> None:
    file = tmp_path / "talk.srt"
    long_line = (
        "Somebody says a great deal on one single line, which nobody can read in the time "
        "that is left for it."
    )
    versions = []
    for number in range(3):
        file.write_text(f"1\n00:00:0{number},000 --> 00:00:0{number + 1},000\n{long_line}\n")
        versions.append(file.read_bytes())
        told = mantisreed("check", "talk.srt", "--fix").stderr
    kept = ["talk.srt.before", "talk.srt.before-2", "talk.srt.before-3"]
    assert [(tmp_path / name).read_bytes() for name in kept] == versions and kept[2] in told
