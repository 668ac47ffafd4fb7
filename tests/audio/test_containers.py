"""What headers promise, which track is taken, and tags of any bytes."""

import io
import wave
from pathlib import Path

import numpy as np
import pytest

from audio.making import several_tracks, write_film, write_sound
from audio.test_decode import RATE, chirp
from mantisreed.audio.containers import probe
from mantisreed.audio.decode import Decoder
from mantisreed.audio.tracks import track_to_take
from mantisreed.errors import RecordingError

LOUD_LATE = np.concatenate([np.zeros(12 * RATE, np.float32), chirp(8)])
"""Variable bit rates cost next to nothing for its first half, so that a guess by the first frames
is far off.
"""

COUNTED = [
    ("a.aiff", "pcm_s16be"),
    ("a.au", "pcm_s16be"),
    ("a.avi", "pcm_s16le"),
    ("a.caf", "pcm_s16be"),
    ("a.flac", "flac"),
    ("a.flv", "libmp3lame"),
    ("a.mka", "flac"),
    ("a.mp3", "libmp3lame"),
    ("a.tta", "tta"),
    ("a.w64", "pcm_s16le"),
    ("a.wav", "pcm_s16le"),
    ("a.webm", "libopus"),
    ("a.wma", "wmav2"),
    ("a.wv", "wavpack"),
]
GUESSED = [
    ("a.aac", "aac"),
    ("a.ac3", "ac3"),
    ("a.g722", "g722"),
    ("a.mp2", "mp2"),
    ("a.mpg", "mp2"),
    ("a.opus", "libopus"),
    ("a.ts", "aac"),
    ("a.voc", "pcm_s16le"),
]
RATES = {"libopus": 48_000, "ac3": 48_000, "wmav2": 44_100}


def resampled(samples: np.ndarray, rate: int) -> np.ndarray:
    moments = np.arange(round(len(samples) / RATE * rate)) * RATE / rate
    return np.asarray(np.interp(moments, np.arange(len(samples)), samples), np.float32)


def written(path: Path, codec: str) -> Path:
    rate = 44_100 if path.suffix in (".flv", ".mpg") else RATES.get(codec, RATE)
    write_sound(path, codec, resampled(LOUD_LATE, rate), rate=rate)
    return path


def damage_of(path: Path) -> list[str]:
    decoder = Decoder(path)
    for _ in decoder:
        pass
    return decoder.damage()


@pytest.mark.parametrize(("name", "codec"), COUNTED + GUESSED)
def test_an_intact_recording_is_never_called_incomplete(
    tmp_path: Path, name: str, codec: str
) -> None:
    assert damage_of(written(tmp_path / name, codec)) == []


def test_an_amr_file_whose_bit_rate_changes_is_not_called_incomplete(tmp_path: Path) -> None:
    # Frames of 20 ms: 12.2 kbit/s in 32 bytes, then 4.75 kbit/s in 13 (RFC 4867, 5.3).
    frames = [b"\x3c" + bytes(31)] * 300 + [b"\x04" + bytes(12)] * 700
    (tmp_path / "a.amr").write_bytes(b"#!AMR\n" + b"".join(frames))

    assert damage_of(tmp_path / "a.amr") == []
    assert probe(tmp_path / "a.amr").duration is None


