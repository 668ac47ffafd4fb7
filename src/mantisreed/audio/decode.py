"""What a recording holds, and its samples as a stream of blocks, through PyAV.

Only the recording's own bytes are ever read: they reach the decoder through a file object, and only containers
of sound and video are tried, so that a playlist or a strange name cannot make it open anything else.
"""

import math
import os
import re
import stat
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, TypeAlias

import av
import av.audio.fifo
import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.phase import Opposition
from mantisreed.errors import RecordingError, reason_of
from mantisreed.files import printable
from mantisreed.units import clock, short_duration

SAMPLE_RATE = 16_000
"""Samples per second that speech engines work at; more holds nothing they would use."""

# One resampler call per decoded frame costs twice as much as one per block of this many samples.
_BLOCK = 65_536
_MP3_HEADER = 4096  # bytes; a frame with such a header is shorter
_LONGEST_SILENCE = 3600.0  # seconds without sound that a recording may claim by its times alone
_MOST_SILENCE = 10.0  # times as much silence as sound before it, where that is more
_LEAST_GAP = 0.1  # seconds; times in containers are uneven by less
_GAPS_TOLD = 3
_LOUDEST = 16.0  # of full scale; what is over this is damage, not sound
_CONTAINERS = (
    "aac,ac3,aiff,amr,amrnb,amrwb,ape,asf,au,avi,caf,eac3,flac,flv,gsm,matroska,mov,mp3,mpeg,mpegts,"
    "ogg,rm,tta,voc,w64,wav,webm,wv"
)

Samples: TypeAlias = NDArray[np.float32]
IntSamples: TypeAlias = NDArray[np.int16]


@dataclass(frozen=True, slots=True)
class Track:
    """One track of sound. `number` counts the sound tracks of a recording from 1."""

    number: int
    codec: str
    sample_rate: int
    channels: int
    language: str | None
    is_default: bool


