"""How well a corrected text is timed.

    python benchmarks/amending.py [--minutes N]

Composes an hour with known words, plants errors in 5 of 100 words of its transcript (others in
their place, missing, made up), lays the right text over it, and prints how many words that were
right moved, and how far the starts of the others are from the truth. Targets: none moved; 0.15 s on
average.
"""

import argparse
import random
import time

import numpy as np

from mantisreed.exports.script import bare_transcript
from mantisreed.review.amending import Paragraph, amended
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.timing import passages_of
from sizes import parsed


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--minutes", type=float, default=60.0)
    options = parsed(parser, {"minutes": 2.0})
    english = [phrase for phrase in load_bank() if phrase.language == "en"]
    for seed in (3, 4):
        chance = random.Random(seed)
        composition = compose(
            english, seed=seed, duration=options.minutes * 60.0, pauses=(0.2, 1.4)
        )
        truth = [
            Word(word.text, round(word.start, 3), round(word.end, 3), 0.9)
            for word in composition.words
        ]
        true, passages, touched = list(passages_of(truth, 1.0)), [], set()
        for passage in true:
            words: list[Word] = []
            for word in passage.words:
                roll = chance.random()
                if roll < 0.05:
                    touched.add(word.start)
                if roll < 0.017:
                    words.append(Word("other", word.start, word.end, 0.4))
                elif roll < 0.034:
                    continue
                elif roll < 0.05:
                    middle = (word.start + word.end) / 2
                    words += [Word("made", word.start, middle), Word("up", middle, word.end)]
                else:
                    words.append(word)
            if words:
                text = " ".join(word.text for word in words)
                passages.append(Passage(words[0].start, words[-1].end, text, words=tuple(words)))
        transcript = bare_transcript(passages, language="en")
        begun = time.perf_counter()
        anew, _ = amended(transcript, [Paragraph(passage.text) for passage in true])
        took = time.perf_counter() - begun
        pairs = list(zip(anew.words, truth, strict=True))
        moved = sum(
            (a.start, a.end) != (b.start, b.end) for a, b in pairs if b.start not in touched
        )
        errors = np.array([abs(a.start - b.start) for a, b in pairs if b.start in touched])
        print(
            f"{len(truth)} words, {len(touched)} touched: {moved} others moved; starts of the "
            "touched ones "
            f"{errors.mean():.3f} s off on average, 95 % within {np.quantile(errors, 0.95):.3f} "
            f"s; {took:.2f} s"
        )


if __name__ == "__main__":
    main()
