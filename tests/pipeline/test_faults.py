"""Many recordings to stand-ins of which a third of all answers goes wrong, in every way there
is.
"""

import asyncio
import json
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import KEY, Moody
from mantisreed.cards.wire.transport import HttpTransport
from mantisreed.exports.formats import chosen_formats
from mantisreed.jobs.gate import Time
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.records import PieceRecord
from mantisreed.pipeline.batch import Batch, BatchServices
from mantisreed.pipeline.options import RunOptions, transcription_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.sources.recordings import Source
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.faults import FAULTS, Fault, FaultProfile
from mantisreed.workspace import open_workspace

WHOLE_BUT_DAMAGED: tuple[Fault, ...] = ("page", "empty")
PASSING: tuple[Fault, ...] = tuple(
    fault for fault in FAULTS if fault not in (*WHOLE_BUT_DAMAGED, "truncated")
)


@pytest.fixture
def notes(english: list[Phrase], tmp_path: Path) -> Iterator[dict[Path, Composition]]:
    composed = {}
    for number in range(16):
        path = tmp_path / f"note {number}.flac"
        composed[path] = compose(english, seed=700 + number, duration=9.0, snr=30)
        composed[path].write(path)
    yield composed


def sent(
    folder: Path, engine: str, recordings: list[Path], *, afresh: bool = False
) -> list[Outcome]:
    async def go() -> list[Outcome]:
        workspace = open_workspace(folder / "mantisreed.toml")
        outputs = Outputs(folder / "out", workspace.hidden, chosen_formats(["json"]))
        async with HttpTransport() as transport:
            options = transcription_options(workspace, RunOptions(engine=engine, afresh=afresh))
            time = Time(sleep=lambda seconds: asyncio.sleep(min(seconds, 0.05)))
            services = BatchServices(
                transport, lambda: open_ledger(workspace), workspace.hidden, time=time
            )
            return await Batch(options, outputs, services).run(
                [Source(path) for path in recordings]
            )

    return asyncio.run(go())


def hurry(folder: Path, engine: str) -> None:
    """Let requests time out soon."""
    settings = folder / "mantisreed.toml"
    text = settings.read_text()
    for step in ("send", "steps.upload", "steps.start", "steps.ask", "steps.fetch"):
        text = text.replace(
            f"[engine.{engine}.{step}]", f'[engine.{engine}.{step}]\ntimeout = "1500 ms"'
        )
    settings.write_text(text)


def is_right(outcome: Outcome, composition: Composition) -> bool:
    assert outcome.transcript is not None
    heard = [word.text for word in outcome.transcript.words]
    return heard == [word.text for word in composition.words]


def tally(address: str) -> dict[str, Any]:
    with urllib.request.urlopen(f"{address}/tally") as answer:
        found: dict[str, Any] = json.load(answer)
    return found


@pytest.mark.parametrize("engine", ["brook", "dipper"])
def test_all_come_through_with_the_right_text_and_none_is_answered_twice(
    moody: Moody, notes: dict[Path, Composition], tmp_path: Path, engine: str
) -> None:
    with moody(FaultProfile(faults=0.3, hang=2.5, seed=11, kinds=PASSING), tries=20):
        hurry(tmp_path, engine)
        outcomes = sent(tmp_path, engine, list(notes))
    for outcome, composition in zip(outcomes, notes.values(), strict=True):
        assert outcome.state == "done" and is_right(outcome, composition), outcome.error
        assert outcome.job is not None and outcome.job.pieces_done == 1
    attempts = [
        [attempt.outcome for piece in pieces for attempt in piece.attempts]
        for pieces in _pieces(tmp_path, [outcome.job.id for outcome in outcomes if outcome.job])
    ]
    assert [one for one in attempts if one.count("done") != 1 or one[-1] != "done"] == []
    assert sum(len(one) for one in attempts) > len(outcomes)
    for file in (tmp_path / ".mantisreed").rglob("*"):
        assert not file.is_file() or KEY.encode() not in file.read_bytes()


@pytest.mark.parametrize("engine", ["brook", "dipper"])
def test_a_whole_answer_that_is_damaged_is_kept_and_never_asked_for_again_by_itself(
    moody: Moody, notes: dict[Path, Composition], tmp_path: Path, engine: str
) -> None:
    faults = FaultProfile(faults=0.4, seed=5, kinds=WHOLE_BUT_DAMAGED)
    with moody(faults, engine=engine, tries=5) as address:
        outcomes = sent(tmp_path, engine, list(notes))
        before = tally(address)
        failed = [number for number, outcome in enumerate(outcomes) if outcome.state == "failed"]
        assert 2 <= len(failed) < len(outcomes)
        for outcome, composition in zip(outcomes, notes.values(), strict=True):
            assert outcome.state != "done" or is_right(outcome, composition)
        again = sent(
            tmp_path,
            engine,
            [list(notes)[number] for number in failed if _is_answered(outcomes[number])],
        )
        assert {outcome.state for outcome in again} <= {"failed"} and tally(address)[
            "asked"
        ] == before["asked"]
    charges = [
        attempt.charge
        for pieces in _pieces_of(tmp_path, outcomes)
        for p in pieces
        for attempt in p.attempts
    ]
    assert charges.count("sure") + charges.count("maybe") <= len(outcomes)
    assert list((tmp_path / ".mantisreed" / "unreadable").iterdir()) or engine == "dipper"
    with moody(FaultProfile(), engine=engine):
        mended = sent(tmp_path, engine, list(notes), afresh=True)
    assert all(is_right(outcome, one) for outcome, one in zip(mended, notes.values(), strict=True))


def _is_answered(outcome: Outcome) -> bool:
    """Whether the engine may have been paid for it."""
    return outcome.job is not None and (outcome.job.maybe > 0 or outcome.job.pieces_done > 0)


def _pieces_of(folder: Path, outcomes: list[Outcome]) -> list[list[PieceRecord]]:
    return _pieces(folder, [outcome.job.id for outcome in outcomes if outcome.job])


def _pieces(folder: Path, jobs: list[str]) -> list[list[PieceRecord]]:
    ledger = open_ledger(open_workspace(folder / "mantisreed.toml"))
    try:
        return [list(ledger.listing.pieces(job)) for job in jobs]
    finally:
        ledger.close()
