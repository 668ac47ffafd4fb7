"""Films of made-up shots with known cuts, to test finding shot changes with. All follows from the
seed.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

Frame = NDArray[np.uint8]
_WIDTH, _HEIGHT = 320, 180
_NOISE = 4.0  # levels of the noise of a camera


@dataclass(frozen=True, slots=True)
class Shot:
    """A shot that has been chosen but not drawn.

    Attributes:
        seed: of its picture.
        frames: how many.
        fades_in: frames over which it comes out of the shot before; 0 for a cut.
        flash: the frame that is white; -1 for none.
        light: of its picture, 0 to 1.
    """

    seed: int
    frames: int
    fades_in: int
    flash: int
    light: float


@dataclass(frozen=True, slots=True)
class Film:
    """Shots in order.

    Attributes:
        shots: with their lengths.
        rate: frames a second.
    """

    shots: tuple[Shot, ...]
    rate: int

    @property
    def cuts(self) -> tuple[float, ...]:
        """When shots begin that are cut to, in seconds."""
        starts = np.cumsum([0, *(shot.frames for shot in self.shots)])
        return tuple(
            float(start) / self.rate
            for start, shot in zip(starts[1:], self.shots[1:], strict=False)
            if shot.fades_in == 0
        )

    @property
    def seconds(self) -> float:
        """How long it is."""
        return sum(shot.frames for shot in self.shots) / self.rate

    def frames(self) -> Iterator[Frame]:
        """The pictures, each of shape (height, width, 3)."""
        noise = np.random.default_rng(len(self.shots))
        before: _View | None = None
        for shot in self.shots:
            view = _View(shot)
            for number in range(shot.frames):
                picture = view.picture(number)
                if before is not None and number < shot.fades_in:
                    share = (number + 1) / (shot.fades_in + 1)
                    picture = share * picture + (1 - share) * before.picture(
                        before.shot.frames + number
                    )
                if number == shot.flash:
                    picture = 0.2 * picture + 200.0
                picture = picture + noise.normal(0.0, _NOISE, picture.shape)
                yield np.clip(picture, 0, 255).astype(np.uint8)
            before = view


class _View:
    """Sky, marsh and mud with birds over them, which the camera pans along."""

    def __init__(self, shot: Shot) -> None:
        self.shot = shot
        chance = np.random.default_rng(shot.seed)
        self._sky, self._marsh, self._mud = (chance.uniform(30, 230, 3) for _ in range(3))
        self._horizon, self._shore = chance.uniform(0.25, 0.5), chance.uniform(0.55, 0.85)
        self._pan = chance.uniform(-1.5, 1.5)
        count = int(chance.integers(0, 14))
        self._birds = chance.uniform(0, 1, (count, 2)) * (_WIDTH, _HEIGHT * self._horizon)
        self._speeds = chance.normal(0, 1.6, (count, 2))
        self._waves = (
            chance.uniform(0.01, 0.06, 3),
            chance.uniform(0, 6.28, 3),
            chance.uniform(3, 14, 3),
        )
        self._posts = chance.uniform(0, 2 * _WIDTH, 9)

    def picture(self, number: int) -> NDArray[np.float64]:
        across = np.arange(_WIDTH) + self._pan * number
        hills = sum(
            height * np.sin(across * wave + phase)
            for wave, phase, height in zip(*self._waves, strict=True)
        )
        rows = np.arange(_HEIGHT)[:, None]
        horizon, shore = self._horizon * _HEIGHT + hills, self._shore * _HEIGHT + 0.5 * hills
        whole = np.where(
            (rows < horizon)[..., None],
            self._sky,
            np.where((rows < shore)[..., None], self._marsh, self._mud),
        ).astype(float)
        for post in self._posts:
            at = int(post - self._pan * number)
            if 0 <= at < _WIDTH - 3:
                whole[int(self._horizon * _HEIGHT) :, at : at + 3] *= 0.45
        for place, speed in zip(self._birds, self._speeds, strict=True):
            x, y = (place + speed * number).astype(int) % (_WIDTH - 8, _HEIGHT - 5)
            whole[y : y + 4, x : x + 7] *= 0.3
        return whole * self.shot.light


def compose_film(*, seed: int, seconds: float, rate: int = 25) -> Film:
    """A film of shots of half a second to six, one in eight of them faded in, one in six with a
    flash.
    """
    chance = np.random.default_rng(seed)
    shots: list[Shot] = []
    left = round(seconds * rate)
    while left > rate:
        frames = min(left, int(chance.uniform(0.5, 6.0) * rate))
        if shots and chance.random() < 0.125 and frames > 40:
            fades_in = int(chance.integers(12, 30))
        else:
            fades_in = 0
        if chance.random() < 1 / 6 and frames > 50:
            flash = int(chance.integers(fades_in + 6, frames - 6))
        else:
            flash = -1
        light = float(chance.choice([1.0, 0.8, 0.35]))
        shots.append(Shot(int(chance.integers(1 << 30)), frames, fades_in, flash, light))
        left -= frames
    return Film(tuple(shots), rate)


def write_film(film: Film, path: Path) -> None:
    """Encode a film, without sound."""
    import av  # takes long to import

    with av.open(str(path), "w") as container:
        stream = container.add_stream("mpeg4", rate=film.rate)
        stream.width, stream.height, stream.pix_fmt = _WIDTH, _HEIGHT, "yuv420p"
        stream.bit_rate = 900_000
        for picture in film.frames():
            for packet in stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
