"""Decoding in another process."""

import os
import signal
from pathlib import Path

import numpy as np
import pytest

from audio.making import write_sound
from mantisreed.audio.workers import DecodingWorkers, LocalStream, SoundStream
from mantisreed.errors import RecordingError


def samples_of(stream: SoundStream) -> np.ndarray:
    return np.concatenate(list(stream), axis=1)


@pytest.fixture
def tone(tmp_path: Path) -> Path:
    path = tmp_path / "it's a töne\n.flac"
    write_sound(path, "flac", np.sin(np.arange(160_000) / 7).astype(np.float32) * 0.5)
    return path


def test_a_worker_gives_what_decoding_here_gives_and_is_used_again(tone: Path, tmp_path: Path) -> None:
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
                samples_of(workers.stream(tmp_path / name, sample_rate=16_000, channels=1, track=None))
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
        assert samples_of(workers.stream(tone, sample_rate=16_000, channels=1, track=None)).shape == (1, 160_000)
