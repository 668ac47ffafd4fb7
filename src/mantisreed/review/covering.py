"""Covering stretches of sound, to the sample: what is covered is gone, and nothing else is
changed.
"""

import math
from collections.abc import Iterable, Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

Cover = Literal["tone", "silence"]
COVERS: tuple[Cover, ...] = ("tone", "silence")

_TONE_HZ = 1000.0  # the tone that broadcasters cover words with
_TONE_LEVEL = 0.1  # of full scale, 20 dB under it
_FADE = 0.005  # seconds at both ends of a tone, without which it would click

Span = tuple[int, int]


def spans_in_samples(
    spans: Iterable[tuple[float, float]], sample_rate: int, margin: float, last: int
) -> list[Span]:
    """Stretches in seconds as samples [first, last), with a margin on both sides, in order and
    apart.

    Args:
        spans: (start, end) in seconds.
        sample_rate: samples per second.
        margin: seconds.
        last: number of samples of the sound.
    """
    wide = []
    for start, end in sorted(spans):
        # Rounded first: times are to the millisecond, and sums of them are off by a little.
        first = math.floor(round((start - margin) * sample_rate, 3))
        after = math.ceil(round((end + margin) * sample_rate, 3))
        wide.append((max(0, first), min(last, after)))
    apart: list[Span] = []
    for first, after in wide:
        if apart and first <= apart[-1][1]:
            apart[-1] = apart[-1][0], max(after, apart[-1][1])
        elif after > first:
            apart.append((first, after))
    return apart


def covered(
    block: NDArray[Any], first: int, spans: Sequence[Span], cover: Cover, sample_rate: int
) -> NDArray[Any]:
    """A block of sound with the stretches covered; a copy where it is changed.

    Args:
        block: shape (samples,) or (samples, channels), integers of any width or floats up to 1.
        first: the number of its first sample in the whole sound.
        spans: samples [first, last), in order and apart.
        cover: what is put over them.
        sample_rate: samples per second.
    """
    changed = block
    for start, end in spans:
        low, high = max(start, first), min(end, first + len(block))
        if low >= high:
            continue
        if changed is block:
            changed = block.copy()
        cover_with: np.ndarray | int = 0
        if cover == "tone":
            cover_with = _tone(low, high, start, end, block.dtype, sample_rate)
        part = changed[low - first : high - first]
        if part.ndim == 1 or cover == "silence":
            part[...] = cover_with
        else:
            part[...] = np.asarray(cover_with)[:, None]
    return changed


def _tone(
    low: int, high: int, start: int, end: int, kind: "np.dtype[Any]", sample_rate: int
) -> NDArray[Any]:
    """Samples [low, high) of the tone that covers [start, end)."""
    at = np.arange(low, high)
    wave = _TONE_LEVEL * np.sin(2.0 * np.pi * _TONE_HZ * (at - start) / sample_rate)
    edge = max(1.0, _FADE * sample_rate)
    wave *= np.clip(np.minimum(at - start, end - 1 - at) / edge, 0.0, 1.0)
    if np.issubdtype(kind, np.integer):
        full_scale = float(np.iinfo(kind).max)
    else:
        full_scale = 1.0
    tone: NDArray[Any] = (wave * full_scale).astype(kind)
    return tone
