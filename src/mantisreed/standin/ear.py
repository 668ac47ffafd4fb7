"""How a stand-in engine hears: it finds a bank's phrases in any sound.

Landmarks (pairs of spectral peaks) of the sound are looked up among those of the bank; pairs that
agree on a phrase and on where it would begin vote together. Each well-supported guess is then laid
over the sound and compared sample by sample; the best fit is taken out of the sound before the next
is tried, so that voices may overlap. What a word shares with the sound at its place is its
confidence: the squared correlation, which is the share of the sound's energy that the word
explains, 0.91 at 10 dB of noise.
"""

import hashlib
import math
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from typing import NamedTuple

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from mantisreed.audio.decode import SAMPLE_RATE, Samples
from mantisreed.standin.bank import BankWord, Phrase
from mantisreed.standin.kept import keep, kept

EAR_RATE = 8_000
"""Samples per second that the ear works at: what telephone audio keeps is enough."""

_WINDOW = 512  # samples of a spectrum: 64 ms at 8 kHz
_HOP = 128  # samples between two spectra
_LOW_BIN, _HIGH_BIN = 13, 225  # 200 Hz to 3.5 kHz
_PEAK_FRAMES, _PEAK_BINS = 7, 15  # on each side, among which a peak is the highest
_FLOOR_DB = 60.0  # below the loudest peak, under which peaks are noise
_FAN_OUT = 8  # landmarks that begin at a peak
_NEAREST, _FARTHEST = 1, 40  # frames between the peaks of a pair
_MOST_BINS_APART = 100  # of the two peaks of a landmark
_SHIFTS = 2  # the bank is indexed at this many positions between two frames
_FEWEST_VOTES = 4  # that make a guess worth a look
_MOST_GUESSES_PER_SECOND = 8  # that are laid over the sound
_SLACK = 3 * _HOP  # samples by which votes may be off
_GLANCE = EAR_RATE // 2  # samples of a template that are compared before all of it is
_LEAST_GLANCE_SHARE = 0.8  # of the fit that is needed in the end, at a coarser look
# Sure phrases are taken out of the sound before doubtful ones are tried.
_LEAST_FITS = (
    0.8,
    0.5,
    0.25,
)
_LEAST_WORD = 0.12  # share of the energy; a word of which less is explained was not heard
_LEAST_LEFT = (
    0.25  # share of the sound's energy that must still be unexplained for another guess to be tried
)
_KEPT_FORMAT = 1  # of what is kept of a bank; a new one where any figure above changes
_EDGE = 0.015
"""Seconds of a word that may be outside the audio before it counts as cut."""

_Floats = NDArray[np.float32]
_Integers = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class HeardWord:
    """A word with its times in seconds, and how sure the ear is of it (0 to 1)."""

    text: str
    start: float
    end: float
    confidence: float


@dataclass(frozen=True, slots=True)
class HeardPhrase:
    """A phrase or what is left of it.

    Attributes:
        phrase: which phrase of the bank.
        start: where it begins, in seconds; negative where the audio begins inside it.
        words: those that are inside the audio; one that an edge cuts is a fragment, or missing.
    """

    phrase: Phrase
    start: float
    words: tuple[HeardWord, ...]


@dataclass(frozen=True, slots=True)
class _Guess:
    phrase: int
    first: int
    votes: int


