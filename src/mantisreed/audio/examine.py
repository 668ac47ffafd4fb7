"""What a recording is like: how loud, how clean, who speaks where, and what to do about it."""

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import chain
from pathlib import Path

import av
import av.filter
import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.containers import Contents, Track, probe
from mantisreed.audio.decode import SAMPLE_RATE, Decoder, Samples
from mantisreed.audio.speech import SpeechListener, SpeechSegment, runs_of, union
from mantisreed.audio.tracks import track_to_take, why_taken
from mantisreed.units import short_duration

STEP_SECONDS = 0.1
"""How finely levels and the waveform are kept."""

_FULL_SCALE = 0.9995  # samples from here on count as clipped: lossy codecs round it off
_CLIPPED_RUN = 3  # samples in a row at full scale; fewer may be chance
_EMPTY_DB = -60.0  # peak of a channel that holds nothing
_QUIET_LUFS = -36.0  # below this engines begin to miss words
_NOISY_DB = 12.0  # speech over noise; below this words are lost
_CLEAR_OF_SPEECH = 3  # steps
_MUCH_SILENCE = 60.0  # seconds


@dataclass(frozen=True, slots=True)
class Channel:
    """One channel of a track.

    Attributes:
        number: from 1.
        peak: the highest sample in dBFS; None when all are zero.
        speech: where somebody speaks.
    """

    number: int
    peak: float | None
    speech: tuple[SpeechSegment, ...]

    @property
    def is_empty(self) -> bool:
        """Whether it holds nothing that could be heard."""
        return self.peak is None or self.peak < _EMPTY_DB


@dataclass(frozen=True, slots=True)
class Waveform:
    """The outline of a recording, for drawing: one value for each tenth of a second.

    Attributes:
        low, high: the lowest and the highest sample over all channels.
        loudness: momentary loudness in LUFS; -inf for silence.
    """

    low: NDArray[np.float32] = field(repr=False)
    high: NDArray[np.float32] = field(repr=False)
    loudness: NDArray[np.float32] = field(repr=False)


@dataclass(frozen=True, slots=True)
class Examination:
    """What was found out about one recording.

    Attributes:
        contents, track: what its header says, and the track that was listened to.
        duration: seconds, as decoded.
        bit_rate: bits per second on average.
        loudness: integrated loudness by EBU R 128 (ITU-R BS.1770) in LUFS; None where there is
            nothing to measure.
        peak: the highest sample in dBFS; None when all are zero.
        clipped: samples that were cut off at full scale.
        noise: mean level where nobody speaks, in dBFS; None where there is no such place, or only
            zeros.
        snr: speech over noise in dB; None where one of them is missing.
        speech: where somebody speaks on any channel.
        channels: each by itself.
        same_channels: whether all channels are the same, sample by sample.
        damage: what is wrong with the recording itself.
        notes: what the user may want to know of what was listened to.
        waveform: its outline.
    """

    contents: Contents
    track: Track
    duration: float
    bit_rate: int | None
    loudness: float | None
    peak: float | None
    clipped: int
    noise: float | None
    snr: float | None
    speech: tuple[tuple[float, float], ...]
    channels: tuple[Channel, ...]
    same_channels: bool
    damage: tuple[str, ...]
    notes: tuple[str, ...]
    waveform: Waveform

    @property
    def speech_seconds(self) -> float:
        """Seconds in which somebody speaks."""
        return sum(end - start for start, end in self.speech)

    @property
    def longest_silence(self) -> float:
        """Seconds of the longest stretch in which nobody speaks."""
        edges = [0.0, *chain.from_iterable(self.speech), self.duration]
        return max(
            (end - start for start, end in zip(edges[::2], edges[1::2], strict=True)), default=0.0
        )

    @property
    def advice(self) -> list[str]:
        """What a person may want to do about it, the most important first."""
        return [
            *self.damage,
            *self.notes,
            *self._of_the_sound(),
            *self._of_the_channels(),
            self._of_the_rate(),
        ]

    def _of_the_sound(self) -> Iterator[str]:
        if not self.speech:
            yield "nobody speaks: a run would send nothing (--keep-silence sends it all the same)"
        if self.loudness is not None and self.speech and self.loudness < _QUIET_LUFS:
            yield f"too quiet ({self.loudness:.0f} LUFS): turn the gain up when you record again"
        if self.clipped:
            yield f"clipped in {self.clipped} samples: turn the gain down when you record again"
        if self.snr is not None and self.snr < _NOISY_DB:
            yield (
                f"noisy (speech {self.snr:.0f} dB over it): engines may mishear; move the "
                "microphone closer"
            )
        if self.speech and self.longest_silence >= _MUCH_SILENCE:
            yield (
                f"silence of up to {short_duration(self.longest_silence)} is in it, and is not sent"
            )

    def _of_the_channels(self) -> Iterator[str]:
        empty = [channel.number for channel in self.channels if channel.is_empty]
        full = [channel for channel in self.channels if not channel.is_empty]
        if len(self.channels) == 1 or not full:
            return
        for number in empty:
            yield f"channel {number} is empty: it costs nothing, as it is never sent alone"
        if self.same_channels:
            yield "all channels are the same: mixing them, as is usual, loses nothing"
        elif len(full) > 1 and self._take_turns(full):
            yield "the channels hold different speech: --channels apart tells the speakers apart"

    def _take_turns(self, channels: Iterable[Channel]) -> bool:
        """Whether mostly one channel speaks at a time."""
        spoken = [
            sum(stretch.end - stretch.start for stretch in channel.speech) for channel in channels
        ]
        return min(spoken) > 0 and sum(spoken) < 1.5 * self.speech_seconds

    def _of_the_rate(self) -> str:
        rate = self.track.sample_rate
        if rate < SAMPLE_RATE:
            return (
                f"recorded at {rate} Hz, as telephones do; more would be heard at {SAMPLE_RATE} Hz"
            )
        if rate == SAMPLE_RATE:
            return "no resampling is needed"
        return f"brought to {SAMPLE_RATE} Hz before sending; there is no need to do that yourself"


