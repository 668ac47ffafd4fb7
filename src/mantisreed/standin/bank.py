"""A phrase bank: a folder of spoken phrases, each an audio file with its text beside it.

`heron-01.opus` goes with `heron-01.txt`. An optional `heron-01.json` holds any of `language` (a
tag), `voice` (a name) and `words` (a list of `text`, `start`, `end`, in seconds). Subfolders are
searched as well.
"""

import hashlib
import math
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.decode import SAMPLE_RATE, decode
from mantisreed.errors import InputError, RecordingError
from mantisreed.files import printable
from mantisreed.standin.kept import keep, kept

BUNDLED = Path(__file__).with_name("bank")
"""The bank that ships with the package: the marsh station, in English and German."""

_FRAME = SAMPLE_RATE // 100
_CACHE_FORMAT = 1  # of the decoded sounds that are kept
_SILENCE = 0.03  # of the loudest frame: 30 dB under it
_NOT_AUDIO = {".txt", ".json"}


class BankWord(msgspec.Struct, frozen=True):
    """One spoken word; `start` and `end` in seconds from the beginning of its phrase or
    recording.
    """

    text: str
    start: float
    end: float


class _Beside(msgspec.Struct, forbid_unknown_fields=True):
    language: str | None = None
    voice: str | None = None
    words: tuple[BankWord, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class Phrase:
    """One spoken phrase.

    Attributes:
        name: the path of its file in the bank, without the ending.
        text: what is said, as it is written.
        language: a language tag; None when the bank does not say.
        voice: who says it; None when the bank does not say.
        words: the words of the text with their times.
        samples: the sound, shape (samples,), 16 kHz.
    """

    name: str
    text: str
    language: str | None
    voice: str | None
    words: tuple[BankWord, ...]
    samples: NDArray[np.float32]

    @property
    def duration(self) -> float:
        """Seconds."""
        return len(self.samples) / SAMPLE_RATE


def load_bank(folder: Path = BUNDLED) -> tuple[Phrase, ...]:
    """All phrases of a folder, ordered by name.

    Raises:
        InputError: the folder holds no phrase, or a file of it cannot be read.
    """
    files = list(_files(folder))
    if not files:
        raise InputError(
            "no phrases in this folder",
            where=printable(folder),
            advice="a phrase bank is a folder of audio files, each with a .txt of the same name "
            "beside it",
        )
    digest = _digest_of(files)
    sounds = _kept_sounds(digest, len(files))
    is_kept = sounds is not None
    if sounds is None:
        with ThreadPoolExecutor() as pool:
            sounds = list(pool.map(_sound_of, (audio for audio, _ in files)))
    phrases = tuple(
        _phrase(folder, audio, text, sound)
        for (audio, text), sound in zip(files, sounds, strict=True)
    )
    if not is_kept:
        ends = np.cumsum(list(map(len, sounds)))
        keep(digest, {"samples": np.concatenate(sounds), "ends": ends})
    return phrases


def _digest_of(files: Sequence[tuple[Path, Path]]) -> str:
    """Under which the decoded sounds of these files are kept: decoding the bundled bank takes
    seconds at every start.
    """
    digest = hashlib.sha256(f"{_CACHE_FORMAT}\n".encode())
    for audio, _ in files:
        found = audio.stat()
        digest.update(
            f"{audio.name}\0{found.st_size}\0{found.st_mtime_ns}\n".encode(
                "utf-8", "surrogateescape"
            )
        )
    return digest.hexdigest()


def _kept_sounds(digest: str, count: int) -> "list[NDArray[np.float32]] | None":
    arrays = kept(digest, "samples", "ends")
    if arrays is None or len(arrays["ends"]) != count:
        return None
    return np.split(arrays["samples"], arrays["ends"][:-1])


def _sound_of(audio: Path) -> "NDArray[np.float32]":
    try:
        samples: NDArray[np.float32] = np.concatenate(list(decode(audio)), axis=1)[0]
        return samples
    except RecordingError as error:
        raise InputError(f"this phrase cannot be read ({error})", where=printable(audio)) from error


def _files(folder: Path) -> Iterator[tuple[Path, Path]]:
    """Each audio file that has a text beside it, with that text."""
    texts = {path.with_suffix(""): path for path in folder.rglob("*.txt")}
    for path in sorted(folder.rglob("*")):
        text = texts.get(path.with_suffix(""))
        if text and path.suffix not in _NOT_AUDIO:
            yield path, text


def _phrase(folder: Path, audio: Path, text_file: Path, samples: "NDArray[np.float32]") -> Phrase:
    try:
        text = " ".join(text_file.read_text(encoding="utf-8").split())
        beside_file = audio.with_suffix(".json")
        if beside_file.exists():
            beside = msgspec.json.decode(beside_file.read_bytes(), type=_Beside)
        else:
            beside = _Beside()
    except (OSError, UnicodeDecodeError, msgspec.MsgspecError) as error:
        raise InputError(f"this phrase cannot be read ({error})", where=printable(audio)) from error
    words = beside.words or spread_words(text.split(), samples)
    name = audio.relative_to(folder).with_suffix("").as_posix()
    return Phrase(name, text, beside.language, beside.voice, words, samples)


def spread_words(texts: Sequence[str], samples: NDArray[np.float32]) -> tuple[BankWord, ...]:
    """Words over the stretches of a phrase that are not silent, each as long as its number of
    letters asks for.
    """
    frames = np.resize(samples, (max(1, len(samples) // _FRAME), _FRAME))
    levels = np.sqrt(np.square(frames).mean(axis=1))
    sounding = np.flatnonzero(levels >= levels.max() * _SILENCE)
    shares = np.cumsum([0.0, *(math.sqrt(len(text)) for text in texts)])
    first = np.minimum((shares[:-1] / shares[-1] * len(sounding)).astype(int), len(sounding) - 1)
    last = np.maximum((shares[1:] / shares[-1] * len(sounding)).astype(int) - 1, first)
    starts, ends = (
        sounding[first] * _FRAME / SAMPLE_RATE,
        (sounding[last] + 1) * _FRAME / SAMPLE_RATE,
    )
    return tuple(
        BankWord(text, float(a), float(b)) for text, a, b in zip(texts, starts, ends, strict=True)
    )