@dataclass(frozen=True, slots=True)
class Contents:
    """What a recording says of itself.

    Attributes:
        container: the short name of the container format.
        duration: seconds, as the header has it; None when it does not say.
        tracks: the tracks of sound, in order; never empty.
        has_video: whether moving pictures are in it as well (cover art does not count).
        tags: what else it says, such as `title` and `artist`, by names of small letters, digits and underscores.
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
        known = ", ".join(f"{track.number} ({track.codec}{_in_language(track)})" for track in self.tracks)
        raise RecordingError(f"there is no track {number}", advice=f"its tracks of sound: {known}")


class Decoder:
    """The samples of one track of a recording, as a stream.

    Iterating gives blocks of shape (channels, samples), float32, full scale at 1.0, at `sample_rate`. Memory does
    not grow with the recording's length.

    Where moving pictures start before the sound does, the stream begins with silence of that length, so that times
    are those of the pictures.

    Attributes:
        contents: what the recording says of itself.
        track: the track that is decoded.
        gaps: where no sound could be read so far, (start, end) in seconds; silence stands there.
        seconds: length of what has been given out so far.
    """

    def __init__(
        self,
        source: str | os.PathLike[str] | BinaryIO,
        *,
        sample_rate: int = SAMPLE_RATE,
        channels: int | None = 1,
        track: int | None = None,
    ) -> None:
        """Open nothing yet.

        Args:
            source: a path, or a seekable binary file.
            sample_rate: samples per second of the blocks.
            channels: 1 mixes all channels into one; None keeps those of the track.
            track: which track of sound, from 1; None takes the default one.
        """
        self._source = source
        self._name = "" if hasattr(source, "read") else printable(os.fspath(source))
        self._number = track
        self.sample_rate = sample_rate
        self._channels = channels
        self.contents: Contents
        self.track: Track
        self.gaps: list[tuple[float, float]] = []
        self._format = "flt"
        self._damaged = 0
        self._given = 0
        self._changes = 0  # of rate or channels, midway
        self._opposition = Opposition()

    @property
    def seconds(self) -> float:
        """Seconds given out so far."""
        return self._given / self.sample_rate

    @property
    def is_cut_short(self) -> bool:
        """Whether, at the stream's end, clearly less has come than the header promised."""
        promised = self.contents.duration
        # Where files of several kinds are joined, the header speaks of the first one only.
        if promised is None or self._changes:
            return False
        return promised - self.seconds > max(1.0, 0.02 * promised)

    def notes(self) -> list[str]:
        """What a user may want to know, once the stream has come to its end."""
        if not self._opposition.was_found:
            return []
        return ["its two channels are of opposite phase, so that their mix is silent: one was turned round"]

    def damage(self) -> list[str]:
        """What is wrong with the recording itself, in words, once the stream has come to its end."""
        found = [
            f"no sound could be read from {clock(start)} to {clock(end)}: it counts as silence"
            for start, end in self.gaps[:_GAPS_TOLD]
        ]
        if len(self.gaps) > _GAPS_TOLD:
            found.append(f"no sound could be read in {len(self.gaps) - _GAPS_TOLD} more places")
        # Where files are joined, the header of the next one is no sound, and looks like damage.
        damaged = self._damaged - self._changes
        if damaged > 0 and not self.gaps:
            parts = "1 damaged part" if damaged == 1 else f"{damaged} damaged parts"
            found.append(f"{parts} of the recording {'was' if damaged == 1 else 'were'} left out")
        if self.is_cut_short:
            promised = short_duration(self.contents.duration or 0.0)
            found.insert(0, f"the recording breaks off at {short_duration(self.seconds)} of {promised}")
        return found

    def __iter__(self) -> Iterator[Samples]:
        return self._blocks("flt")

    def sound(self) -> Iterator[IntSamples]:
        """The same blocks as 16-bit integers, in less time."""
        for block in self._blocks("s16"):
            yield to_int16(block)

    def _blocks(self, sample_format: str) -> Iterator[Samples]:
        with _named(self._name), _open(self._source) as (container, file):
            self.contents = _contents(container, file)
            self.track = self.contents.chosen(self._number)
            # Numbers that are none come only from these, and the resampler would turn them into clicks.
            self._format = "flt" if self.track.codec.startswith("pcm_f") else sample_format
            for block in self._resampled(container):
                self._given += block.shape[1]
                yield block
            if self._given == 0:
                raise RecordingError("no sound could be decoded from it", advice="is the file complete?")

    def _resampled(self, container: "av.container.InputContainer") -> Iterator[Samples]:
        stream = container.streams.audio[self.track.number - 1]
        silence = round(_late_start(container, stream) * self.sample_rate)
        for channels, frames in self._resampled_frames(container, stream):
            while silence > 0:
                yield np.zeros((self._channels or channels, min(silence, _BLOCK)), np.float32)
                silence -= _BLOCK
            for frame in frames:
                if frame.samples:
                    yield self._mixed(_samples(frame), channels)

    def _resampled_frames(
        self, container: "av.container.InputContainer", stream: "av.AudioStream"
    ) -> Iterator[tuple[int, list["av.AudioFrame"]]]:
        """Resampled frames, each with the number of channels of the track; a change of format midway is followed."""
        resampler: av.AudioResampler | None = None
        fifo = av.audio.fifo.AudioFifo()
        channels = 0
        for frame in self._frames(container, stream):
            frame.pts = None
            try:
                fifo.write(frame)
            except ValueError:  # it differs from those before
                assert resampler is not None
                yield channels, self._drained(fifo, resampler)
                self._changes += 1
                fifo, resampler = av.audio.fifo.AudioFifo(), None
                fifo.write(frame)
            if resampler is None:
                resampler, channels = self._resampler(frame), frame.layout.nb_channels
            while fifo.samples >= _BLOCK:
                yield channels, resampler.resample(self._in_phase(fifo.read(_BLOCK)))
        if resampler is not None:
            yield channels, self._drained(fifo, resampler)

    def _drained(self, fifo: "av.audio.fifo.AudioFifo", resampler: "av.AudioResampler") -> list["av.AudioFrame"]:
        rest = fifo.read(0, partial=True) if fifo.samples else None
        frames = [] if rest is None else resampler.resample(self._in_phase(rest))
        return [*frames, *resampler.resample(None)]

    def _in_phase(self, frame: "av.AudioFrame | None") -> "av.AudioFrame | None":
        """The frame; where two channels that are to be mixed would cancel each other out, one is turned round."""
        if frame is None:
            return None
        is_mixed = self._channels == 1 and frame.layout.nb_channels == 2
        return self._opposition.resolved(frame) if is_mixed else frame

    def _frames(
        self, container: "av.container.InputContainer", stream: "av.AudioStream"
    ) -> Iterator["av.AudioFrame"]:
        """Decoded frames without holes: where some are missing, there are silent ones."""
        base = float(stream.time_base or 0.0)
        lost = _LostBytes(container.format.name)
        origin: float | None = None
        expected = passed = 0.0  # seconds: of the next frame by its own time, and by what has been given out
        packets = container.demux(stream)
        while True:
            try:
                packet = next(packets)
            except StopIteration:
                return
            except av.error.FFmpegError:  # the container breaks off here; what came before is good
                self._damaged += 1
                return
            try:
                frames = packet.decode()
            except av.error.EOFError:
                return
            except av.error.FFmpegError:
                self._damaged += 1
                lost.failed(packet, passed)
                continue
            lost.bytes_read += packet.size
            for frame in frames:
                if (ticks := frame.pts) is not None:
                    start = ticks * base + lost.seconds
                    origin = start if origin is None else origin
                    if start - expected > _LEAST_GAP and expected > 0.0:
                        for silent in self._filled(frame, passed, min(start - expected, start - origin - passed)):
                            passed += silent.samples / silent.sample_rate
                            yield silent
                    expected = start
                length = frame.samples / frame.sample_rate
                expected += length
                passed += length
                yield frame

    def _filled(self, frame: "av.AudioFrame", start: float, missing: float) -> Iterator["av.AudioFrame"]:
        """Silence like a frame; none where the times in the file cannot be meant."""
        promised = self.contents.duration
        if promised is not None and start + missing > promised + 1.0:
            return
        # A few bytes may claim years: so much silence is only believed of a recording that has much sound.
        if sum(b - a for a, b in self.gaps) + missing > max(_LONGEST_SILENCE, _MOST_SILENCE * start):
            return
        self.gaps.append((start, start + missing))
        left = round(missing * frame.sample_rate)
        while left > 0:
            silent = av.AudioFrame(frame.format.name, frame.layout.name, min(left, _BLOCK))
            silent.sample_rate = frame.sample_rate
            for plane in silent.planes:
                plane.update(bytes([0x80 if frame.format.name.startswith("u8") else 0]) * plane.buffer_size)
            left -= silent.samples
            yield silent

    def _resampler(self, frame: "av.AudioFrame") -> "av.AudioResampler":
        layout = "mono" if self._channels == 1 and frame.layout.nb_channels <= 2 else frame.layout.name
        needs_mixing = self._channels == 1 and frame.layout.nb_channels > 1
        sample_format = "flt" if needs_mixing else self._format
        return av.AudioResampler(format=sample_format, layout=layout, rate=self.sample_rate)

    def _mixed(self, block: Samples, channels: int) -> Samples:
        """A resampled block of a track with so many channels, mixed as asked: their mean."""
        if self._channels != 1 or channels == 1:
            return block
        # The resampler adds two channels at 0.707 each, which goes over full scale where they are the same.
        return block * np.float32(math.sqrt(0.5)) if block.shape[0] == 1 else block.mean(axis=0, keepdims=True)


