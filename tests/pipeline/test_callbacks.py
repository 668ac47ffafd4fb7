"""Calls that are forged, repeated, late, unknown or good, given to the listener as a server
would.
"""

import asyncio
import base64
import hashlib
import hmac
import json
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest
from starlette.types import Message

from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.engines.callbacks import is_genuine
from mantisreed.jobs.gate import Time
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.request_rows import PieceToSend
from mantisreed.jobs.store.database import LedgerError
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.sent_jobs.callbacks import CallbackListener, ServeHooks
from mantisreed.pipeline.sent_jobs.collecting import Collector
from mantisreed.secrets import Secret
from mantisreed.workspace import Workspace, open_workspace

SECRET = "whsec_" + base64.b64encode(b"a bell on the sluice gate").decode()
SETTINGS = """
[callbacks]
public = "https://marsh.example"
[engine.weir]
url = "http://127.0.0.1:9"
secrets.bell = "file:bell"
steps.start = { raw = "{audio}", path = "/{callback}", take.id = "id" }
steps.ask = { path = "/{id}", state = "is", waiting = ["wet"], done = ["dry"] }
callback.secret = "{bell}"
reply.text = "says"
[engine.weir.profile.carrier]
callback.brings = "reply"
"""


def signed(
    body: bytes, call: str = "call_1", moment: float | None = None, secret: str = SECRET
) -> dict[str, str]:
    stamp = str(int(time.time() if moment is None else moment))
    key = base64.b64decode(secret.removeprefix("whsec_"))
    signature = base64.b64encode(
        hmac.new(key, f"{call}.{stamp}.".encode() + body, hashlib.sha256).digest()
    ).decode()
    return {
        "webhook-id": call,
        "webhook-timestamp": stamp,
        "webhook-signature": f"v1,bm9uZQ== v1,{signature}",
    }


QUIET = ServeHooks(lambda listen: None, lambda outcome: None)


@dataclass
class Marsh:
    """A workspace with one piece that is out, and a listener for it."""

    workspace: Workspace
    ledger: Ledger
    state: str = "dry"
    asked: list[str] = field(default_factory=list)

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        self.asked.append(request.url)
        body = {"is": self.state, "says": "tide"}
        return HttpAnswer(200, {}, json.dumps(body).encode())

    async def converse(self, request: HttpRequest, conversation: object) -> HttpAnswer:
        raise NotImplementedError

    def calls(self, *calls: tuple[str, bytes, dict[str, str]]) -> list[int]:
        """The statuses that these calls, one after the other, are answered with."""

        async def go() -> list[int]:
            writer = LedgerWriter(lambda: open_ledger(self.workspace))
            collector = Collector(self.workspace, self, writer=writer)
            listener = CallbackListener(self.workspace, writer, collector, QUIET)
            statuses = []
            for path, body, headers in calls:
                statuses.append(await called(listener, path, body, headers))
                await listener.finish()
            writer.close()
            return statuses

        return asyncio.run(go())

    @property
    def piece(self) -> Any:
        (piece,) = self.ledger.listing.pieces("abc123")
        return piece


async def called(
    listener: CallbackListener, path: str, body: bytes, headers: dict[str, str]
) -> int:
    status = 0

    async def receive() -> Message:
        return {"type": "http.request", "body": body, "more_body": False}

    async def send(message: Message) -> None:
        nonlocal status
        status = message.get("status", status)

    raw = [(name.encode(), value.encode()) for name, value in headers.items()]
    scope = {
        "type": "http",
        "method": "POST",
        "path": path,
        "headers": raw,
        "query_string": b"",
        "root_path": "",
    }
    await listener.application(scope, receive, send)
    return status


@pytest.fixture(params=["weir", "weir:carrier"])
def marsh(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Marsh]:
    (tmp_path / "bell").write_text(SECRET)
    settings = tmp_path / "mantisreed.toml"
    settings.write_text(SETTINGS)
    workspace = open_workspace(settings)
    ledger = open_ledger(workspace)
    wanted = {"into": (tmp_path / "out").as_uri(), "to": ["txt"]}
    options = {"source": "", "name": "note", "stem": "note", "wanted": wanted}
    ledger.jobs.open(
        JobToOpen("abc123", "note.wav", "sha256:1", request.param, None, json.dumps(options))
    )
    sound = {
        "duration": 9.0,
        "sample_rate": 16000,
        "channels": 1,
        "form": "flac",
        "speech": [[0, 9]],
    }
    record = ledger.requests.claim(PieceToSend("abc123", "r1", 0.0, 9.0, sound=json.dumps(sound)))
    assert record is not None
    ledger.requests.accept(ledger.requests.send(record, 10, token="a-token"), {"id": "7"}, "7")
    ledger.jobs.note_made(
        "abc123", json.dumps({"pieces": ["r1"], "duration": 9.0}), 9.0, is_out=True
    )
    ledger.close()
    seen_later = open_ledger(workspace)
    yield Marsh(workspace, seen_later)
    seen_later.close()


GOOD = json.dumps({"says": "tide"}).encode()


