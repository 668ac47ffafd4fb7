"""What the stand-ins' ear finds, and how fast, on composed recordings with truth.

    python benchmarks/ear.py [--minutes M]

Each row is one composed recording of M minutes through one format at one signal-to-noise ratio:
phrases said, found, and made up; words lost; the standard deviation of phrase starts; mean
confidence; and the speed of hearing alone, in multiples of real time on one core. Target: every
phrase at 20 and at 10 dB, 300 times real time at 20 dB.
"""

import argparse
import io
import time

import numpy as np

from mantisreed.audio.decode import decode
from mantisreed.audio.encode import encode
from mantisreed.audio.formats import FORMATS
from mantisreed.standin.bank import Phrase, load_bank
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.ear import EAR_RATE, Ear, HeardPhrase
from sizes import parsed

ROWS = [("flac", None), ("mp3", 20.0), ("mp3", 10.0), ("opus", 10.0), ("flac", 5.0), ("flac", 0.0)]


def listen(ear: Ear, composition: Composition, form: str) -> tuple[list[HeardPhrase], float]:
    content = encode(composition.blocks(), FORMATS[form])
    assert content is not None
    blocks = list(decode(io.BytesIO(content), sample_rate=EAR_RATE))
    start = time.perf_counter()
    heard = ear.listen(blocks)
    return heard, time.perf_counter() - start


def row(ear: Ear, phrases: list[Phrase], form: str, snr: float | None, minutes: float) -> str:
    composition = compose(phrases, seed=3, duration=minutes * 60, level_range=6, snr=snr)
    heard, seconds = listen(ear, composition, form)
    rest, offsets, words_heard, confidences = list(heard), [], 0, []
    for spoken in composition.truth:
        match = next(
            (h for h in rest if h.phrase is spoken.phrase and abs(h.start - spoken.start) < 0.05),
            None,
        )
        if match:
            rest.remove(match)
            offsets.append(match.start - spoken.start)
            words_heard += len(match.words)
            confidences += [word.confidence for word in match.words]
    noise = "none" if snr is None else f"{snr:g} dB"
    return (
        f"{form:6} {noise:>6}  {len(composition.truth):5} {len(offsets):6} {len(rest):8} "
        f"{len(composition.words) - words_heard:6} of {len(composition.words):5} "
        f"{np.std(offsets) * 1000:7.2f} ms "
        f"{np.mean(confidences):8.2f} {composition.duration / seconds:8.0f} x"
    )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--minutes", type=float, default=15)
    minutes = parsed(parser, {"minutes": 0.2}).minutes
    bank = load_bank()
    ear = Ear(bank)
    english = [phrase for phrase in bank if phrase.language == "en"]
    print(f"{len(bank)} phrases in the bank, {minutes:g} minutes a row")
    print("format  noise   said  found  made up     words lost   offsets  confidence   speed")
    for form, snr in ROWS:
        print(row(ear, english, form, snr, minutes), flush=True)


if __name__ == "__main__":
    main()
