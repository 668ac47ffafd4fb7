"""How many errors a vote of several transcripts leaves.

    python benchmarks/voting.py [--words N]

Makes a text, and transcripts of it with errors planted at given rates (words heard as others,
missing, made up), whose confidences tell a little of what is wrong; votes, and prints the word
error rate of each, of the best, and of the vote. Targets: of three at 10 %, at least 40 % fewer
errors than the best; with one of 40 % among them, not more than the best; three of 100 000 words in
10 s.
"""

import argparse
import random
import time

from mantisreed.exports.script import bare_transcript
from mantisreed.review.scoring import scored, tokens_of
from mantisreed.review.voting import voted
from mantisreed.transcript.document import Passage, Transcript, Word
from sizes import parsed


def transcript_of(words: list[tuple[str, float, float]]) -> Transcript:
    timed = [Word(text, at, at + 0.3, sure) for text, at, sure in words]
    runs = [timed[at : at + 20] for at in range(0, len(timed), 20)]
    passages = [
        Passage(run[0].start, run[-1].end, " ".join(one.text for one in run), words=tuple(run))
        for run in runs
    ]
    return bare_transcript(passages, language="en")


def heard(true: list[str], rate: float, chance: random.Random) -> Transcript:
    words: list[tuple[str, float, float]] = []
    for number, word in enumerate(true):
        at = 0.4 * number
        roll = chance.random()
        poor, good = (
            min(1.0, max(0.0, chance.gauss(0.65, 0.15))),
            min(1.0, max(0.0, chance.gauss(0.9, 0.08))),
        )
        if roll < 0.5 * rate:
            words.append((f"{word[:-1]}{chance.choice('aeiou')}x", at, poor))
        elif roll < 0.75 * rate:
            continue
        elif roll < rate:
            words += [(word, at, good), (chance.choice(true), at + 0.2, poor)]
        else:
            words.append((word, at, good))
    return transcript_of(words)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--words", type=int, default=20_000)
    options = parsed(parser, {"words": 200})
    for rates in (
        (0.1, 0.1, 0.1),
        (0.1, 0.1, 0.4),
        (0.05, 0.1, 0.4),
        (0.03, 0.4, 0.4),
        (0.1, 0.1),
        (0.1,) * 5,
    ):
        chance = random.Random(9)
        true = [
            f"{chance.choice('btgmr')}{chance.choice('aeiou')}rd{chance.randrange(400)}q"
            for _ in range(options.words)
        ]
        reference = tokens_of(
            transcript_of([(word, 0.4 * at, 1.0) for at, word in enumerate(true)])
        )
        transcripts = [heard(true, rate, chance) for rate in rates]
        each = [scored(reference, tokens_of(one)).words.rate for one in transcripts]
        begun = time.perf_counter()
        result = voted(transcripts)
        took = time.perf_counter() - begun
        rate = scored(reference, tokens_of(result.transcript)).words.rate
        shown = ", ".join(f"{one:.2%}" for one in each)
        print(
            f"{shown}: voted {rate:.2%}, {1 - rate / min(each):.0%} fewer than the best; "
            f"{took:.1f} s"
        )


if __name__ == "__main__":
    main()
