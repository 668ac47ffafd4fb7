"""Recordings of any length, made of a phrase bank's phrases, with the truth about them.

Everything follows from the seed: the same arguments give the same samples.
"""

import random
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain, cycle
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.decode import SAMPLE_RATE, Samples
from mantisreed.audio.encode import open_encoder
from mantisreed.audio.formats import FORMATS, AudioFormat
from mantisreed.standin.bank import BankWord, Phrase

RECORDING_FORMATS = FORMATS | {
    "m4a": AudioFormat("m4a", "m4a", "audio/mp4", False, "ipod", "aac", 64_000)
}
"""What composed recordings can be written in."""

_BLOCK = 65_536  # samples that are written at once
_SILENCE_AT_ENDS = 0.5  # seconds


@dataclass(frozen=True, slots=True)
class Spoken:
    """A phrase as it occurs in a recording.

    Attributes:
        phrase: which one.
        channel: from 0.
        first: the sample at 16 kHz where it begins.
        gain: factor on its samples.
    """

    phrase: Phrase
    channel: int
    first: int
    gain: float

    @property
    def start(self) -> float:
        """Seconds from the recording's start."""
        return self.first / SAMPLE_RATE

    @property
    def end(self) -> float:
        """Seconds from the recording's start."""
        return self.start + self.phrase.duration

    @property
    def words(self) -> tuple[BankWord, ...]:
        """Its words, timed from the recording's start."""
        return tuple(
            BankWord(word.text, self.start + word.start, self.start + word.end)
            for word in self.phrase.words
        )


@dataclass(frozen=True, slots=True)
class Composition:
    """A recording that has been composed but not rendered.

    Attributes:
        truth: what is said, by start.
        samples: its length, at 16 kHz.
        channels: 1 or 2.
        snr: speech over noise in dB, as mean powers over speech; None for no noise at all.
        seed: of the noise.
    """

    truth: tuple[Spoken, ...]
    samples: int
    channels: int
    snr: float | None
    seed: int

    @property
    def duration(self) -> float:
        """Seconds."""
        return self.samples / SAMPLE_RATE

    @property
    def words(self) -> tuple[BankWord, ...]:
        """All words in order of their starts, timed from the recording's start."""
        return tuple(
            sorted(
                chain.from_iterable(spoken.words for spoken in self.truth), key=lambda w: w.start
            )
        )

    def blocks(self) -> Iterator[Samples]:
        """The sound as blocks of shape (channels, samples), float32, 16 kHz; memory stays flat."""
        # Of the same seed the same noise, so that a recording is the same to the byte.
        noise = _Noise(self.seed, self.channels, self._noise_level())
        waiting = list(reversed(self.truth))
        sounding: list[Spoken] = []
        for start in range(0, self.samples, _BLOCK):
            end = min(start + _BLOCK, self.samples)
            while waiting and waiting[-1].first < end:
                sounding.append(waiting.pop())
            block = noise.next(end - start)
            for spoken in sounding:
                _mix(block, spoken, start)
            # Those that reach into the next block.
            sounding = [
                spoken for spoken in sounding if spoken.first + len(spoken.phrase.samples) > end
            ]
            yield np.clip(block, -1.0, 1.0)

    def write(self, path: Path, form: str | None = None) -> None:
        """Render into a file; the format is taken from the name's ending unless `form` names
        one.
        """
        chosen = RECORDING_FORMATS[form or path.suffix.removeprefix(".")]
        # Opus is quick by what only voices survive; MP3 only searches less.
        is_quick = chosen.codec == "libmp3lame"
        with (
            path.open("w+b") as sink,
            open_encoder(sink, chosen, channels=self.channels, is_quick=is_quick) as encoder,
        ):
            for block in self.blocks():
                encoder.write(block)

    def _noise_level(self) -> float:
        if self.snr is None or not self.truth:
            return 0.0
        energy = sum(
            float(np.square(said.phrase.samples).sum()) * said.gain**2 for said in self.truth
        )
        length = sum(len(said.phrase.samples) for said in self.truth)
        return float(np.sqrt(energy / length / 10 ** (self.snr / 10)))


