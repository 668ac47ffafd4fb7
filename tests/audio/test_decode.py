"""Reading recordings of every kind."""

import io
import os
import time
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
import soundfile

from audio.making import write_sound
from mantisreed.audio.containers import probe
from mantisreed.audio.decode import Decoder, decode
from mantisreed.audio.encode import encode
from mantisreed.audio.formats import FORMATS
from mantisreed.errors import RecordingError

RATE = 16_000


def chirp(seconds: float = 2.0, rate: int = RATE) -> np.ndarray:
    """A sweep from 200 to 2000 Hz: every moment of it is different."""
    t = np.arange(round(seconds * rate)) / rate
    return (0.4 * np.sin(2 * np.pi * (200 * t + 450 * t * t))).astype(np.float32)


def decoded(path: Path, track: int | None = None) -> np.ndarray:
    return np.concatenate(list(decode(path, track=track)), axis=1)


def lag_and_fit(heard: np.ndarray, truth: np.ndarray) -> tuple[float, float]:
    """By how many seconds `heard` is late, and the normalised correlation at that lag."""
    size = len(heard) + len(truth)
    products = np.fft.irfft(np.fft.rfft(heard, size) * np.conj(np.fft.rfft(truth, size)), size)
    best = int(np.argmax(products))
    lag = best if best < len(heard) else best - size
    return lag / RATE, float(products[best] / np.linalg.norm(heard) / np.linalg.norm(truth))


@pytest.mark.parametrize(
    ("name", "codec", "rate"),
    [
        ("a.wav", "pcm_u8", 16_000),
        ("a.wav", "pcm_s16le", 44_100),
        ("a.wav", "pcm_s24le", 48_000),
        ("a.wav", "pcm_s32le", 16_000),
        ("a.wav", "pcm_f32le", 96_000),
        ("a.wav", "pcm_f64le", 16_000),
        ("a.wav", "pcm_alaw", 8_000),
        ("a.wav", "pcm_mulaw", 8_000),
        ("a.wav", "adpcm_ima_wav", 16_000),
        ("a.wav", "adpcm_ms", 16_000),
        ("a.flac", "flac", 44_100),
        ("a.mp3", "libmp3lame", 44_100),
        ("a.opus", "libopus", 48_000),
        ("a.m4a", "aac", 44_100),
        ("a.amr", "libopencore_amrnb", 8_000),
        ("a.mka", "flac", 16_000),
    ],
)
def test_every_kind_of_recording_gives_its_sound_at_its_time(
    tmp_path: Path, name: str, codec: str, rate: int
) -> None:
    if codec not in av.codecs_available:
        pytest.skip(f"the installed PyAV cannot write {codec}")
    write_sound(tmp_path / name, codec, chirp(rate=rate), rate=rate)

    heard = decoded(tmp_path / name)

    assert heard.dtype == np.float32 and heard.shape[0] == 1
    assert abs(heard.shape[1] / RATE - 2.0) < 0.06
    lag, fit = lag_and_fit(heard[0], chirp())
    assert abs(lag) < 0.01 and fit > 0.9


def test_ogg_vorbis_is_read(tmp_path: Path) -> None:
    soundfile.write(tmp_path / "a.ogg", chirp(rate=44_100), 44_100, format="OGG", subtype="VORBIS")

    lag, fit = lag_and_fit(decoded(tmp_path / "a.ogg")[0], chirp())
    assert abs(lag) < 0.01 and fit > 0.9


@pytest.mark.parametrize(
    ("name", "codec"),
    [("a.mp4", "aac"), ("a.mov", "pcm_s16le"), ("a.mkv", "libmp3lame"), ("a.webm", "libopus")],
)
def test_the_sound_of_a_video_is_read_and_its_times_are_those_of_the_pictures(
    tmp_path: Path, name: str, codec: str
) -> None:
    rate = 48_000 if codec == "libopus" else 16_000
    write_sound(tmp_path / name, codec, chirp(rate=rate), rate=rate, video=True, delay=1.5)

    assert probe(tmp_path / name).has_video
    lag, fit = lag_and_fit(decoded(tmp_path / name)[0], chirp())
    assert abs(lag - 1.5) < 0.03 and fit > 0.9


def test_a_track_is_chosen_by_number_and_an_unknown_one_is_named(tmp_path: Path) -> None:
    path = tmp_path / "two.mkv"
    write_sound(path, "flac", chirp(), tracks=2)

    assert np.abs(decoded(path, track=2)).max() > 1.8 * np.abs(decoded(path, track=1)).max()
    with pytest.raises(RecordingError, match="no track 3") as caught:
        decoded(path, track=3)
    assert caught.value.advice is not None and "2 (flac" in caught.value.advice


