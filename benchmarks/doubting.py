"""How well doubts find faults, kind by kind: precision and recall over faults that were planted.

    python benchmarks/doubting.py [--minutes M] [--recordings N]

Composes recordings in English and German with noise 20 and 10 dB under the speech, takes their true
words as what an engine heard, plants the bad habits of engines into them, listens for speech in the
noisy sound, and compares the doubts with what was planted. A fault is found when a doubt of its
kind touches it; a doubt is right when it touches a fault of its kind. Seams: the recordings without
pauses, cut every 20 s. Disagreement: the spoiled transcript against the true one. Target: at least
0.9 for each kind and each number.
"""

import argparse
import random
from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import pairwise

from mantisreed.audio.speech import speech_map
from mantisreed.exports.script import bare_transcript
from mantisreed.review.doubts import disagreements, doubts_of, seam_doubts, worth_hearing
from mantisreed.standin.bank import Phrase, load_bank
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.ear import HeardWord
from mantisreed.standin.habits import Habits, Planted, Planter
from mantisreed.standin.lines import Line
from mantisreed.transcript.document import Doubt, Passage, Transcript, Word
from sizes import parsed

_FOUND_AS = {"unsure": "confidence", "salad": "unlikely", "nonsense": "disagreement"}
_WORDS_OF_A_CUT = 0.1  # seconds of a word on both sides of a cut that breaks it


def true_lines(composition: Composition) -> list[Line]:
    chance = random.Random(composition.seed)
    lines = []
    for spoken in composition.truth:
        words = tuple(
            HeardWord(w.text, w.start, w.end, chance.uniform(0.8, 0.98)) for w in spoken.words
        )
        lines.append(Line(spoken.phrase.text, spoken.phrase.voice, words))
    return lines


def transcript_of(lines: Iterable[Line], language: str, duration: float) -> Transcript:
    passages = []
    for line in lines:
        words = tuple(Word(word.text, word.start, word.end, word.confidence) for word in line.words)
        passages.append(Passage(line.start, line.end, line.text, words=words))
    return bare_transcript(passages, language=language, duration=duration)


class Count:
    """Faults and doubts of each kind, and how many of each met one of the other."""

    def __init__(self) -> None:
        self.faults, self.found = Counter[str](), Counter[str]()
        self.doubts, self.right = Counter[str](), Counter[str]()

    def take(
        self,
        kind: str,
        faults: Sequence[Planted],
        doubts: Sequence[Doubt],
        aside: Sequence[Planted],
    ) -> None:
        """Count; doubts that only touch faults of other kinds, `aside`, are neither right nor
        wrong.
        """
        named = _FOUND_AS.get(kind, kind)
        own = [one for one in doubts if one.kind == named]
        self.faults[named] += len(faults)
        self.found[named] += sum(any(_touch(fault, doubt) for doubt in own) for fault in faults)
        for doubt in own:
            is_right = any(_touch(fault, doubt) for fault in faults)
            if is_right or not any(_touch(fault, doubt) for fault in aside):
                self.doubts[named] += 1
                self.right[named] += is_right

    def shown(self, kind: str) -> str:
        precision = self.right[kind] / max(1, self.doubts[kind])
        recall = self.found[kind] / max(1, self.faults[kind])
        return (
            f"{precision:.2f} {recall:.2f} ({self.faults[kind]:4} faults, "
            f"{self.doubts[kind]:4} doubts)"
        )


def _touch(fault: Planted, doubt: Doubt) -> bool:
    return doubt.start < fault.end and doubt.end > fault.start


def count_habits(
    count: Count, composition: Composition, phrases: Sequence[Phrase], language: str
) -> None:
    speech = [(one.start, one.end) for one in speech_map(composition.blocks())]
    shares = dict.fromkeys(
        ("silence", "loop", "missing", "language", "script", "pace", "unsure"), 0.03
    )
    for number, (kinds, habits) in enumerate(
        (
            (tuple(shares), Habits(**shares)),
            (("drift",), Habits(drift=0.02)),
            (("nonsense",), Habits(nonsense=0.05)),
            (("salad",), Habits(salad=0.03)),
        )
    ):
        planter = Planter(habits, phrases, random.Random(composition.seed * 10 + number))
        lines = planter.spoiled(true_lines(composition), composition.duration, language)
        transcript = transcript_of(lines, language, composition.duration)
        doubts = worth_hearing(doubts_of(transcript, speech))
        if habits.nonsense:
            true = transcript_of(true_lines(composition), language, composition.duration)
            doubts += disagreements(transcript, true)
        for kind in kinds:
            own = [one for one in planter.planted if one.kind == kind]
            count.take(kind, own, doubts, [one for one in planter.planted if one.kind != kind])


def count_seams(count: Count, composition: Composition, language: str) -> None:
    speech = [(one.start, one.end) for one in speech_map(composition.blocks())]
    edges = [float(at) for at in range(20, int(composition.duration), 20)]
    spans = list(pairwise([0.0, *edges, composition.duration]))
    words: list[Word] = []
    faults = []
    for start, end in spans:
        for word in composition.words:
            first, last = max(start, word.start), min(end, word.end)
            if last - first > _WORDS_OF_A_CUT or (start <= word.start and word.end <= end):
                words.append(Word(word.text, first, last))
            if word.start < end - _WORDS_OF_A_CUT and end + _WORDS_OF_A_CUT < word.end:
                faults.append(Planted("seam", word.start, word.end))
    # A cut less than a tenth of a second from a word's edge hurts it a little or not at all; it is
    # not counted.
    unclear = [
        Planted("unclear", word.start - 0.2, word.end + 0.2)
        for word in composition.words
        for edge in edges
        if min(abs(word.start - edge), abs(word.end - edge)) <= _WORDS_OF_A_CUT
    ]
    count.take("seam", faults, seam_doubts(spans, words, speech), unclear)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--minutes", type=float, default=20.0)
    parser.add_argument("--recordings", type=int, default=3)
    parser.add_argument("--seed", type=int, default=1)
    options = parsed(parser, {"minutes": 1.0, "recordings": 1})
    phrases = load_bank()
    print("precision and recall of each kind")
    for language in ("en", "de"):
        spoken = [phrase for phrase in phrases if phrase.language == language]
        for snr in (20.0, 10.0):
            count = Count()
            for number in range(options.recordings):
                seed = options.seed * 100 + number
                lasts = options.minutes * 60
                calm = compose(
                    spoken, seed=seed, duration=lasts, pauses=(0.5, 3.0), snr=snr, level_range=4.0
                )
                count_habits(count, calm, phrases, language)
                fluent = compose(spoken, seed=seed, duration=lasts, pauses=(-0.1, 0.1), snr=snr)
                count_seams(count, fluent, language)
            for kind in sorted(count.faults):
                print(f"{language} {snr:.0f} dB {kind:12} {count.shown(kind)}")


if __name__ == "__main__":
    main()
