"""Recordings made into pieces, in one pass."""

import gc
import inspect
import io
import threading
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import Note
from mantisreed.audio.decode import Decoder
from mantisreed.audio.workers import DecodingWorkers
from mantisreed.cards.paths import ReplyPath
from mantisreed.cards.tables import Bytes, Seconds
from mantisreed.engines.card import Accepts, EngineCard, Price, Reply, WordPaths
from mantisreed.errors import InputError, TooBigError
from mantisreed.pipeline.preparing.cut_limits import PieceOptions
from mantisreed.pipeline.preparing.pieces import Preparation, PreparedPiece
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose

RATE = 16_000


def card(**accepts: object) -> EngineCard:
    return EngineCard(name="test", reply=Reply(format="text"), accepts=Accepts(**accepts))  # type: ignore[arg-type]


def prepared(
    path: Path, options: PieceOptions | None = None, **accepts: object
) -> list[PreparedPiece]:
    return list(Preparation(path, card(**accepts), options or PieceOptions()))


def samples_in(piece: PreparedPiece) -> np.ndarray:
    return np.asarray(soundfile.read(io.BytesIO(piece.piece.audio), dtype="int16")[0])


def recording(folder: Path, *parts: np.ndarray) -> Path:
    soundfile.write(folder / "a.wav", np.concatenate(parts), RATE)
    return folder / "a.wav"


@pytest.fixture(scope="module")
def speech(english: list[Phrase]) -> np.ndarray:
    blocks = compose(english, seed=81, duration=90, pauses=(0.8, 1.4), snr=25).blocks()
    return np.asarray(np.concatenate(list(blocks), axis=1)[0])


@pytest.mark.parametrize("overlap", [None, 3.0])
@pytest.mark.parametrize("in_a_process", [False, True])
def test_each_piece_holds_exactly_the_samples_of_its_span(
    tmp_path: Path, speech: np.ndarray, overlap: float | None, in_a_process: bool
) -> None:
    path = recording(tmp_path, speech)
    truth = soundfile.read(path, dtype="int16")[0]
    with DecodingWorkers() as workers:
        options = PieceOptions(piece_length=20.0, overlap=overlap)
        pieces = list(Preparation(path, card(), options, workers if in_a_process else None))
    assert len(pieces) >= 5
    for piece in pieces:
        first, last = round(piece.span.start * RATE), round(piece.span.end * RATE)
        assert (samples_in(piece) == truth[first:last]).all()
        assert piece.span.length <= 20.0 and piece.piece.duration == piece.span.length
        assert all(0 <= start < end <= piece.span.length for start, end in piece.piece.speech)
    assert any(piece.span.overlaps for piece in pieces) == (overlap is not None)


def test_pieces_for_an_engine_that_tells_speakers_share_words_to_match_them_by(
    tmp_path: Path, speech: np.ndarray
) -> None:
    path = recording(tmp_path, speech)
    words = WordPaths(
        each=ReplyPath("w"), text=ReplyPath("t"), start=ReplyPath("s"), speaker=ReplyPath("who")
    )
    telling = EngineCard(name="test", reply=Reply(words=words))
    pieces = list(Preparation(path, telling, PieceOptions(piece_length=20.0)))
    assert all(piece.span.overlaps for piece in pieces[1:])


def test_silence_is_not_sent_unless_it_is_to_be_kept(tmp_path: Path, speech: np.ndarray) -> None:
    pause = np.random.default_rng(1).standard_normal(RATE * 60) * 1e-4
    path = recording(
        tmp_path, pause, speech[: 20 * RATE], pause, speech[20 * RATE : 40 * RATE], pause
    )
    first, second = prepared(path)
    assert 59 < first.span.start < 61 and 78 < first.span.end < 82
    assert 138 < second.span.start < 142 and 158 < second.span.end < 162
    (whole,) = prepared(path, PieceOptions(keep_silence=True))
    assert (whole.span.start, whole.span.end) == (0.0, 220.0)
    assert len(samples_in(whole)) == 220 * RATE


