"""Recordings as containers: opened safely, and what their headers say.

Only the recording's own bytes are ever read: they reach FFmpeg through a file object, and only
containers of sound and video are tried, so that a playlist or a strange name cannot make it open
anything else.
"""

import os
import re
import stat
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

import av

from mantisreed.audio.promises import promised_seconds
from mantisreed.errors import RecordingError, reason_of
from mantisreed.files import printable

# Tags are bytes of any encoding. PyAV 19 keeps what is no UTF-8 as lone surrogates, and takes no
# argument for it; before, it raised UnicodeDecodeError unless it was told to do the same.
_TAGS_OF_ANY_BYTES: dict[str, Any] = (
    {"metadata_errors": "surrogateescape"} if int(av.__version__.partition(".")[0]) < 19 else {}
)

# FFmpeg's names. Kept short on purpose: each one is a parser that a stranger's file reaches.
_CONTAINERS = (
    "aac,ac3,aiff,amr,amrnb,amrwb,ape,asf,au,avi,caf,dts,dtshd,eac3,flac,flv,g722,gsm,matroska,mov,mp3,mpeg,mpegts,"
    "mxf,nistsphere,ogg,rm,tta,voc,w64,wav,webm,wv"
)
# Containers without a length in their header, whose duration FFmpeg guesses by the bit rate of the
# first frames.
_GUESSED = frozenset(("aac", "amr", "amrnb", "amrwb"))
_WAV_HEAD = 12  # bytes, before its first chunk
_LONGEST_TAG = 500  # characters; what is longer is a text of its own, not a name


@dataclass(frozen=True, slots=True)
class Track:
    """One track of sound.

    Attributes:
        number: counts the sound tracks of a recording from 1.
        codec: FFmpeg's name of it.
        sample_rate: samples per second; 0 when the header does not say.
        channels: how many there are.
        language: tag of it, as the container has it.
        is_default: whether players are to take it by themselves.
        promised: seconds that the header says it has, where the header counts; None where it does
            not, or guesses.
    """

    number: int
    codec: str
    sample_rate: int
    channels: int
    language: str | None
    is_default: bool
    promised: float | None = None


@dataclass(frozen=True, slots=True)
class Contents:
    """What a recording says of itself.

    Attributes:
        container: the short name of the container format.
        duration: seconds, as the header has it; None when it does not say.
        tracks: the tracks of sound, in order; never empty.
        has_video: whether moving pictures are in it as well (cover art does not count).
        tags: what else it says, such as `title` and `artist`, by names of small letters, digits and
            underscores.
    """

    container: str
    duration: float | None
    tracks: tuple[Track, ...]
    has_video: bool
    tags: Mapping[str, str] = field(default_factory=dict)

    def chosen(self, number: int | None) -> Track:
        """The track with this number; with None the default one, or else the first.

        Raises:
            RecordingError: there is no such track.
        """
        if number is None:
            return next((track for track in self.tracks if track.is_default), self.tracks[0])
        for track in self.tracks:
            if track.number == number:
                return track
        known = ", ".join(
            f"{track.number} ({track.codec}{_in_language(track)})" for track in self.tracks
        )
        raise RecordingError(f"there is no track {number}", advice=f"its tracks of sound: {known}")


def probe(source: str | os.PathLike[str] | BinaryIO) -> Contents:
    """What a recording says of itself, without decoding it.

    Raises:
        RecordingError: it is not a recording, or has no sound.
    """
    name = "" if hasattr(source, "read") else printable(os.fspath(source))
    with named_in_errors(name), open_container(source) as (container, file):
        return contents_of(container, file)


@contextmanager
def named_in_errors(name: str) -> Iterator[None]:
    """Within it, errors say which recording they are about."""
    try:
        yield
    except RecordingError as error:
        error.where = error.where or name or None
        raise


@contextmanager
def open_container(
    source: str | os.PathLike[str] | BinaryIO,
) -> Iterator[tuple["av.container.InputContainer", BinaryIO]]:
    """A recording, opened, and its bytes as a file, for as long as the context lasts.

    Raises:
        RecordingError: it cannot be read, or is no recording.
    """
    if not isinstance(source, (str, os.PathLike)):
        with _container(source) as container:
            yield container, source
        return
    try:
        if not stat.S_ISREG(os.stat(source).st_mode):  # noqa: PTH116 - opening a pipe would wait for ever
            raise RecordingError(
                "this is not a file", advice="pipes and devices are no files; give a file"
            )
        opened = Path(source).open("rb")  # noqa: SIM115 - closed by the with below; only opening may raise this
    except OSError as error:
        raise RecordingError(f"cannot be read ({reason_of(error)})") from error
    with opened as file, _container(file) as container:
        yield container, file