def test_what_is_forged_unknown_or_old_changes_nothing(marsh: Marsh) -> None:
    statuses = marsh.calls(
        ("/calls/another-token", GOOD, signed(GOOD)),
        ("/calls/a-token", GOOD, {}),
        ("/calls/a-token", GOOD + b" ", signed(GOOD)),
        ("/calls/a-token", GOOD, signed(GOOD, moment=time.time() - 400)),
        ("/calls/a-token", GOOD, signed(GOOD, moment=time.time() + 400)),
        ("/calls/a-token", GOOD, signed(GOOD) | {"webhook-timestamp": "²"}),
        (
            "/calls/a-token",
            GOOD,
            signed(GOOD, secret="whsec_" + base64.b64encode(b"another").decode()),
        ),
    )
    assert statuses == [404, 401, 401, 401, 401, 401, 401]
    assert marsh.piece.state == "working" and marsh.asked == []


def test_a_good_call_is_taken_once_and_its_job_written_out(marsh: Marsh, tmp_path: Path) -> None:
    other = json.dumps({"says": "another tide"}).encode()
    statuses = marsh.calls(
        ("/calls/a-token", GOOD, signed(GOOD)),
        ("/calls/a-token", GOOD, signed(GOOD)),
        ("/calls/a-token", other, signed(other, "call_2")),
    )
    assert statuses == [204, 204, 204]
    assert marsh.piece.state == "done" and marsh.ledger.listing.job("abc").state == "done"
    assert (tmp_path / "out" / "note.txt").read_text() == "tide\n"
    assert len(marsh.piece.attempts) == 1 and len(marsh.asked) <= 1


def test_a_call_for_what_was_called_off_or_is_damaged_changes_nothing(marsh: Marsh) -> None:
    marsh.state = "wet"
    page = b"<!DOCTYPE html>"
    assert marsh.calls(("/calls/a-token", page, signed(page))) == [204]
    assert marsh.piece.state == "working"
    marsh.ledger.requests.cancel("abc123")
    assert marsh.calls(("/calls/a-token", GOOD, signed(GOOD, "call_2"))) == [204]
    assert marsh.piece.state == "cancelled" and marsh.ledger.listing.job("abc").state == "cancelled"


def test_asking_goes_on_whatever_fails_in_a_round_and_says_so(marsh: Marsh, tmp_path: Path) -> None:
    told: list[str] = []
    rounds = 0

    async def sleep(seconds: float) -> None:
        nonlocal rounds
        rounds += 1
        await asyncio.sleep(0)

    patch = pytest.MonkeyPatch()

    def failing(*arguments: object) -> object:
        if rounds < 4:
            raise (
                LedgerError("the ledger cannot be used")
                if rounds % 2
                else KeyError("nobody thought of this")
            )
        patch.undo()
        return marsh.ledger.listing.jobs()

    async def go() -> None:
        writer = LedgerWriter(lambda: open_ledger(marsh.workspace))
        collector = Collector(marsh.workspace, marsh, writer=writer)
        done = asyncio.Event()
        hooks = ServeHooks(lambda listen: None, lambda outcome: done.set(), told.append)
        listener = CallbackListener(
            marsh.workspace, writer, collector, hooks, time=Time(sleep=sleep)
        )
        await writer.perform(lambda ledger: patch.setattr(ledger.listing, "jobs", failing))
        asking = asyncio.create_task(listener.rounds())
        await asyncio.wait_for(done.wait(), 20)
        asking.cancel()
        writer.close()

    asyncio.run(go())
    assert len(told) == 3 and "LedgerError" in told[0] and "KeyError" in told[1]
    assert (tmp_path / "out" / "note.txt").read_text() == "tide\n"


def test_what_is_called_for_while_its_sender_is_still_at_it_is_written_out_when_that_ends(
    marsh: Marsh, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    looks: list[float] = []
    sender_ends = asyncio.Event()

    async def sleep(seconds: float) -> None:
        looks.append(seconds)
        if len(looks) == 3:
            sender_ends.set()
        await asyncio.sleep(0)

    async def go() -> None:
        writer = LedgerWriter(lambda: open_ledger(marsh.workspace))
        done = asyncio.Event()
        hooks = ServeHooks(lambda listen: None, lambda outcome: done.set())
        collector = Collector(marsh.workspace, marsh, writer=writer)
        listener = CallbackListener(
            marsh.workspace, writer, collector, hooks, time=Time(sleep=sleep)
        )
        await writer.perform(
            lambda ledger: monkeypatch.setattr(
                ledger.jobs, "is_another_process_at", lambda job: not sender_ends.is_set()
            )
        )
        assert await called(listener, "/calls/a-token", GOOD, signed(GOOD)) == 204
        await asyncio.wait_for(done.wait(), 20)
        writer.close()

    asyncio.run(go())
    assert len(looks) >= 3 and (tmp_path / "out" / "note.txt").read_text() == "tide\n"


def test_a_secret_that_is_no_base64_makes_no_call_genuine() -> None:
    assert not is_genuine(Secret("whsec_not base64!"), signed(GOOD), GOOD, time.time())
    assert is_genuine(Secret(SECRET), signed(GOOD), GOOD, time.time())
