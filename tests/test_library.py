"""What Python callers meet: the README's examples, types, notebooks, loops."""

import asyncio
import re
import signal
import subprocess
import sys
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from examples import examples

import mantisreed
from conftest import Note
from mantisreed.errors import InputError

ROOT = Path(__file__).parent.parent
BAD = (
    "1\n00:00:01,000 --> 00:00:09,000\nForty dunlin were ringed before the tide came back over "
    "the mud.\n"
)


def test_the_example_for_subtitles_works(tmp_path: Path) -> None:
    example = next(text for _, text in examples() if "read_script" in text)
    (tmp_path / "talk.srt").write_text(BAD)
    result = subprocess.run(
        [sys.executable, "-c", example], cwd=tmp_path, capture_output=True, text=True
    )
    assert result.returncode == 0, result.stderr
    assert result.stdout.splitlines() == [
        "1 1.0 line-length 64 columns 37 columns",
        "1 1.0 longest 8.00 s 7 s or less",
    ]
    script = mantisreed.read_script(tmp_path / "talk.vtt")
    assert mantisreed.check_cues(script.cues or (), mantisreed.LayoutRules(line_length=37)) == []


def test_a_strict_type_checker_accepts_the_examples(tmp_path: Path) -> None:
    # `tools/check.sh` has them checked by another one, together with everything else.
    for name, text in examples():
        (tmp_path / f"{name}.py").write_text(text)
    (tmp_path / "pyrightconfig.json").write_text('{"typeCheckingMode": "strict"}')
    program = Path(sys.executable).with_name("basedpyright")
    names = sorted(path.name for path in tmp_path.glob("*.py"))
    command = [str(program), "--level", "error", "--pythonpath", sys.executable, *names]
    result = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True)
    assert result.returncode == 0, result.stdout + result.stderr


def test_the_face_is_what_dir_shows() -> None:
    assert dir(mantisreed) == sorted(mantisreed.__all__)
    assert (Path(mantisreed.__file__).parent / "py.typed").is_file()


def options(folder: Path) -> mantisreed.RunOptions:
    return mantisreed.RunOptions(engine="brook", to="json", into=folder / "out")


def test_one_source_and_one_format_need_no_list(settings: Path, note: Note, tmp_path: Path) -> None:
    workspace = mantisreed.open_workspace(settings)
    for source in (note.path, str(note.path), [note.path]):
        (outcome,) = mantisreed.transcribe(source, workspace, options(tmp_path))
        assert outcome.state == "done", outcome.error
        assert [file.name for file in outcome.files] == ["note.transcript.json"]


def test_it_works_where_a_loop_runs_already(settings: Path, note: Note, tmp_path: Path) -> None:
    workspace = mantisreed.open_workspace(settings)

    async def cell() -> list[mantisreed.Outcome]:
        return mantisreed.transcribe(note.path, workspace, options(tmp_path))

    (outcome,) = asyncio.run(cell())
    assert outcome.state == "done"


def test_the_async_form_leaves_the_loop_free_and_can_be_cancelled(
    settings: Path, note: Note, tmp_path: Path
) -> None:
    workspace = mantisreed.open_workspace(settings)
    stages: list[str] = []

    async def both() -> None:
        work = asyncio.create_task(
            mantisreed.transcribe_async(
                note.path,
                workspace,
                options(tmp_path),
                on_event=lambda event: stages.append(event.stage),
            )
        )
        turns = 0
        while not work.done():
            turns += 1
            await asyncio.sleep(0.005)
        (outcome,) = work.result()
        assert outcome.state == "done" and turns > 2

        work = asyncio.create_task(
            mantisreed.transcribe_async(note.path, workspace, options(tmp_path))
        )
        await asyncio.sleep(0.01)
        work.cancel()
        with pytest.raises(asyncio.CancelledError):
            await work

    asyncio.run(both())
    assert "sending" in stages and stages[-1] == "done"


def test_signals_are_handled_as_before(settings: Path, note: Note, tmp_path: Path) -> None:
    def own(number: int, frame: object) -> None:
        pass

    before = signal.signal(signal.SIGTERM, own), signal.getsignal(signal.SIGINT)
    try:
        mantisreed.transcribe(note.path, mantisreed.open_workspace(settings), options(tmp_path))
        assert signal.getsignal(signal.SIGTERM) is own
        assert signal.getsignal(signal.SIGINT) is before[1]
    finally:
        signal.signal(signal.SIGTERM, before[0])


def test_wrong_types_are_told_by_name(settings: Path, note: Note) -> None:
    workspace = mantisreed.open_workspace(settings)
    options: Any = mantisreed.RunOptions
    transcribe: Any = mantisreed.transcribe
    work: Any
    for work, told in (
        (lambda: options(to=5), "to makes no sense"),
        (lambda: options(wait="yes"), "wait makes no sense"),
        (lambda: options(pieces=10), "pieces makes no sense"),
        (lambda: transcribe(7, workspace), "sources: expected a path, a link or a list"),
        (lambda: transcribe([note.path, 7], workspace), "not int"),
        (lambda: transcribe(note.path, "folder"), "workspace: it cannot be of the type str"),
        (lambda: transcribe(note.path, workspace, {"to": "srt"}), "options: "),
    ):
        with pytest.raises(InputError, match=re.escape(told)):
            work()
    assert options(spend_limit=2.5).spend_limit == Decimal("2.5")


def test_words_are_a_table(settings: Path, note: Note, tmp_path: Path) -> None:
    (outcome,) = mantisreed.transcribe(
        note.path, mantisreed.open_workspace(settings), options(tmp_path)
    )
    assert outcome.transcript is not None
    table = outcome.transcript.to_pandas()
    assert list(table.columns) == ["start", "end", "text", "confidence", "speaker", "passage"]
    assert len(table) == len(outcome.transcript.words) and table.start.is_monotonic_increasing
