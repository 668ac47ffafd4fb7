"""The samples of a recording as a stream of blocks, through PyAV."""

import math
import os
from collections.abc import Iterator
from typing import BinaryIO, TypeAlias

import av
import av.audio.fifo
import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.containers import (
    Contents,
    Track,
    contents_of,
    named_in_errors,
    open_container,
)
from mantisreed.audio.phase import Opposition
from mantisreed.errors import RecordingError
from mantisreed.files import printable
from mantisreed.units import clock, short_duration

SAMPLE_RATE = 16_000
"""Samples per second that speech engines work at; more holds nothing they would use."""

# One resampler call per decoded frame costs twice as much as one per block of this many samples.
_BLOCK = 65_536
_LONGEST_SILENCE = 3600.0  # seconds without sound that a recording may claim by its times alone
_MOST_SILENCE = 10.0  # times as much silence as sound before it, where that is more
_LEAST_GAP = 0.1  # seconds; times in containers are uneven by less
_GAPS_TOLD = 3  # gaps that are named one by one; of more their number is told
_LOUDEST = 16.0  # of full scale; what is over this is damage, not sound
Samples: TypeAlias = NDArray[np.float32]
IntSamples: TypeAlias = NDArray[np.int16]


class Decoder:
    """The samples of one track of a recording, as a stream.

    Iterating gives blocks of shape (channels, samples), float32, full scale at 1.0, at
    `sample_rate`. Memory does not grow with the recording's length.

    Where moving pictures start before the sound does, the stream begins with silence of that
    length, so that times are those of the pictures.

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
        """Whether, at the stream's end, clearly less has come than the header promised of this
        track.
        """
        promised = self.track.promised
        # Where files of several kinds are joined, the header speaks of the first one only.
        if promised is None or self._changes:
            return False
        return promised - self.seconds > max(1.0, 0.02 * promised)

    def notes(self) -> list[str]:
        """What a user may want to know, once the stream has come to its end."""
        if not self._opposition.was_found:
            return []
        return [
            "its two channels are of opposite phase, so that their mix is silent: one was turned "
            "round"
        ]

    def damage(self) -> list[str]:
        """What is wrong with the recording itself, in words, once the stream has come to its
        end.
        """
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
            promised = short_duration(self.track.promised or 0.0)
            found.insert(
                0, f"the recording breaks off at {short_duration(self.seconds)} of {promised}"
            )
        return found

    def __iter__(self) -> Iterator[Samples]:
        return self._blocks("flt")

    def sound(self) -> Iterator[IntSamples]:
        """The same blocks as 16-bit integers, in less time."""
        for block in self._blocks("s16"):
            yield to_int16(block)

    def _blocks(self, sample_format: str) -> Iterator[Samples]:
        with named_in_errors(self._name), open_container(self._source) as (container, file):
            self.contents = contents_of(container, file)
            self.track = self.contents.chosen(self._number)
            # Numbers that are none come only from these, and the resampler would turn them into
            # clicks.
            self._format = "flt" if self.track.codec.startswith("pcm_f") else sample_format
            for block in self._resampled(container):
                self._given += block.shape[1]
                yield block
            if self._given == 0:
                raise RecordingError(
                    "no sound could be decoded from it", advice="is the file complete?"
                )

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
        """Resampled frames, each with the number of channels of the track; a change of format
        midway is followed.
        """
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

    def _drained(
        self, fifo: "av.audio.fifo.AudioFifo", resampler: "av.AudioResampler"
    ) -> list["av.AudioFrame"]:
        rest = fifo.read(0, partial=True) if fifo.samples else None
        frames = [] if rest is None else resampler.resample(self._in_phase(rest))
        return [*frames, *resampler.resample(None)]

    def _in_phase(self, frame: "av.AudioFrame | None") -> "av.AudioFrame | None":
        """The frame; where two channels that are to be mixed would cancel each other out, one is
        turned round.
        """
        if frame is None:
            return None
        is_mixed = self._channels == 1 and frame.layout.nb_channels == 2
        if is_mixed:
            return self._opposition.resolved(frame)
        return frame

    def _frames(
        self, container: "av.container.InputContainer", stream: "av.AudioStream"
    ) -> Iterator["av.AudioFrame"]:
        """Decoded frames without holes: where some are missing, there are silent ones."""
        base = float(stream.time_base or 0.0)
        lost = _LostBytes(container.format.name)
        origin: float | None = None
        expected = passed = (
            0.0  # seconds: of the next frame by its own time, and by what has been given out
        )
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
                        for silent in self._filled(
                            frame, passed, min(start - expected, start - origin - passed)
                        ):
                            passed += silent.samples / silent.sample_rate
                            yield silent
                    expected = start
                length = frame.samples / frame.sample_rate
                expected += length
                passed += length
                yield frame

    def _filled(
        self, frame: "av.AudioFrame", start: float, missing: float
    ) -> Iterator["av.AudioFrame"]:
        """Silence like a frame; none where the times in the file cannot be meant."""
        promised = self.track.promised
        if promised is not None and start + missing > promised + 1.0:
            return
        # A few bytes may claim years: so much silence is only believed of a recording that has much
        # sound.
        if sum(b - a for a, b in self.gaps) + missing > max(
            _LONGEST_SILENCE, _MOST_SILENCE * start
        ):
            return
        self.gaps.append((start, start + missing))
        left = round(missing * frame.sample_rate)
        while left > 0:
            silent = av.AudioFrame(frame.format.name, frame.layout.name, min(left, _BLOCK))
            silent.sample_rate = frame.sample_rate
            for plane in silent.planes:
                plane.update(
                    bytes([0x80 if frame.format.name.startswith("u8") else 0]) * plane.buffer_size
                )
            left -= silent.samples
            yield silent

    def _resampler(self, frame: "av.AudioFrame") -> "av.AudioResampler":
        if self._channels == 1 and frame.layout.nb_channels <= 2:
            layout = "mono"
        else:
            layout = frame.layout.name
        needs_mixing = self._channels == 1 and frame.layout.nb_channels > 1
        sample_format = "flt" if needs_mixing else self._format
        return av.AudioResampler(format=sample_format, layout=layout, rate=self.sample_rate)

    def _mixed(self, block: Samples, channels: int) -> Samples:
        """A resampled block of a track with so many channels, mixed as asked: their mean."""
        if self._channels != 1 or channels == 1:
            return block
        # The resampler adds two channels at 0.707 each, which goes over full scale where they are
        # the same.
        if block.shape[0] == 1:
            return block * np.float32(math.sqrt(0.5))
        mixed: np.ndarray = block.mean(axis=0, keepdims=True)
        return mixed


class _LostBytes:
    """In streams without times of their own, the time that unreadable bytes stand for."""

    _WITHOUT_TIMES = frozenset(("mp3", "aac", "ac3", "eac3"))

    def __init__(self, container: str) -> None:
        self._counts = container in self._WITHOUT_TIMES
        self.bytes_read = 0
        self.seconds = 0.0

    def failed(self, packet: "av.Packet[av.AudioStream]", passed: float) -> None:
        """This packet was not; all before it came to `passed` seconds. Its own time is that of one
        frame.
        """
        if (
            self._counts
            and self.bytes_read
            and packet.duration is not None
            and packet.time_base is not None
        ):
            length = packet.size * passed / self.bytes_read - float(
                packet.duration * packet.time_base
            )
            self.seconds += max(0.0, length)


def to_int16(block: Samples | IntSamples) -> IntSamples:
    """Samples as 16-bit integers, rounded, clipped at full scale. Undoes the decoder's scaling
    exactly.
    """
    if block.dtype == np.int16:
        return block.astype(np.int16, copy=False)
    scaled = np.multiply(block, 32768.0)
    np.rint(scaled, out=scaled)
    np.clip(scaled, -32768.0, 32767.0, out=scaled)
    return scaled.astype(np.int16)


def decode(
    source: str | os.PathLike[str] | BinaryIO,
    *,
    sample_rate: int = SAMPLE_RATE,
    channels: int | None = 1,
    track: int | None = None,
) -> Iterator[Samples]:
    """The samples of a recording as blocks of shape (channels, samples), float32. See `Decoder`."""
    return iter(Decoder(source, sample_rate=sample_rate, channels=channels, track=track))


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
    if late <= _LONGEST_SILENCE:
        return late
    return 0.0


def _samples(frame: "av.AudioFrame") -> Samples:
    """A frame of packed samples as an array of shape (channels, samples), without what is no
    sound.
    """
    # Planes cannot be used: reading more than seven of them crashes the library.
    block: Samples = np.ascontiguousarray(frame.to_ndarray().reshape(frame.samples, -1).T)
    if block.dtype == np.int16:
        return block
    if not np.abs(block).max() <= _LOUDEST:  # also where something is no number
        np.nan_to_num(block, copy=False, nan=0.0, posinf=1.0, neginf=-1.0)
        np.clip(block, -1.0, 1.0, out=block)
    return block