class _LostBytes:
    """In streams without times of their own, the time that unreadable bytes stand for."""

    _WITHOUT_TIMES = frozenset(("mp3", "aac", "ac3", "eac3"))

    def __init__(self, container: str) -> None:
        self._counts = container in self._WITHOUT_TIMES
        self.bytes_read = 0
        self.seconds = 0.0

    def failed(self, packet: "av.Packet[av.AudioStream]", passed: float) -> None:
        """This packet was not; all before it came to `passed` seconds. Its own time is that of one frame."""
        if self._counts and self.bytes_read and packet.duration is not None and packet.time_base is not None:
            length = packet.size * passed / self.bytes_read - float(packet.duration * packet.time_base)
            self.seconds += max(0.0, length)


def to_int16(block: Samples | IntSamples) -> IntSamples:
    """Samples as 16-bit integers, rounded, clipped at full scale. Undoes the decoder's scaling exactly."""
    if block.dtype == np.int16:
        return block.astype(np.int16, copy=False)
    scaled = np.multiply(block, 32768.0)
    np.rint(scaled, out=scaled)
    np.clip(scaled, -32768.0, 32767.0, out=scaled)
    return scaled.astype(np.int16)


def probe(source: str | os.PathLike[str] | BinaryIO) -> Contents:
    """What a recording says of itself, without decoding it.

    Raises:
        RecordingError: it is not a recording, or has no sound.
    """
    name = "" if hasattr(source, "read") else printable(os.fspath(source))
    with _named(name), _open(source) as (container, file):
        return _contents(container, file)


