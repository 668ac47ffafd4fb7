"""Decoding in processes of their own, so that it takes place beside everything else, on all cores.

A worker is this module run as a program. It reads one line of JSON for each recording that it shall decode, and
answers with frames: a byte that tells the kind, four bytes of length, and so many bytes of content. It ends when its
input does.
"""

import base64
import json
import os
import signal
import struct
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO, Protocol, Self, TypeAlias

import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.decode import Decoder
from mantisreed.audio.encode import to_int16
from mantisreed.errors import RecordingError

Sound: TypeAlias = NDArray[np.int16]
"""Samples of shape (channels, samples), or of one channel, shape (samples,)."""

_HEAD = struct.Struct("<cI")
_BLOCK, _END, _FAILED = b"b", b"e", b"f"
_PIPE_SIZE = 1 << 20


class SoundStream(Protocol):
    """A recording as blocks of shape (channels, samples), int16, that can be gone through once."""

    @property
    def seconds(self) -> float:
        """Length of what has been given out so far."""

    def damage(self) -> list[str]:
        """What is wrong with the recording itself, once the stream has come to its end."""

    def __iter__(self) -> Iterator[Sound]: ...


class LocalStream:
    """A sound stream that is decoded on the thread that asks for it."""

    def __init__(self, path: Path, *, sample_rate: int, channels: int | None, track: int | None) -> None:
        self._decoder = Decoder(path, sample_rate=sample_rate, channels=channels, track=track)

    @property
    def seconds(self) -> float:
        return self._decoder.seconds

    def damage(self) -> list[str]:
        return self._decoder.damage()

    def __iter__(self) -> Iterator[Sound]:
        for block in self._decoder:
            yield to_int16(block)


class DecodingWorkers:
    """Processes that decode; they are started as they are needed, and used again."""

    def __init__(self) -> None:
        self._idle: list[subprocess.Popen[bytes]] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for process in self._idle:
            _stop(process)
        self._idle.clear()

    def stream(self, path: Path, *, sample_rate: int, channels: int | None, track: int | None) -> SoundStream:
        """A recording's sound, decoded in one of the processes; going through it raises as `Decoder` does."""
        request = {
            "path": base64.b64encode(os.fsencode(path.absolute())).decode(),
            "sample_rate": sample_rate,
            "channels": channels,
            "track": track,
        }
        return _RemoteStream(self, request)

    def take(self) -> "subprocess.Popen[bytes]":
        """A process that has nothing to do."""
        if self._idle:
            return self._idle.pop()
        process = subprocess.Popen(
            [sys.executable, "-m", "mantisreed.audio.workers"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            bufsize=0,
        )
        _widen(process.stdout)
        return process

    def give_back(self, process: "subprocess.Popen[bytes]") -> None:
        """This one has nothing to do again."""
        self._idle.append(process)


class _RemoteStream:
    def __init__(self, workers: DecodingWorkers, request: dict[str, Any]) -> None:
        self._workers, self._request = workers, request
        self._damage: list[str] = []
        self._samples = 0

    @property
    def seconds(self) -> float:
        rate: int = self._request["sample_rate"]
        return self._samples / rate

    def damage(self) -> list[str]:
        return self._damage

    def __iter__(self) -> Iterator[Sound]:
        process = self._workers.take()
        try:
            yield from self._read(process)
        except BaseException:
            _stop(process)
            raise
        self._workers.give_back(process)

    def _read(self, process: "subprocess.Popen[bytes]") -> Iterator[Sound]:
        assert process.stdin is not None
        assert process.stdout is not None
        process.stdin.write(json.dumps(self._request).encode() + b"\n")
        while True:
            kind, length = _HEAD.unpack(_exactly(process.stdout, _HEAD.size))
            content = _exactly(process.stdout, length)
            if kind == _BLOCK:
                channels = int.from_bytes(content[:2], "little")
                block = np.frombuffer(content, np.int16, offset=2).reshape(channels, -1)
                self._samples += block.shape[1]
                yield block
                continue
            told = json.loads(bytes(content))
            if kind == _FAILED:
                raise RecordingError(told["what"], where=told["where"], advice=told["advice"])
            self._damage = told["damage"]
            return


def _exactly(stream: Any, length: int) -> bytearray:
    content = bytearray(length)
    view, got = memoryview(content), 0
    while got < length:
        more = stream.readinto(view[got:])
        if not more:
            raise RecordingError("the process that decoded it has ended", advice="is there memory enough?")
        got += more
    return content


def _widen(stream: Any) -> None:
    """Let a pipe hold more, so that both sides wait less; only some systems can."""
    try:
        import fcntl

        fcntl.fcntl(stream.fileno(), fcntl.F_SETPIPE_SZ, _PIPE_SIZE)
    except (ImportError, AttributeError, OSError):
        pass


def _stop(process: "subprocess.Popen[bytes]") -> None:
    process.kill()
    process.communicate()


def _serve(requests: BinaryIO, answers: BinaryIO) -> None:
    for line in requests:
        request = json.loads(line)
        path = Path(os.fsdecode(base64.b64decode(request["path"])))
        options = {name: request[name] for name in ("sample_rate", "channels", "track")}
        stream = LocalStream(path, **options)
        try:
            for block in stream:
                content = np.ascontiguousarray(block)
                answers.write(_HEAD.pack(_BLOCK, content.nbytes + 2) + len(block).to_bytes(2, "little"))
                answers.write(content.data)
            _tell(answers, _END, {"damage": stream.damage()})
        except RecordingError as error:
            _tell(answers, _FAILED, {"what": error.what, "where": error.where, "advice": error.advice})


def _tell(answers: BinaryIO, kind: bytes, content: dict[str, Any]) -> None:
    encoded = json.dumps(content).encode()
    answers.write(_HEAD.pack(kind, len(encoded)) + encoded)
    answers.flush()


def main() -> None:
    """Decode what standard input asks for."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the program that started this one decides
    try:
        _serve(sys.stdin.buffer, sys.stdout.buffer)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


if __name__ == "__main__":
    main()
