"""What a recording holds, and its samples as a stream of blocks, through PyAV.

Only the recording's own bytes are ever read: they reach the decoder through a file object, and only containers
of sound and video are tried, so that a playlist or a strange name cannot make it open anything else.
"""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, TypeAlias

import av
import av.audio.fifo
import numpy as np
from numpy.typing import NDArray

from mantisreed.errors import RecordingError
from mantisreed.files import shown

SAMPLE_RATE = 16_000
"""Samples per second that speech engines work at; more holds nothing they would use."""

# One resampler call per decoded frame costs twice as much as one per block of this many samples.
_BLOCK = 65_536
_CONTAINERS = (
    "aac,ac3,aiff,amr,amrnb,amrwb,ape,asf,au,avi,caf,eac3,flac,flv,gsm,matroska,mov,mp3,mpeg,mpegts,"
    "ogg,rm,tta,voc,w64,wav,webm,wv"
)

Samples: TypeAlias = NDArray[np.float32]


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
    """

    container: str
    duration: float | None
    tracks: tuple[Track, ...]
    has_video: bool

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
        damaged: packets that could not be decoded so far and were left out.
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
        self._name = "" if hasattr(source, "read") else shown(os.fspath(source))
        self._number = track
        self.sample_rate = sample_rate
        self._channels = channels
        self.contents: Contents
        self.track: Track
        self.damaged = 0
        self._given = 0

    @property
    def seconds(self) -> float:
        """Seconds given out so far."""
        return self._given / self.sample_rate

    @property
    def is_cut_short(self) -> bool:
        """Whether, at the stream's end, clearly less has come than the header promised."""
        promised = self.contents.duration
        return promised is not None and promised - self.seconds > max(1.0, 0.02 * promised)

    def __iter__(self) -> Iterator[Samples]:
        with _named(self._name), _open(self._source) as container:
            self.contents = _contents(container)
            self.track = self.contents.chosen(self._number)
            for block in self._resampled(container):
                self._given += block.shape[1]
                yield block
            if self._given == 0:
                raise RecordingError("no sound could be decoded from it", advice="is the file complete?")

    def _resampled(self, container: "av.container.InputContainer") -> Iterator[Samples]:
        stream = container.streams.audio[self.track.number - 1]
        resampler: av.AudioResampler | None = None
        fifo = av.audio.fifo.AudioFifo()
        layout: tuple[object, ...] | None = None
        silence = round(_late_start(container, stream) * self.sample_rate)
        for frame in self._frames(container, stream):
            shape = (frame.format.name, frame.layout.name, frame.sample_rate)
            if shape != layout or resampler is None:
                if resampler is not None:
                    yield from _drained(fifo, resampler)
                layout = shape
                fifo = av.audio.fifo.AudioFifo()
                resampler = self._resampler(frame)
                if silence:
                    yield np.zeros((self._channels or frame.layout.nb_channels, silence), np.float32)
                    silence = 0
            frame.pts = None
            fifo.write(frame)
            while fifo.samples >= _BLOCK:
                yield from _arrays(resampler.resample(fifo.read(_BLOCK)))
        if resampler is not None:
            yield from _drained(fifo, resampler)

    def _frames(
        self, container: "av.container.InputContainer", stream: "av.AudioStream"
    ) -> Iterator["av.AudioFrame"]:
        packets = container.demux(stream)
        while True:
            try:
                packet = next(packets)
            except StopIteration:
                return
            except av.error.FFmpegError:  # the container breaks off here; what came before is good
                self.damaged += 1
                return
            try:
                yield from packet.decode()
            except av.error.EOFError:
                return
            except av.error.FFmpegError:
                self.damaged += 1

    def _resampler(self, frame: "av.AudioFrame") -> "av.AudioResampler":
        layout = "mono" if self._channels == 1 else frame.layout.name
        return av.AudioResampler(format="fltp", layout=layout, rate=self.sample_rate)


def probe(source: str | os.PathLike[str] | BinaryIO) -> Contents:
    """What a recording says of itself, without decoding it.

    Raises:
        RecordingError: it is not a recording, or has no sound.
    """
    name = "" if hasattr(source, "read") else shown(os.fspath(source))
    with _named(name), _open(source) as container:
        return _contents(container)


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
def _open(source: str | os.PathLike[str] | BinaryIO) -> Iterator["av.container.InputContainer"]:
    if not isinstance(source, (str, os.PathLike)):
        yield _container(source)
        return
    try:
        opened = Path(source).open("rb")  # noqa: SIM115
    except OSError as error:
        raise RecordingError(f"cannot be read ({(error.strerror or str(error)).lower()})") from error
    with opened as file, _container(file) as container:
        yield container


def _container(file: BinaryIO) -> "av.container.InputContainer":
    if file.seek(0, os.SEEK_END) == 0:
        raise RecordingError("the file is empty")
    file.seek(0)
    try:
        return av.open(file, mode="r", options={"format_whitelist": _CONTAINERS}, metadata_errors="replace")
    except (av.error.FFmpegError, OSError) as error:
        raise RecordingError(
            "this is not a recording that can be read",
            advice="expected: WAV, FLAC, MP3, Ogg, Opus, M4A, AMR, or a video with sound",
        ) from error


def _contents(container: "av.container.InputContainer") -> Contents:
    audio = container.streams.audio
    has_video = any(not stream.disposition & av.stream.Disposition.attached_pic for stream in container.streams.video)
    if not audio:
        kind = "a video without sound" if has_video else "no sound in it"
        raise RecordingError(kind, advice="give the recording that holds the speech")
    tracks = tuple(
        Track(
            number,
            stream.codec_context.name if stream.codec_context else "unknown",
            stream.rate or 0,
            stream.channels,
            stream.language if stream.language != "und" else None,
            bool(stream.disposition & av.stream.Disposition.default),
        )
        for number, stream in enumerate(audio, 1)
    )
    duration = container.duration / av.time_base if container.duration and container.duration > 0 else None
    return Contents(container.format.name, duration, tracks, has_video)


def _late_start(container: "av.container.InputContainer", stream: "av.AudioStream") -> float:
    """Seconds by which the pictures start before the sound."""
    starts = [
        float(video.start_time * video.time_base)
        for video in container.streams.video
        if video.start_time is not None and video.time_base is not None
    ]
    if not starts or stream.start_time is None or stream.time_base is None:
        return 0.0
    return max(0.0, float(stream.start_time * stream.time_base) - min(starts))


def _drained(fifo: "av.audio.fifo.AudioFifo", resampler: "av.AudioResampler") -> Iterator[Samples]:
    rest = fifo.read(0, partial=True) if fifo.samples else None
    if rest is not None:
        yield from _arrays(resampler.resample(rest))
    yield from _arrays(resampler.resample(None))


def _arrays(frames: list["av.AudioFrame"]) -> Iterator[Samples]:
    for frame in frames:
        if frame.samples:
            block = np.asarray(frame.to_ndarray(), np.float32)
            if not np.isfinite(block).all():
                np.nan_to_num(block, copy=False, nan=0.0, posinf=1.0, neginf=-1.0)
            yield block


def _in_language(track: Track) -> str:
    return f", {track.language}" if track.language else ""