def decode(
    source: str | os.PathLike[str] | BinaryIO,
    *,
    sample_rate: int = SAMPLE_RATE,
    channels: int | None = 1,
    track: int | None = None,
) -> Iterator[Samples]:
    """The samples of a recording as blocks of shape (channels, samples), float32. See `Decoder`."""
    return iter(Decoder(source, sample_rate=sample_rate, channels=channels, track=track))


@contextmanager
def _named(name: str) -> Iterator[None]:
    try:
        yield
    except RecordingError as error:
        error.where = error.where or name or None
        raise


@contextmanager
def _open(
    source: str | os.PathLike[str] | BinaryIO,
) -> Iterator[tuple["av.container.InputContainer", BinaryIO]]:
    if not isinstance(source, (str, os.PathLike)):
        with _container(source) as container:
            yield container, source
        return
    try:
        if not stat.S_ISREG(os.stat(source).st_mode):  # noqa: PTH116 - opening a pipe would wait for ever
            raise RecordingError("this is not a file", advice="pipes and devices cannot be read; give a file")
        opened = Path(source).open("rb")  # noqa: SIM115 - closed by the with below; only opening may raise this
    except OSError as error:
        raise RecordingError(f"cannot be read ({reason_of(error)})") from error
    with opened as file, _container(file) as container:
        yield container, file


def _container(file: BinaryIO) -> "av.container.InputContainer":
    if file.seek(0, os.SEEK_END) == 0:
        raise RecordingError("the file is empty")
    options = {"format_whitelist": _CONTAINERS} | ({"ignore_length": "1"} if _wav_says_too_little(file) else {})
    file.seek(0)
    try:
        return av.open(file, mode="r", options=options, metadata_errors="replace")
    except (av.error.FFmpegError, OSError) as error:
        raise RecordingError(
            "this is not a recording that can be read, or only a part of one",
            advice="expected: WAV, FLAC, MP3, Ogg, Opus, M4A, AMR, or a video with sound",
        ) from error