def compose(
    phrases: Sequence[Phrase],
    *,
    seed: int,
    duration: float,
    pauses: tuple[float, float] = (0.5, 1.6),
    level_range: float = 0.0,
    snr: float | None = None,
    channels: int = 1,
) -> Composition:
    """Phrases in random order with pauses between, none twice before all were used.

    Args:
        phrases: to choose from.
        seed: of order, pauses, levels and noise.
        duration: seconds, kept to the sample; phrases that would not fit whole are left out.
        pauses: shortest and longest pause in seconds, evenly drawn; negative ones let voices
            overlap.
        level_range: phrases differ in level by up to this many dB, half of it louder, half softer.
        snr: speech over noise in dB; None for no noise.
        channels: with 2, each voice speaks on a channel of its own, and voices take turns.
    """
    chance = random.Random(seed)  # noqa: S311
    length = round(duration * SAMPLE_RATE)
    # A recording does not end with the last word.
    limit = length - round(_SILENCE_AT_ENDS * SAMPLE_RATE)
    at = round(min(_SILENCE_AT_ENDS, duration / 10) * SAMPLE_RATE)
    truth: list[Spoken] = []
    for phrase in _order(phrases, chance, take_turns=channels > 1):
        gain = 10 ** (chance.uniform(-level_range, level_range) / 2 / 20)
        if at + len(phrase.samples) > limit:
            break
        truth.append(Spoken(phrase, _channel(phrase, phrases, channels), at, gain))
        # A negative pause lets two speak at once, and never one before the one in front.
        at = max(at, at + len(phrase.samples) + round(chance.uniform(*pauses) * SAMPLE_RATE))
    return Composition(tuple(truth), length, channels, snr, seed)


def _order(
    phrases: Sequence[Phrase], chance: random.Random, *, take_turns: bool
) -> Iterator[Phrase]:
    """Endless: round after round, each in a new order."""
    voices = sorted({phrase.voice or "" for phrase in phrases}) if take_turns else []
    while phrases:
        shuffled = chance.sample(phrases, len(phrases))
        if not voices:
            yield from shuffled
            continue
        by_voice = {
            voice: [phrase for phrase in shuffled if (phrase.voice or "") == voice]
            for voice in voices
        }
        for voice in cycle(voices):
            if not by_voice[voice]:
                break
            yield by_voice[voice].pop()


def _channel(phrase: Phrase, phrases: Sequence[Phrase], channels: int) -> int:
    voices = sorted({other.voice or "" for other in phrases})
    return voices.index(phrase.voice or "") % channels


def _mix(block: Samples, spoken: Spoken, start: int) -> None:
    samples = spoken.phrase.samples
    first, last = max(start, spoken.first), min(start + block.shape[1], spoken.first + len(samples))
    part = samples[first - spoken.first : last - spoken.first]
    block[spoken.channel, first - start : last - start] += part * np.float32(spoken.gain)


class _Noise:
    """Noise of wind and water: falling towards high frequencies, the same for the same seed."""

    _KERNEL = np.exp(-np.arange(32) / 4.0).astype(np.float32) + np.eye(1, 32, dtype=np.float32)[0]

    def __init__(self, seed: int, channels: int, level: float) -> None:
        self._source = np.random.default_rng(seed)
        self._channels = channels
        self._gain = np.float32(level / np.linalg.norm(self._KERNEL))
        self._tail = np.zeros((channels, len(self._KERNEL) - 1), np.float32)

    def next(self, length: int) -> NDArray[np.float32]:
        """Shape (channels, length)."""
        if not self._gain:
            return np.zeros((self._channels, length), np.float32)
        fresh = self._source.standard_normal((self._channels, length), np.float32) * self._gain
        joined = np.concatenate([self._tail, fresh], axis=1)
        self._tail = joined[:, length:]
        return np.stack([np.convolve(row, self._KERNEL, mode="valid") for row in joined])
