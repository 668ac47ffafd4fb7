"""A phrase bank: a folder of spoken phrases, each an audio file with its text beside it.

`heron-01.opus` goes with `heron-01.txt`. An optional `heron-01.json` holds any of `language` (a tag), `voice` (a
name) and `words` (a list of `text`, `start`, `end`, in seconds). Subfolders are searched as well.
"""

import math
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import accumulate, pairwise
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.decode import SAMPLE_RATE, decode
from mantisreed.errors import InputError, RecordingError
from mantisreed.files import shown

BUNDLED = Path(__file__).with_name("bank")
"""The bank that ships with the package: the marsh station, in English and German."""

_NOT_AUDIO = {".txt", ".json"}


class Word(msgspec.Struct, frozen=True):
    """One spoken word; `start` and `end` in seconds from the beginning of its phrase or recording."""

    text: str
    start: float
    end: float


class _Beside(msgspec.Struct, forbid_unknown_fields=True):
    language: str | None = None
    voice: str | None = None
    words: tuple[Word, ...] = ()


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
    words: tuple[Word, ...]
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
    with ThreadPoolExecutor() as pool:
        phrases = tuple(pool.map(lambda files: _phrase(folder, *files), _files(folder)))
    if not phrases:
        raise InputError(
            "no phrases in this folder",
            where=shown(folder),
            advice="a phrase bank is a folder of audio files, each with a .txt of the same name beside it",
        )
    return phrases


def _files(folder: Path) -> Iterator[tuple[Path, Path]]:
    """Each audio file that has a text beside it, with that text."""
    texts = {path.with_suffix(""): path for path in folder.rglob("*.txt")}
    for path in sorted(folder.rglob("*")):
        text = texts.get(path.with_suffix(""))
        if text and path.suffix not in _NOT_AUDIO:
            yield path, text


def _phrase(folder: Path, audio: Path, text_file: Path) -> Phrase:
    try:
        text = " ".join(text_file.read_text(encoding="utf-8").split())
        beside_file = audio.with_suffix(".json")
        beside = msgspec.json.decode(beside_file.read_bytes(), type=_Beside) if beside_file.exists() else _Beside()
        samples = np.concatenate(list(decode(audio)), axis=1)[0]
    except (RecordingError, OSError, UnicodeDecodeError, msgspec.MsgspecError) as error:
        raise InputError(f"this phrase cannot be read ({error})", where=shown(audio)) from error
    words = beside.words or spread_words(text.split(), 0.0, len(samples) / SAMPLE_RATE)
    name = audio.relative_to(folder).with_suffix("").as_posix()
    return Phrase(name, text, beside.language, beside.voice, words, samples)


def spread_words(texts: Sequence[str], start: float, end: float) -> tuple[Word, ...]:
    """Words over a stretch of time, each as long as its number of letters asks for."""
    weights = [math.sqrt(len(text)) for text in texts]
    total = sum(weights)
    edges = [start + (end - start) * part / total for part in accumulate(weights, initial=0.0)]
    return tuple(Word(text, *edge) for text, edge in zip(texts, pairwise(edges), strict=True))
