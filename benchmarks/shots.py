"""How well shot changes are found, on composed video with known cuts.

    python benchmarks/shots.py [--seconds N]

Draws shots of several kinds (pans over a landscape, flocks that move, night pictures with little
light, like colours before and after the cut), cuts them together at known frames, with flashes and
slow fades between some, encodes the whole, and prints precision and recall (within one frame) and
how much faster than playing it was read.
"""

import argparse
import tempfile
import time
from pathlib import Path

from composed.film import compose_film, write_film
from mantisreed.audio.shots import shot_changes
from sizes import parsed


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--seconds", type=float, default=120.0)
    parser.add_argument("--films", type=int, default=4)
    options = parsed(parser, {"seconds": 6.0, "films": 1})
    for seed in range(1, options.films + 1):
        film = compose_film(seed=seed, seconds=options.seconds)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "film.mp4"
            write_film(film, path)
            begun = time.perf_counter()
            found = shot_changes(path)
            took = time.perf_counter() - begun
        frame = 1.0 / film.rate
        right = sum(any(abs(cut - one) <= 1.5 * frame for one in film.cuts) for cut in found)
        heard = sum(any(abs(cut - one) <= 1.5 * frame for cut in found) for one in film.cuts)
        print(
            f"film {seed}: {len(film.cuts)} cuts, {len(found)} found; precision "
            f"{right / max(1, len(found)):.3f}, "
            f"recall {heard / max(1, len(film.cuts)):.3f}; {film.seconds / took:.0f} x faster "
            "than playing"
        )


if __name__ == "__main__":
    main()
