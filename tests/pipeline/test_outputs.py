"""One stem per recording, nobody's edits lost."""

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import nullcontext
from pathlib import Path

import pytest
from msgspec.structs import replace

from mantisreed.errors import InputError, OutputError
from mantisreed.exports.formats import chosen_formats
from mantisreed.files import write_new, write_whole
from mantisreed.pipeline.outputs import Outputs
from mantisreed.sources.finding import find_recordings
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Passage, RecordingFacts, Transcript

TRANSCRIPT = Transcript(
    recording=RecordingFacts("note.wav", "sha256:" + "0" * 64, 5.0),
    engine="brook",
    job="j",
    passages=(Passage(0.0, 1.0, "Nets closed."),),
)


def outputs(folder: Path, *, overwrite: bool = False) -> Outputs:
    return Outputs(
        folder / "out", folder / ".hidden", chosen_formats(["txt", "srt"]), overwrite=overwrite
    )


def test_two_recordings_with_one_stem_do_not_meet_now_or_later(tmp_path: Path) -> None:
    first = outputs(tmp_path)
    wav, mp3 = Source(tmp_path / "note.wav"), Source(tmp_path / "Note.mp3")
    assert [first.stem_for(path) for path in (wav, mp3, wav)] == ["note", "Note-2", "note"]
    first.write("note", wav, TRANSCRIPT)
    later = outputs(tmp_path)
    assert later.stem_for(Source(tmp_path / "note.flac")) == "note-3"  # the second is Note.mp3's
    assert later.stem_for(wav) == "note"


def test_our_own_files_are_written_again_and_edited_ones_kept(tmp_path: Path) -> None:
    wav = Source(tmp_path / "note.wav")
    outputs(tmp_path).write("note", wav, TRANSCRIPT)
    outputs(tmp_path).write("note", wav, TRANSCRIPT)
    text = tmp_path / "out" / "note.txt"
    text.write_text("mine")
    with pytest.raises(OutputError, match="edited"):
        outputs(tmp_path).write("note", wav, TRANSCRIPT)
    assert text.read_text() == "mine"
    outputs(tmp_path, overwrite=True).write("note", wav, TRANSCRIPT)
    assert text.read_text() == "Nets closed.\n"


@pytest.mark.parametrize("is_first", [True, False])
@pytest.mark.parametrize("writes", range(6))
def test_ended_between_any_two_writes_it_knows_its_own_files_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, writes: int, is_first: bool
) -> None:
    wav = Source(tmp_path / "note.wav")
    if not is_first:
        outputs(tmp_path).write(
            "note", wav, replace(TRANSCRIPT, passages=(Passage(0.0, 1.0, "Nets open."),))
        )
    left = [writes]

    def or_end(write: Callable[[Path, bytes], None]) -> Callable[[Path, bytes], None]:
        def write_or_end(path: Path, content: bytes) -> None:
            if not left[0]:
                raise SystemExit
            left[0] -= 1
            write(path, content)

        return write_or_end

    monkeypatch.setattr("mantisreed.pipeline.outputs.write_whole", or_end(write_whole))
    monkeypatch.setattr("mantisreed.pipeline.outputs.write_new", or_end(write_new))
    with pytest.raises(SystemExit) if writes < 4 else nullcontext():
        outputs(tmp_path).write("note", wav, TRANSCRIPT)
    monkeypatch.undo()
    outputs(tmp_path).write("note", wav, TRANSCRIPT)
    assert (tmp_path / "out" / "note.txt").read_text() == "Nets closed.\n"


def test_processes_that_write_one_name_at_one_moment_never_replace_each_others_file(
    tmp_path: Path,
) -> None:
    """Each has its own view of the folder, as two processes have; they meet at every step."""
    starting = threading.Barrier(8)

    def claim_and_write(number: int) -> str:
        own, recording = outputs(tmp_path), Source(tmp_path / str(number) / "talk.wav")
        starting.wait()
        stem = own.stem_for(recording)
        starting.wait()
        said = replace(TRANSCRIPT, passages=(Passage(0.0, 1.0, f"Said by {number}."),))
        own.write(stem, recording, said)
        return stem

    with ThreadPoolExecutor(8) as pool:
        stems = list(pool.map(claim_and_write, range(8)))
    assert len(set(stems)) == 8
    for number, stem in enumerate(stems):
        assert (tmp_path / "out" / f"{stem}.txt").read_text() == f"Said by {number}.\n"


def test_a_file_that_comes_into_being_while_we_write_is_kept(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    own = outputs(tmp_path)

    def meanwhile(path: Path, content: bytes) -> None:
        path.write_text("by hand")
        write_new(path, content)

    monkeypatch.setattr("mantisreed.pipeline.outputs.write_new", meanwhile)
    with pytest.raises(OutputError, match="made by something else"):
        own.write("note", Source(tmp_path / "note.wav"), TRANSCRIPT)
    assert (tmp_path / "out" / "note.txt").read_text() == "by hand"


def test_a_file_that_something_else_made_is_kept(tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "note.srt").write_text("by hand")
    with pytest.raises(OutputError, match=r"note\.srt"):
        outputs(tmp_path).check("note")


def test_folders_are_searched_for_recordings_each_taken_once(tmp_path: Path) -> None:
    for name in ("b.wav", "a.MP3", "deep/c.m4a", ".hidden.wav", ".git/d.wav", "readme.txt"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(b"sound")
    found = find_recordings([tmp_path / "b.wav", tmp_path, tmp_path / "readme.txt"])
    assert [source.name for source in found] == ["b.wav", "a.MP3", "c.m4a", "readme.txt"]
    with pytest.raises(InputError, match="no recording"):
        find_recordings([_empty(tmp_path)])


def _empty(folder: Path) -> Path:
    (folder / "nothing").mkdir()
    return folder / "nothing"


def test_a_folder_that_was_moved_knows_its_outputs(tmp_path: Path) -> None:
    """Their memory goes with them: what was written there is written again, under the same name."""
    written: list[str] = []
    for name in ("before", "after"):
        project = tmp_path / name
        if written:
            (tmp_path / "before").rename(project)
        (project / "recordings").mkdir(parents=True, exist_ok=True)
        (project / "recordings" / "raft.wav").touch()
        source = Source(project / "recordings" / "raft.wav")
        stem = outputs(project).stem_for(source)
        outputs(project).write(stem, source, TRANSCRIPT)
        written.append(stem)
    assert written == ["raft", "raft"]