def test_silence_that_costs_less_than_another_request_is_sent(
    tmp_path: Path, speech: np.ndarray
) -> None:
    path = recording(
        tmp_path, speech[: 20 * RATE], np.zeros(RATE * 40), speech[20 * RATE : 40 * RATE]
    )
    dear = EngineCard(
        name="dear",
        reply=Reply(format="text"),
        price=Price(per_minute=Decimal("0.01"), currency="credits", billing_step=Seconds(60)),
    )
    assert len(prepared(path)) == 2
    assert len(list(Preparation(path, dear, PieceOptions()))) == 1


def test_a_recording_in_which_nobody_speaks_has_no_piece(tmp_path: Path) -> None:
    path = recording(tmp_path, np.random.default_rng(2).standard_normal(RATE * 30) * 0.01)
    assert prepared(path) == []
    assert len(prepared(path, PieceOptions(keep_silence=True))) == 1


def test_channels_are_sent_apart_and_empty_ones_are_not(tmp_path: Path, speech: np.ndarray) -> None:
    voices = np.stack(
        [speech[: 30 * RATE], np.zeros(30 * RATE), speech[30 * RATE : 60 * RATE]], axis=1
    )
    path = recording(tmp_path, voices)
    truth = soundfile.read(path, dtype="int16")[0]
    pieces = prepared(path, PieceOptions(channels="apart", piece_length=10.0))
    assert {piece.channel for piece in pieces} == {1, 3}
    for piece in pieces:
        assert piece.channel is not None
        span = slice(round(piece.span.start * RATE), round(piece.span.end * RATE))
        assert (samples_in(piece) == truth[span, piece.channel - 1]).all()
    assert {piece.channel for piece in prepared(path, PieceOptions(channels=3))} == {3}
    assert {piece.channel for piece in prepared(path)} == {None}
    with pytest.raises(InputError, match="no channel 4"):
        prepared(path, PieceOptions(channels=4))


def test_the_same_channel_twice_is_told(tmp_path: Path, speech: np.ndarray) -> None:
    path = recording(tmp_path, np.stack([speech[: 10 * RATE]] * 2, axis=1))
    preparation = Preparation(path, card(), PieceOptions(channels="apart"))
    assert len(list(preparation)) == 2
    assert preparation.notes[0].startswith("all channels are the same")


@pytest.mark.parametrize(
    ("formats", "cap", "name", "bit_rate"),
    [
        (("flac", "opus"), 5_000_000, "flac", None),
        (("flac", "opus"), 400_000, "opus", 32_000),
        (("opus",), 180_000, "opus", 16_000),
        (("wav", "mp3"), 300_000, "mp3", 32_000),
    ],
)
def test_lossless_where_it_fits_or_else_a_bit_rate_that_does(
    tmp_path: Path,
    speech: np.ndarray,
    formats: tuple[str, ...],
    cap: int,
    name: str,
    bit_rate: int | None,
) -> None:
    pieces = prepared(recording(tmp_path, speech), formats=formats, max_bytes=Bytes(cap))
    assert {(piece.piece.form.name, piece.piece.form.bit_rate) for piece in pieces} == {
        (name, bit_rate)
    }
    assert all(len(piece.piece.audio) <= cap for piece in pieces)


def test_what_is_larger_than_expected_is_cut_again(tmp_path: Path) -> None:
    loud = np.random.default_rng(3).uniform(-1, 1, 60 * RATE)  # nothing can make this smaller
    loud[::RATE] = 0.0
    path = recording(tmp_path, loud)
    options = PieceOptions(keep_silence=True)
    pieces = prepared(path, options, formats=("flac",), max_bytes=Bytes(900_000))
    assert len(pieces) >= 3 and all(len(piece.piece.audio) <= 900_000 for piece in pieces)
    assert pieces[0].span.start == 0.0 and pieces[-1].span.end == 60.0
    with pytest.raises(TooBigError, match="even 5 s"):
        prepared(path, options, formats=("flac",), max_bytes=Bytes(9_000))


