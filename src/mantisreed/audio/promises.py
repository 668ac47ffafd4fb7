"""How long a recording's header says that a track is, where the header can be held to it.

A recording is called incomplete when clearly less sound comes out of it than its header promised.
FFmpeg gives a duration for nearly every file, but often one that it guessed from the bit rate, or
that belongs to the pictures. So each kind of container has a row here that says which field counts,
and containers without such a field promise nothing.
"""

import os
from collections.abc import Callable
from typing import TYPE_CHECKING, BinaryIO

if TYPE_CHECKING:
    import av

_HEAD = 64 << 10  # bytes at the start of a file that the headers below are looked for in
_ID3_HEADER = 10  # bytes (ID3v2.4, 3.1)
_ID3V1 = 128  # bytes of the tag at the end of an MP3 file
_XING_FRAMES, _XING_BYTES = 1, 2  # flags of the de facto Xing and Info headers
# What programs that stream write as a size.
_UNKNOWN_SIZES = frozenset((0, 0xFFFF_FFFF, 0xFFFF_FF00))
# GUID, as stored (ASF specification, 10.1).
_ASF_FILE_PROPERTIES = bytes.fromhex("a1dcab8c47a9cf118ee400c00c205365")
_ASF_SIZE_AT, _ASF_DURATION_AT, _ASF_PREROLL_AT = 40, 64, 80  # bytes from that GUID
_W64_RIFF = b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\x00\x00"
# The element's ID, and its size: a float of 4 or 8 bytes.
_MATROSKA_DURATION = (
    b"\x44\x89\x84",
    b"\x44\x89\x88",
)


def promised_seconds(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """Seconds of sound that the header says this track has; None where the header has no exact
    figure for it.

    Args:
        container: the recording, opened.
        stream: the track.
        file: the same recording's bytes; where it stands is kept.
    """
    reads = _PROMISES.get(container.format.name.partition(",")[0])
    if reads is None:
        return None
    position = file.tell()
    try:
        return reads(container, stream, file)
    finally:
        file.seek(position)


def _of_the_stream(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """The header counts the samples, or time, of each track by itself."""
    if not stream.duration or stream.duration < 0 or stream.time_base is None:
        return None
    return float(stream.duration * stream.time_base)


def _of_pcm_frames(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """The header counts frames. FFmpeg trims its duration to the size of the file, but not the
    count.
    """
    is_pcm = stream.codec_context is not None and stream.codec_context.name.startswith("pcm_")
    if not is_pcm or not stream.frames or not stream.rate:
        return None
    return float(stream.frames / stream.rate)


def _of_the_only_stream(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """The header has one duration for the whole file: that of this track when there is no other
    one.
    """
    if len(container.streams) != 1 or not container.duration or container.duration < 0:
        return None
    return float(container.duration / 1_000_000)  # FFmpeg's AV_TIME_BASE


def _of_matroska(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """Muxers tag each track with its length; else the segment's counts, if it is in the file and
    not guessed.
    """
    hours, _, rest = str(stream.metadata.get("DURATION", "")).partition(":")
    minutes, _, seconds = rest.partition(":")
    try:
        return int(hours) * 3600 + int(minutes) * 60 + float(seconds)
    except ValueError:
        pass  # no such tag, or one that holds something else
    file.seek(0)
    head = file.read(_HEAD)
    if not any(element in head for element in _MATROSKA_DURATION):
        return None
    return _of_the_only_stream(container, stream, file)


def _of_wav(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """A RIFF header says how many bytes follow. RF64 counts samples, which FFmpeg takes as they
    are.
    """
    file.seek(0)
    start = file.read(8)
    if start[:4] != b"RIFF":
        return _of_the_stream(container, stream, file)
    size = int.from_bytes(start[4:], "little")
    if size in _UNKNOWN_SIZES:
        return None
    return _scaled(container, file, size + 8)


def _of_w64(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """Its first chunk holds the size of the whole file in 64 bits (Sony Wave64)."""
    file.seek(0)
    start = file.read(24)
    if not start.startswith(_W64_RIFF):
        return None
    return _scaled(container, file, int.from_bytes(start[16:], "little"))


def _of_asf(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """Its header holds the size and the length of the whole file (ASF specification, 3.2)."""
    file.seek(0)
    head = file.read(_HEAD)
    found = head.find(_ASF_FILE_PROPERTIES)
    if found < 0:
        return None

    def field(offset: int) -> int:
        return int.from_bytes(head[found + offset : found + offset + 8], "little")

    if field(_ASF_SIZE_AT) <= file.seek(0, os.SEEK_END):
        return None
    # Play duration in units of 100 ns, with the preroll, which is in milliseconds.
    return field(_ASF_DURATION_AT) / 1e7 - field(_ASF_PREROLL_AT) / 1e3


def _of_mp3(
    container: "av.container.InputContainer", stream: "av.AudioStream", file: BinaryIO
) -> float | None:
    """The first frame may say how many bytes of sound follow. Its count of frames is often wrong,
    and is not used.
    """
    file.seek(0)
    head = file.read(_ID3_HEADER)
    start = 0
    if head[:3] == b"ID3" and len(head) == _ID3_HEADER:
        # The size is in four bytes of seven bits (ID3v2.4, 3.1).
        start = _ID3_HEADER + sum(
            (byte & 0x7F) << shift for byte, shift in zip(head[6:], (21, 14, 7, 0), strict=True)
        )
    file.seek(start)
    frame = file.read(4096)
    tag = max(frame.find(b"Xing"), frame.find(b"Info"))
    if tag < 0 or len(frame) < tag + 16:
        return None
    flags = int.from_bytes(frame[tag + 4 : tag + 8], "big")
    if not flags & _XING_BYTES:
        return None
    at = tag + 8 + (4 if flags & _XING_FRAMES else 0)
    sound = int.from_bytes(frame[at : at + 4], "big")
    if sound in _UNKNOWN_SIZES:
        return None
    if start + sound <= file.seek(0, os.SEEK_END) + _ID3V1:  # programs count the last tag or not
        return None
    if flags & _XING_FRAMES and container.duration:
        # The only container whose duration FFmpeg does not trim.
        return float(container.duration / 1_000_000)
    return _scaled(container, file, start + sound)


def _scaled(
    container: "av.container.InputContainer", file: BinaryIO, promised: int
) -> float | None:
    """Seconds of the whole file, when its header says that it has so many bytes; None where all of
    them are there.
    """
    size = file.seek(0, os.SEEK_END)
    if promised <= size or not container.duration or container.duration < 0:
        return None
    # FFmpeg trims its duration to what is there.
    return container.duration / 1_000_000 * promised / size


_Reader = Callable[["av.container.InputContainer", "av.AudioStream", BinaryIO], float | None]

# By FFmpeg's first name for the container. What is not here (ADTS, AC-3, AMR, GSM, MPEG streams)
# has no header that counts, and FFmpeg guesses by the bit rate.
_PROMISES: dict[str, _Reader] = {
    "aiff": _of_pcm_frames,
    "ape": _of_the_stream,
    "asf": _of_asf,
    "au": _of_the_stream,
    "avi": _of_pcm_frames,
    "caf": _of_pcm_frames,
    "flac": _of_the_stream,
    "flv": _of_the_only_stream,
    "matroska": _of_matroska,
    "mov": _of_the_stream,
    "mp3": _of_mp3,
    "mxf": _of_the_stream,
    "nistsphere": _of_the_stream,
    "rm": _of_the_stream,
    "tta": _of_the_stream,
    "w64": _of_w64,
    "wav": _of_wav,
    "wv": _of_the_stream,
}
