"""`convert`, `check` and `sync` on files of subtitles, as a user runs them."""

import json
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

from composed.film import compose_film, write_film
from conftest import Command, Note
from mantisreed.formats.srt import read_srt, write_srt
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS
from mantisreed.transcript.document import Word
from mantisreed.transcript.timing import passages_of

TALK = """1
00:00:01,000 --> 00:00:03,000
{\\an8}<font color="#00ff00">Any birds</font> in the nets?

2
00:00:03,080 --> 00:00:05,000
- None.
- Tea, then.

"""


def test_several_files_go_into_a_folder_each_under_its_own_name(
    mantisreed: Command, tmp_path: Path
) -> None:
    for name in ("a.srt", "b.srt"):
        (tmp_path / name).write_text(TALK)
    assert (
        mantisreed("convert", "a.srt", "b.srt", "--to", "vtt,html", "--into", "web").returncode == 0
    )
    assert sorted(path.name for path in (tmp_path / "web").iterdir()) == [
        "a.html",
        "a.vtt",
        "b.html",
        "b.vtt",
    ]
    for wrong, told in (
        (("a.srt", "b.srt", "c.srt"), "--join joins"),
        (("a.srt", "--into", "web"), "there is no format"),
        (
            ("a.srt", "b.srt", "c.srt", "--join", "--into", "web", "--to", "srt"),
            "not a folder",
        ),
        (("a.srt", "c.srt", "--offsets", "0"), "add --join"),
        (("a.srt", "c.srt", "--from", "5s", "--until", "5s"), "nothing would be left"),
        (("a.srt", "c.srt", "--encoding", "mud"), "no encoding is called"),
    ):
        result = mantisreed("convert", *wrong)
        assert result.returncode == 2 and told in result.stderr, result.stderr
    (tmp_path / "more").mkdir()
    (tmp_path / "more" / "a.srt").write_text(TALK)
    same = mantisreed("convert", "a.srt", "more/a.srt", "--to", "vtt", "--into", "x")
    assert same.returncode == 2 and "would both be written as a.vtt" in same.stderr
    again = mantisreed("convert", "a.srt", "--to", "srt", "--into", ".")
    assert again.returncode == 2 and (tmp_path / "a.srt").read_text() == TALK


def piped(content: bytes, *arguments: str) -> subprocess.CompletedProcess[bytes]:
    command = [sys.executable, "-m", "mantisreed", "convert", "-", "-", "--to", "srt", *arguments]
    return subprocess.run(command, input=content, capture_output=True, timeout=60)


def test_standard_input_and_output_are_files_like_others() -> None:
    for content, more in (
        (TALK.encode(), ()),
        (TALK.encode("utf-16"), ()),
        (TALK.encode(), ("--read-as", "srt")),
    ):
        result = piped(content, *more)
        assert result.returncode == 0 and result.stdout == TALK.encode()
    assert b"--read-as" in piped(b"mud").stderr


def test_what_a_format_cannot_say_is_told_and_a_file_without_cues_is_no_silent_success(
    mantisreed: Command, tmp_path: Path
) -> None:
    (tmp_path / "talk.srt").write_text(TALK)
    told = mantisreed("convert", "talk.srt", "talk.md").stderr
    assert "dropped: font colour (cue 1), position (cue 1)" in told
    (tmp_path / "mud.srt").write_text("nothing but mud\n")
    assert mantisreed("convert", "mud.srt", "mud.vtt").returncode == 2
    (tmp_path / "empty.vtt").write_text("WEBVTT\n")
    assert "there are no cues in it" in mantisreed("convert", "empty.vtt", "empty.srt").stderr
    (tmp_path / "other.srt").write_text("WEBVTT\n\n00:01.000 --> 00:02.000\nTea &amp; toast\n")
    other = mantisreed("convert", "other.srt", "-", "--to", "txt")
    assert other.stdout == "Tea & toast\n" and "this is vtt" in other.stderr


def test_a_recording_is_not_ignored_where_a_file_has_times(
    mantisreed: Command, note: Note, tmp_path: Path
) -> None:
    (tmp_path / "talk.srt").write_text(TALK)
    result = mantisreed("convert", "talk.srt", "talk.vtt", "--recording", note.path)
    assert result.returncode == 2 and "mantisreed sync" in result.stderr


def test_fix_changes_only_what_is_wrong(mantisreed: Command, tmp_path: Path) -> None:
    bad = (
        "3\n00:00:06,000 --> 00:00:06,200\nWe have never seen so many dunlin in one place "
        "before today, never.\n\n"
    )
    (tmp_path / "talk.srt").write_text(TALK + bad)
    assert mantisreed("check", "talk.srt", "--language", "en", "--fix").returncode == 0
    assert (tmp_path / "talk.srt").read_text().startswith(TALK)
    assert (tmp_path / "talk.srt.before").read_text() == TALK + bad
    third = read_srt((tmp_path / "talk.srt").read_text()).cues[2]
    assert third.start == 6.0 and len(third.lines) == 2


def test_drifted_subtitles_are_laid_on_their_recording_again(
    mantisreed: Command, note: Note, tmp_path: Path
) -> None:
    rules = LAYOUTS["broadcast"]
    words = [Word(word.text, word.start, word.end) for word in note.composition.words]
    cues = lay_out(list(passages_of(words, 0.4)), rules, language="en")
    late = [
        replace(cue, start=cue.start * 25 / 24 + 3.3, end=cue.end * 25 / 24 + 3.3) for cue in cues
    ]
    (tmp_path / "late.srt").write_text(write_srt(late))
    (tmp_path / "right.srt").write_text(write_srt(cues))
    first, last = str(cues[0].start), str(cues[-1].start)
    ways: list[tuple[str, ...]] = [("--first", f"{first}s", "--last", f"{last}s")]
    if len(cues) >= 10:
        ways += [("--recording", str(note.path)), ("--like", "right.srt")]
    for way in ways:
        result = mantisreed("sync", "late.srt", "again.srt", *way, "--overwrite", "--json")
        assert result.returncode == 0, result.stderr
        again = read_srt((tmp_path / "again.srt").read_text()).cues
        errors = sorted(abs(a.start - b.start) for a, b in zip(again, cues, strict=True))
        assert errors[len(errors) // 2] < 0.1
        assert json.loads(result.stdout)["cues"] == len(cues)
    for wrong in ((), ("--first", "1s"), ("--like", "right.srt", "--recording", str(note.path))):
        assert mantisreed("sync", "late.srt", "x.srt", *wrong).returncode == 2
    assert mantisreed("sync", "late.srt", "late.srt", *ways[0], "--overwrite").returncode == 2


def test_cues_are_laid_on_the_shots_of_a_video(mantisreed: Command, tmp_path: Path) -> None:
    film = compose_film(seed=11, seconds=8.0)
    write_film(film, tmp_path / "film.mp4")
    cut = film.cuts[0]
    near = f"00:00:{cut + 0.2:06.3f}".replace(".", ",")
    (tmp_path / "talk.srt").write_text(f"1\n{near} --> 00:00:30,000\nTea?\n\n")
    assert mantisreed("convert", "talk.srt", "on.srt", "--video", "film.mp4").returncode == 0
    assert abs(read_srt((tmp_path / "on.srt").read_text()).cues[0].start - cut) < 0.05
    assert mantisreed("convert", "talk.srt", "off.srt", "--video", "talk.srt").returncode == 1
