"""What a second opinion repairs, what it harms, and what it costs.

    python benchmarks/opinions.py [--minutes M] [--recordings N]

Plants the bad habits of engines into composed recordings as `doubting.py` does, finds the doubts,
and asks a second engine about the doubtful stretches alone. It hears 3 in 100 words wrongly, is
0.05 s off, and half words where a clip was cut through one. Prints the share of the planted faults
that are repaired (the text of the stretch is as it was said, but for one word), the share of good
words that are harmed (target: under 0.5 %), and the seconds that are paid for an hour. Targets for
repairs are not set; confident nonsense cannot be found by one engine alone.
"""

import argparse
import random
from collections import Counter
from collections.abc import Sequence

from doubting import transcript_of, true_lines
from mantisreed.audio.speech import speech_map
from mantisreed.exports.script import bare_transcript
from mantisreed.review.doubts import with_doubts
from mantisreed.review.opinions import Clip, clips_of, with_second_opinion
from mantisreed.standin.bank import BankWord as SpokenWord
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from mantisreed.standin.habits import Habits, Planter
from mantisreed.transcript.alignment import comparable, word_errors
from mantisreed.transcript.document import Passage, Transcript, Word
from mantisreed.transcript.timing import passages_of
from sizes import parsed

Timed = Word | SpokenWord


def second_reading(
    clips: Sequence[Clip], true: Sequence[Timed], language: str, chance: random.Random
) -> Transcript:
    heard: list[Word] = []
    for clip in clips:
        for word in true:
            first, last = max(clip.start, word.start), min(clip.end, word.end)
            if last - first < 0.06:
                continue
            text = word.text if last - first > 0.9 * (word.end - word.start) else word.text[:2]
            text = f"{word.text[:1]}oor" if chance.random() < 0.03 else text
            shift = chance.gauss(0.0, 0.03)
            heard.append(
                Word(
                    text,
                    max(0.0, first + shift),
                    max(0.01, last + shift),
                    chance.uniform(0.8, 0.97),
                )
            )
    passages: list[Passage] = list(passages_of(heard, 1.0)) if heard else []
    return bare_transcript(passages, language=language)


def said(words: Sequence[Timed], start: float, end: float) -> list[str]:
    return comparable(
        " ".join(word.text for word in words if start <= (word.start + word.end) / 2 <= end)
    )


def right(transcript: Transcript, true: Sequence[Timed]) -> set[int]:
    """Numbers of true words that are in the transcript, at their time."""
    by_text: dict[str, list[float]] = {}
    for word in transcript.words:
        by_text.setdefault("".join(comparable(word.text)), []).append(word.start)
    return {
        number
        for number, word in enumerate(true)
        if any(
            abs(start - word.start) < 0.3
            for start in by_text.get("".join(comparable(word.text)), ())
        )
    }


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--minutes", type=float, default=20.0)
    parser.add_argument("--recordings", type=int, default=4)
    options = parsed(parser, {"minutes": 1.0, "recordings": 1})
    phrases = load_bank()
    faults, repaired = Counter[str](), Counter[str]()
    good = harmed = 0
    paid, before_by, after_by = (dict.fromkeys(("others", "drift"), 0.0) for _ in range(3))
    lasted = 0.0
    shares = dict.fromkeys(
        ("silence", "loop", "missing", "language", "script", "pace", "unsure"), 0.03
    )
    for language in ("en", "de"):
        spoken = [phrase for phrase in phrases if phrase.language == language]
        for number in range(options.recordings):
            composition = compose(
                spoken,
                seed=number,
                duration=options.minutes * 60,
                pauses=(0.5, 3.0),
                snr=15,
                level_range=4.0,
            )
            speech = [(one.start, one.end) for one in speech_map(composition.blocks())]
            for habits in (Habits(**shares), Habits(drift=0.02)):
                planter = Planter(habits, phrases, random.Random(number))
                lines = planter.spoiled(true_lines(composition), composition.duration, language)
                first = with_doubts(transcript_of(lines, language, composition.duration), speech)
                clips = clips_of(first, speech, composition.duration)
                second = second_reading(
                    clips, composition.words, language, random.Random(number + 1)
                )
                final = with_second_opinion(first, clips, second, speech)
                true = composition.words
                planted = planter.planted if not habits.drift else []
                for fault in planted:
                    faults[fault.kind] += 1
                    start, end = fault.start - 0.2, fault.end + 0.2
                    errors = word_errors(said(true, start, end), said(final.words, start, end))
                    repaired[fault.kind] += errors.substituted + errors.missing + errors.added <= 1
                texts = [
                    " ".join(word.text for word in one) for one in (true, first.words, final.words)
                ]
                reference, before, after = map(comparable, texts)
                group = "drift" if habits.drift else "others"
                before_by[group] += word_errors(reference, before).rate
                after_by[group] += word_errors(reference, after).rate
                was, now = right(first, true), right(final, true)
                clear = {
                    at
                    for at in was
                    if not any(
                        f.start - 0.5 < true[at].start < f.end + 0.5
                        for f in planter.planted
                        if not habits.drift
                    )
                }
                good += len(clear)
                harmed += len(clear - now)
                paid[group] += sum(clip.length for clip in clips)
            lasted += composition.duration
    for kind, count in sorted(faults.items()):
        print(f"{kind:10} {repaired[kind] / count:5.0%} of {count} repaired")
    total = sum(faults.values())
    print(f"{'all':10} {sum(repaired.values()) / total:5.0%} of {total} repaired")
    runs = 2 * options.recordings
    for group, seconds in paid.items():
        told = (
            f"word errors {before_by[group] / runs:.1%} before, {after_by[group] / runs:.1%} after"
        )
        print(f"{group}: {told}; {3600 * seconds / lasted:.0f} s paid an hour")
    print(f"{harmed} of {good} good words harmed ({harmed / good:.2%})")


if __name__ == "__main__":
    main()