def _wav_says_too_little(file: BinaryIO) -> bool:
    """Whether sound goes on behind the end that a WAV header gives: what follows there is no chunk."""
    end = file.seek(0, os.SEEK_END)
    file.seek(0)
    head = file.read(12)
    position = 12
    if head[:4] != b"RIFF" or head[8:] != b"WAVE":
        return False
    while position + 8 <= end:
        file.seek(position)
        name, size = (chunk := file.read(8))[:4], int.from_bytes(chunk[4:], "little")
        if not all(0x20 <= byte < 0x7F for byte in name):
            return True
        position += 8 + size + size % 2
    return False


def _contents(container: "av.container.InputContainer", file: BinaryIO) -> Contents:
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
        )
        for number, stream in enumerate(audio, 1)
    )
    return Contents(container.format.name, _promised_length(container, file), tracks, has_video, _tags(container))


_LONGEST_TAG = 500  # characters; what is longer is a text of its own, not a name


def _tags(container: "av.container.InputContainer") -> dict[str, str]:
    """What the container, or its first track of sound, says of the recording; on single lines."""
    found = {**dict(container.streams.audio[0].metadata), **dict(container.metadata)}
    return {
        re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_"): " ".join(value.split())
        for name, value in found.items()
        if 0 < len(value) <= _LONGEST_TAG and name.isascii()
    }


def _promised_length(container: "av.container.InputContainer", file: BinaryIO) -> float | None:
    """Seconds that the header promises. FFmpeg trims a WAV header's promise to the file's size; this does not."""
    if not container.duration or container.duration < 0:
        return None
    length = container.duration / av.time_base
    if container.format.name == "mp3" and not _mp3_says_how_long(file):
        return None  # FFmpeg's guess by the bit rate of the first frames
    if container.format.name != "wav":
        return length
    position = file.tell()
    file.seek(0)
    start = file.read(8)
    size = file.seek(0, os.SEEK_END)
    file.seek(position)
    promised = int.from_bytes(start[4:8], "little") + 8
    # Programs that stream write 0 or the largest number, and then promise nothing.
    known = start[:4] == b"RIFF" and 8 < promised < 0xFFFF_FF00
    return length * promised / size if known and promised > size else length


def _mp3_says_how_long(file: BinaryIO) -> bool:
    """Whether an MP3 file's first frame holds its length (the de facto Xing, Info and VBRI headers)."""
    position = file.tell()
    file.seek(0)
    head = file.read(10)
    # An ID3v2 tag may come first; its size is in four bytes of seven bits (ID3v2.4, 3.1).
    skipped = 0
    if head[:3] == b"ID3" and len(head) == 10:
        skipped = 10 + sum((byte & 0x7F) << shift for byte, shift in zip(head[6:], (21, 14, 7, 0), strict=True))
    file.seek(skipped)
    first_frame = file.read(_MP3_HEADER)
    file.seek(position)
    return any(name in first_frame for name in (b"Xing", b"Info", b"VBRI"))


def _late_start(container: "av.container.InputContainer", stream: "av.AudioStream") -> float:
    """Seconds by which the pictures start before the sound."""
    starts = [
        float(video.start_time * video.time_base)
        for video in container.streams.video
        if video.start_time is not None and video.time_base is not None
    ]
    if not starts or stream.start_time is None or stream.time_base is None:
        return 0.0
    late = max(0.0, float(stream.start_time * stream.time_base) - min(starts))
    return late if late <= _LONGEST_SILENCE else 0.0


def _samples(frame: "av.AudioFrame") -> Samples:
    """A frame of packed samples as an array of shape (channels, samples), without what is no sound."""
    # Planes cannot be used: reading more than seven of them crashes the library.
    block: Samples = np.ascontiguousarray(frame.to_ndarray().reshape(frame.samples, -1).T)
    if block.dtype == np.int16:
        return block
    if not np.abs(block).max() <= _LOUDEST:  # also where something is no number
        np.nan_to_num(block, copy=False, nan=0.0, posinf=1.0, neginf=-1.0)
        np.clip(block, -1.0, 1.0, out=block)
    return block


def _in_language(track: Track) -> str:
    return f", {track.language}" if track.language else ""
