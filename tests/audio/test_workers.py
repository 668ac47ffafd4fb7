"""Decoding in another process."""

import os
import signal
import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from audio.making import write_sound
from mantisreed.audio.examine import examine
from mantisreed.audio.workers import (
    MOST_MEMORY,
    DecodingWorkers,
    LocalStream,
    SoundStream,
    seconds_for,
)
from mantisreed.errors import RecordingError


def samples_of(stream: SoundStream) -> np.ndarray:
    return np.concatenate(list(stream), axis=1)


@pytest.fixture
def tone(tmp_path: Path) -> Path:
    path = tmp_path / "it's a töne\n.flac"
    write_sound(path, "flac", np.sin(np.arange(160_000) / 7).astype(np.float32) * 0.5)
    return path


def test_a_worker_gives_what_decoding_here_gives_and_is_used_again(
    tone: Path, tmp_path: Path
) -> None:
    content = tone.read_bytes()
    half = tmp_path / "half.flac"
    half.write_bytes(content[: len(content) // 2])
    with DecodingWorkers() as workers:
        for path in (tone, half, tone):
            near = LocalStream(path, sample_rate=8000, channels=1, track=None)
            far = workers.stream(path, sample_rate=8000, channels=1, track=None)
            assert (samples_of(near) == samples_of(far)).all()
            assert far.seconds == near.seconds and far.damage() == near.damage()
        process = workers.take()
        workers.give_back(process)
    assert process.returncode is not None


def test_what_cannot_be_read_is_told_as_if_it_were_read_here(tmp_path: Path) -> None:
    (tmp_path / "a.wav").write_text("no sound")
    with DecodingWorkers() as workers:
        for name in ("a.wav", "missing.wav"):
            with pytest.raises(RecordingError) as here:
                samples_of(LocalStream(tmp_path / name, sample_rate=16_000, channels=1, track=None))
            with pytest.raises(RecordingError) as there:
                samples_of(
                    workers.stream(tmp_path / name, sample_rate=16_000, channels=1, track=None)
                )
            assert (there.value.what, there.value.advice) == (here.value.what, here.value.advice)


def test_a_worker_that_dies_or_is_not_wanted_any_more_is_replaced(tone: Path) -> None:
    with DecodingWorkers() as workers:
        stream = iter(workers.stream(tone, sample_rate=16_000, channels=1, track=None))
        next(stream)
        del stream  # given up in the middle
        dead = workers.take()
        os.kill(dead.pid, signal.SIGKILL)
        dead.wait()
        workers.give_back(dead)
        with pytest.raises(RecordingError, match="has ended"):
            samples_of(workers.stream(tone, sample_rate=16_000, channels=1, track=None))
        assert samples_of(
            workers.stream(tone, sample_rate=16_000, channels=1, track=None)
        ).shape == (1, 160_000)


@pytest.mark.parametrize("number", [signal.SIGSEGV, signal.SIGXCPU, signal.SIGKILL])
def test_the_death_of_a_worker_is_an_error_of_this_recording_and_says_of_what(
    tone: Path, number: signal.Signals, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mantisreed.audio.workers._READ_AHEAD", 1)
    with DecodingWorkers() as workers:
        workers.contents(tone)
        process = workers.take()
        workers.give_back(process)
        os.kill(process.pid, signal.SIGSTOP)
        os.kill(process.pid, number)
        os.kill(process.pid, signal.SIGCONT)
        with pytest.raises(RecordingError) as told:
            samples_of(workers.stream(tone, sample_rate=16_000, channels=1, track=None))
        assert ("of computing" if number == signal.SIGXCPU else number.name) in told.value.what
        assert workers.contents(tone).tracks[0].channels == 1


@pytest.mark.skipif(
    sys.platform != "linux", reason="limits of another process are told by Linux only"
)
def test_a_worker_has_limits(tone: Path) -> None:
    with DecodingWorkers() as workers:
        workers.contents(tone)
        process = workers.take()
        workers.give_back(process)
        lines = Path(f"/proc/{process.pid}/limits").read_text().splitlines()
    soft = {line[:26].strip(): line[26:].split()[0] for line in lines}
    assert int(soft["Max address space"]) == MOST_MEMORY
    assert int(soft["Max cpu time"]) <= seconds_for(tone.stat().st_size) + 10
    assert soft["Max file size"] == soft["Max core file size"] == "0"


def test_a_worker_takes_no_module_from_the_current_folder(
    tone: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("numpy", "av", "json", "mantisreed"):
        (tmp_path / f"{name}.py").write_text("raise SystemExit(1)\n")
    monkeypatch.chdir(tmp_path)
    with DecodingWorkers() as workers:
        assert workers.contents(tone).container == "flac"


def test_whatever_a_decoder_thinks_of_is_told_in_a_line(tone: Path) -> None:
    with DecodingWorkers() as workers:
        with pytest.raises(RecordingError, match="cannot be decoded"):
            samples_of(workers.stream(tone, sample_rate=-1, channels=1, track=None))
        assert workers.contents(tone).container == "flac"


def test_examining_in_a_worker_finds_what_is_found_here(tone: Path) -> None:
    here = examine(tone)
    with DecodingWorkers() as workers:
        there = workers.examine(tone)
    assert (
        there.waveform.low == here.waveform.low
    ).all() and there.waveform.loudness.dtype == np.float32
    assert replace(there, waveform=here.waveform) == here


def test_many_short_recordings_need_few_processes(tone: Path) -> None:
    with DecodingWorkers() as workers, ThreadPoolExecutor(24) as pool:

        def length(_: int) -> int:
            workers.contents(tone)
            return samples_of(workers.stream(tone, sample_rate=8000, channels=1, track=None)).size

        assert set(pool.map(length, range(96))) == {80_000}
        assert len(workers._idle) <= (os.cpu_count() or 1)


def test_a_process_that_is_given_back_after_the_end_is_ended() -> None:
    workers = DecodingWorkers()
    lent, idle = workers.take(), workers.take()
    workers.give_back(idle)
    workers.close()
    assert idle.poll() is not None and lent.poll() is None
    workers.give_back(lent)
    assert lent.poll() is not None
