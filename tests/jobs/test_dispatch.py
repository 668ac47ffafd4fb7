"""Sending and asking: how often, how long, and that what fails meanwhile never pays twice."""

import asyncio
import json
from pathlib import Path

import pytest

from mantisreed.audio.formats import FORMATS
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import ScriptedTransport
from mantisreed.engines.asking import client_for
from mantisreed.engines.request import Piece
from mantisreed.errors import (
    BadRequestError,
    EngineError,
    JobFailedError,
    JobLostError,
    PostponedError,
    TooBigError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.jobs.dispatch import Dispatcher
from mantisreed.jobs.gate import Time, silent
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.records import PieceRecord
from mantisreed.jobs.work import DispatchOptions, Work
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.workspace import open_workspace

CARD = """
[engine.weir]
url = "http://weir.marsh.example"
price = { per_minute = "6", currency = "credits" }
steps.start = { raw = "{audio}", path = "/jobs", take.id = "id" }
reply.text = "says"

[engine.weir.steps.ask]
path = "/jobs/{id}"
state = "is"
waiting = ["wet"]
done = ["dry"]
failed = ["gone"]
interval = "1 s"
max_interval = "4 s"
limit = "60 s"
"""
PIECE = Piece(b"sound", FORMATS["flac"], 16_000, 1, 9.0, ((0.0, 9.0),))
FORGOTTEN: object = (404, {}, "")
BROKEN: object = (503, {}, "")


class Weir:
    """An engine whose answers to questions are given beforehand, and a clock that sleeping
    moves.
    """

    def __init__(self, folder: Path, *answers: object) -> None:
        self.answers = list(answers)
        self.to_sending: list[object] = []
        self.sent, self.now = 0, 0.0
        self.asked_at: list[float] = []
        self.folder = folder
        self.mend("", "")

    def mend(self, old: str, new: str) -> None:
        """Change the card."""
        settings = self.folder / "mantisreed.toml"
        text = settings.read_text() if settings.exists() else CARD
        assert old in text
        settings.write_text(text.replace(old, new, 1))
        self.card = open_workspace(settings).engine("weir")

    def answer(self, request: HttpRequest) -> HttpAnswer:
        if request.step == "start":
            self.sent += 1
            given = self.to_sending.pop(0) if self.to_sending else {"id": self.sent}
            if isinstance(given, EngineError):
                raise given
            return (
                given
                if isinstance(given, HttpAnswer)
                else HttpAnswer(200, {}, json.dumps(given).encode())
            )
        self.asked_at.append(self.now)
        given = self.answers.pop(0) if self.answers else "wet"
        if isinstance(given, HttpAnswer):
            return given
        status, headers, state = given if isinstance(given, tuple) else (200, {}, given)
        return HttpAnswer(status, headers, json.dumps({"is": state, "says": "tide"}).encode())

    async def sleep(self, seconds: float) -> None:
        self.now += seconds

    def reply(self, *, afresh: bool = False, wait: bool = True) -> bytes | None:
        async def go() -> bytes | None:
            writer = LedgerWriter(lambda: Ledger(self.folder))
            time = Time(lambda: self.now, self.sleep)
            try:
                dispatcher = Dispatcher(
                    client_for(self.card, {}, ScriptedTransport(self.answer)),
                    self.card,
                    writer,
                    DispatchOptions(max_attempts=4, afresh=afresh, time=time),
                )
                await dispatcher.perform(
                    lambda ledger: ledger.jobs.open(JobToOpen("abc", "a.wav", "sha256:1", "weir"))
                )
                work = Work("abc", "r1", 0.0, 9.0, None, PIECE)
                response = await (dispatcher.reply if wait else dispatcher.submit)(work, silent)
                return None if response is None else response.body
            finally:
                writer.close()

        return asyncio.run(go())

    @property
    def piece(self) -> PieceRecord:
        ledger = Ledger(self.folder)
        (piece,) = ledger.listing.pieces("abc")
        ledger.close()
        return piece

    @property
    def waits(self) -> list[float]:
        return [
            later - earlier
            for earlier, later in zip([0.0, *self.asked_at], self.asked_at, strict=False)
        ]


def test_questions_come_soon_at_first_then_slower_up_to_the_cards_slowest(tmp_path: Path) -> None:
    weir = Weir(tmp_path, *["wet"] * 6, "dry")
    assert weir.reply() is not None
    assert weir.waits == [1.0, 1.5, 2.25, 3.375, 4.0, 4.0, 4.0] and weir.sent == 1


def test_what_fails_while_asking_is_asked_again_as_late_as_wanted_and_never_sent_again(
    tmp_path: Path,
) -> None:
    weir = Weir(tmp_path, BROKEN, (429, {"Retry-After": "30"}, ""), "wet", "dry")
    assert weir.reply() is not None
    assert weir.waits == [1.0, 1.5, 30.0, 3.375] and weir.sent == 1


def test_an_engine_that_cannot_be_asked_leaves_the_job_for_later(tmp_path: Path) -> None:
    weir = Weir(tmp_path, *[BROKEN] * 9)
    with pytest.raises(PostponedError):
        weir.reply()
    assert len(weir.asked_at) == 4
    weir.answers = ["dry"]
    assert weir.reply() is not None and weir.sent == 1


def test_an_overdue_job_keeps_its_ticket_and_the_same_command_asks_again(tmp_path: Path) -> None:
    weir = Weir(tmp_path)
    for _ in range(2):
        with pytest.raises(PostponedError, match="has not ended within 60 s"):
            weir.reply()
    assert weir.sent == 1 and weir.piece.state == "working"
    weir.mend('limit = "60 s"', 'limit = "2 h"')
    weir.answers = [*["wet"] * 100, "dry"]
    assert weir.reply() is not None and weir.sent == 1


def test_a_job_that_failed_is_not_sent_again_by_itself(tmp_path: Path) -> None:
    weir = Weir(tmp_path, "gone")
    with pytest.raises(JobFailedError):
        weir.reply()
    assert weir.sent == 1 and weir.piece.attempts[0].charge == "maybe"


def test_a_job_that_the_engine_never_knew_is_not_sent_again_as_the_card_may_be_wrong(
    tmp_path: Path,
) -> None:
    weir = Weir(tmp_path, *[FORGOTTEN] * 20)
    for _ in range(2):
        with pytest.raises(JobLostError, match="does not know the job"):
            weir.reply()
    assert weir.sent == 1 and weir.piece.state == "failed"
    weir.mend('path = "/jobs/{id}"', 'path = "/works/{id}"')
    weir.answers = ["wet", "dry"]
    assert weir.reply() is not None and weir.sent == 1


def test_a_job_that_the_engine_knew_and_forgot_is_sent_once_more(tmp_path: Path) -> None:
    weir = Weir(tmp_path, "wet", FORGOTTEN, "dry")
    assert weir.reply() is not None and weir.sent == 2
    assert [one.charge for one in weir.piece.attempts] == ["maybe", "sure"]


def test_an_answer_without_an_id_is_kept_and_read_again_when_the_card_is_mended(
    tmp_path: Path,
) -> None:
    weir = Weir(tmp_path, "dry")
    weir.to_sending = [{"ident": 7}]
    for _ in range(2):
        with pytest.raises(UnreadableReplyError, match=r"take\.id") as caught:
            weir.reply()
        assert "--afresh" in (caught.value.advice or "")
    assert weir.sent == 1 and weir.piece.attempts[0].charge == "maybe"
    weir.mend('take.id = "id"', 'take.id = "ident"')
    assert weir.reply() is not None and weir.sent == 1
    assert [one.charge for one in weir.piece.attempts] == ["sure"]


def test_an_answer_without_an_id_is_sent_again_only_when_the_user_says_so(tmp_path: Path) -> None:
    weir = Weir(tmp_path, "dry")
    weir.to_sending = [HttpAnswer(200, {}, b"<html>")]
    with pytest.raises(UnreadableReplyError):
        weir.reply()
    assert weir.reply(afresh=True) is not None and weir.sent == 2


@pytest.mark.parametrize("body", [b"<says>tide</says>", b"", b"[" * 100_000])
def test_a_result_that_is_not_as_expected_is_kept_to_the_byte_and_not_fetched_again(
    tmp_path: Path, body: bytes
) -> None:
    weir = Weir(tmp_path, HttpAnswer(200, {}, body), "dry")
    weir.mend('state = "is"\nwaiting = ["wet"]\ndone = ["dry"]\nfailed = ["gone"]', "")
    assert weir.reply() == body and weir.reply() == body
    assert len(weir.asked_at) == 1 and weir.sent == 1


@pytest.mark.parametrize(
    ("answers", "sent", "state", "charges"),
    [
        ([HttpAnswer(500, {}, b"")] * 9, 4, "waiting", ["none"] * 4),
        ([HttpAnswer(504, {}, b"")] * 9, 4, "unconfirmed", ["maybe"] * 4),
        ([HttpAnswer(400, {}, b"")], 1, "failed", ["none"]),
        ([HttpAnswer(413, {}, b"")], 1, "failed", ["none"]),
        ([HttpAnswer(401, {}, b"")], 1, "waiting", ["none"]),
        ([HttpAnswer(429, {"Retry-After": "2"}, b"")] * 9, 4, "waiting", ["none"] * 4),
        (
            [HttpAnswer(429, {"Retry-After": "99999999999999999999999"}, b"")],
            1,
            "waiting",
            ["none"],
        ),
        ([HttpAnswer(429, {"Retry-After": "-5"}, b"")] * 9, 4, "waiting", ["none"] * 4),
        ([HttpAnswer(429, {"Retry-After": "1795602470947"}, b"")] * 9, 4, "waiting", ["none"] * 4),
    ],
)
def test_what_fails_while_sending_is_tried_again_where_that_is_of_use_and_counted_as_it_may_be_charged(  # noqa: E501
    tmp_path: Path, answers: list[object], sent: int, state: str, charges: list[str]
) -> None:
    weir = Weir(tmp_path)
    weir.to_sending = answers
    with pytest.raises((EngineError, PostponedError)):
        weir.reply()
    assert (weir.sent, weir.piece.state) == (sent, state)
    assert [one.charge for one in weir.piece.attempts] == charges


def test_what_was_too_big_once_is_not_sent_again(tmp_path: Path) -> None:
    weir = Weir(tmp_path)
    weir.to_sending = [HttpAnswer(413, {}, b"")]
    for _ in range(2):
        with pytest.raises(TooBigError):
            weir.reply()
    assert weir.sent == 1


def test_a_request_that_fails_in_a_way_that_nobody_thought_of_is_unconfirmed(
    tmp_path: Path,
) -> None:
    weir = Weir(tmp_path)

    def answer(request: HttpRequest) -> HttpAnswer:
        raise RecursionError("too deep")

    weir.answer = answer  # type: ignore[method-assign]
    with pytest.raises(RecursionError):
        weir.reply()
    assert weir.piece.state == "unconfirmed" and weir.piece.attempts[0].charge == "maybe"


def test_a_lost_request_is_unconfirmed_and_counted_each_time(tmp_path: Path) -> None:
    weir = Weir(tmp_path, "dry")
    cut = UnreachableError("cut", engine="weir")
    cut.was_sent = True
    weir.to_sending = [cut, cut]
    assert weir.reply() is not None and weir.sent == 3
    assert [one.charge for one in weir.piece.attempts] == ["maybe", "maybe", "sure"]


def test_submitting_leaves_the_job_at_the_engine_for_anybody(tmp_path: Path) -> None:
    weir = Weir(tmp_path, "dry")
    assert (
        weir.reply(wait=False) is None
        and weir.piece.state == "working"
        and weir.piece.request.owner is None
    )
    assert weir.reply() is not None and weir.sent == 1


def test_a_bad_request_can_be_sent_again_once_the_card_is_mended(tmp_path: Path) -> None:
    weir = Weir(tmp_path, "dry")
    weir.to_sending = [HttpAnswer(400, {}, b"")]
    with pytest.raises(BadRequestError):
        weir.reply()
    assert weir.reply() is not None and weir.sent == 2
