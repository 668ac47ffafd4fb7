"""Decoding in processes of their own, so that it takes place beside everything else, on all cores.

Requests go to a worker as lines of JSON; it answers with frames: a byte that tells the kind, four bytes of length,
and so many bytes of content. Nothing heavy is imported here, so that a worker can start while the rest is loading.
"""

import base64
import json
import os
import struct
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Protocol, Self

from mantisreed.errors import RecordingError

if TYPE_CHECKING:
    from mantisreed.audio.decode import IntSamples

HEAD = struct.Struct("<cI")
BLOCK, END, FAILED = b"b", b"e", b"f"

_PIPE_SIZE = 1 << 20


class SoundStream(Protocol):
    """A recording as blocks of shape (channels, samples), int16, that can be gone through once."""

    @property
    def seconds(self) -> float:
        """Length of what has been given out so far."""

    def damage(self) -> list[str]:
        """What is wrong with the recording itself, once the stream has come to its end."""

    def notes(self) -> list[str]:
        """What a user may want to know, once the stream has come to its end."""

    def __iter__(self) -> "Iterator[IntSamples]": ...


class LocalStream:
    """A sound stream that is decoded on the thread that asks for it."""

    def __init__(self, path: Path, *, sample_rate: int, channels: int | None, track: int | None) -> None:
        from mantisreed.audio.decode import Decoder

        self._decoder = Decoder(path, sample_rate=sample_rate, channels=channels, track=track)

    @property
    def seconds(self) -> float:
        return self._decoder.seconds

    def damage(self) -> list[str]:
        return self._decoder.damage()

    def notes(self) -> list[str]:
        return self._decoder.notes()

    def __iter__(self) -> "Iterator[IntSamples]":
        return self._decoder.sound()


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

    def warm_up(self) -> None:
        """Start one already, as it will surely be needed."""
        self._idle.append(_started())

    def stream(self, path: Path, *, sample_rate: int, channels: int | None, track: int | None) -> SoundStream:
        """A recording's sound, decoded in one of the processes; going through it raises as `Decoder` does."""
        encoded = base64.b64encode(os.fsencode(path.absolute())).decode()
        request = {"path": encoded, "sample_rate": sample_rate, "channels": channels, "track": track}
        return _RemoteStream(self, request)

    def take(self) -> "subprocess.Popen[bytes]":
        """A process that has nothing to do."""
        return self._idle.pop() if self._idle else _started()

    def give_back(self, process: "subprocess.Popen[bytes]") -> None:
        """This one has nothing to do again."""
        self._idle.append(process)


class _RemoteStream:
    def __init__(self, workers: DecodingWorkers, request: dict[str, Any]) -> None:
        self._workers, self._request = workers, request
        self._damage: list[str] = []
        self._notes: list[str] = []
        self._samples = 0

    @property
    def seconds(self) -> float:
        rate: int = self._request["sample_rate"]
        return self._samples / rate

    def damage(self) -> list[str]:
        return self._damage

    def notes(self) -> list[str]:
        return self._notes

    def __iter__(self) -> "Iterator[IntSamples]":
        process = self._workers.take()
        try:
            yield from self._read(process)
        except BaseException:
            _stop(process)
            raise
        self._workers.give_back(process)

    def _read(self, process: "subprocess.Popen[bytes]") -> "Iterator[IntSamples]":
        import numpy as np

        assert process.stdin is not None
        assert process.stdout is not None
        try:
            process.stdin.write(json.dumps(self._request).encode() + b"\n")
        except BrokenPipeError as error:
            raise _ended() from error
        while True:
            kind, length = HEAD.unpack(_exactly(process.stdout, HEAD.size))
            content = _exactly(process.stdout, length)
            if kind == BLOCK:
                channels = int.from_bytes(content[:2], "little")
                block = np.frombuffer(content, np.int16, offset=2).reshape(channels, -1)
                self._samples += block.shape[1]
                yield block
                continue
            told = json.loads(bytes(content))
            if kind == FAILED:
                raise RecordingError(told["what"], where=told["where"], advice=told["advice"])
            self._damage, self._notes = told["damage"], told["notes"]
            return


def _started() -> "subprocess.Popen[bytes]":
    command = [sys.executable, "-m", "mantisreed.audio.worker"]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)  # noqa: S603
    _widen(process.stdout)
    return process


def _ended() -> RecordingError:
    return RecordingError("the process that decoded it has ended", advice="is there memory enough?")


def _exactly(stream: Any, length: int) -> bytearray:
    content = bytearray(length)
    view, got = memoryview(content), 0
    while got < length:
        more = stream.readinto(view[got:])
        if not more:
            raise _ended()
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
