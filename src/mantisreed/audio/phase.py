"""Two channels of opposite phase, found and resolved before they are mixed."""

import math
from typing import Any

import av
import av.audio.frame
import numpy as np
from numpy.typing import NDArray

_EXCERPT = 512  # samples
_EXCERPTS = 8  # of a block of some 1.5 s


class Opposition:
    """Two channels of opposite phase, as a wrongly wired plug makes them: their mix would be
    silence.

    It is looked for block by block, as recordings are joined of parts.
    """

    # Correlation from which channels are opposed, and from which they are not any more.
    _OPPOSED, _ALIKE = (
        -0.8,
        -0.3,
    )
    _AUDIBLE = 1e-5  # mean square of full scale: -50 dBFS

    def __init__(self) -> None:
        self._is_opposed = False
        self.was_found = False

    def resolved(self, frame: "av.AudioFrame") -> "av.AudioFrame":
        """The frame, or one with its second channel turned round."""
        correlation = self._correlation(_excerpts(frame))
        if correlation is not None:
            limit = self._ALIKE if self._is_opposed else self._OPPOSED
            self._is_opposed = correlation < limit
        if not self._is_opposed:
            return frame
        self.was_found = True
        samples = _rows(frame)
        turned = _turned_round(samples[1])
        return _like(frame, np.stack([samples[0], turned]))

    def _correlation(self, samples: "NDArray[Any]") -> float | None:
        """Of the two channels, -1 to 1; None where one of them is silent."""
        rows = _as_floats(samples)
        powers = np.einsum("ij,ij->i", rows, rows) / max(1, rows.shape[1])
        if powers.min() < self._AUDIBLE:
            return None
        shared = float(np.dot(rows[0], rows[1])) / rows.shape[1]
        correlation: float = shared / math.sqrt(float(powers[0]) * float(powers[1]))
        return correlation


def _excerpts(frame: "av.AudioFrame") -> "NDArray[Any]":
    """A few short stretches of a frame, of shape (channels, samples).

    They tell as much as all of it, in a fraction of the time.
    """
    kind = np.dtype(av.audio.frame.format_dtypes[frame.format.name])
    planes = [np.frombuffer(memoryview(plane), kind) for plane in frame.planes]
    firsts = range(0, frame.samples, max(_EXCERPT, frame.samples // _EXCERPTS))
    stretches = [slice(first, min(first + _EXCERPT, frame.samples)) for first in firsts]
    if frame.format.is_planar:
        return np.stack(
            [np.concatenate([plane[stretch] for stretch in stretches]) for plane in planes]
        )
    packed = planes[0][: frame.samples * frame.layout.nb_channels].reshape(frame.samples, -1)
    rows: NDArray[Any] = np.concatenate([packed[stretch] for stretch in stretches]).T
    return rows


def _rows(frame: "av.AudioFrame") -> "NDArray[Any]":
    """A frame's samples as they are, of shape (channels, samples)."""
    samples: NDArray[Any] = frame.to_ndarray()
    if frame.format.is_planar:
        return samples
    return samples.reshape(frame.samples, -1).T


def _like(frame: "av.AudioFrame", rows: "NDArray[Any]") -> "av.AudioFrame":
    """A frame of the same kind with other samples."""
    packed = rows if frame.format.is_planar else rows.T.reshape(1, -1)
    made = av.AudioFrame.from_ndarray(
        np.ascontiguousarray(packed), format=frame.format.name, layout=frame.layout.name
    )
    made.sample_rate = frame.sample_rate
    return made


def _as_floats(samples: "NDArray[Any]") -> NDArray[np.float32]:
    """Samples with full scale at 1.0."""
    if samples.dtype == np.uint8:
        return samples.astype(np.float32) / np.float32(128.0) - np.float32(1.0)
    if np.issubdtype(samples.dtype, np.integer):
        full_scale = np.float32(-float(np.iinfo(samples.dtype).min))
        floats: NDArray[np.float32] = samples.astype(np.float32) / full_scale
        return floats
    return np.nan_to_num(samples.astype(np.float32))


def _turned_round(samples: "NDArray[Any]") -> "NDArray[Any]":
    """The same sound with its sign changed."""
    if np.issubdtype(samples.dtype, np.integer):
        # The bitwise complement is -x - 1 for signed and 255 - x for unsigned samples: neither
        # overflows.
        turned: NDArray[Any] = np.invert(samples)
    else:
        turned = np.negative(samples)
    return turned
