"""Words lost, made up or broken when a long recording is cut, sent in pieces and put together
again.

    python benchmarks/seams.py [--minutes M] [--pieces 60 600]

Each row is one composed recording of M minutes, cut into pieces of at most so many seconds, heard
piece by piece by the stand-ins' ear and stitched. Beside it stands cutting blindly at that length.
Target: no word lost, doubled or broken at seams; elsewhere errors are the ear's own. The confusing
engine takes a tenth of all words for others, in each hearing different ones: there, broken words
are the engine's, and lost or added ones would be ours.
"""

import argparse
import tempfile
from collections import Counter
from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import cache
from itertools import pairwise
from pathlib import Path

import numpy as np
from rapidfuzz.distance import Levenshtein

from mantisreed.audio.cuts import Span
from mantisreed.audio.decode import SAMPLE_RATE, Decoder
from mantisreed.audio.encode import encode
from mantisreed.audio.formats import FORMATS
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.pipeline.preparing.cut_limits import PieceOptions
from mantisreed.pipeline.preparing.pieces import Preparation
from mantisreed.standin.bank import Phrase, load_bank
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.ear import Ear
from mantisreed.standin.hearing import Hearing, Listener
from mantisreed.transcript.alignment import comparable
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.stitch import PieceReading, stitch
from sizes import parsed

CARD = EngineCard(name="bench", reply=Reply(format="text"))
PART = 67.0  # seconds, so that blind cuts fall everywhere
USUAL, SHORT, NONE = (0.4, 1.5), (0.15, 0.25), (0.0, 0.02)


@dataclass(frozen=True)
class Row:
    """What is composed, and how it is heard."""

    name: str
    snr: float = 20.0
    pauses: tuple[float, float] = USUAL
    hard_minutes: tuple[float, float] | None = None  # pauses of one minute in four
    overlap: float | None = None
    confusion: float = 0.0


ROWS = (
    Row("20 dB"),
    Row("10 dB", snr=10.0),
    Row("a minute in four with pauses of 0.15-0.25 s", hard_minutes=SHORT),
    Row("a minute in four without pauses", hard_minutes=NONE),
    Row("all seams overlapped by 4 s", overlap=4.0),
    Row("all seams overlapped, a confusing engine", overlap=4.0, confusion=0.1),
)


@cache
def known() -> tuple[tuple[Phrase, ...], Ear]:
    bank = load_bank()
    return bank, Ear(bank)


def composed(row: Row, minutes: float) -> Composition:
    english = [phrase for phrase in known()[0] if phrase.language == "en"]
    parts = [
        compose(
            english,
            seed=70 + minute,
            duration=PART,
            pauses=row.hard_minutes if row.hard_minutes and minute % 4 == 1 else row.pauses,
            level_range=6.0,
        )
        for minute in range(round(minutes * 60 / PART))
    ]
    shifted = [
        type(said)(said.phrase, said.channel, said.first + round(n * PART * SAMPLE_RATE), said.gain)
        for n, part in enumerate(parts)
        for said in part.truth
    ]
    return Composition(tuple(shifted), round(len(parts) * PART * SAMPLE_RATE), 1, row.snr, 7)


def reading(span: Span, hearing: Hearing) -> PieceReading:
    passages = (
        Passage(
            line.start,
            line.end,
            line.text,
            words=tuple(Word(w.text, w.start, w.end, w.confidence) for w in line.words),
        )
        for line in hearing.lines
    )
    return PieceReading(span.start, span.end, tuple(passages))


def blindly(path: Path, length: float) -> Iterator[tuple[Span, bytes]]:
    samples = np.concatenate(list(Decoder(path)), axis=1)
    size = round(length * SAMPLE_RATE)
    for first in range(0, samples.shape[1], size):
        part = samples[:, first : first + size]
        audio = encode([part], FORMATS["flac"])
        assert audio is not None
        yield Span(first / SAMPLE_RATE, (first + part.shape[1]) / SAMPLE_RATE), audio


def errors(heard: Sequence[PieceReading], overlaps: int, composition: Composition) -> str:
    """Words lost, broken and added within two seconds of a seam, and elsewhere, where the cuts are
    not to blame.
    """
    stitched = stitch(heard)
    words = [
        " ".join(comparable(word.text)) for passage in stitched.passages for word in passage.words
    ]
    truth = composition.words
    edits = Levenshtein.editops(
        [" ".join(comparable(w.text)) for w in truth], words, score_hint=len(truth) // 20
    )
    edges = np.array([edge for one, other in pairwise(heard) for edge in (one.end, other.start)])
    counts: Counter[tuple[str, bool]] = Counter()
    for edit in edits:
        time = truth[min(edit.src_pos, len(truth) - 1)].start
        counts[edit.tag, bool(len(edges)) and bool(np.abs(edges - time).min() < 2.0)] += 1
    lost, broken, added = (counts[tag, True] for tag in ("delete", "replace", "insert"))
    elsewhere = sum(count for (_, at_seam), count in counts.items() if not at_seam)
    return (
        f"{len(heard):4} pieces, {overlaps:3} overlaps, of {len(truth)} words at seams {lost} "
        f"lost, {broken} broken, "
        f"{added} added; {elsewhere} wrong elsewhere; {len(stitched.notes)} seams doubtful"
    )


def measured(row: Row, minutes: float, length: float) -> tuple[str, str]:
    bank, ear = known()
    listener = Listener(bank, ear, confusion=row.confusion)
    composition = composed(row, minutes)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "long.flac")
        composition.write(path)
        options = PieceOptions(piece_length=length, overlap=row.overlap)
        pieces = [(p.span, listener.hear(p.piece.audio)) for p in Preparation(path, CARD, options)]
        cut = [reading(span, hearing) for span, hearing in pieces]
        blind = [reading(span, listener.hear(audio)) for span, audio in blindly(path, length)]
    overlaps = sum(span.overlaps for span, _ in pieces)
    return errors(cut, overlaps, composition), errors(blind, 0, composition)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--minutes", type=float, default=180)
    parser.add_argument("--pieces", type=float, nargs="+", default=[60, 600])
    options = parsed(parser, {"minutes": 1, "pieces": [20]})
    cases = [(row, length) for length in options.pieces for row in ROWS]
    with ProcessPoolExecutor() as pool:
        jobs = [pool.submit(measured, row, options.minutes, length) for row, length in cases]
        for (row, length), job in zip(cases, jobs, strict=True):
            cut, blind = job.result()
            print(
                f"{length:4.0f} s, {row.name:44}{cut}\n{'':10}{'cut blindly':40}{blind}", flush=True
            )


if __name__ == "__main__":
    main()
