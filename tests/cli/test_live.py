"""A stream on standard input, as a recorder writes it: driven by the command in a process of its
own.
"""

import asyncio
import errno
import io
import json
import signal
import struct
import subprocess
import sys
import time
import wave
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cli.ferry import Ferry
from mantisreed.cli.outcomes import exit_code
from mantisreed.errors import InputError
from mantisreed.exports.formats import OUTPUT_FORMATS, chosen_formats
from mantisreed.pipeline.incoming import live as live_module
from mantisreed.pipeline.incoming.live import (
    LiveOptions,
    LiveOutcome,
    PhraseOutcome,
    _Kept,
    _Session,
    listen,
)
from mantisreed.pipeline.incoming.live_files import GrowingOutputs
from mantisreed.pipeline.options import RunOptions
from mantisreed.pipeline.outputs import Outputs
from mantisreed.sources.streams import StreamFormat, stream_blocks
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.hearing import Listener
from mantisreed.transcript.document import Passage, Word
from mantisreed.workspace import open_workspace
from serving.running import standins

RATE = 16_000


@pytest.fixture
def stream(english: list[Phrase]) -> tuple[bytes, list[float]]:
    """PCM with several phrases, and when each begins."""
    composition = compose(english, seed=9, duration=25, pauses=(1.2, 2.0))
    samples = np.concatenate(list(composition.blocks()), axis=1)[0]
    return (samples * 32767).astype("<i2").tobytes(), [
        said.words[0].start for said in composition.truth
    ]


@contextmanager
def live(folder: Path, *arguments: str, engine: str = "ferry") -> Iterator[subprocess.Popen[bytes]]:
    command = [
        sys.executable,
        "-m",
        "mantisreed",
        "run",
        "-",
        "--live",
        "--engine",
        engine,
        *arguments,
    ]
    pipe = subprocess.PIPE
    with subprocess.Popen(command, cwd=folder, stdin=pipe, stdout=pipe, stderr=pipe) as process:
        try:
            yield process
        finally:
            process.kill()


def rows(output: bytes) -> list[dict[str, object]]:
    return [json.loads(line) for line in output.splitlines()]


def test_each_phrase_is_told_with_its_time_and_failures_are_told_from_silence(
    ferry: Ferry, stream: tuple[bytes, list[float]], tmp_path: Path
) -> None:
    content, starts = stream
    with (
        ferry.sailing(tmp_path, tries=1),
        live(tmp_path, "--json", "--name", "evening.wav") as process,
    ):
        ferry.faults = ["503", "silence"]  # the second phrase fails, the first one holds nothing
        told, said = process.communicate(content, timeout=60)
    assert process.returncode == 1, said.decode()
    found = sorted(rows(told), key=lambda row: float(str(row["start"])))
    assert (
        len(found) == len(starts)
        and sorted(str(row["state"]) for row in found).count("done") == len(starts) - 2
    )
    assert {row["state"] for row in found} == {"done", "no words", "no reply"}
    for row, start in zip(found, starts, strict=True):
        assert float(str(row["start"])) <= start + 0.05 <= float(str(row["end"]))
    document = json.loads((tmp_path / "transcripts" / "evening.transcript.json").read_text())
    assert (
        document["recording"]["name"] == "evening.wav"
        and abs(document["recording"]["duration"] - 25) < 0.1
    )
    texts = [row["text"] for row in found if row["state"] == "done"]
    assert (
        " ".join(one["text"] for one in document["passages"]).split()
        == " ".join(map(str, texts)).split()
    )
    assert len(document["notes"]) == 1 and "has no reply" in document["notes"][0]


