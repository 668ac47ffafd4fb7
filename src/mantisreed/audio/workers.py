"""Decoding in processes of their own: beside everything else, on all cores, and where a bad
recording does no harm.

Recordings come from anywhere, and decoders are large programs in C. A worker may take so much
memory, so much time for each recording, and write no file; when it dies of one, that is an error of
this recording.

Requests go to a worker as lines of JSON; it answers with frames: a byte that tells the kind, four
bytes of length, and so many bytes of content. Nothing heavy is imported here, so that a worker can
start while the rest is loading.
"""

import base64
import json
import os
import signal
import struct
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from itertools import chain
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Protocol, Self

from mantisreed.errors import RecordingError
from mantisreed.files import printable

if TYPE_CHECKING:
    from mantisreed.audio.containers import Contents
    from mantisreed.audio.decode import IntSamples
    from mantisreed.audio.examine import Examination

HEAD = struct.Struct("<cI")
BLOCK, END, FAILED = b"b", b"e", b"f"

MOST_MEMORY = 3 << 30
"""Bytes of address space that a worker may have; a recording of ten hours needs a third of it."""

_PIPE_SIZE = 1 << 20  # bytes, the most that Linux lets an ordinary user have
# Bytes of sound that are taken at once: a worker is free for others as soon as it can be.
_READ_AHEAD = 4 << 20
_LEAST_TIME = 30.0  # seconds of computing that any recording may take
_TIME_FOR_EACH_MEGABYTE = 10.0  # seconds; a slow machine takes two for the densest formats


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

    def __init__(
        self, path: Path, *, sample_rate: int, channels: int | None, track: int | None
    ) -> None:
        from mantisreed.audio.decode import Decoder

        self._decoder = Decoder(path, sample_rate=sample_rate, channels=channels, track=track)

    @property
    def seconds(self) -> float:
        """Seconds of sound that were decoded so far."""
        return self._decoder.seconds

    def damage(self) -> list[str]:
        """What could not be read of it, in sentences."""
        return self._decoder.damage()

    def notes(self) -> list[str]:
        """What is to be said of it besides."""
        return self._decoder.notes()

    def __iter__(self) -> "Iterator[IntSamples]":
        return self._decoder.sound()


class DecodingWorkers:
    """Processes that decode; they are started as they are needed, and used again."""

    def __init__(self) -> None:
        self._idle: list[subprocess.Popen[bytes]] = []
        self._is_closed = False
        self._lock = threading.Lock()  # they are lent to threads
        # Many short recordings need no more of them than can work at once.
        self.room = threading.Semaphore(os.cpu_count() or 1)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """End those that have nothing to do; what is lent ends when it is given back."""
        with self._lock:
            self._is_closed = True
            idle, self._idle = self._idle, []
        for process in idle:
            _leave(process)

    def warm_up(self) -> None:
        """Start one already, as it will surely be needed."""
        self.give_back(_started())

    def stream(
        self, path: Path, *, sample_rate: int, channels: int | None, track: int | None
    ) -> SoundStream:
        """A recording's sound, decoded in one of the processes; going through it raises as
        `Decoder` does.
        """
        given = {"sample_rate": sample_rate, "channels": channels, "track": track}
        return _RemoteStream(self, path, sample_rate, _request("sound", path, given))

    def contents(self, path: Path) -> "Contents":
        """What a recording says of itself; raises as `probe` does."""
        from mantisreed.audio.containers import Contents

        found: Contents = self._asked("contents", path, {}, Contents)
        return found

    def examine(self, path: Path, *, track: int | None = None) -> "Examination":
        """What a recording is like; raises as `examine.examine` does."""
        from mantisreed.audio.examine import Examination

        found: Examination = self._asked("examination", path, {"track": track}, Examination)
        return found

    def _asked(self, action: str, path: Path, given: dict[str, Any], kind: type) -> Any:
        import msgspec
        import numpy as np

        with self.room, self.lent(path) as process:
            _ask(process, _request(action, path, given))
            encoded = bytes(_frame(process, path)[1])
        return msgspec.msgpack.decode(
            encoded, type=kind, dec_hook=lambda _, raw: np.frombuffer(raw, np.float32)
        )

    @contextmanager
    def lent(self, path: Path) -> "Iterator[subprocess.Popen[bytes]]":
        """A process for one recording; it is not used again when that fails."""
        process = self.take()
        try:
            yield process
        except RecordingError:
            # A recording that cannot be read does not hurt the process; one that killed it does.
            if process.poll() is None:
                self.give_back(process)
            else:
                _stop(process)
            raise
        except BaseException:
            _stop(process)
            raise
        self.give_back(process)

    def take(self) -> "subprocess.Popen[bytes]":
        """A process that has nothing to do."""
        with self._lock:
            if self._idle:
                return self._idle.pop()
        return _started()

    def give_back(self, process: "subprocess.Popen[bytes]") -> None:
        """This one has nothing to do again."""
        with self._lock:
            if not self._is_closed:
                self._idle.append(process)
                return
        _stop(process)  # nobody would end it any more