def _container(file: BinaryIO) -> "av.container.InputContainer":
    if file.seek(0, os.SEEK_END) == 0:
        raise RecordingError("the file is empty")
    options = {"format_whitelist": _CONTAINERS, **_wav_options(file)}
    file.seek(0)
    try:
        container: av.container.InputContainer = av.open(
            file, mode="r", options=options, **_TAGS_OF_ANY_BYTES
        )
    except (av.error.FFmpegError, OSError) as error:
        raise RecordingError(
            "this is not a recording that can be read, or only a part of one",
            advice="expected: WAV, FLAC, MP3, Ogg, Opus, M4A, AMR, or a video with sound",
        ) from error
    return container


def _wav_options(file: BinaryIO) -> dict[str, str]:
    """What FFmpeg is to do with a WAV file that it would not do by itself; empty for others."""
    file.seek(0)
    head = file.read(_WAV_HEAD)
    if head[:4] != b"RIFF" or head[8:] != b"WAVE":
        return {}
    # Frames of another codec may be disguised as samples. FFmpeg goes through all the sound of a
    # short recording for them, again and again, which takes as long as all else that is done with
    # it. They begin at once, and it looks at the first packet in any case.
    options = {"max_probe_packets": "1"}
    if _goes_on_behind_end(file):
        options["ignore_length"] = "1"
    return options


def _goes_on_behind_end(file: BinaryIO) -> bool:
    """Whether sound goes on behind the end that a WAV header gives: what follows there is no
    chunk.
    """
    end = file.seek(0, os.SEEK_END)
    position = _WAV_HEAD
    while position + 8 <= end:
        file.seek(position)
        name, size = (chunk := file.read(8))[:4], int.from_bytes(chunk[4:], "little")
        if not all(0x20 <= byte < 0x7F for byte in name):
            return True
        position += 8 + size + size % 2
    return False


def contents_of(container: "av.container.InputContainer", file: BinaryIO) -> Contents:
    """What an opened recording says of itself.

    Raises:
        RecordingError: there is no sound in it.
    """
    audio = container.streams.audio
    attached_picture = av.stream.Disposition.attached_pic
    has_video = any(not stream.disposition & attached_picture for stream in container.streams.video)
    if not audio:
        kind = "a video without sound" if has_video else "no sound in it"
        raise RecordingError(kind, advice="give the recording that holds the speech")
    tracks = tuple(
        Track(
            number,
            stream.codec_context.codec.canonical_name if stream.codec_context else "unknown",
            stream.rate or 0,
            stream.channels,
            stream.language if stream.language != "und" else None,
            bool(stream.disposition & av.stream.Disposition.default),
            promised_seconds(container, stream, file),
        )
        for number, stream in enumerate(audio, 1)
    )
    return Contents(
        container.format.name, _duration(container, tracks), tracks, has_video, _tags(container)
    )


def _tags(container: "av.container.InputContainer") -> dict[str, str]:
    """What the container, or its first track of sound, says of the recording; on single lines."""
    found = {**dict(container.streams.audio[0].metadata), **dict(container.metadata)}
    return {
        re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_"): " ".join(_as_text(value).split())
        for name, value in found.items()
        if 0 < len(value) <= _LONGEST_TAG and name.isascii()
    }


def _as_text(tag: str) -> str:
    """A tag with a replacement character for each byte that is no UTF-8."""
    return tag.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def _duration(container: "av.container.InputContainer", tracks: tuple[Track, ...]) -> float | None:
    """Seconds, as the header has them, or FFmpeg's estimate where that is a good one; None where
    nobody knows.
    """
    name = container.format.name
    is_guessed = name in _GUESSED or (name == "mp3" and not container.streams.audio[0].duration)
    if is_guessed or not container.duration or container.duration < 0:
        return None
    there = container.duration / av.time_base
    # FFmpeg trims some headers' lengths to the size of the file; what was promised counts.
    return max([there, *(track.promised for track in tracks if track.promised is not None)])


def _in_language(track: Track) -> str:
    if track.language:
        return f", {track.language}"
    return ""
