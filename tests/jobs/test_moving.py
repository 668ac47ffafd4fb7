"""Asking for jobs: how often, how long, and that what fails meanwhile never sends them again."""

import asyncio
import json
from pathlib import Path

import pytest

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.answers import HttpAnswer
from mantisreed.engines.asking import client_for
from mantisreed.engines.request import HttpRequest, Piece, Wishes
from mantisreed.engines.transport import ScriptedTransport
from mantisreed.errors import JobFailedError, JobLostError, PostponedError
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.moving import Mover, Work
from mantisreed.jobs.writing import LedgerWriter
from mantisreed.workspace import open_workspace

CARD = """
[engine.weir]
address = "http://weir.marsh.example"
send = { raw = "{audio}", path = "/jobs", take.id = "id" }
reply.text = "says"

[engine.weir.poll]
path = "/jobs/{id}"
state = "is"
waiting = ["wet"]
done = ["dry"]
failed = ["gone"]
every = "1 s"
slowest = "4 s"
limit = "60 s"
"""
PIECE = Piece(b"sound", FORMATS["flac"], 16_000, 1, 9.0, ((0.0, 9.0),))


class Weir:
    """An engine whose answers to questions are given beforehand, and a clock that sleeping moves."""

    def __init__(self, folder: Path, *answers: object) -> None:
        self.answers = list(answers)
        self.sent, self.now = 0, 0.0
        self.asked_at: list[float] = []
        settings = folder / "mantisreed.toml"
        settings.write_text(CARD)
        self.card = open_workspace(settings).engine("weir")
        self.folder = folder

    def answer(self, request: HttpRequest) -> HttpAnswer:
        if request.step == "send":
            self.sent += 1
            return HttpAnswer(200, {}, json.dumps({"id": self.sent}).encode())
        self.asked_at.append(self.now)
        given = self.answers.pop(0) if self.answers else "wet"
        status, headers, state = given if isinstance(given, tuple) else (200, {}, given)
        return HttpAnswer(status, headers, json.dumps({"is": state, "says": "tide"}).encode())

    async def sleep(self, seconds: float) -> None:
        self.now += seconds

    def reply(self) -> bytes | None:
        async def go() -> bytes | None:
            writer = LedgerWriter(lambda: Ledger(self.folder))
            try:
                mover = Mover(
                    client_for(self.card, {}, ScriptedTransport(self.answer)),
                    self.card,
                    Wishes(),
                    writer,
                    tries=4,
                    clock=lambda: self.now,
                    sleep=self.sleep,
                )
                await mover.noted(lambda ledger: ledger.open_job("abc", "note.wav", "sha256:1", "weir", None))
                work = Work("abc", "r1", 0.0, 9.0, None, PIECE)
                return await mover.reply(work, lambda stage, note, until=None: None)
            finally:
                writer.close()

        return asyncio.run(go())


def test_questions_come_soon_at_first_then_slower_up_to_the_cards_slowest(tmp_path: Path) -> None:
    weir = Weir(tmp_path, *["wet"] * 6, "dry")
    assert weir.reply() is not None
    waits = [later - earlier for earlier, later in zip([0.0, *weir.asked_at], weir.asked_at, strict=False)]
    assert waits == [1.0, 1.5, 2.25, 3.375, 4.0, 4.0, 4.0] and weir.sent == 1


def test_what_fails_while_asking_is_asked_again_as_late_as_wanted_and_never_sent_again(tmp_path: Path) -> None:
    weir = Weir(tmp_path, (503, {}, ""), (429, {"Retry-After": "30"}, ""), "wet", "dry")
    assert weir.reply() is not None
    waits = [later - earlier for earlier, later in zip([0.0, *weir.asked_at], weir.asked_at, strict=False)]
    assert waits == [1.0, 1.5, 30.0, 3.375] and weir.sent == 1


def test_an_engine_that_cannot_be_asked_leaves_the_job_for_later(tmp_path: Path) -> None:
    weir = Weir(tmp_path, *[(503, {}, "")] * 9)
    with pytest.raises(PostponedError):
        weir.reply()
    assert len(weir.asked_at) == 4
    weir.answers = ["dry"]
    assert weir.reply() is not None and weir.sent == 1


@pytest.mark.parametrize(
    ("answers", "error", "sent"),
    [(["gone"], JobFailedError, 1), ([], JobLostError, 1), ([(404, {}, "")] * 9, JobLostError, 4)],
)
def test_jobs_that_fail_last_too_long_or_are_forgotten_are_told_apart(
    tmp_path: Path, answers: list[object], error: type[Exception], sent: int
) -> None:
    weir = Weir(tmp_path, *answers)
    with pytest.raises(error):
        weir.reply()
    assert weir.sent == sent