def test_phrases_are_sent_while_the_stream_goes_on_and_an_interruption_finishes_the_phrase(
    ferry: Ferry, stream: tuple[bytes, list[float]], tmp_path: Path
) -> None:
    content, starts = stream
    subtitles = tmp_path / "transcripts" / "evening.srt"
    with (
        ferry.sailing(tmp_path),
        live(tmp_path, "--to", "srt,json", "--name", "evening.wav") as process,
    ):
        assert process.stdin is not None
        # Up to the middle of the third phrase; the stream stays open.
        process.stdin.write(content[: int((starts[2] + 0.9) * RATE) * 2])
        process.stdin.flush()
        end = time.monotonic() + 30
        while (
            not subtitles.exists() or subtitles.read_text().count("-->") < 2
        ) and time.monotonic() < end:
            time.sleep(0.05)
        grown = subtitles.read_text()
        assert grown.count("-->") >= 2 and sum(ferry.asked.values()) == 2
        process.send_signal(signal.SIGINT)
        assert process.wait(30) == 0
    assert sum(ferry.asked.values()) == 3
    assert subtitles.read_text().count("-->") > 2
    document = json.loads((tmp_path / "transcripts" / "evening.transcript.json").read_text())
    assert len({round(one["start"]) for one in document["passages"]}) >= 3
    assert not list((tmp_path / ".mantisreed" / "live").iterdir()), "nothing of the sound is left"


def test_an_engine_that_is_away_is_tried_again_and_nothing_is_lost(
    ferry: Ferry, stream: tuple[bytes, list[float]], tmp_path: Path
) -> None:
    content, starts = stream
    with ferry.sailing(tmp_path, tries=1), live(tmp_path, "--json") as process:
        ferry.faults = ["key"]
        told, said = process.communicate(content, timeout=60)
    states = [row["state"] for row in rows(told)]
    assert process.returncode in (0, 1), said.decode()
    assert states.count("done") >= len(starts) - 1


