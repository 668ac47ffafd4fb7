"""A transcript and its recording, made ready for the review page."""

import io
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.decode import SAMPLE_RATE, IntSamples
from mantisreed.audio.encode import open_encoder
from mantisreed.audio.formats import FORMATS
from mantisreed.audio.speech import SpeechListener
from mantisreed.audio.workers import DecodingWorkers
from mantisreed.review.doubts import doubts_of, in_order
from mantisreed.review.page import Sound
from mantisreed.transcript.document import Transcript
from mantisreed.workbench.pairing import check_same_recording

_PEAKS = (
    50  # a second; fewer of a long recording, the waveform of which is not looked at so closely
)
# Seconds of a long recording, and its peaks a second: more would make a page of many megabytes.
_LONG, _PEAKS_OF_LONG = 2 * 3600.0, 10
_PLAYABLE = {
    ".mp3": "audio/mpeg",
    ".ogg": "audio/ogg",
    ".opus": "audio/ogg",
    ".webm": "audio/webm",
    ".flac": "audio/flac",
    ".wav": "audio/wav",
    ".m4a": "audio/mp4",
}
"""Endings of what the browsers of today play by themselves."""

_SMALL = 10_000  # bytes a second; a recording that is not larger is put into the page as it is
_SHORT = 2_000_000  # bytes; so is one that is short
# Speech can be understood at half of that; this is pleasant to listen to.
_SPEECH = replace(FORMATS["webm"], bit_rate=24_000)

Content = Literal["always", "where needed", "never"]


@dataclass(frozen=True, slots=True)
class Reviewed:
    """A transcript with its doubts, and the sound as the page needs it; `notes` are for whoever
    made it.
    """

    transcript: Transcript
    sound: Sound
    notes: tuple[str, ...]


def reviewed(transcript: Transcript, recording: Path, sound: Sound | None = None) -> Reviewed:
    """A transcript and its recording, ready for the page.

    Args:
        transcript: of it.
        recording: a file.
        sound: of that file, if it was decoded before.

    Raises:
        RecordingError: it cannot be read as sound.
        InputError: it is another recording than that of the transcript.
    """
    decoded = sound or sound_for_page(recording, track=transcript.recording.track_number)
    notes = check_same_recording(transcript, recording, decoded.duration)
    return Reviewed(_with_doubts(transcript, decoded), decoded, notes)


def sound_for_page(
    recording: Path, content: Content = "always", *, track: int | None = None
) -> Sound:
    """Decode a recording once: its outline, where somebody speaks, and a small copy that browsers
    play.

    Args:
        recording: a file.
        content: when the sound is put into the page, or played from a copy: always, only where
            browsers do not play the recording as it is, or never.
        track: which track of sound, from 1; None takes the default one.

    Raises:
        RecordingError: it cannot be read as sound, or has no such track.
    """
    size = recording.stat().st_size if recording.is_file() else 0
    media_type = _PLAYABLE.get(recording.suffix.lower())
    outline = _Outline()
    encoded = io.BytesIO()
    with DecodingWorkers() as workers:
        known = workers.contents(recording)
        lasts = known.duration or 0.0
        is_fit = content != "always" or size <= max(_SHORT, _SMALL * lasts)
        # Browsers play the default track.
        is_plain = not known.has_video and known.chosen(track) is known.chosen(None)
        is_as_it_is = media_type is not None and is_plain and is_fit
        is_encoded = content != "never" and not is_as_it_is
        stream = workers.stream(recording, sample_rate=SAMPLE_RATE, channels=1, track=track)
        with open_encoder(encoded, _SPEECH, sample_rate=SAMPLE_RATE, is_quick=True) as encoder:
            for block in stream:
                outline.take(block)
                if is_encoded:
                    encoder.write(block)
        duration = stream.seconds
    included = encoded.getvalue() if is_encoded else None
    # As it is: no copy sounds better.
    if content == "always" and is_as_it_is:
        included = recording.read_bytes()
    peaks, per_second = outline.peaks(duration)
    return Sound(
        duration,
        outline.finish(),
        peaks,
        per_second,
        included,
        media_type if is_as_it_is and media_type is not None else _SPEECH.content_type,
    )


def _with_doubts(transcript: Transcript, sound: Sound) -> Transcript:
    """The transcript with doubts; those of one that came without are found now that the recording
    is at hand.
    """
    if transcript.doubts or transcript.recording.digest:
        return transcript
    return msgspec.structs.replace(
        transcript, doubts=tuple(in_order(doubts_of(transcript, sound.speech)))
    )


class _Outline:
    """Takes a recording's samples, and keeps what is seen of them."""

    def __init__(self) -> None:
        self._listener = SpeechListener(SAMPLE_RATE)
        self._speech: list[tuple[float, float]] = []
        self._levels: list[NDArray[np.int16]] = []
        self._rest = np.zeros(0, np.int16)

    def take(self, block: IntSamples) -> None:
        """The next samples, shape (1, samples)."""
        self._speech += [(one.start, one.end) for one in self._listener.hear(block[0])]
        samples = np.concatenate([self._rest, block[0]])
        step = SAMPLE_RATE // _PEAKS
        whole = len(samples) // step * step
        # Blocks end where they like; a peak is of as many samples each time.
        self._rest = samples[whole:]
        if whole:
            # The lowest sample of all has no positive counterpart in 16 bits.
            levels = np.abs(np.maximum(samples[:whole], -32767)).reshape(-1, step).max(axis=1)
            self._levels.append(levels)

    def peaks(self, duration: float) -> tuple[NDArray[np.uint8], int]:
        """The levels in steps, 0 to 255 of the loudest, and how many steps are in a second."""
        if self._levels:
            levels = np.concatenate(self._levels)
        else:
            levels = np.zeros(1, np.int16)
        per_second = _PEAKS
        if duration > _LONG:
            per_second = _PEAKS_OF_LONG
            several = _PEAKS // per_second
            levels = np.pad(levels, (0, -len(levels) % several)).reshape(-1, several).max(axis=1)
        # A recording of silence has no loudest.
        loudest = max(1, int(levels.max()))
        return (levels.astype(np.uint32) * 255 // loudest).astype(np.uint8), per_second

    def finish(self) -> tuple[tuple[float, float], ...]:
        """Where somebody speaks, when all samples have been taken."""
        self._speech += [(one.start, one.end) for one in self._listener.finish()]
        return tuple((round(start, 3), round(end, 3)) for start, end in self._speech)