def test_stereo_is_mixed_or_kept(tmp_path: Path) -> None:
    stereo = np.stack([chirp(), np.zeros(2 * RATE, np.float32)])
    content = encode([stereo], FORMATS["flac"], channels=2)
    assert content is not None

    apart = np.concatenate(list(decode(io.BytesIO(content), channels=None)), axis=1)
    mixed = np.concatenate(list(decode(io.BytesIO(content))), axis=1)

    assert np.abs(apart - stereo).max() < 1e-4
    assert np.abs(mixed[0] - chirp() / 2).max() < 1e-3


def test_a_long_recording_is_read_as_it_is_asked_for() -> None:
    blocks = (np.zeros((1, RATE), np.float32) for _ in range(1800))
    content = encode(blocks, FORMATS["wav"])
    assert content is not None
    file = io.BytesIO(content)

    stream = decode(file)
    first = next(stream)

    assert first.shape[1] <= 10 * RATE
    assert file.tell() < len(content) / 20


def test_samples_that_are_no_numbers_do_not_come_through(tmp_path: Path) -> None:
    bad = chirp()
    bad[5000:5010] = np.nan
    bad[9000] = np.inf
    write_sound(tmp_path / "bad.wav", "pcm_f32le", bad)

    assert np.isfinite(decoded(tmp_path / "bad.wav")).all()


