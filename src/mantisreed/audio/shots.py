"""Shot changes in the picture of a recording: where one picture is cut to another.

Every frame is scaled down to a stamp; two neighbouring ones are compared by the histograms of their
colours, which change when the picture does and hardly when something in it moves, and by the edges
in them, which tell cuts between pictures of like colours. A cut is a difference that stands out
from those around it, and that lasts: a flash ends with the picture that it began with. Only some
frames are kept at a time.
"""

import os
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mantisreed.errors import RecordingError, reason_of

Stamp = NDArray[np.uint8]
Floats = NDArray[np.float64]

_WIDTH, _HEIGHT = 64, 36  # pixels of a stamp; more did not find more cuts
_BINS = 16  # of the histogram of each colour
_AROUND = 12  # frames on both sides that a difference has to stand out from
# Of the difference, 0 to 1, and how many times the median around it.
_LEAST, _STANDS_OUT = (
    0.18,
    3.0,
)
_FLASH = 3  # frames that a flash lasts at most
_SAME = 0.5  # share of the difference that is left when a picture comes back after a flash
_EDGES = 0.6  # weight of edges beside colours


@dataclass(frozen=True, slots=True)
class Picture:
    """What is compared of a frame.

    Attributes:
        time: seconds.
        colours: histogram of the three colours, each of sum 1/3.
        edges: how strong edges are, by place, 0 to 1.
    """

    time: float
    colours: Floats
    edges: Floats


def shot_changes(path: str | os.PathLike[str]) -> list[float]:
    """The times of the first frames of new shots, in seconds, without the beginning.

    Args:
        path: a file with a picture.

    Raises:
        RecordingError: it cannot be read, or has no picture.
    """
    return cuts_of(_pictures(path))


def cuts_of(pictures: Iterable[Picture]) -> list[float]:
    """The times at which pictures are cut.

    Args:
        pictures: of all frames, in order; some are kept at a time.
    """
    recent: list[Picture] = []
    first = 0  # the number of the first recent picture
    differences: list[float] = []
    times: list[float] = []
    lasting: set[int] = set()  # differences that no flash makes

    def judge(number: int) -> None:
        if 0 <= number < len(differences) and differences[number] >= _LEAST:
            place = number - first
            if not _is_flash(recent, place, differences[number]):
                lasting.add(number)

    for picture in pictures:
        if recent:
            differences.append(_difference(recent[-1], picture))
            times.append(picture.time)
        recent.append(picture)
        if len(recent) > 2 * _FLASH + 2:
            del recent[0]
            first += 1
        judge(len(differences) - 1 - _FLASH)
    for number in range(len(differences) - _FLASH, len(differences)):
        judge(number)
    return [times[at] for at in sorted(lasting) if _stands_out(differences, at)]


def _stands_out(differences: Sequence[float], at: int) -> bool:
    """Whether a difference is the highest near it, and much higher than what is usual around it."""
    low = max(0, at - _AROUND)
    around = [*differences[low:at], *differences[at + 1 : at + _AROUND + 1]]
    is_highest = differences[at] >= max(differences[max(0, at - 2) : at + 3])
    return is_highest and (not around or differences[at] > _STANDS_OUT * float(np.median(around)))


def _is_flash(pictures: Sequence[Picture], at: int, difference: float) -> bool:
    """Whether the picture before a difference comes back within some frames, or came back at it."""
    after = pictures[at + 2 : at + 2 + _FLASH]
    before = pictures[max(0, at - _FLASH) : at]
    comes_back = any(_difference(pictures[at], one) < _SAME * difference for one in after)
    came_back = any(_difference(one, pictures[at + 1]) < _SAME * difference for one in before)
    return comes_back or came_back


def _difference(one: Picture, other: Picture) -> float:
    """How different two pictures are, 0 to 1."""
    colours = 0.5 * float(np.abs(one.colours - other.colours).sum())
    strength = float(one.edges.sum() + other.edges.sum())
    edges = float(np.abs(one.edges - other.edges).sum()) / strength if strength > 1.0 else 0.0
    return (colours + _EDGES * edges) / (1.0 + _EDGES)


def _pictures(path: str | os.PathLike[str]) -> Iterator[Picture]:
    import av  # takes long to import

    from mantisreed.audio.containers import open_container

    try:
        with open_container(path) as (container, _):
            stream = next(iter(container.streams.video), None)
            if stream is None:
                raise RecordingError("there is no picture in it", where=os.fspath(path))
            stream.thread_type = "AUTO"
            start = float((stream.start_time or 0) * (stream.time_base or 0))
            for frame in container.decode(stream):
                stamp = frame.reformat(width=_WIDTH, height=_HEIGHT, format="rgb24").to_ndarray()
                yield picture_of(
                    stamp.astype(np.uint8, copy=False), round((frame.time or 0.0) - start, 4)
                )
    except (av.FFmpegError, OSError) as error:
        raise RecordingError(
            f"cannot be read ({reason_of(error)})", where=os.fspath(path)
        ) from error


def picture_of(stamp: Stamp, time: float) -> Picture:
    """What is compared of a small picture, shape (height, width, 3)."""
    bins = (stamp.reshape(-1, 3) // (256 // _BINS)).astype(np.intp) + np.arange(3) * _BINS
    colours = np.bincount(bins.ravel(), minlength=3 * _BINS) / bins.size
    grey = stamp.mean(axis=2)
    across, down = np.abs(np.diff(grey, axis=1))[:-1], np.abs(np.diff(grey, axis=0))[:, :-1]
    return Picture(time, colours, np.minimum((across + down) / 255.0, 1.0))
