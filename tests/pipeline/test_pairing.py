"""Whether transcripts and recordings belong together."""

from pathlib import Path

import numpy as np
import pytest
import soundfile

from mantisreed.errors import InputError
from mantisreed.files import file_digest
from mantisreed.transcript.document import Passage, RecordingFacts, Transcript
from mantisreed.workbench.pairing import check_same_recording, check_same_recordings


def recording(folder: Path, name: str, seconds: float) -> Path:
    noise = np.random.default_rng(len(name)).normal(0, 0.1, round(seconds * 8000))
    soundfile.write(folder / name, noise, 8000)
    return folder / name


def transcript(digest: str, duration: float, last: float = 1.0, name: str = "a.wav") -> Transcript:
    return Transcript(
        recording=RecordingFacts(name, digest, duration),
        engine="",
        job="",
        passages=(Passage(0.0, last, "ringed"),),
    )


def test_the_recording_itself_is_taken_without_a_word(tmp_path: Path) -> None:
    path = recording(tmp_path, "a.wav", 3.0)
    assert check_same_recording(transcript(file_digest(path), 3.0), path) == ()


def test_another_file_of_the_same_length_is_told_and_one_of_another_length_refused(
    tmp_path: Path,
) -> None:
    path = recording(tmp_path, "copy.flac", 3.0)
    (told,) = check_same_recording(transcript("sha256:" + "0" * 64, 3.2), path)
    assert "not the file that was transcribed" in told
    with pytest.raises(InputError, match=r"it lasts 3\.0 s, and the transcript 9\.0 s"):
        check_same_recording(transcript("sha256:" + "0" * 64, 9.0), path)


def test_subtitles_need_a_recording_that_is_long_enough(tmp_path: Path) -> None:
    path = recording(tmp_path, "a.wav", 3.0)
    assert check_same_recording(transcript("", 0.0, last=2.5), path) == ()
    with pytest.raises(InputError, match="and the transcript"):
        check_same_recording(transcript("", 0.0, last=8.0), path)


def test_transcripts_of_recordings_of_other_lengths_are_refused() -> None:
    first, twin = transcript("sha256:1", 60.0), transcript("sha256:2", 60.5, name="b.wav")
    other, nameless = transcript("sha256:3", 90.0, name="c.wav"), transcript("", 10.0)
    assert check_same_recordings([("1", first), ("1 again", first), ("4", nameless)]) == ()
    (told,) = check_same_recordings([("1", first), ("2", twin)])
    assert "2 and 1 are of different files, b.wav and a.wav, as long" in told
    with pytest.raises(
        InputError, match=r"another recording than 1: c\.wav, 1:30, and a\.wav, 1:00"
    ):
        check_same_recordings([("1", first), ("3", other)])