def examine(path: Path, *, track: int | None = None) -> Examination:
    """Decode a recording once and measure it; memory grows by some 50 kB for each hour.

    Raises:
        RecordingError: it cannot be read as sound, or has no such track.
    """
    contents = probe(path)
    default = contents.chosen(track)
    taken = default
    if track is None:
        taken = track_to_take(contents, lambda number: Decoder(path, track=number).sound())
    native_rate = taken.sample_rate or SAMPLE_RATE
    decoder = Decoder(path, sample_rate=native_rate, channels=None, track=taken.number)
    meter: _Meter | None = None
    for block in decoder:
        if meter is None:
            meter = _Meter(block.shape[0], decoder.sample_rate)
        meter.take(block)
    assert meter is not None
    channels, speech = meter.heard(decoder.seconds)
    noise, snr = meter.noise_and_snr(speech)
    return Examination(
        contents=decoder.contents,
        track=decoder.track,
        duration=decoder.seconds,
        bit_rate=round(path.stat().st_size * 8 / decoder.seconds) if decoder.seconds else None,
        loudness=meter.loudness,
        peak=_decibels(meter.peaks.max()),
        clipped=meter.clipped,
        noise=noise,
        snr=snr,
        speech=speech,
        channels=channels,
        same_channels=meter.same and len(channels) > 1,
        damage=tuple(decoder.damage()),
        notes=() if taken is default else (why_taken(taken, default),),
        waveform=meter.waveform(),
    )


class _Meter:
    """Takes blocks of shape (channels, samples) and keeps what is to be known of them."""

    def __init__(self, channels: int, rate: int) -> None:
        self._rate = rate
        self._step = round(rate * STEP_SECONDS)
        self._listeners = [SpeechListener() for _ in range(channels)]
        self._resamplers = [_Resampler(rate) for _ in range(channels)]
        self._speech: list[list[SpeechSegment]] = [[] for _ in range(channels)]
        self._rest = np.zeros((channels, 0), np.float32)
        self._lows: list[NDArray[np.float32]] = []
        self._highs: list[NDArray[np.float32]] = []
        self._powers: list[NDArray[np.float32]] = []
        self._loudness = _Loudness(rate)
        self.peaks = np.zeros(channels)
        self.clipped = 0
        self.same = True

    def take(self, block: Samples) -> None:
        if len(block) != len(self.peaks):  # the format changed midway
            block = np.resize(block, (len(self.peaks), block.shape[1]))
        rows = zip(self._listeners, self._resamplers, self._speech, block, strict=True)
        for listener, resampler, found, row in rows:
            found += listener.hear(resampler.through(row))
        self.peaks = np.maximum(self.peaks, np.abs(block).max(axis=1))
        self.clipped += sum(map(_clipped, block))
        self.same = self.same and all(np.array_equal(block[0], row) for row in block[1:])
        # Of more than two channels nobody knows where they stand: what counts is their mix.
        self._loudness.take(block if len(block) <= 2 else block.mean(axis=0, keepdims=True))
        joined = np.concatenate([self._rest, block], axis=1)
        whole = joined.shape[1] // self._step * self._step
        self._outline(joined[:, :whole])
        self._rest = joined[:, whole:]

    def _outline(self, block: Samples) -> None:
        steps = block.reshape(len(block), -1, self._step)
        self._lows.append(steps.min(axis=(0, 2)))
        self._highs.append(steps.max(axis=(0, 2)))
        flat = steps - steps.mean(axis=2, keepdims=True)  # without DC
        self._powers.append(
            np.einsum("ijk,ijk->j", flat, flat) / np.float32(self._step * len(block))
        )

    @property
    def loudness(self) -> float | None:
        return self._loudness.integrated

    def heard(self, duration: float) -> tuple[tuple[Channel, ...], tuple[tuple[float, float], ...]]:
        """The channels, and where anybody speaks."""
        channels = []
        for number, (listener, found, peak) in enumerate(
            zip(self._listeners, self._speech, self.peaks, strict=True), 1
        ):
            stretches = [*found, *listener.finish()]
            inside = tuple(
                SpeechSegment(s.start, min(s.end, duration), s.level)
                for s in stretches
                if s.start < duration
            )
            channels.append(Channel(number, _decibels(peak), inside))
        heard = chain.from_iterable(channel.speech for channel in channels)
        return tuple(channels), union((segment.start, segment.end) for segment in heard)

    def noise_and_snr(
        self, speech: Iterable[tuple[float, float]]
    ) -> tuple[float | None, float | None]:
        """Mean level in dBFS where nobody speaks, and how much speech is over it in dB."""
        powers = np.concatenate(self._powers) if self._powers else np.zeros(0, np.float32)
        speaking, near = np.zeros(len(powers), bool), np.zeros(len(powers), bool)
        for start, end in speech:
            first, last = round(start / STEP_SECONDS), round(end / STEP_SECONDS)
            speaking[first + 1 : max(first + 1, last - 1)] = True
            near[max(0, first - _CLEAR_OF_SPEECH) : last + _CLEAR_OF_SPEECH] = True
        noise = float(powers[~near].mean()) if (~near).any() else 0.0
        spoken = float(powers[speaking].mean()) if speaking.any() else 0.0
        if noise <= 1e-12:
            return None, None
        over = 10 * math.log10((spoken - noise) / noise) if spoken > noise else None
        return 10 * math.log10(noise), over

    def waveform(self) -> Waveform:
        if self._rest.shape[1]:
            self._lows.append(self._rest.min(axis=(0, 1), keepdims=True)[0])
            self._highs.append(self._rest.max(axis=(0, 1), keepdims=True)[0])
        return Waveform(
            np.concatenate(self._lows),
            np.concatenate(self._highs),
            np.array(self._loudness.momentary, np.float32),
        )