@pytest.mark.parametrize("name", ["note.wav", "note.flac", "note.mp3"])
def test_a_recording_that_breaks_off_is_known_by_its_header(tmp_path: Path, name: str) -> None:
    codec = {".wav": "pcm_s16le", ".flac": "flac", ".mp3": "libmp3lame"}[Path(name).suffix]
    write_sound(tmp_path / "whole", codec, chirp(20), container=Path(name).suffix[1:])
    content = (tmp_path / "whole").read_bytes()
    (tmp_path / name).write_bytes(content[: len(content) // 2])

    whole, half = Decoder(tmp_path / "whole"), Decoder(tmp_path / name)
    lengths = [sum(block.shape[1] for block in decoder) / RATE for decoder in (whole, half)]

    assert not whole.is_cut_short and half.is_cut_short
    assert lengths[1] < 0.6 * lengths[0]


@pytest.mark.parametrize(
    ("content", "told"),
    [
        (b"", "empty"),
        (b"The marsh is quiet today.\n" * 20, "not a recording"),
        (b"ID3" + bytes(300), "not a recording"),
        (b"#EXTM3U\n#EXTINF:5,\n/etc/hostname\n", "not a recording"),
    ],
)
def test_what_is_no_recording_is_told_in_words(tmp_path: Path, content: bytes, told: str) -> None:
    path = tmp_path / "strange.mp3"
    path.write_bytes(content)

    with pytest.raises(RecordingError, match=told) as caught:
        decoded(path)
    assert caught.value.where == str(path)


def test_a_video_without_sound_is_told_apart(tmp_path: Path) -> None:
    write_sound(tmp_path / "silent.mp4", "aac", chirp(), tracks=0, video=True)

    with pytest.raises(RecordingError, match="video without sound"):
        probe(tmp_path / "silent.mp4")


@pytest.mark.parametrize("codec", ["flac", "libmp3lame", "aac", "libopus"])
def test_a_corrupt_middle_is_told_with_its_time_and_what_is_behind_it_stays_in_place(
    tmp_path: Path, codec: str
) -> None:
    name = {"flac": "a.flac", "libmp3lame": "a.mp3", "aac": "a.m4a", "libopus": "a.opus"}[codec]
    rate = 48_000 if codec == "libopus" else RATE
    write_sound(tmp_path / name, codec, chirp(20, rate), rate=rate)
    truth = decoded(tmp_path / name)[0]
    content = bytearray((tmp_path / name).read_bytes())
    middle = len(content) // 2
    content[middle : middle + len(content) // 10] = bytes(len(content) // 10)
    (tmp_path / name).write_bytes(content)

    decoder = Decoder(tmp_path / name)
    heard = np.concatenate(list(decoder), axis=1)[0]

    assert abs(len(heard) - len(truth)) < 0.1 * RATE
    tail = slice(-4 * RATE, -RATE // 2)
    assert abs(lag_and_fit(heard[tail], truth[tail])[0]) < 0.1
    (start, end) = decoder.gaps[0]
    assert 0 < start < len(truth) / RATE * 0.7 and end - start > 0.2
    assert decoder.damage()[0].startswith(
        f"no sound could be read from 00:00:{start:06.3f} to 00:00:{end:06.3f}"
    )


def test_numbers_that_are_none_and_absurd_ones_become_sound(tmp_path: Path) -> None:
    samples = chirp()
    samples[[100, 5000, 9000, 12_000]] = [np.nan, np.inf, -np.inf, 1e30]
    soundfile.write(tmp_path / "a.wav", samples, RATE, subtype="FLOAT")
    heard = decoded(tmp_path / "a.wav")
    assert np.isfinite(heard).all() and np.abs(heard).max() <= 1.0
    assert lag_and_fit(heard[0], chirp())[1] > 0.95


@pytest.mark.parametrize(
    ("data_size", "all_size"), [(1000, 1036), (0, 0), (0xFFFF_FFFF, 0xFFFF_FFFF)]
)
def test_a_wrong_length_in_the_header_loses_nothing(
    tmp_path: Path, data_size: int, all_size: int
) -> None:
    soundfile.write(tmp_path / "a.wav", chirp(), RATE)
    content = bytearray((tmp_path / "a.wav").read_bytes())
    content[4:8], content[40:44] = all_size.to_bytes(4, "little"), data_size.to_bytes(4, "little")
    (tmp_path / "a.wav").write_bytes(content)
    assert decoded(tmp_path / "a.wav").shape == (1, 2 * RATE)


def test_many_channels_high_rates_and_single_samples_work(tmp_path: Path) -> None:
    each = np.stack([chirp() * n / 8 for n in range(1, 9)], axis=1)
    soundfile.write(tmp_path / "eight.wav", each, RATE)
    blocks = np.concatenate(list(Decoder(tmp_path / "eight.wav", channels=None)), axis=1)
    assert blocks.shape == (8, 2 * RATE) and np.allclose(blocks, each.T, atol=1e-4)
    assert np.allclose(decoded(tmp_path / "eight.wav")[0], each.mean(axis=1), atol=1e-4)
    soundfile.write(tmp_path / "high.wav", chirp(rate=192_000), 192_000, subtype="PCM_24")
    assert lag_and_fit(decoded(tmp_path / "high.wav")[0], chirp())[1] > 0.99
    soundfile.write(tmp_path / "one.wav", chirp()[:1], RATE)
    assert decoded(tmp_path / "one.wav").shape == (1, 1)


@pytest.mark.parametrize(
    ("subtype", "channels"), [("PCM_16", 1), ("PCM_24", 1), ("FLOAT", 1), ("PCM_16", 2)]
)
def test_whole_numbers_are_the_same_sound(tmp_path: Path, subtype: str, channels: int) -> None:
    soundfile.write(
        tmp_path / "a.wav", np.stack([chirp()] * channels, axis=1), RATE, subtype=subtype
    )
    sound = np.concatenate(list(Decoder(tmp_path / "a.wav").sound()), axis=1)
    assert sound.dtype == np.int16
    assert np.abs(sound / 32768 - decoded(tmp_path / "a.wav")).max() < 1.1 / 32768


def test_joined_files_of_different_rates_are_heard_to_the_end_and_not_called_broken(
    tmp_path: Path,
) -> None:
    parts = []
    for number, rate in enumerate((44_100, 22_050)):
        part = tmp_path / f"{number}.mp3"
        write_sound(part, "libmp3lame", chirp(6.0, rate), rate=rate)
        parts.append(part.read_bytes())
    joined = tmp_path / "joined.mp3"
    joined.write_bytes(b"".join(parts))
    decoder = Decoder(joined)
    heard = sum(block.shape[1] for block in decoder) / RATE
    assert heard == pytest.approx(12.0, abs=0.3) and decoder.damage() == []


@pytest.mark.parametrize("subtype", ["PCM_U8", "PCM_16", "PCM_24", "FLOAT", "DOUBLE"])
def test_channels_of_opposite_phase_do_not_cancel_each_other_out(
    tmp_path: Path, subtype: str
) -> None:
    path, voice = tmp_path / "inverted.wav", chirp()
    soundfile.write(path, np.stack([voice, -voice], axis=1), RATE, subtype=subtype)
    decoder = Decoder(path)
    heard = np.concatenate(list(decoder), axis=1)[0]
    assert lag_and_fit(heard, voice)[1] > 0.99 and "of opposite phase" in decoder.notes()[0]
    apart = Decoder(path, channels=None)
    both = np.concatenate(list(apart), axis=1)
    assert np.allclose(both[0], -both[1], atol=0.02) and apart.notes() == []


def test_what_is_no_file_is_refused_before_it_is_opened(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    for path in (tmp_path / "pipe", tmp_path):
        with pytest.raises(RecordingError, match="not a file"):
            probe(path)


@pytest.mark.parametrize(("gap", "length"), [(30.0, 32.0), (200_000.0, 2.0)])
def test_silence_that_a_file_only_claims_costs_nothing(
    tmp_path: Path, gap: float, length: float
) -> None:
    path = tmp_path / "gap.mkv"
    with av.open(path, "w") as output:
        stream = output.add_stream("pcm_s16le", rate=RATE, layout="mono")
        assert isinstance(stream, av.AudioStream)
        for start in (0.0, 1.0 + gap):
            frame = av.AudioFrame.from_ndarray(
                np.full((1, RATE), 1000, np.int16), format="s16", layout="mono"
            )
            frame.sample_rate, frame.time_base = RATE, Fraction(1, RATE)
            frame.pts = round(start * RATE)
            output.mux(stream.encode(frame))
        output.mux(stream.encode(None))
    began = time.process_time()
    assert abs(decoded(path).shape[1] / RATE - length) < 0.2
    assert time.process_time() - began < 5
