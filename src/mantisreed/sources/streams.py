"""Sound that comes on standard input: a whole recording, or a stream from a recorder, WAV or
headerless PCM.
"""

import hashlib
import os
import re
import secrets
import select
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

import numpy as np
from numpy.typing import NDArray

from mantisreed.errors import InputError, reason_of
from mantisreed.folders import forget, opened
from mantisreed.sources.recordings import Source
from mantisreed.state import make_folder

STANDARD_INPUT = "-"
"""How standard input is named among the sources."""

DEFAULT_NAME = "standard-input"

_FOLDER = "standard-input"
_LARGEST = 8 << 30  # bytes of a whole recording
_BLOCK = 1 << 20  # bytes that are copied at once
_PCM, _FLOAT, _EXTENSIBLE = 1, 3, 0xFFFE  # format tags of WAV
_LARGEST_CHUNK = 1 << 20  # bytes of a chunk before the sound; recorders write a few hundred
_HEARD_AT_ONCE = 0.05  # seconds of a stream
_LOOK = 0.1  # seconds between two looks whether somebody wants to stop
_FORMAT = re.compile(
    r"(?P<rate>[0-9]+)(:(?P<channels>[0-9]+))?(:(?P<form>s16le|s24le|s32le|f32le|u8))?", re.ASCII
)
_FORMS = {
    "u8": (1, False),
    "s16le": (2, False),
    "s24le": (3, False),
    "s32le": (4, False),
    "f32le": (4, True),
}


class Readable(Protocol):
    """What can be read from."""

    def read(self, size: int, /) -> bytes:
        """At most so many bytes; nothing at the end."""


@dataclass(frozen=True, slots=True)
class StreamFormat:
    """How samples of a stream are written down, little-endian.

    Attributes:
        sample_rate: in Hz.
        channels: that are interleaved; they are mixed.
        width: bytes of a sample.
        is_float: whether they are floating point numbers.
    """

    sample_rate: int = 16_000
    channels: int = 1
    width: int = 2
    is_float: bool = False

    @classmethod
    def named(cls, text: str) -> "StreamFormat":
        """`RATE`, `RATE:CHANNELS` or `RATE:CHANNELS:FORMAT`, such as `48000:2:s24le`.

        Raises:
            InputError: it is none.
        """
        found = _FORMAT.fullmatch(text.strip())
        advice = "such as 16000, 44100:2 or 48000:1:f32le; formats are " + ", ".join(_FORMS)
        if found is None:
            raise InputError(
                f"{text!r} is no format of headerless sound", where="--pcm", advice=advice
            )
        width, is_float = _FORMS[found["form"] or "s16le"]
        return cls(int(found["rate"]), int(found["channels"] or 1), width, is_float).checked()

    def checked(self) -> "StreamFormat":
        """The same, if it makes sense.

        Raises:
            InputError: it does not.
        """
        if not (1000 <= self.sample_rate <= 768_000 and 1 <= self.channels <= 64):
            raise InputError(f"{self.sample_rate} Hz with {self.channels} channels cannot be heard")
        if self.width not in (1, 2, 3, 4, 8) or (self.is_float and self.width not in (4, 8)):
            raise InputError("samples of this size cannot be heard")
        return self

    @property
    def frame(self) -> int:
        """Bytes of one sample of all channels."""
        return self.width * self.channels

    def samples(self, content: bytes) -> NDArray[np.int16]:
        """Whole frames as one channel, int16."""
        if self.is_float:
            numbers = np.frombuffer(content, "<f4" if self.width == 4 else "<f8").astype(np.float32)
        elif self.width == 1:
            numbers = (np.frombuffer(content, np.uint8).astype(np.float32) - 128.0) / 128.0
        elif self.width == 3:
            parts = np.frombuffer(content, np.uint8).reshape(-1, 3).astype(np.int32)
            # Into the upper bytes of an int32, which gives the sign without asking for it.
            whole = (parts[:, 0] << 8) | (parts[:, 1] << 16) | (parts[:, 2] << 24)
            numbers = whole.astype(np.float32) / 2147483648.0
        else:
            kind, scale = ("<i2", 32768.0) if self.width == 2 else ("<i4", 2147483648.0)
            numbers = np.frombuffer(content, kind).astype(np.float32) / scale
        mixed = numbers.reshape(-1, self.channels).mean(axis=1)
        sound: NDArray[np.int16] = (
            np.clip(np.nan_to_num(mixed), -1.0, 32767 / 32768) * 32768.0
        ).astype(np.int16)
        return sound


class StoppableInput:
    """Standard input as it comes: reading takes what is there, and ends at once when somebody wants
    to stop.
    """

    def __init__(self, stream: BinaryIO, is_stopping: Callable[[], bool]) -> None:
        self._stream, self._is_stopping = stream, is_stopping
        try:
            self._descriptor: int | None = stream.fileno()
            # A shell may have left it non-blocking, and a read would fail where it should wait.
            os.set_blocking(self._descriptor, True)
        except (OSError, AttributeError, ValueError):
            self._descriptor = None  # no file of the system's, such as bytes in memory

    def read(self, size: int) -> bytes:
        """What has come, at most so many bytes; nothing at the end."""
        if self._descriptor is None:
            if self._is_stopping():
                return b""
            return self._stream.read(size)
        while not self._is_stopping():
            # Not a plain read: that would not see a stop before the next sound comes.
            if select.select([self._descriptor], [], [], _LOOK)[0]:
                return os.read(self._descriptor, size)
        return b""


