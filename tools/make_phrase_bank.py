"""Speak the phrases of tools/phrases/ once and write them as a phrase bank, with true word times.

    python tools/make_phrase_bank.py [--into src/mantisreed/standin/bank]

Needs the library espeak-ng (Debian: libespeak-ng1). Its phoneme events say at which sample each
sound begins and which word it belongs to; words that it runs together ("of the") are divided by
their numbers of phonemes. The bank that ships with the package was made by this script with
espeak-ng 1.51 and is not made again at installation.
"""

import argparse
import ctypes
import json
import re
import shutil
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import count
from pathlib import Path

import numpy as np
from scipy.signal import resample_poly

from mantisreed.audio.encode import encode
from mantisreed.audio.formats import FORMATS

VOICES = {"warden": "en-gb", "ringer": "en-us+f2", "skipper": "en-gb-scotland+m7", "guest": "de+f4"}
WORDS_PER_MINUTE = {"warden": 150, "ringer": 165, "skipper": 150, "guest": 150}
RATE = 16_000
BIT_RATE_FORMAT = "opus"

_SYNCHRONOUS, _PHONEME_EVENTS, _UTF8, _CHARACTERS = 2, 1, 1, 1
_END_OF_LIST, _WORD, _PHONEME = 0, 1, 7
_SPEED = 1


class _Id(ctypes.Union):
    _fields_ = (("number", ctypes.c_int), ("name", ctypes.c_char_p), ("string", ctypes.c_char * 8))


class _Event(ctypes.Structure):
    _fields_ = (
        ("type", ctypes.c_int),
        ("unique", ctypes.c_uint),
        ("text_position", ctypes.c_int),
        ("length", ctypes.c_int),
        ("milliseconds", ctypes.c_int),
        ("sample", ctypes.c_int),
        ("user", ctypes.c_void_p),
        ("id", _Id),
    )


_CALLBACK = ctypes.CFUNCTYPE(
    ctypes.c_int, ctypes.POINTER(ctypes.c_short), ctypes.c_int, ctypes.POINTER(_Event)
)


@dataclass
class Sound:
    """One phoneme: the text position of its word, its name, its first sample."""

    position: int
    name: str
    sample: int


@dataclass
class Utterance:
    """What the synthesizer gave for one phrase."""

    samples: list[int] = field(default_factory=list)
    sounds: list[Sound] = field(default_factory=list)
    word_positions: list[int] = field(default_factory=list)


class Synthesizer:
    """espeak-ng, called through its C interface."""

    def __init__(self) -> None:
        self._library = ctypes.CDLL("libespeak-ng.so.1")
        self.rate = self._library.espeak_Initialize(_SYNCHRONOUS, 0, None, _PHONEME_EVENTS)
        self._utterance = Utterance()
        self._callback = _CALLBACK(self._receive)
        self._library.espeak_SetSynthCallback(self._callback)

    def speak(self, text: str, voice: str, words_per_minute: int) -> Utterance:
        self._utterance = Utterance()
        self._library.espeak_SetVoiceByName(voice.encode())
        self._library.espeak_SetParameter(_SPEED, words_per_minute, 0)
        encoded = text.encode()
        self._library.espeak_Synth(
            encoded, ctypes.c_size_t(len(encoded) + 1), 0, _CHARACTERS, 0, _UTF8, None, None
        )
        return self._utterance

    def _receive(self, wave, length, events) -> int:  # type: ignore[no-untyped-def]
        if wave and length:
            self._utterance.samples.extend(wave[:length])
        for index in count():
            event = events[index]
            if event.type == _END_OF_LIST:
                return 0
            if event.type == _WORD:
                self._utterance.word_positions.append(event.text_position)
            elif event.type == _PHONEME:
                name = event.id.string.decode(errors="replace")
                self._utterance.sounds.append(Sound(event.text_position, name, event.sample))
        return 0


