"""How fast transcripts are scored, and whether planted errors are all found.

    python benchmarks/scoring.py [--words N]

Makes a text of N words, plants substitutions, deletions and insertions in 1, 5 and 20 of 100,
scores it, and prints the errors planted and found, the time, and the peak memory. Target: 100 000
words in 2 s and 200 MB.
"""

import argparse
import random
import resource
import time

from mantisreed.exports.script import bare_transcript
from mantisreed.review.scoring import scored, tokens_of
from mantisreed.transcript.document import Passage, Transcript, Word
from sizes import parsed


def transcript_of(words: list[str]) -> Transcript:
    timed = [Word(word, 0.4 * at, 0.4 * at + 0.3, 0.9) for at, word in enumerate(words)]
    passages = [timed[at : at + 20] for at in range(0, len(timed), 20)]
    return bare_transcript(
        [
            Passage(run[0].start, run[-1].end, " ".join(one.text for one in run), words=tuple(run))
            for run in passages
        ],
        language="en",
    )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--words", type=int, default=100_000)
    options = parsed(parser, {"words": 500})
    chance = random.Random(5)
    true = [
        f"{chance.choice('btgmr')}{chance.choice('aeiou')}rd{chance.randrange(900)}"
        for _ in range(options.words)
    ]
    for share in (0.01, 0.05, 0.2):
        heard, planted = [], 0
        for word in true:
            if chance.random() < share:
                planted += 1
                heard += [[], ["other"], [word, "more"]][chance.randrange(3)]
            else:
                heard.append(word)
        one, other = transcript_of(true), transcript_of(heard)
        begun = time.perf_counter()
        score = scored(tokens_of(one), tokens_of(other))
        took = time.perf_counter() - begun
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"{share:4.0%}: {planted} planted, {score.words.count} found, {took:.2f} s, "
            f"{peak:.0f} MB at most so far"
        )


if __name__ == "__main__":
    main()