class _Resampler:
    """One channel, brought to the rate that the speech map is made at."""

    def __init__(self, rate: int) -> None:
        self._rate = rate
        self._resampler = av.AudioResampler(format="flt", layout="mono", rate=SAMPLE_RATE)

    def through(self, samples: NDArray[np.float32]) -> NDArray[np.float32]:
        """The next samples."""
        if self._rate == SAMPLE_RATE:
            return samples
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(samples[np.newaxis]), format="flt", layout="mono"
        )
        frame.sample_rate = self._rate
        parts = [part.to_ndarray()[0] for part in self._resampler.resample(frame)]
        if parts:
            return np.concatenate(parts)
        return np.zeros(0, np.float32)


class _Loudness:
    """Loudness by FFmpeg's ebur128 filter, of one channel or two."""

    def __init__(self, rate: int) -> None:
        self._rate = rate
        self._graph: av.filter.Graph | None = None
        self._passed = 0
        self.integrated: float | None = None
        self.momentary: list[float] = []

    def take(self, block: Samples) -> None:
        layout = "mono" if len(block) == 1 else "stereo"
        if self._graph is None:
            self._graph = av.filter.Graph()
            source = self._graph.add_abuffer(
                format="fltp",
                sample_rate=self._rate,
                layout=layout,
                time_base=Fraction(1, self._rate),
            )
            meter = self._graph.add("ebur128", "metadata=1:framelog=quiet")
            sink = self._graph.add("abuffersink")
            source.link_to(meter)
            meter.link_to(sink)
            self._graph.configure()
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(block), format="fltp", layout=layout
        )
        frame.sample_rate, frame.pts = self._rate, self._passed
        self._passed += block.shape[1]
        self._graph.push(frame)
        while True:
            try:
                measured = self._graph.pull()
            except (av.error.BlockingIOError, av.error.EOFError):
                return
            found = measured.metadata
            self.momentary.append(_number(found.get("lavfi.r128.M")))
            integrated = _number(found.get("lavfi.r128.I"))
            # The filter's own floor stands for "nothing has passed the gate yet".
            self.integrated = integrated if integrated > -70.0 else None


def _number(text: str | None) -> float:
    try:
        if text is not None:
            return float(text)
        return -math.inf
    except ValueError:
        return -math.inf


def _clipped(row: NDArray[np.float32]) -> int:
    """Samples in runs at full scale."""
    full = np.abs(row) >= _FULL_SCALE
    if not full.any():
        return 0
    runs = runs_of(full)
    lengths = runs[:, 1] - runs[:, 0]
    return int(lengths[lengths >= _CLIPPED_RUN].sum())


def _decibels(value: float) -> float | None:
    if value > 0:
        return 20 * math.log10(value)
    return None