class Ear:
    """Knows a bank; hears its phrases in sound."""

    def __init__(self, phrases: Sequence[Phrase]) -> None:
        self._phrases = tuple(phrases)
        known = _known_of([phrase.samples for phrase in self._phrases])
        self._templates = [_Template(one) for one in np.split(known.samples, known.ends[:-1])]
        self._hashes, self._owners, self._frames = known.hashes, known.owners, known.places

    def listen(self, blocks: Iterable[Samples], language: str | None = None) -> list[HeardPhrase]:
        """The phrases in a recording, by where they begin.

        Args:
            blocks: the sound, mono, at `EAR_RATE`, as blocks of shape (1, samples).
            language: hear only phrases in this language (the first part of the tag counts).
        """
        pieces = [block[0] for block in blocks]
        sound = np.concatenate(pieces) if pieces else np.zeros(0, np.float32)
        allowed = np.array([_speaks(phrase, language) for phrase in self._phrases])
        guesses = [guess for guess in self._guesses(sound) if allowed[guess.phrase]]
        heard = list(self._verified(sound, guesses))
        return sorted(heard, key=lambda phrase: phrase.words[0].start)

    def _guesses(self, sound: _Floats) -> list[_Guess]:
        """Where which phrase might begin, best supported first."""
        hashes, frames = _landmarks(sound)
        left = np.searchsorted(self._hashes, hashes, "left")
        counts = np.searchsorted(self._hashes, hashes, "right") - left
        if not counts.sum():
            return []
        hits = np.repeat(left - np.concatenate([[0], np.cumsum(counts)[:-1]]), counts) + np.arange(
            counts.sum()
        )
        owners = self._owners[hits]
        firsts = np.repeat(frames * _HOP, counts) - self._frames[hits]
        places = (firsts + _SLACK * 1000) // _SLACK
        # Half of the votes for one place may have fallen into the next cell, so neighbours are
        # counted together.
        keys, inverse, votes = np.unique(
            owners * (1 << 40) + places, return_inverse=True, return_counts=True
        )
        mean_first = np.bincount(inverse, weights=firsts) / votes
        both = votes.copy()
        adjacent = np.flatnonzero(np.diff(keys) == 1)
        both[adjacent] += votes[adjacent + 1]
        both[adjacent + 1] += votes[adjacent]
        strong = np.flatnonzero(both >= _FEWEST_VOTES)
        most = int(_MOST_GUESSES_PER_SECOND * (len(sound) / EAR_RATE + 2))
        strong = strong[np.argsort(-both[strong], kind="stable")][:most]
        return [_Guess(int(keys[i] >> 40), int(mean_first[i]), int(both[i])) for i in strong]

    def _verified(self, sound: _Floats, guesses: Sequence[_Guess]) -> Iterator[HeardPhrase]:
        rest = sound.copy()
        taken: dict[int, list[int]] = defaultdict(list)
        for least_fit in _LEAST_FITS:
            for guess in guesses:
                template = self._templates[guess.phrase]
                if any(
                    abs(first - guess.first) < len(template.samples)
                    for first in taken[guess.phrase]
                ):
                    continue
                stretch = _stretch(sound, template.samples, guess.first)
                if _energy(rest[stretch]) < _LEAST_LEFT * _energy(sound[stretch]):
                    continue
                first = template.best_first(rest, guess.first, least_fit)
                if first is None:
                    continue
                phrase = self._phrases[guess.phrase]
                words = tuple(_heard_words(sound, rest, template.samples, first, phrase.words))
                if words:
                    taken[guess.phrase].append(first)
                    _take_out(rest, template.samples, first)
                    yield HeardPhrase(phrase, first / EAR_RATE, words)


class _Known(NamedTuple):
    """What an ear knows of a bank's sounds.

    Attributes:
        samples, ends: all sounds at the ear's rate one after the other, and where each ends.
        hashes, owners, places: of all landmarks, ordered by hash: the number of its sound, and the
            sample of its first peak there.
    """

    samples: _Floats
    ends: _Integers
    hashes: _Integers
    owners: _Integers
    places: _Integers


def _known_of(sounds: Sequence[_Floats]) -> _Known:
    """What is to be known of these sounds, at 16 kHz; kept, as finding it out takes a second."""
    digest = hashlib.blake2b(f"{_KEPT_FORMAT}\n".encode(), digest_size=16)
    for sound in sounds:
        # With the lengths, as other cuts of the same samples are other sounds.
        digest.update(f"{len(sound)}\n".encode())
        digest.update(sound.tobytes())
    arrays = kept(digest.hexdigest(), *_Known._fields)
    if arrays is not None:
        return _Known(**arrays)
    known = _learnt(sounds)
    keep(digest.hexdigest(), known._asdict())
    return known


def _learnt(sounds: Sequence[_Floats]) -> _Known:
    with ThreadPoolExecutor() as pool:
        halved = list(pool.map(_to_ear_rate, sounds))
        parts = list(pool.map(_index_of, halved, range(len(halved))))
    hashes, owners, places = map(np.concatenate, zip(*parts, strict=True))
    order = np.argsort(hashes, kind="stable")
    ends = np.cumsum(list(map(len, halved)))
    return _Known(np.concatenate(halved), ends, hashes[order], owners[order], places[order])


