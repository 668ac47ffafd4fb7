"""Speaking to engines step by step: tokens, jobs that are asked about, programs and objects."""

import asyncio
import json
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from engines.cards import workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import ScriptedTransport
from mantisreed.engines.asking import client_for, wait_for_reply
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineClient, EngineResponse, Ticket
from mantisreed.engines.http_client import ClientOptions
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.errors import (
    BadRequestError,
    EngineBrokeError,
    InputError,
    JobFailedError,
    JobLostError,
    RefusedError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.secrets import Secret

PIECE = Piece(b"sound", FORMATS["wav"], 16_000, 1, 10.0)
SECRETS = {"key": Secret("hush")}
DIVER = """
[engine.diver]
url = "http://pool.example/{pool}"
secrets.key = "env:K"
values.pool = "east-side"
values.badge = "badge of {key}"
token = { url = "http://gate.example/t", client = "c", secret = "{key}" }
every = { bearer = "{token}", query = { v = "2" } }
steps.upload = { url = "http://store.example/up", raw = "{audio}", method = "PUT", take.at = "header:location" }
steps.start = { path = "/jobs", json = { at = "{at}", tongue = "{language}", n = "{channels}" }, take.id = "job.id" }
reply.text = "text"

[engine.diver.steps.ask]
path = "/jobs/{id}"
state = "state"
waiting = ["wet"]
done = ["dry"]
failed = ["gone"]
reason = "why"
interval = "1 s"
max_interval = "4 s"
limit = "60 s"
"""  # noqa: E501


def card_of(folder: Path, toml: str = DIVER, old: str = "", new: str = "") -> EngineCard:
    assert old in toml
    return workspace_of(folder, toml.replace(old, new, 1)).engine(None)


def answered(document: object = None, status: int = 200, **headers: str) -> HttpAnswer:
    return HttpAnswer(status, headers, b"" if document is None else json.dumps(document).encode())


class Pool:
    """Answers as `diver` does; states are given one after the other."""

    def __init__(self, *states: str, refuse_first: bool = False) -> None:
        self.states = list(states)
        self.refusals = 1 if refuse_first else 0
        self.tokens = 0

    def __call__(self, request: HttpRequest) -> HttpAnswer:
        if request.step == "token":
            self.tokens += 1
            return answered({"access_token": f"t{self.tokens}", "expires_in": 100})
        if request.step == "upload":
            return answered(None, 201, Location="spot 7")
        if request.step == "start" and self.refusals:
            self.refusals -= 1
            return answered(None, 401)
        if request.step == "start":
            return answered({"job": {"id": "a/b c"}}, 202)
        return answered({"state": self.states.pop(0), "why": "mud with hush in it", "text": "Tea?"})


class Clock:
    def __init__(self) -> None:
        self.now = 0.0
        self.waits: list[float] = []

    async def sleep(self, seconds: float) -> None:
        self.waits.append(seconds)
        self.now += seconds


def ask(
    card: EngineCard, script: Callable[[HttpRequest], HttpAnswer]
) -> tuple[EngineResponse, list[HttpRequest], Clock]:
    transport, clock = ScriptedTransport(script), Clock()

    async def go() -> EngineResponse:
        client = client_for(card, SECRETS, transport, ClientOptions(lambda: clock.now, clock.sleep))
        taken = await client.submit(PIECE, RequestOptions("en"))
        if isinstance(taken, EngineResponse):
            return taken
        assert "hush" not in str(taken.values) and "token" not in taken.values
        return await wait_for_reply(client, card, taken, clock=lambda: clock.now, sleep=clock.sleep)

    return asyncio.run(go()), transport.asked, clock


def test_steps_follow_one_another_and_take_what_they_need(tmp_path: Path) -> None:
    reply, asked, _ = ask(card_of(tmp_path), Pool("wet", "dry"))
    assert [request.step for request in asked] == ["token", "upload", "start", "ask", "ask"]
    token, upload, start, question, _ = asked
    assert token.body == b"grant_type=client_credentials" and (
        token.header("Authorization") or ""
    ).startswith("Basic ")
    assert (upload.method, upload.url, upload.body) == ("PUT", "http://store.example/up", b"sound")
    assert json.loads(start.body or b"") == {"at": "spot 7", "tongue": "en", "n": 1}
    assert start.url == "http://pool.example/east-side/jobs?v=2"
    assert question.url.endswith("/jobs/a/b%20c?v=2") and question.headers == (
        ("Authorization", "Bearer t1"),
    )
    assert json.loads(reply.body or b"")["text"] == "Tea?"


@pytest.mark.parametrize(
    ("condition", "made"),
    [
        ("audio_size > `3`", True),
        ("audio_size > `3000`", False),
        ("callback", False),
        ("language == 'en'", True),
    ],
)
def test_a_step_is_skipped_where_its_condition_does_not_hold(
    tmp_path: Path, condition: str, made: bool
) -> None:
    step = (
        f'steps.note = {{ path = "/note", json.ring = "5", when = "{condition}" }}\nsteps.start ='
    )
    pool = Pool("dry")
    card = card_of(tmp_path, old="steps.start =", new=step)
    _, asked, _ = ask(
        card, lambda request: answered({}) if request.step == "note" else pool(request)
    )
    assert ("note" in [request.step for request in asked]) == made


def test_keys_go_to_no_other_host(tmp_path: Path) -> None:
    _, asked, _ = ask(card_of(tmp_path), Pool("dry"))
    upload = next(request for request in asked if request.step == "upload")
    assert [name for name, _ in upload.headers] == ["Content-Type"] and "?" not in upload.url


def test_questions_come_soon_at_first_then_ever_more_slowly(tmp_path: Path) -> None:
    _, _, clock = ask(card_of(tmp_path), Pool(*["wet"] * 6, "dry"))
    assert clock.waits == [1.0, 1.5, 2.25, 3.375, 4.0, 4.0, 4.0]


def test_a_token_is_renewed_before_it_ends_and_when_it_is_refused(tmp_path: Path) -> None:
    pool = Pool(*["wet"] * 14, "dry")
    ask(card_of(tmp_path, DIVER, '"60 s"', '"600 s"'), pool)
    assert pool.tokens == 1
    pool = Pool(*["wet"] * 30, "dry")
    ask(card_of(tmp_path, DIVER, '"60 s"', '"600 s"'), pool)
    assert pool.tokens == 2
    pool = Pool("dry", refuse_first=True)
    ask(card_of(tmp_path), pool)
    assert pool.tokens == 2


def test_a_key_that_stays_refused_is_told(tmp_path: Path) -> None:
    pool = Pool("dry")
    pool.refusals = 5
    with pytest.raises(RefusedError) as caught:
        ask(card_of(tmp_path), pool)
    assert pool.tokens == 2 and caught.value.advice == "check the secret in env:K"


def test_a_failed_job_is_told_in_the_engines_words(tmp_path: Path) -> None:
    with pytest.raises(JobFailedError, match=r"state 'gone'\), saying: mud with \*\*\* in it"):
        ask(card_of(tmp_path), Pool("wet", "gone"))


def test_a_job_that_never_ends_is_given_up(tmp_path: Path) -> None:
    with pytest.raises(JobLostError, match="did not end within 60 s"):
        ask(card_of(tmp_path), Pool(*["wet"] * 100))


def test_a_state_that_the_card_does_not_know_is_told(tmp_path: Path) -> None:
    with pytest.raises(UnreadableReplyError, match="finds 'soaked', which its card does not list"):
        ask(card_of(tmp_path), Pool("soaked"))


@pytest.mark.parametrize(
    ("table", "body", "kind"),
    [
        ("engine_broke.statuses = [200]", {"text": "x"}, EngineBrokeError),
        ('refused.texts = ["closed account"]', {"text": "closed account"}, RefusedError),
        ('when = "fault"\nmessage = "fault.note"', {"fault": {"note": "no tide"}}, BadRequestError),
    ],
)
def test_errors_are_known_by_the_cards_own_signs(
    tmp_path: Path, table: str, body: object, kind: type[Exception]
) -> None:
    toml = 'url = "http://a.example"\nsend.raw = "{audio}"\nreply.text = "text"\n'
    card = card_of(tmp_path, f"[engine.signs]\n{toml}[engine.signs.errors]\n{table}\n")
    with pytest.raises(kind) as caught:
        ask(card, lambda request: answered(body))
    assert "fault" not in table or "saying: no tide" in str(caught.value)


def program(folder: Path, *arguments: str, more: str = "") -> EngineCard:
    run = json.dumps([sys.executable, "-c", *arguments])
    return card_of(
        folder, f'[engine.p]\nreply.format = "text"\n[engine.p.command]\nrun = {run}\n{more}'
    )


def heard(client: EngineClient) -> bytes | None:
    found = asyncio.run(client.submit(PIECE, RequestOptions(hints=("dunlin", "knot"))))
    assert isinstance(found, EngineResponse)
    return found.body


def test_a_program_gets_the_sound_and_its_environment(tmp_path: Path) -> None:
    show = "import sys, os; print(open(sys.argv[1], 'rb').read(), sys.argv[2:], os.environ['PASS'])"
    more = 'environment.PASS = "{key}"\n[engine.p.secrets]\nkey = "env:K"\n'
    card = program(tmp_path, show, "{audio_file}", "{hints}", "{language}", more=more)
    assert (
        heard(client_for(card, SECRETS, ScriptedTransport(Pool())))
        == b"b'sound' ['dunlin, knot'] hush\n"
    )


def test_a_program_that_hangs_is_stopped_with_all_that_it_started(tmp_path: Path) -> None:
    marker = tmp_path / "still-here"
    child = f"import time, pathlib; time.sleep(1.5); pathlib.Path({str(marker)!r}).touch()"
    parent = (
        f"import subprocess, sys, time; subprocess.Popen([sys.executable, '-c', {child!r}]); "
        "time.sleep(60)"
    )
    card = program(tmp_path, parent, "{audio_file}", more='timeout = "500 ms"\n')
    with pytest.raises(UnreachableError, match=r"did not end within 0\.5 s"):
        heard(client_for(card, {}, ScriptedTransport(Pool())))
    time.sleep(1.8)
    assert not marker.exists()


def test_a_program_without_its_reply_file_is_told(tmp_path: Path) -> None:
    with pytest.raises(UnreadableReplyError, match="left no reply file"):
        heard(
            client_for(
                program(tmp_path, "pass", "{audio_file}", "{reply_file}", more='reply = "file"\n'),
                {},
                ScriptedTransport(Pool()),
            )
        )


def test_a_program_that_writes_without_end_is_stopped_while_it_is_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mantisreed.engines.local_client.LARGEST_REPLY", 1_000_000)
    with pytest.raises(UnreadableReplyError, match="wrote more than") as caught:
        heard(
            client_for(
                program(tmp_path, "while True: print('tide' * 1000)", "{audio_file}"),
                {},
                ScriptedTransport(Pool()),
            )
        )
    assert not caught.value.is_whole and caught.value.body


LOON = """
import sys, time
class Loon:
    def hear(self, audio, **about):
        print("a word that is nobody's business")
        if about["language"] == "xx":
            raise ValueError("no such tongue")
        if about["language"] == "zz":
            time.sleep(60)
        if about["language"] == "qq":
            sys.exit(3)
        return {"got": audio.decode(), "hints": about["hints"]}
"""


@pytest.fixture
def loon(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> EngineClient:
    """A client of an object of a user's own, in a module of a user's own."""
    (tmp_path / "marsh_loon.py").write_text(LOON)
    monkeypatch.syspath_prepend(tmp_path)
    toml = 'python = { object = "marsh_loon:Loon", timeout = "700 ms" }\nreply.text = "got"\n'
    return client_for(card_of(tmp_path, f"[engine.loon]\n{toml}"), {}, ScriptedTransport(Pool()))


def test_an_object_is_called_and_its_errors_are_told(loon: EngineClient, tmp_path: Path) -> None:
    assert json.loads(heard(loon) or b"") == {"got": "sound", "hints": ["dunlin", "knot"]}
    for language, error in (
        ("xx", "raised ValueError: no such tongue"),
        ("qq", "raised SystemExit: 3"),
    ):
        with pytest.raises(EngineBrokeError, match=error):
            asyncio.run(loon.submit(PIECE, RequestOptions(language)))
    with pytest.raises(InputError, match="cannot be loaded"):
        card = card_of(tmp_path, '[engine.x]\npython.object = "no.such:Thing"\nreply.text = "a"\n')
        asyncio.run(client_for(card, {}, ScriptedTransport(Pool())).make_ready())


def test_an_object_that_hangs_is_stopped_and_the_next_piece_gets_another_process(
    loon: EngineClient,
) -> None:
    with pytest.raises(UnreachableError, match=r"did not answer within 0\.7 s") as caught:
        asyncio.run(loon.submit(PIECE, RequestOptions("zz")))
    assert caught.value.was_sent
    assert heard(loon) is not None


def waits_for(file: Path) -> str:
    return (
        "import time\nfrom pathlib import Path\n"
        "def wait():\n"
        "    until = time.monotonic() + 20\n"
        f"    while not Path({str(file)!r}).exists():\n"
        "        assert time.monotonic() < until, 'nobody else could work meanwhile'\n"
        "        time.sleep(0.01)\n"
    )


@pytest.mark.parametrize("slow", ["loading", "hearing"])
def test_a_slow_object_stops_nothing_else(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, slow: str
) -> None:
    sign = tmp_path / "go-on"
    (tmp_path / f"marsh_{slow}.py").write_text(
        waits_for(sign)
        + ("wait()\n" if slow == "loading" else "")
        + "class Diver:\n    def hear(self, audio, **about):\n"
        + ("        wait()\n" if slow == "hearing" else "")
        + "        return 'dunlin'\n"
    )
    monkeypatch.syspath_prepend(tmp_path)
    toml = f'python.object = "marsh_{slow}:Diver"\nreply.format = "text"\n'
    client = client_for(card_of(tmp_path, f"[engine.diver]\n{toml}"), {}, ScriptedTransport(Pool()))

    async def work() -> EngineResponse | Ticket:
        # With a single thread for everything else, an object that had it would wait for ever.
        asyncio.get_running_loop().set_default_executor(ThreadPoolExecutor(1))

        async def hear() -> EngineResponse | Ticket:
            await client.make_ready()
            return await client.submit(PIECE, RequestOptions("en"))

        hearing = asyncio.create_task(hear())
        await asyncio.sleep(0.05)
        await asyncio.to_thread(sign.touch)
        return await hearing

    answered = asyncio.run(work())
    assert isinstance(answered, EngineResponse) and answered.body == b"dunlin"


def test_a_ticket_is_plain_values_that_can_be_kept(tmp_path: Path) -> None:
    client = client_for(card_of(tmp_path), SECRETS, ScriptedTransport(Pool()))
    ticket = asyncio.run(client.submit(PIECE, RequestOptions()))
    assert (
        isinstance(ticket, Ticket)
        and json.loads(json.dumps(dict(ticket.values)))["values"]["id"] == "a/b c"
    )
