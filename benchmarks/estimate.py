"""How far estimated word times are from the truth, when an engine gives text only.

    python benchmarks/estimate.py [--recordings N]

Composes recordings of 20 to 60 seconds, computes their speech maps, lays the true text over them,
and compares the starts of all words with the truth. Beside it stands the plain way: the words
spread evenly over the whole recording. Target at 20 dB: mean under 0.25 s, 95th percentile under
0.6 s.
"""

import argparse
import random

import numpy as np

from mantisreed.audio.speech import speech_map
from mantisreed.standin.bank import Phrase, load_bank
from mantisreed.standin.composer import Composition, compose
from mantisreed.transcript.estimate import words_over_speech
from sizes import parsed


def errors_of(composition: Composition, *, listen: bool) -> np.ndarray:
    """Differences of word starts in seconds."""
    text = " ".join(word.text for word in composition.words)
    speech = [(s.start, s.end) for s in speech_map(composition.blocks())] if listen else []
    passages = words_over_speech(text, speech, composition.duration)
    estimated = [word.start for passage in passages for word in passage.words]
    errors: np.ndarray = np.abs(np.array(estimated) - [word.start for word in composition.words])
    return errors


def row(
    phrases: list[Phrase], name: str, recordings: int, snr: float | None, *, listen: bool
) -> str:
    chance = random.Random(1)
    errors = np.concatenate(
        [
            errors_of(
                compose(
                    phrases,
                    seed=seed,
                    duration=chance.uniform(20, 60),
                    pauses=(0.2, chance.uniform(0.4, 2.5)),
                    level_range=6,
                    snr=snr,
                ),
                listen=listen,
            )
            for seed in range(recordings)
        ]
    )
    mean, worst = errors.mean(), np.percentile(errors, 95)
    return f"{name:24} {len(errors):6} words  mean {mean:6.3f} s  95th percentile {worst:6.3f} s"


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--recordings", type=int, default=60)
    recordings = parsed(parser, {"recordings": 2}).recordings
    bank = load_bank()
    english = [phrase for phrase in bank if phrase.language == "en"]
    german = [phrase for phrase in bank if phrase.language == "de"]
    print(row(english, "English, no noise", recordings, None, listen=True))
    print(row(english, "English, 20 dB", recordings, 20.0, listen=True))
    print(row(english, "English, 10 dB", recordings, 10.0, listen=True))
    print(row(german, "German, 20 dB", recordings, 20.0, listen=True))
    print(row(english, "English, spread evenly", recordings, 20.0, listen=False))


if __name__ == "__main__":
    main()