def test_a_header_that_promises_too_little_leaves_no_sound_out(
    tmp_path: Path, english: list[Phrase]
) -> None:
    noisy = [
        np.concatenate(
            list(compose(english, seed=82, duration=length, pauses=(0.8, 1.4), snr=10).blocks()),
            axis=1,
        )[0]
        for length in (60, 120)
    ]
    soundfile.write(
        tmp_path / "a.flac", np.concatenate([noisy[0], np.zeros(RATE * 35), noisy[1]]), RATE
    )
    truth = soundfile.read(tmp_path / "a.flac", dtype="int16")[0]
    content = bytearray((tmp_path / "a.flac").read_bytes())
    # STREAMINFO: the low bits of the number of samples.
    content[22:26] = (10 * RATE).to_bytes(4, "big")
    (tmp_path / "a.flac").write_bytes(content)
    options, accepts = PieceOptions(), card(formats=("flac",), max_bytes=Bytes(250_000))
    preparation = Preparation(tmp_path / "a.flac", accepts, options)
    assert preparation.is_whole
    pieces = list(preparation)
    assert len(pieces) > 4 and pieces[-1].span.end > 200
    for piece in pieces:
        span = slice(round(piece.span.start * RATE), round(piece.span.end * RATE))
        assert np.array_equal(samples_in(piece), truth[span])
        assert len(piece.piece.audio) <= 250_000


def test_the_first_pieces_leave_while_the_rest_is_decoded(
    tmp_path: Path, speech: np.ndarray
) -> None:
    path = recording(tmp_path, np.tile(speech, 10))
    preparation = Preparation(path, card(), PieceOptions(piece_length=60.0))
    next(iter(preparation))
    assert preparation.duration < 300
    preparation.close()


def test_closing_while_another_thread_prepares_the_next_piece_stops_it(
    tmp_path: Path, speech: np.ndarray
) -> None:
    path = recording(tmp_path, np.tile(speech, 10))
    preparation = Preparation(path, card(), PieceOptions(piece_length=300.0))
    pieces = iter(preparation)
    next(pieces)
    with ThreadPoolExecutor(1) as pool:
        rest = pool.submit(list, pieces)
        while not rest.running():
            pass
        preparation.close()
        assert len(rest.result(timeout=30)) < 4


def test_a_track_that_is_sent_whole_is_left_untouched(note: Note) -> None:
    (piece,) = prepared(note.path, PieceOptions(untouched=True))
    assert len(samples_in(piece)) == sum(block.shape[1] for block in Decoder(note.path))


def test_closing_waits_for_the_piece_that_is_being_prepared_and_leaves_nothing_open(
    tmp_path: Path, english: list[Phrase]
) -> None:
    path = tmp_path / "long.wav"
    compose(english, seed=8, duration=120).write(path)
    preparation = Preparation(path, card(), PieceOptions(piece_length=10.0))
    with ThreadPoolExecutor(1) as thread:
        under_way = thread.submit(next, preparation, None)
        preparation.close()
        under_way.result()
    assert inspect.getgeneratorstate(preparation._pieces) == inspect.GEN_CLOSED
    assert next(preparation, None) is None


def test_one_that_is_dropped_waits_for_no_thread(
    tmp_path: Path, english: list[Phrase], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The garbage collector may come at any moment, also while a lock of `threading` is held."""
    path = tmp_path / "long.wav"
    compose(english, seed=8, duration=60).write(path)
    preparation = Preparation(path, card(), PieceOptions(piece_length=10.0))
    next(preparation)
    joined: list[str] = []
    monkeypatch.setattr(threading.Thread, "join", lambda self, *_: joined.append(self.name))
    del preparation
    gc.collect()
    assert joined == []