def stream_blocks(
    stream: Readable, given: StreamFormat | None
) -> Iterator[tuple[int, NDArray[np.int16]]]:
    """The sound of a stream as it comes: the sample rate, and blocks of one channel, shape
    (samples,).

    A stream that begins as WAV says itself how it is written; the length in its head does not
    count, as recorders do not know it.

    Args:
        stream: whose reading gives what is there, so that nothing waits for a buffer to fill.
        given: how a headerless stream is written; None takes 16 kHz, one channel, 16 bits.

    Raises:
        InputError: it is another kind of file, or WAV that is packed.
    """
    head = _exactly(stream, 12)
    if head[:4] in (b"RIFF", b"RF64") and head[8:12] == b"WAVE":
        form, waiting = _wav_format(stream), b""
    else:
        _refuse_containers(head)
        # No head of WAV: what was read to see that is sound already.
        form, waiting = given or StreamFormat(), head
    size = max(form.frame, round(form.sample_rate * _HEARD_AT_ONCE) * form.frame)
    while True:
        block = stream.read(size)
        waiting += block
        whole = len(waiting) // form.frame * form.frame
        if whole:
            yield form.sample_rate, form.samples(waiting[:whole])
            waiting = waiting[whole:]
        if not block:
            return


def _refuse_containers(head: bytes) -> None:
    kinds = {
        b"fLaC": "FLAC",
        b"OggS": "Ogg",
        b"ID3": "MP3",
        b"\x1aE\xdf\xa3": "Matroska or WebM",
        b"FORM": "AIFF",
    }
    named = next((name for mark, name in kinds.items() if head.startswith(mark)), None)
    if head[4:8] == b"ftyp":
        named = "MP4"
    if named is not None:
        advice = "let the recorder write WAV or headerless PCM, or leave out --live"
        raise InputError(
            f"this stream is {named}, which cannot be heard as it comes", where="-", advice=advice
        )


def _exactly(stream: Readable, size: int) -> bytes:
    content = b""
    while len(content) < size:
        more = stream.read(size - len(content))
        if not more:
            break
        content += more
    return content


def _wav_format(stream: Readable) -> StreamFormat:
    """Read chunks up to the sound itself."""
    form: StreamFormat | None = None
    while True:
        head = _exactly(stream, 8)
        if len(head) < 8:
            raise InputError("this WAV stream ends before its sound begins", where="-")
        name, size = head[:4], struct.unpack("<I", head[4:])[0]
        if name == b"data":
            if form is None:
                raise InputError(
                    "this WAV stream does not say how its samples are written", where="-"
                )
            return form
        if size > _LARGEST_CHUNK:
            raise InputError(
                "this WAV stream has a chunk before its sound that is too large", where="-"
            )
        # RIFF fills chunks of odd size up with a byte that the size does not count.
        content = _exactly(stream, size + size % 2)
        if name == b"fmt ":
            form = _described(content)


def _described(content: bytes) -> StreamFormat:
    if len(content) < 16:
        raise InputError("this WAV stream does not say how its samples are written", where="-")
    tag, channels, rate, _, _, bits = struct.unpack("<HHIIHH", content[:16])
    # The extensible form has the real tag at the beginning of its GUID.
    if tag == _EXTENSIBLE and len(content) >= 26:
        tag = struct.unpack("<H", content[24:26])[0]
    if tag not in (_PCM, _FLOAT):
        advice = "let the recorder write PCM, or leave out --live"
        raise InputError("the samples of this WAV stream are packed", where="-", advice=advice)
    return StreamFormat(rate, channels, (bits + 7) // 8, tag == _FLOAT).checked()


def kept_input(stream: BinaryIO, hidden: Path, name: str) -> Source:
    """A whole recording from standard input, kept as a file in the workspace's hidden folder.

    It is known by its content, so that the same recording is the same source again.

    Raises:
        InputError: nothing came, it is too large, or it cannot be kept.
    """
    folder = hidden / _FOLDER
    make_folder(folder)
    part = folder / f".{secrets.token_hex(8)}.part"
    digest, size = hashlib.sha256(), 0
    try:
        with os.fdopen(opened(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as sink:
            while block := stream.read(_BLOCK):
                size += len(block)
                if size > _LARGEST:
                    raise InputError("standard input is larger than any recording", where="-")
                digest.update(block)
                sink.write(block)
        if not size:
            raise InputError("nothing came on standard input", where="-")
        place = folder / digest.hexdigest()[:16]
        make_folder(place)
        kept = place / (Path(name).name or DEFAULT_NAME)
        part.replace(kept)
    except OSError as error:
        raise InputError(
            f"standard input cannot be kept ({reason_of(error)})", where="-"
        ) from error
    finally:
        forget(part)
    return Source(kept)


def drop_input(source: Source) -> None:
    """Remove a recording that came on standard input, when it is done with."""
    if source.path.parent.parent.name == _FOLDER:
        forget(source.path)
        if not any(source.path.parent.glob("*")):  # or another name of the same recording
            forget(source.path.parent)
