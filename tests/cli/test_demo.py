"""The demo as a person runs it, held against the truth of its recordings."""

import json
import shlex
from pathlib import Path

import pytest

from conftest import Command, Standin
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition
from mantisreed.standin.demo import BRIEFING, FIELD_NOTE, demo_compositions
from mantisreed.transcript.alignment import comparable, word_errors
from mantisreed.transcript.document import NO_SPEECH, from_json
from mantisreed.units import parse_duration


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """The folder that `mantisreed demo` made, and what it printed."""
    import subprocess
    import sys

    folder = tmp_path_factory.mktemp("demo")
    result = subprocess.run(
        [sys.executable, "-m", "mantisreed", "demo"],
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert result.returncode == 0, result.stderr
    return folder / "mantisreed-demo", result.stdout


@pytest.fixture(scope="module")
def truths(bank: tuple[Phrase, ...]) -> dict[str, Composition]:
    return demo_compositions(bank)


def test_every_recording_comes_out_in_every_format(
    demo: tuple[Path, str], truths: dict[str, Composition]
) -> None:
    folder, printed = demo
    for name in truths:
        stem = Path(name).stem
        for suffix in (".txt", ".srt", ".vtt", ".transcript.json"):
            assert (folder / "transcripts" / f"{stem}{suffix}").stat().st_size > 0
        transcript = from_json((folder / "transcripts" / f"{stem}.transcript.json").read_bytes())
        assert transcript.recording.duration == pytest.approx(truths[name].duration, abs=0.1)
        assert (
            transcript.language == ("de" if name.endswith("m4a") else "en")
            and NO_SPEECH not in transcript.notes
        )
        assert name in printed and str(len(transcript.words)) in printed
    assert {Path(name).suffix for name in truths} == {".wav", ".flac", ".mp3", ".opus", ".m4a"}


@pytest.mark.parametrize("name", [FIELD_NOTE, BRIEFING])
def test_clean_english_recordings_come_back_with_every_word_at_its_time(
    demo: tuple[Path, str], truths: dict[str, Composition], name: str
) -> None:
    stem, truth = Path(name).stem, truths[name]
    folder = demo[0] / "transcripts"
    true_text = " ".join(spoken.phrase.text for spoken in truth.truth)
    assert (
        word_errors(comparable(true_text), comparable((folder / f"{stem}.txt").read_text())).rate
        == 0
    )

    starts, ends = {word.start for word in truth.words}, {word.end for word in truth.words}
    for block in (folder / f"{stem}.srt").read_text().split("\n\n")[:-1]:
        start, end = (parse_duration(time) for time in block.split("\n")[1].split(" --> "))
        assert min(abs(start - true) for true in starts) < 0.15
        # Longer only for its reader.
        assert min(end - true for true in ends if true <= end + 0.15) < 2.0
    transcript = from_json((folder / f"{stem}.transcript.json").read_bytes())
    for word, true in zip(transcript.words, truth.words, strict=True):
        assert (
            word.text == true.text
            and abs(word.start - true.start) < 0.02
            and abs(word.end - true.end) < 0.02
        )


def test_noise_and_two_voices_are_understood_as_well(
    demo: tuple[Path, str], truths: dict[str, Composition]
) -> None:
    for name, truth in truths.items():
        heard = (demo[0] / "transcripts" / f"{Path(name).stem}.txt").read_text()
        said = sorted(spoken.phrase.text for spoken in truth.truth)
        assert sorted(heard.splitlines()) == said, name


def test_the_commands_it_prints_repeat_it(
    demo: tuple[Path, str], standin_process: Standin, mantisreed: Command
) -> None:
    folder, printed = demo
    lines = [line.strip() for line in printed.splitlines() if line.startswith("  mantisreed ")]
    run, standin, serve = (shlex.split(line)[1:] for line in lines)
    assert serve[0] == "serve" and serve[-1] == "brook"
    at = {"mantisreed-demo": str(folder)}
    run, standin = (
        [word.replace("mantisreed-demo", at["mantisreed-demo"]) for word in line]
        for line in (run, standin)
    )
    with standin_process(*standin):
        result = mantisreed(*run, "--json")
    assert result.returncode == 0, result.stderr
    assert [recording["state"] for recording in json.loads(result.stdout)["recordings"]] == [
        "done"
    ] * 5


def test_a_folder_of_somebody_else_is_left_alone(mantisreed: Command, tmp_path: Path) -> None:
    (tmp_path / "mantisreed-demo").mkdir()
    (tmp_path / "mantisreed-demo" / "thesis.txt").write_text("years of work")
    result = mantisreed("demo")
    assert result.returncode == 2 and "not a folder of the demo's making" in result.stderr
    assert [path.name for path in (tmp_path / "mantisreed-demo").iterdir()] == ["thesis.txt"]
