"""How well subtitles are laid on their recording again.

    python benchmarks/sync.py [--minutes N]

Composes recordings of several seeds with known words, lays out their cues, and distorts the cues'
times: shifted, played at another frame rate, with one or two cuts, with a small drift. Then lays
them on the recording by its voice activity, and on another file with other breaks, and prints the
error of cues' starts: median, 95th percentile, and the share within 0.1 s. Target: 0.1 s at the
median for a shift, a drift of 25/23.976 and one cut.
"""

import argparse
import time
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from mantisreed.audio.speech import speech_map
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS
from mantisreed.subtitles.sync import Synced, by_cues, by_speech
from mantisreed.transcript.document import Word
from mantisreed.transcript.timing import passages_of
from sizes import parsed

Change = Callable[[float, float], float]
CHANGES: dict[str, Change] = {
    "shift by 12.4 s": lambda t, whole: t + 12.4,
    "25/23.976": lambda t, whole: t * 25 * 1001 / 24000,
    "shift, 25/23.976, one cut": lambda t, whole: (
        (t + (20.0 if t > 0.45 * whole else 0.0)) * 25 * 1001 / 24000 + 7.3
    ),
    "shift, 23.976/25, two cuts": lambda t, whole: (
        (t + (31.0 if t > 0.3 * whole else 0.0) + (12.5 if t > 0.7 * whole else 0.0))
        * 24000
        / 25
        / 1001
        + 3.1
    ),
    "drift of 0.1 %": lambda t, whole: t * 1.001 + 0.8,
    "drift of 0.03 %": lambda t, whole: t * 1.0003 + 2.0,
}


def distorted(cues: Sequence[Cue], change: Change, whole: float) -> list[Cue]:
    return [
        replace(cue, start=change(cue.start, whole), end=change(cue.end, whole), words=())
        for cue in cues
    ]


def report(name: str, cues: Sequence[Cue], synced: Synced, took: float) -> None:
    errors = np.abs(
        np.array([cue.start for cue in synced.cues]) - np.array([cue.start for cue in cues])
    )
    print(
        f"  {name:28} median {np.median(errors):6.3f} s, 95 % {np.quantile(errors, 0.95):6.3f} s, "
        f"within 0.1 s {np.mean(errors <= 0.1):6.1%}; fit {synced.fit_before:4.0%} -> "
        f"{synced.fit_after:4.0%}, "
        f"rate {synced.rate}, {len(synced.stretches)} stretches, {took:.2f} s"
    )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--minutes", type=int, default=30)
    options = parsed(parser, {"minutes": 2})
    english = [phrase for phrase in load_bank() if phrase.language == "en"]
    for seed, pauses in ((3, (0.5, 1.6)), (5, (0.15, 0.9))):
        composition = compose(english, seed=seed, duration=options.minutes * 60.0, pauses=pauses)
        words = [Word(word.text, word.start, word.end) for word in composition.words]
        passages = list(passages_of(words, 2.0))
        cues = lay_out(passages, LAYOUTS["broadcast"], language="en")
        others = lay_out(passages, LAYOUTS["phone"], language="en")
        whole = cues[-1].end
        speech = [(one.start, one.end) for one in speech_map(composition.blocks())]
        print(f"{options.minutes} minutes, pauses {pauses[0]} to {pauses[1]} s, {len(cues)} cues")
        for name, change in CHANGES.items():
            broken = distorted(cues, change, whole)
            begun = time.perf_counter()
            report(name, cues, by_speech(broken, speech), time.perf_counter() - begun)
            begun = time.perf_counter()
            report(
                "  like another file", cues, by_cues(broken, others), time.perf_counter() - begun
            )


if __name__ == "__main__":
    main()
