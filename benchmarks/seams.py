"""Words lost, made up or broken when a long recording is cut, sent in pieces and put together again.

    python benchmarks/seams.py [--minutes M] [--piece SECONDS]

Each row is one composed recording of M minutes, cut into pieces of at most SECONDS, heard piece by piece by the
stand-ins' ear and stitched. Beside it stands cutting blindly every SECONDS. Target: none.
"""

import argparse
import tempfile
from pathlib import Path

from mantisreed.audio.cuts import Span
from mantisreed.audio.encode import FORMATS
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.pipeline.pieces import encoded_pieces, survey
from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.hearing import Hearing, Listener
from mantisreed.transcript.alignment import word_errors
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.stitch import PieceReading, stitch

CARD = EngineCard(name="bench", reply=Reply(kind="text"))


def reading(span: Span, hearing: Hearing) -> PieceReading:
    passages = (
        Passage(line.start, line.end, line.text, words=tuple(Word(w.text, w.start, w.end) for w in line.words))
        for line in hearing.lines
    )
    return PieceReading(span.start, span.end, tuple(passages))


def errors(listener: Listener, path: Path, spans: tuple[Span, ...], composition: Composition) -> str:
    pieces = encoded_pieces(path, CARD, FORMATS["flac"], spans, ())
    stitched = stitch([reading(span, listener.hear(piece.audio)) for span, piece in pieces])
    heard = [word.text for passage in stitched.passages for word in passage.words]
    found = word_errors([word.text for word in composition.words], heard)
    overlaps = sum(span.overlaps for span in spans)
    return (
        f"{len(spans):4} pieces, {overlaps:3} overlaps, of {found.words} words "
        f"{found.missing} lost, {found.substituted} broken, {found.added} added"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--minutes", type=float, default=30)
    parser.add_argument("--piece", type=float, default=60)
    options = parser.parse_args()
    bank = load_bank()
    listener = Listener(bank)
    english = [phrase for phrase in bank if phrase.language == "en"]
    rows = [("pauses 0.4-1.5 s, 20 dB", (0.4, 1.5), 20.0), ("pauses 0.15-0.25 s, 20 dB", (0.15, 0.25), 20.0)]
    rows += [("pauses 0.4-1.5 s, 10 dB", (0.4, 1.5), 10.0), ("no pauses, 20 dB", (0.0, 0.02), 20.0)]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "long.flac")
        for name, pauses, snr in rows:
            composition = compose(
                english, seed=7, duration=options.minutes * 60, pauses=pauses, level_range=6, snr=snr
            )
            composition.write(path)
            found = survey(path, CARD, piece_length=options.piece)
            print(f"{name:28}", errors(listener, path, found.spans, composition))
            edges = range(0, int(found.duration), int(options.piece))
            blind = tuple(Span(start, min(start + options.piece, found.duration)) for start in map(float, edges))
            print(f"{'  cut blindly':28}", errors(listener, path, blind, composition), flush=True)


if __name__ == "__main__":
    main()
