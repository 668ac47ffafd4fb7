"""Decoding processes that several runs use one after the other."""

from pathlib import Path

import pytest

from mantisreed.audio import workers
from mantisreed.audio.workers import DecodingWorkers, kept_processes
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose


@pytest.fixture
def note(english: list[Phrase], tmp_path: Path) -> Path:
    path = tmp_path / "note.wav"
    compose(english, seed=5, duration=4).write(path)
    return path


def process_for(note: Path) -> int:
    """The number of the process that a run of its own used."""
    with DecodingWorkers() as own:
        assert own.contents(note).container
        process = own.take()
        own.give_back(process)
        return process.pid


def test_runs_use_the_same_process_while_they_are_kept(
    note: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workers, "_kept", None)  # the tests keep them too
    assert process_for(note) != process_for(note)
    with kept_processes():
        first = process_for(note)
        assert process_for(note) == first
        assert workers._kept is not None
        (kept,) = workers._kept
        assert kept.poll() is None
    assert kept.poll() is not None and workers._kept is None


def test_one_that_has_died_meanwhile_is_not_used(
    note: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workers, "_kept", None)
    with kept_processes():
        first = process_for(note)
        assert workers._kept is not None
        workers._kept[0].kill()
        workers._kept[0].wait()
        assert process_for(note) != first