@pytest.mark.parametrize(("name", "codec"), COUNTED)
def test_a_recording_that_breaks_off_is_told_where_its_header_counts(
    tmp_path: Path, name: str, codec: str
) -> None:
    whole = written(tmp_path / name, codec).read_bytes()
    half = tmp_path / f"half{Path(name).suffix}"
    half.write_bytes(whole[: len(whole) * 6 // 10])

    told = damage_of(half)

    assert told[0].startswith("the recording breaks off at")
    assert told[0].endswith(("0:20", "0:21"))


@pytest.mark.parametrize("name", ["film.mp4", "film.mkv", "film.mov", "film.webm", "film.ts"])
def test_pictures_that_run_longer_than_the_sound_promise_no_sound(
    tmp_path: Path, name: str
) -> None:
    codec = {"film.mov": "pcm_s16le", "film.webm": "libopus"}.get(name, "aac")
    rate = RATES.get(codec, RATE)
    write_film(tmp_path / name, codec, resampled(chirp(4), rate), rate=rate, seconds=12.0)

    assert damage_of(tmp_path / name) == []


@pytest.mark.parametrize("factor", [0.3, 5.0])
def test_a_wrong_count_of_frames_in_an_mp3_means_nothing(tmp_path: Path, factor: float) -> None:
    content = bytearray(written(tmp_path / "a.mp3", "libmp3lame").read_bytes())
    at = max(content.find(b"Xing"), content.find(b"Info")) + 8
    frames = int.from_bytes(content[at : at + 4], "big")
    content[at : at + 4] = round(frames * factor).to_bytes(4, "big")
    (tmp_path / "a.mp3").write_bytes(content)

    assert damage_of(tmp_path / "a.mp3") == []


def test_tags_of_any_bytes_are_read(tmp_path: Path) -> None:
    written(tmp_path / "a.mp3", "libmp3lame")
    content = (tmp_path / "a.mp3").read_bytes()
    title = b"TIT2" + (8).to_bytes(4, "big") + b"\0\0" + b"\3r\xe9d\xffgull"
    (tmp_path / "tagged.mp3").write_bytes(
        b"ID3\4\0\0" + bytes([0, 0, 0, len(title)]) + title + content[45:]
    )
    write_sound(tmp_path / "b.mka", "flac", chirp(), tags={"title": "Marsh at dusk"})
    odd = (tmp_path / "b.mka").read_bytes().replace(b"Marsh at dusk", b"Marsh \xe9\xff dusk")
    (tmp_path / "b.mka").write_bytes(odd)

    assert probe(tmp_path / "b.mka").tags["title"] == "Marsh \ufffd\ufffd dusk"
    assert probe(tmp_path / "tagged.mp3").tracks


def write_sphere(path: Path, samples: np.ndarray) -> None:
    """A NIST SPHERE file: a text header of 1024 bytes, then the samples."""
    fields = [
        "NIST_1A\n   1024",
        f"sample_count -i {len(samples)}",
        f"sample_rate -i {RATE}",
        "channel_count -i 1",
        "sample_n_bytes -i 2",
        "sample_byte_format -s2 01",
        "sample_coding -s3 pcm",
        "end_head",
    ]
    header = ("\n".join(fields) + "\n").encode().ljust(1024)
    path.write_bytes(header + (samples * 32767).astype("<i2").tobytes())


def test_sphere_files_are_read_and_their_header_counts(tmp_path: Path) -> None:
    write_sphere(tmp_path / "a.sph", chirp(4))
    assert damage_of(tmp_path / "a.sph") == []
    content = (tmp_path / "a.sph").read_bytes()
    (tmp_path / "half.sph").write_bytes(content[: len(content) // 2])
    assert damage_of(tmp_path / "half.sph")[0].startswith("the recording breaks off")


def test_mxf_and_compressed_aiff_are_read(tmp_path: Path) -> None:
    write_sound(tmp_path / "a.aifc", "pcm_alaw", chirp(4), container="aiff")
    assert damage_of(tmp_path / "a.aifc") == []
    write_film(
        tmp_path / "a.mxf", "pcm_s16le", resampled(chirp(4), 48_000), rate=48_000, seconds=4.0
    )
    assert damage_of(tmp_path / "a.mxf") == []


def speech_like(seconds: float) -> np.ndarray:
    """Bursts of noise with pauses: what the speech map takes for somebody who speaks."""
    noise = np.random.default_rng(3).normal(0.0, 0.1, round(seconds * RATE)).astype(np.float32)
    speaks = (np.arange(len(noise)) // (RATE // 2)) % 2 == 1
    return np.where(speaks, noise, noise * 0.0005).astype(np.float32)


@pytest.mark.parametrize(
    ("tracks", "taken"),
    [
        ((speech_like(6), speech_like(6)), 1),
        ((np.zeros(6 * RATE, np.float32), speech_like(6)), 2),
        ((np.zeros(6 * RATE, np.float32), np.zeros(6 * RATE, np.float32), speech_like(6)), 3),
        ((np.zeros(6 * RATE, np.float32), np.zeros(6 * RATE, np.float32)), 1),
    ],
)
def test_the_first_track_on_which_somebody_speaks_is_taken(
    tmp_path: Path, tracks: tuple[np.ndarray, ...], taken: int
) -> None:
    path = several_tracks(tmp_path / "tracks.mka", *tracks)
    chosen = track_to_take(probe(path), lambda number: Decoder(path, track=number).sound())
    assert chosen.number == taken


def test_a_playlist_reaches_no_other_file_as_a_film(tmp_path: Path) -> None:
    from mantisreed.audio.shots import shot_changes

    write_film(tmp_path / "film.mp4", "aac", chirp(4), seconds=4.0)
    (tmp_path / "list.mp4").write_text("#EXTM3U\n#EXTINF:5,\nfilm.mp4\n")
    assert shot_changes(tmp_path / "film.mp4") == []
    with pytest.raises(RecordingError, match="not a recording"):
        shot_changes(tmp_path / "list.mp4")


class _Counting(io.BytesIO):
    """Bytes that count how many of them were read."""

    count = 0

    def read(self, size: int | None = -1, /) -> bytes:
        content = super().read(size)
        self.count += len(content)
        return content


def test_opening_a_wav_takes_no_longer_for_a_longer_one(tmp_path: Path) -> None:
    read = []
    for seconds in (10, 100):
        write_sound(tmp_path / "a.wav", "pcm_s16le", np.resize(LOUD_LATE, RATE * seconds))
        source = _Counting((tmp_path / "a.wav").read_bytes())
        assert probe(source).tracks[0].codec == "pcm_s16le"
        read.append(source.count)
    assert read[0] == read[1]


@pytest.mark.parametrize("form", ["ac3", "spdif"])
def test_frames_of_a_codec_disguised_as_samples_are_no_noise(tmp_path: Path, form: str) -> None:
    frames = tmp_path / "frames"
    write_sound(frames, "ac3", resampled(LOUD_LATE, 48_000), rate=48_000, container=form)
    with wave.open(str(tmp_path / "a.wav"), "wb") as sink:
        sink.setparams((2, 2, 48_000, 0, "NONE", ""))
        sink.writeframes(frames.read_bytes())
    assert probe(tmp_path / "a.wav").tracks[0].codec == "ac3"