def wav(samples: np.ndarray, channels: int = 1) -> bytes:
    sink = io.BytesIO()
    with wave.open(sink, "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(2)
        file.setframerate(RATE)
        file.writeframes(samples.astype("<i2").tobytes())
    return sink.getvalue()


def read(content: bytes, form: StreamFormat | None = None) -> tuple[int, np.ndarray]:
    blocks = list(stream_blocks(io.BytesIO(content), form))
    return blocks[0][0], np.concatenate([block for _, block in blocks])


# Of bytes, as a list of so many numbers takes a third of a second to be made.
@given(st.binary(min_size=1600, max_size=6000), st.sampled_from([0, 0xFFFFFFFF, None]))
def test_wav_is_read_as_it_comes_whatever_length_its_head_names(
    sound: bytes, length: int | None
) -> None:
    samples = np.frombuffer(sound[: len(sound) // 2 * 2], np.int16)
    content = wav(samples)
    if length is not None:  # recorders do not know the length beforehand
        content = content[:40] + struct.pack("<I", length) + content[44:]
    rate, found = read(content)
    assert rate == RATE and np.array_equal(found, samples)
    assert np.array_equal(read(samples.tobytes())[1], samples)


@pytest.mark.parametrize("form", ["u8", "s16le", "s24le", "s32le", "f32le"])
def test_headerless_sound_is_read_in_all_formats(form: str) -> None:
    wanted = np.sin(np.arange(4000) / 20) * 0.5
    written = {
        "u8": ((wanted * 128) + 128).astype(np.uint8).tobytes(),
        "s16le": (wanted * 32767).astype("<i2").tobytes(),
        "s24le": b"".join(int(one * 8388607).to_bytes(3, "little", signed=True) for one in wanted),
        "s32le": (wanted * 2147483647).astype("<i4").tobytes(),
        "f32le": wanted.astype("<f4").tobytes(),
    }[form]
    stereo = StreamFormat.named(f"44100:1:{form}")
    rate, found = read(written, stereo)
    assert rate == 44100 and np.max(np.abs(found / 32768 - wanted)) < 0.02


@pytest.mark.parametrize("text", ["", "0", "16000:0", "16000:1:mp3", "1e4", "999999999"])
def test_a_format_that_is_none_is_told(text: str) -> None:
    with pytest.raises(InputError):
        StreamFormat.named(text)


@given(st.binary(max_size=300))
def test_whatever_comes_is_heard_or_told(content: bytes) -> None:
    for beginning in (b"", b"RIFF\0\0\0\0WAVE", b"RIFF\0\0\0\0WAVEfmt \x10\0\0\0"):
        try:
            for rate, block in stream_blocks(io.BytesIO(beginning + content), None):
                assert rate and block.dtype == np.int16
        except InputError:
            pass


class Breaking(io.RawIOBase):
    """A stream whose connection breaks after some bytes."""

    def __init__(self, content: bytes) -> None:
        self._content = io.BytesIO(content)

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: "bytearray | memoryview") -> int:  # type: ignore[override]
        block = self._content.read(min(len(buffer), 3200))
        if not block:
            raise ConnectionResetError("the recorder is gone")
        buffer[: len(block)] = block
        return len(block)


def heard_from(content: bytes, folder: Path, ferry: Ferry) -> "LiveOutcome":
    with ferry.sailing(folder, tries=1):
        workspace = open_workspace(folder / "mantisreed.toml")
        options = RunOptions(engine="ferry", to="json", into=folder / "out")
        return listen(
            io.BufferedReader(Breaking(content)),
            workspace,
            options,
            LiveOptions(name="evening.wav"),
        )


def test_a_stream_that_breaks_off_is_written_as_far_as_it_was_heard(
    ferry: Ferry, stream: tuple[bytes, list[float]], tmp_path: Path
) -> None:
    content, starts = stream
    heard = heard_from(content[: len(content) * 2 // 3], tmp_path, ferry)
    assert heard.outcome.state == "incomplete" and "the recorder is gone" in str(
        heard.outcome.error
    )
    assert exit_code([heard.outcome]) == 1
    document = json.loads((tmp_path / "out" / "evening.transcript.json").read_text())
    assert heard.phrases == sum(start < 25 * 2 / 3 for start in starts) > 2
    assert len(document["passages"]) >= heard.phrases
    assert document["notes"][0].startswith("the stream broke off after 16.")
    with pytest.raises(ConnectionResetError):
        heard_from(b"", tmp_path, ferry)


def test_a_stream_without_a_single_reply_has_failed(
    ferry: Ferry, stream: tuple[bytes, list[float]], tmp_path: Path
) -> None:
    content, starts = stream
    ferry.faults = ["503"] * 100
    heard = heard_from(content, tmp_path, ferry)
    assert heard.failed == heard.phrases == len(starts)
    assert heard.outcome.state == "incomplete" and exit_code([heard.outcome]) == 1
    assert "no speech" not in json.dumps(
        heard.outcome.transcript.notes if heard.outcome.transcript else ""
    )


def test_a_phrase_that_a_full_disk_cannot_take_is_told_and_the_stream_goes_on(
    ferry: Ferry, stream: tuple[bytes, list[float]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    content, starts = stream
    write = live_module._write_phrase

    def full(path: Path, phrase: object, rate: int) -> None:
        if path.name == "000002.wav":
            raise OSError(errno.ENOSPC, "no space left on device")
        write(path, phrase, rate)  # type: ignore[arg-type]

    monkeypatch.setattr(live_module, "_write_phrase", full)
    heard = heard_from(content, tmp_path, ferry)
    assert heard.failed == 1 and heard.phrases == len(starts)
    assert heard.outcome.transcript is not None
    assert any("no space left" in note for note in heard.outcome.transcript.notes)


def test_a_live_transcript_has_doubts_like_all_others(
    ferry: Ferry, stream: tuple[bytes, list[float]], tmp_path: Path
) -> None:
    content, _ = stream
    ferry.faults = ["silence", "silence"]
    heard = heard_from(content, tmp_path, ferry)
    assert heard.outcome.transcript is not None
    assert "missing" in {doubt.kind for doubt in heard.outcome.transcript.doubts}


def test_a_whole_recording_comes_on_standard_input(
    ferry: Ferry, english: list[Phrase], tmp_path: Path
) -> None:
    compose(english, seed=3, duration=10).write(tmp_path / "note.flac")
    command = [
        sys.executable,
        "-m",
        "mantisreed",
        "run",
        "-",
        "--engine",
        "ferry",
        "--to",
        "txt",
        "--name",
        "dawn.flac",
    ]
    with ferry.sailing(tmp_path):
        for content, code in (
            ((tmp_path / "note.flac").read_bytes(), 0),
            (b"", 2),
            (b"no sound", 1),
        ):
            result = subprocess.run(
                command, cwd=tmp_path, input=content, capture_output=True, timeout=60
            )
            assert result.returncode == code and b"Traceback" not in result.stderr, (
                result.stderr.decode()
            )
    assert (tmp_path / "transcripts" / "dawn.txt").exists()


def test_phrases_are_told_in_order_but_none_waits_long_for_another() -> None:
    async def work(order: list[int]) -> list[float]:
        told: list[float] = []
        session = _Session(None, None, None, LiveOptions(), lambda one: told.append(one.start))  # type: ignore[arg-type]
        for number in order:
            session._tell(
                abs(number), PhraseOutcome(float(number), 0.0, "done") if number > 0 else None
            )
        await asyncio.sleep(1.1)
        session._tell(9, PhraseOutcome(9.0, 0.0, "done"))
        return told

    assert asyncio.run(work([2, 1, 3])) == [1.0, 2.0, 3.0]
    assert sorted(asyncio.run(work([3, 2]))) == [2.0, 3.0]  # the first one has no answer yet
    # One that waits holds back nobody, and is told when it is done.
    assert asyncio.run(work([-1, 2, 1, 4, 3, 5, 6, 7, 8]))[:9] == [
        2.0,
        1.0,
        3.0,
        4.0,
        5.0,
        6.0,
        7.0,
        8.0,
        9.0,
    ]


def test_what_grows_is_what_readers_take_and_loses_no_phrase_after_a_short_pause(
    tmp_path: Path,
) -> None:
    outputs = Outputs(tmp_path, tmp_path / "hidden", chosen_formats(["srt", "vtt", "txt"]))
    growing = GrowingOutputs(outputs, "evening", tmp_path / "phrases.jsonl")
    for number in (1, 2, 3, 4):
        start = number * 1.4  # a pause of 0.3 s, which is shorter than a cue stays
        words = tuple(
            Word(text, start + n * 0.2, start + n * 0.2 + 0.15)
            for n, text in enumerate(["a", "&", "b", ">", "c"])
        )
        passage = Passage(start, start + 1.1, "a & b > c", words=words)
        growing.add(_Kept(number, start, start + 1.1, "done", (passage,)))
    for name in ("srt", "vtt"):
        script = OUTPUT_FORMATS[name].read((tmp_path / f"evening.{name}").read_bytes())
        assert script.cues is not None and [cue.text for cue in script.cues] == ["a & b > c"] * 4
        assert all(cue.end <= following.start + 1e-6 for cue, following in pairwise(script.cues))
    assert (tmp_path / "evening.txt").read_text().count("\n") == 4


def test_the_text_of_a_phrase_is_told_while_its_answer_comes(
    stream: tuple[bytes, list[float]],
    listener: Listener,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv("MANTISREED_TRUST", str(tmp_path))
    content, starts = stream
    with (
        standins(listener, tmp_path),
        live(tmp_path, "--json", "--name", "dusk.wav", engine="bittern") as process,
    ):
        told, said = process.communicate(content, timeout=60)
    assert process.returncode == 0, said.decode()
    found = rows(told)
    hearing = [row for row in found if row["state"] == "hearing"]
    done = {row["start"]: str(row["text"]) for row in found if row["state"] == "done"}
    assert hearing and len(done) == len(starts)
    for row in hearing:
        assert done[row["start"]].startswith(str(row["text"]))