class _RemoteStream:
    def __init__(
        self, workers: DecodingWorkers, path: Path, sample_rate: int, request: bytes
    ) -> None:
        self._workers, self._path, self._sample_rate, self._request = (
            workers,
            path,
            sample_rate,
            request,
        )
        self._damage: list[str] = []
        self._notes: list[str] = []
        self._samples = 0

    @property
    def seconds(self) -> float:
        return self._samples / self._sample_rate

    def damage(self) -> list[str]:
        return self._damage

    def notes(self) -> list[str]:
        return self._notes

    def __iter__(self) -> "Iterator[IntSamples]":
        with ExitStack() as lent:
            waiting: list[IntSamples] = []
            with self._workers.room:
                process = lent.enter_context(self._workers.lent(self._path))
                blocks = self._read(process)
                size = 0
                for block in blocks:
                    waiting.append(block)
                    size += block.nbytes
                    if size >= _READ_AHEAD:
                        break
                else:
                    lent.close()  # all of it is here, and the process is free
            for block in chain(waiting, blocks):
                self._samples += block.shape[1]
                yield block

    def _read(self, process: "subprocess.Popen[bytes]") -> "Iterator[IntSamples]":
        import numpy as np

        _ask(process, self._request)
        while True:
            kind, content = _frame(process, self._path)
            if kind == END:
                told = json.loads(bytes(content))
                self._damage, self._notes = told["damage"], told["notes"]
                return
            channels = int.from_bytes(content[:2], "little")
            yield np.frombuffer(content, np.int16, offset=2).reshape(channels, -1)


def seconds_for(size: int) -> int:
    """Seconds of computing that a recording of so many bytes may take."""
    return round(_LEAST_TIME + _TIME_FOR_EACH_MEGABYTE * size / 1e6)


def _request(action: str, path: Path, given: dict[str, Any]) -> bytes:
    encoded = base64.b64encode(os.fsencode(path.absolute())).decode()
    return json.dumps({"do": action, "path": encoded, **given}).encode() + b"\n"


def _ask(process: "subprocess.Popen[bytes]", request: bytes) -> None:
    assert process.stdin is not None
    with suppress(BrokenPipeError):  # it has ended; reading its answer says of what
        process.stdin.write(request)


def _frame(process: "subprocess.Popen[bytes]", path: Path) -> tuple[bytes, bytearray]:
    """The kind and the content of the next thing that a worker says.

    Raises:
        RecordingError: it says that the recording cannot be decoded, or dies of it.
    """
    try:
        kind, length = HEAD.unpack(_exactly(process.stdout, HEAD.size))
        content = _exactly(process.stdout, length)
    except EOFError:
        raise _death(process, path) from None
    if kind == FAILED:
        told = json.loads(bytes(content))
        raise RecordingError(told["what"], where=told["where"], advice=told["advice"])
    return kind, content


_kept: "list[subprocess.Popen[bytes]] | None" = None
"""Processes that have nothing to do, while all of them are kept."""


@contextmanager
def kept_processes() -> Iterator[None]:
    """Let processes of one run go to the next one, and end them all at the end.

    Each takes a third of a second of computing to start, which is much for several short runs.
    """
    global _kept
    before, _kept = _kept, []
    try:
        yield
    finally:
        kept, _kept = _kept, before
        for process in kept:
            _stop(process)


def _leave(process: "subprocess.Popen[bytes]") -> None:
    """Keep it for others, or end it."""
    if _kept is None:
        _stop(process)
    else:
        _kept.append(process)


def _started() -> "subprocess.Popen[bytes]":
    while _kept:
        process = _kept.pop()
        if process.poll() is None:
            return process
        _stop(process)  # it has died meanwhile
    # Without -P, modules would be looked for in the current folder, and a folder from elsewhere may
    # hold some.
    command = [sys.executable, "-P", "-m", "mantisreed.audio.worker"]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)  # noqa: S603
    _widen(process.stdout)
    return process


def _death(process: "subprocess.Popen[bytes]", path: Path) -> RecordingError:
    """Why a worker is no more."""
    code = process.wait()
    where = printable(path)
    if hasattr(signal, "SIGXCPU") and code == -signal.SIGXCPU:
        size = path.stat().st_size if path.exists() else 0
        return RecordingError(
            f"decoding it took more than {seconds_for(size)} s of computing", where=where
        )
    how, advice = "", "is there memory enough?"
    if code < 0:
        how, advice = (
            f" ({signal.Signals(-code).name})",
            f"{advice} is the file what it seems to be?",
        )
    return RecordingError(f"the process that decoded it has ended{how}", where=where, advice=advice)


def _exactly(stream: Any, length: int) -> bytearray:
    content = bytearray(length)
    view, got = memoryview(content), 0
    while got < length:
        more = stream.readinto(view[got:])
        if not more:
            raise EOFError
        got += more
    return content


def _widen(stream: Any) -> None:
    """Let a pipe hold more, so that both sides wait less; only some systems can."""
    try:
        import fcntl

        fcntl.fcntl(stream.fileno(), fcntl.F_SETPIPE_SZ, _PIPE_SIZE)
    except (ImportError, AttributeError, OSError):  # it is only slower
        pass


def _stop(process: "subprocess.Popen[bytes]") -> None:
    process.kill()
    process.communicate()