def _index_of(samples: _Floats, number: int) -> tuple[_Integers, _Integers, _Integers]:
    """The landmarks of a sound: hash, number of the sound, sample of its first peak."""
    shifts = [shift * _HOP // _SHIFTS for shift in range(_SHIFTS)]
    found = [_landmarks(np.concatenate([np.zeros(shift, np.float32), samples])) for shift in shifts]
    hashes = np.concatenate([hashes for hashes, _ in found])
    places = [frames * _HOP - shift for (_, frames), shift in zip(found, shifts, strict=True)]
    return hashes, np.full_like(hashes, number), np.concatenate(places)


class _Template:
    """A phrase's samples at the ear's rate, ready to be laid over a sound."""

    def __init__(self, samples: _Floats) -> None:
        self.samples = samples
        self._energy_before = np.concatenate(
            [[0.0], np.cumsum(np.square(samples, dtype=np.float64))]
        )

    def best_first(self, sound: _Floats, about: int, least_fit: float) -> int | None:
        """The sample near `about` where the phrase fits best; None when its correlation is under
        `least_fit`.
        """
        start, end = max(0, -about), min(len(self.samples), len(sound) - about)
        if end - start < _SLACK:
            return None
        if end - start > 2 * _GLANCE:
            loudest = start + int(np.argmax(self._energy_of_glances(start, end)))
            _, fit = _best_shift(sound, self.samples[loudest : loudest + _GLANCE], about + loudest)
            if fit < _LEAST_GLANCE_SHARE * least_fit:
                return None
        shift, fit = _best_shift(sound, self.samples[start:end], about + start)
        return about + shift if fit >= least_fit else None

    def _energy_of_glances(self, start: int, end: int) -> NDArray[np.float64]:
        before: NDArray[np.float64] = self._energy_before
        return before[start + _GLANCE : end + 1] - before[start : end + 1 - _GLANCE]


def _to_ear_rate(samples: _Floats) -> _Floats:
    """From 16 kHz to 8 kHz, by its spectrum."""
    size = 4 * _fast_length(len(samples) // 4 + 1)
    spectrum = fft.rfft(samples, size)
    halved = fft.irfft(spectrum[: size // 4 + 1], size // 2) / (SAMPLE_RATE / EAR_RATE)
    return np.asarray(halved[: len(samples) // 2], np.float32)


def _speaks(phrase: Phrase, language: str | None) -> bool:
    if language is None or phrase.language is None:
        return True
    return phrase.language.split("-")[0].lower() == language.split("-")[0].lower()


def _landmarks(sound: _Floats) -> tuple[_Integers, _Integers]:
    """Hashes of pairs of spectral peaks, and the frame of each pair's first peak."""
    frames, bins = _peaks(_spectrogram(sound))
    hashes: list[_Integers] = []
    firsts: list[_Integers] = []
    for step in range(1, _FAN_OUT + 1):
        apart = frames[step:] - frames[:-step]
        jump = bins[step:] - bins[:-step]
        near = (apart >= _NEAREST) & (apart <= _FARTHEST) & (np.abs(jump) <= _MOST_BINS_APART)
        pair = (bins[:-step][near] * 512 + jump[near] + 256) * 64 + apart[near]
        hashes.append(pair)
        firsts.append(frames[:-step][near])
    return np.concatenate(hashes), np.concatenate(firsts)


def _spectrogram(sound: _Floats) -> _Floats:
    """Level in dB, shape (frames, bins), of the band that speech and telephones share."""
    if len(sound) < _WINDOW:
        sound = np.concatenate([sound, np.zeros(_WINDOW - len(sound), np.float32)])
    count = (len(sound) - _WINDOW) // _HOP + 1
    window = np.hanning(_WINDOW).astype(np.float32)
    levels = np.empty((count, _HIGH_BIN - _LOW_BIN), np.float32)
    for start in range(0, count, 4096):
        end = min(start + 4096, count)
        frames = np.lib.stride_tricks.sliding_window_view(sound[start * _HOP :], _WINDOW)[::_HOP][
            : end - start
        ]
        spectrum = fft.rfft(frames * window, axis=1)[:, _LOW_BIN:_HIGH_BIN]
        levels[start:end] = 10 * np.log10(
            np.square(spectrum.real) + np.square(spectrum.imag) + 1e-10
        )
    return levels


def _peaks(levels: _Floats) -> tuple[_Integers, _Integers]:
    """Frames and bins of the local maxima, ordered by frame, then bin."""
    highest = _highest_around(_highest_around(levels, _PEAK_FRAMES).T, _PEAK_BINS).T
    floor = np.maximum(levels.max() - _FLOOR_DB, np.median(levels))
    frames, bins = np.nonzero((levels == highest) & (levels > floor))
    return frames.astype(np.int64), bins.astype(np.int64)


def _highest_around(levels: _Floats, width: int) -> _Floats:
    """The highest of so many rows around each row; `width` is odd."""
    reach = width // 2
    edge = ((reach, reach), (0, 0))
    highest, covered = np.pad(levels, edge, constant_values=-np.inf), 1
    # Twice as many rows with each step, then as many as are left.
    while covered < width:
        step = min(covered, width - covered)
        highest = np.maximum(highest[:-step], highest[step:])
        covered += step
    return highest


@cache
def _fast_length(least: int) -> int:
    """The next length whose Fourier transform is quick: a product of 2, 3 and 5."""
    best = 1 << (least - 1).bit_length()
    five = 1
    while five < best:
        three = five
        while three < best:
            doublings = max(0, (-(-least // three) - 1).bit_length())
            best = min(best, three << doublings)
            three *= 3
        five *= 5
    return best


def _stretch(sound: _Floats, samples: _Floats, first: int) -> slice:
    """Where in the sound a template lies that begins at `first`."""
    return slice(max(0, first), max(0, min(len(sound), first + len(samples))))


def _energy(samples: _Floats) -> float:
    return float(np.dot(samples, samples))


def _best_shift(sound: _Floats, part: _Floats, about: int) -> tuple[int, float]:
    """How far from `about` the part correlates best, within the slack, and the normalised
    correlation there.
    """
    window = np.zeros(len(part) + 2 * _SLACK, np.float32)
    begin = about - _SLACK
    left, right = max(0, begin), min(len(sound), begin + len(window))
    window[left - begin : right - begin] = sound[left:right]
    size = _fast_length(len(window))
    products = fft.irfft(fft.rfft(window, size) * np.conj(fft.rfft(part, size)), size)[
        : 2 * _SLACK + 1
    ]
    best = int(np.argmax(products))
    energy = _energy(window[best : best + len(part)]) * _energy(part)
    return best - _SLACK, float(products[best]) / math.sqrt(energy) if energy > 0 else 0.0


def _heard_words(
    sound: _Floats, rest: _Floats, samples: _Floats, first: int, words: Sequence[BankWord]
) -> Iterator[HeardWord]:
    length = len(sound) / EAR_RATE
    begin = first / EAR_RATE
    for word in words:
        start, end = begin + word.start, begin + word.end
        inside = min(end, length) - max(start, 0.0)
        share = inside / (end - start) if end > start else 0.0
        if share < 0.5:
            continue
        explained = _explained(sound, rest, samples, first, word)
        if explained < _LEAST_WORD:
            continue
        whole = (end - start) - inside <= _EDGE
        text = word.text if whole else _fragment(word.text, share, at_start=start < 0)
        if text:
            sureness = explained if whole else explained * share / 2
            yield HeardWord(text, max(0.0, start), min(length, end), sureness)


def _explained(
    sound: _Floats, rest: _Floats, samples: _Floats, first: int, word: BankWord
) -> float:
    """The share of the sound's energy at a word's place that the word explains, of what is left to
    explain.
    """
    start = max(round(word.start * EAR_RATE), -first, 0)
    end = min(round(word.end * EAR_RATE), len(samples), len(sound) - first)
    ours, here = samples[start:end], slice(first + start, first + end)
    energy = _energy(ours) * _energy(sound[here])
    product = float(np.dot(ours, rest[here]))
    if energy > 0 and product > 0:
        return min(1.0, product * product / energy)
    return 0.0


def _fragment(text: str, share: float, *, at_start: bool) -> str:
    """What is left of a word when an edge takes the rest of it; at least one letter goes."""
    letters = re.sub(r"[\W_]", "", text)
    kept = min(len(letters) - 1, round(len(letters) * share))
    if at_start:
        return letters[len(letters) - kept :]
    return letters[: max(0, kept)]


def _take_out(sound: _Floats, samples: _Floats, first: int) -> None:
    """Subtract the phrase at its best level, in place."""
    stretch = _stretch(sound, samples, first)
    ours, theirs = samples[stretch.start - first : stretch.stop - first], sound[stretch]
    theirs -= ours * np.float32(float(np.dot(ours, theirs)) / max(1e-12, _energy(ours)))