def word_times(
    synthesizer: Synthesizer, text: str, voice: str, utterance: Utterance, pace: int
) -> list[tuple[str, float, float]]:
    """(word, start, end) in seconds for each word of the text as written."""
    tokens = [(match.start() + 1, match[0]) for match in re.finditer(r"\S+", text)]
    spans: list[tuple[str, float, float]] = []
    for group in _groups(tokens, set(utterance.word_positions)):
        first, last = group[0][0], group[-1][0]
        limit = next((position for position, _ in tokens if position > last), len(text) + 2)
        start, end = _span(utterance.sounds, first, limit, len(utterance.samples))
        weights = (
            [1]
            if len(group) == 1
            else [_sound_count(synthesizer, word, voice, pace) for _, word in group]
        )
        edges = np.cumsum([0, *weights]) / sum(weights) * (end - start) + start
        for (_, word), left, right in zip(group, edges[:-1], edges[1:], strict=True):
            spans.append((word, left / synthesizer.rate, right / synthesizer.rate))
    return spans


def _groups(tokens: list[tuple[int, str]], spoken: set[int]) -> Iterator[list[tuple[int, str]]]:
    """Words with an event of their own, each with those after it that have none."""
    group: list[tuple[int, str]] = []
    for token in tokens:
        if group and token[0] in spoken:
            yield group
            group = []
        group.append(token)
    yield group


def _span(sounds: list[Sound], first: int, limit: int, end_of_audio: int) -> tuple[int, int]:
    """First and last sample of the sounds from text position `first` up to `limit`; pauses do not
    count.
    """
    inside = [
        index
        for index, sound in enumerate(sounds)
        if first <= sound.position < limit and not sound.name.startswith(("_", "(")) and sound.name
    ]
    following = inside[-1] + 1
    end = sounds[following].sample if following < len(sounds) else end_of_audio
    return sounds[inside[0]].sample, end


def _sound_count(synthesizer: Synthesizer, word: str, voice: str, pace: int) -> int:
    alone = synthesizer.speak(word.strip(".,!?"), voice, pace)
    return max(
        1, sum(1 for sound in alone.sounds if sound.name and not sound.name.startswith(("_", "(")))
    )


def trimmed(
    samples: np.ndarray, words: list[tuple[str, float, float]], rate: int
) -> tuple[np.ndarray, list[tuple[str, float, float]]]:
    """The phrase with 20 ms of silence at both ends, and its words' times moved along."""
    margin = 0.02
    first = max(0, round((words[0][1] - margin) * rate))
    last = min(len(samples), round((words[-1][2] + margin) * rate))
    return samples[first:last], [
        (word, start - first / rate, end - first / rate) for word, start, end in words
    ]


def read_phrases(path: Path) -> Iterator[tuple[str, str]]:
    """(voice, text) of each line."""
    for line in path.read_text(encoding="utf-8").splitlines():
        if line and not line.startswith("#"):
            voice, text = line.split("|", 1)
            yield voice.strip(), text.strip()


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--into", type=Path, default=Path("src/mantisreed/standin/bank"))
    into = parser.parse_args().into
    synthesizer = Synthesizer()
    shutil.rmtree(into, ignore_errors=True)
    for source in sorted(Path(__file__).with_name("phrases").glob("*.txt")):
        folder = into / source.stem
        folder.mkdir(parents=True)
        numbers = {voice: count(1) for voice in VOICES}
        for voice, text in read_phrases(source):
            stem = folder / f"{voice}-{next(numbers[voice]):03d}"
            pace = WORDS_PER_MINUTE[voice]
            utterance = synthesizer.speak(text, VOICES[voice], pace)
            words = word_times(synthesizer, text, VOICES[voice], utterance, pace)
            speech = np.asarray(utterance.samples, np.float32) / 32768
            speech, words = trimmed(speech, words, synthesizer.rate)
            speech = resample_poly(speech, RATE, synthesizer.rate).astype(np.float32)
            speech *= 0.35 / max(1e-9, float(np.abs(speech).max()))
            encoded = encode([speech[np.newaxis]], FORMATS[BIT_RATE_FORMAT], sample_rate=RATE)
            assert encoded is not None
            stem.with_suffix(".opus").write_bytes(encoded)
            stem.with_suffix(".txt").write_text(text + "\n", encoding="utf-8")
            document = {
                "language": source.stem,
                "voice": voice,
                "words": [
                    {"text": word, "start": round(start, 3), "end": round(end, 3)}
                    for word, start, end in words
                ],
            }
            stem.with_suffix(".json").write_text(
                json.dumps(document, ensure_ascii=False, separators=(",", ":")) + "\n",
                encoding="utf-8",
            )


if __name__ == "__main__":
    main()
