"""Many recordings to stand-ins of which a third of all answers goes wrong, in every way there is."""

import asyncio
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import KEY, Moody
from mantisreed.engines.transport import HttpTransport
from mantisreed.exports.formats import chosen_formats
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.records import PieceRecord
from mantisreed.pipeline.orders import order_for
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.run import Outcome, Runner
from mantisreed.pipeline.sources import Source
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.moods import Moods
from mantisreed.workspace import open_workspace


@pytest.fixture
def notes(english: list[Phrase], tmp_path: Path) -> Iterator[dict[Path, Composition]]:
    composed = {}
    for number in range(16):
        path = tmp_path / f"note {number}.flac"
        composed[path] = compose(english, seed=700 + number, duration=9.0, snr=30)
        composed[path].write(path)
    yield composed


async def sent(folder: Path, engine: str, recordings: list[Path]) -> list[Outcome]:
    workspace = open_workspace(folder / "mantisreed.toml")
    outputs = Outputs(folder / "out", workspace.hidden, chosen_formats(["json"]))
    async with HttpTransport() as transport:
        runner = Runner(
            order_for(workspace, engine=engine),
            outputs,
            transport,
            lambda: open_ledger(workspace),
            hidden=workspace.hidden,
            sleep=lambda seconds: asyncio.sleep(min(seconds, 0.05)),
        )
        return await runner.run([Source(path) for path in recordings])


@pytest.mark.parametrize("engine", ["brook", "dipper"])
def test_all_come_through_with_the_right_text_and_none_is_answered_twice(
    moody: Moody, notes: dict[Path, Composition], tmp_path: Path, engine: str
) -> None:
    with moody(Moods(faults=0.3, hang=20.0, seed=11), tries=20):
        settings = tmp_path / "mantisreed.toml"
        text = settings.read_text()
        for step in ("send", "upload", "poll", "fetch"):
            text = text.replace(f"[engine.{engine}.{step}]", f'[engine.{engine}.{step}]\ntime_limit = "4 s"')
        settings.write_text(text)
        outcomes = asyncio.run(sent(tmp_path, engine, list(notes)))
    for outcome, composition in zip(outcomes, notes.values(), strict=True):
        assert outcome.state == "done" and outcome.transcript is not None, outcome.error
        heard = [word.text for word in outcome.transcript.words]
        assert heard == [word.text for word in composition.words]
        assert outcome.job is not None and outcome.job.pieces_done == 1
    attempts = [
        [attempt.outcome for piece in pieces for attempt in piece.attempts]
        for pieces in _pieces(tmp_path, [outcome.job.id for outcome in outcomes if outcome.job])
    ]
    assert [one for one in attempts if one.count("done") != 1 or one[-1] != "done"] == []
    assert sum(len(one) for one in attempts) > len(outcomes)
    for file in (tmp_path / ".mantisreed").rglob("*"):
        assert not file.is_file() or KEY.encode() not in file.read_bytes()


def _pieces(folder: Path, jobs: list[str]) -> list[list[PieceRecord]]:
    ledger = open_ledger(open_workspace(folder / "mantisreed.toml"))
    try:
        return [list(ledger.listing.pieces(job)) for job in jobs]
    finally:
        ledger.close()
