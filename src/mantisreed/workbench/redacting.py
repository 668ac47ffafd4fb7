"""A copy of a recording with stretches covered, for `redact`."""

import secrets
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import soundfile

from mantisreed.audio.containers import probe
from mantisreed.audio.decode import Decoder, to_int16
from mantisreed.errors import InputError, OutputError, reason_of
from mantisreed.files import printable
from mantisreed.folders import remove
from mantisreed.review.covering import Cover, covered, spans_in_samples
from mantisreed.state import make_folder

_BLOCK = 1 << 18  # samples that are in memory at once
# What is written again exactly as it was, with its width of samples.
_EXACT = {
    ".wav": "WAV",
    ".flac": "FLAC",
}
_WIDTHS = {
    "PCM_16": "int16",
    "PCM_S8": "int16",
    "PCM_U8": "int16",
    "FLOAT": "float32",
    "DOUBLE": "float64",
}


@dataclass(frozen=True, slots=True)
class CoveredRecording:
    """What was written.

    Attributes:
        file: where.
        seconds: of sound that are covered now.
        spans: how many stretches.
    """

    file: Path
    seconds: float
    spans: int


def suffix_of_copy(recording: Path) -> str:
    """The ending of a copy: WAV and FLAC stay what they are, anything else becomes FLAC, which
    loses nothing.
    """
    if recording.suffix.lower() in _EXACT:
        return recording.suffix.lower()
    return ".flac"


@dataclass(frozen=True, slots=True)
class Covering:
    """What of a recording is covered, and how.

    Attributes:
        spans: (start, end) in seconds.
        cover: what is put over them.
        margin: seconds before and after each that are covered too.
        track: the track of sound that is copied, from 1; None for the default one.
    """

    spans: Sequence[tuple[float, float]]
    cover: Cover
    margin: float
    track: int | None = None

    def in_samples(self, rate: int, length: int) -> list[tuple[int, int]]:
        """The stretches that are covered, first and last sample, of so many at this rate."""
        return spans_in_samples(self.spans, rate, self.margin, length)


def cover_recording(recording: Path, target: Path, covering: Covering) -> CoveredRecording:
    """Write a copy without what was said in some stretches, and without tags, which may tell it as
    well.

    Outside of the stretches the samples of WAV and FLAC are those of the recording; of other
    formats they are what decoding gives. The copy appears whole or not at all.

    Args:
        recording: what is copied.
        target: where to, on the same file system as its folder.
        covering: what is covered, and how.

    Raises:
        RecordingError: it cannot be read as sound.
        InputError: the target is the recording.
        OutputError: it cannot be written.
    """
    if target.exists() and target.samefile(recording):
        raise InputError("the recording itself is not written over", where=printable(target))
    make_folder(target.parent)
    # Under another name until it is whole: half of a copy would look like all of it.
    partial = target.with_name(f".{secrets.token_hex(8)}.part")
    try:
        found = _copy(recording, partial, covering)
        partial.replace(target)
    except (OSError, soundfile.LibsndfileError) as error:
        raise OutputError(
            f"cannot be written ({reason_of(error)})", where=printable(target)
        ) from error
    finally:
        remove(partial)
    return CoveredRecording(target, *found)


def _copy(recording: Path, target: Path, covering: Covering) -> tuple[float, int]:
    """The seconds and the number of stretches that are covered."""
    probe(recording)  # says what is wrong with what is no sound at all
    if recording.suffix.lower() in _EXACT:
        with suppress(soundfile.LibsndfileError):  # of another kind than its name says
            return _copy_exactly(recording, target, covering)
    return _copy_decoded(recording, target, covering)


def _copy_exactly(recording: Path, target: Path, covering: Covering) -> tuple[float, int]:
    with soundfile.SoundFile(recording) as source:
        rate = source.samplerate
        chosen = covering.in_samples(rate, source.frames)
        # Wide enough that every sample comes back as it was.
        width = _WIDTHS.get(source.subtype, "int32")
        form = {
            "samplerate": rate,
            "channels": source.channels,
            "subtype": source.subtype,
            "format": source.format,
        }
        with soundfile.SoundFile(target, "w", **form) as sink:
            at = 0
            for block in source.blocks(_BLOCK, dtype=width):
                sink.write(covered(block, at, chosen, covering.cover, rate))
                at += len(block)
    return sum(last - first for first, last in chosen) / rate, len(chosen)


def _copy_decoded(recording: Path, target: Path, covering: Covering) -> tuple[float, int]:
    track = probe(recording).chosen(covering.track)
    rate = track.sample_rate
    decoder = Decoder(recording, sample_rate=rate, channels=None, track=track.number)
    form = {
        "samplerate": rate,
        "channels": max(1, track.channels),
        "subtype": "PCM_16",
        "format": "FLAC",
    }
    # Its length is known when it is decoded.
    chosen = covering.in_samples(rate, 1 << 62)
    at = 0
    with soundfile.SoundFile(target, "w", **form) as sink:
        for block in decoder:
            samples = to_int16(block).T
            sink.write(covered(samples, at, chosen, covering.cover, rate))
            at += len(samples)
    inside = [(first, min(last, at)) for first, last in chosen if first < at]
    return sum(last - first for first, last in inside) / rate, len(inside)
