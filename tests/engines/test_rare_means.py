"""Means that few services use: scales, offsets, archives, limits that are told, digest, ETags."""

import asyncio
import hashlib
import hmac
import io
import json
import zipfile
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import cbor2
import msgspec
import pytest
from aiohttp import web

from cards.test_bad_answers import HEAD, PIECE, asked
from engines.cards import workspace_of
from engines.test_reply_kinds import read
from jobs import test_dispatch
from jobs.test_dispatch import Weir
from mantisreed.cards.answers import _until_renewed, seconds_until_more
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import HttpTransport, ScriptedTransport
from mantisreed.engines.asking import client_for
from mantisreed.engines.reading.unpacking import UnexpectedReplyError, unpacked_files
from mantisreed.engines.request import RequestOptions
from mantisreed.errors import SettingsError, TooSlowError


@pytest.mark.parametrize(
    ("scale", "found", "share"),
    [("[0, 1000]", 250, 0.25), ("[5, 1]", 2, 0.75), ('"percent"', 40, 0.4), ("[-1, 1]", 0, 0.5)],
)
def test_confidence_is_read_on_any_scale(
    tmp_path: Path, scale: str, found: float, share: float
) -> None:
    reply = (
        f"reply.confidence_scale = {scale}\n"
        'reply.words = { each = "w", text = "t", start = "s", end = "e", confidence = "c" }'
    )
    (passage,) = read(tmp_path, reply, {"w": [{"t": "tern", "s": 1, "e": 2, "c": found}]}).passages
    assert passage.words[0].confidence == pytest.approx(share)


def test_a_scale_that_is_none_is_refused(tmp_path: Path) -> None:
    with pytest.raises(SettingsError, match="the two ends of the scale"):
        read(tmp_path, 'reply.text = "t"\nreply.confidence_scale = [3, 3]', b"{}")


def test_lengths_have_a_unit_of_their_own(tmp_path: Path) -> None:
    reply = (
        'reply.words = { each = "w", text = "t", start = "s", length = "d", length_times = "ms" }'
    )
    (passage,) = read(tmp_path, reply, {"w": [{"t": "tern", "s": 1.5, "d": 400}]}).passages
    assert (passage.words[0].start, passage.words[0].end) == (1.5, 1.9)


@pytest.mark.parametrize("end", ["text_to", "text_length"])
def test_words_are_parts_of_a_text(tmp_path: Path, end: str) -> None:
    reply = (
        'reply.text = "said"\nreply.words = { each = "w", text_from = "a", '
        f'{end} = "b", start = "s", end = "e" }}'
    )
    said = "Eleven terns."
    places = ((0, 6), (7, 12)) if end == "text_to" else ((0, 6), (7, 5))
    words = [
        {"a": first, "b": last, "s": number, "e": number + 0.5}
        for number, (first, last) in enumerate(places, 1)
    ]
    (passage,) = read(tmp_path, reply, {"said": said, "w": words}).passages
    assert [word.text for word in passage.words] == ["Eleven", "terns"]
    with pytest.raises(UnexpectedReplyError, match="in a text of 13 characters"):
        read(tmp_path, reply, {"said": said, "w": [{"a": 9, "b": 99, "s": 1, "e": 2}]})


@pytest.mark.parametrize("form", ["msgpack", "cbor"])
def test_binary_documents_are_read_as_json_is(tmp_path: Path, form: str) -> None:
    document = {"w": [{"t": "tern", "s": 1, "e": 2}]}
    body = cbor2.dumps(document) if form == "cbor" else msgspec.msgpack.encode(document)
    reply = (
        f'reply.format = "{form}"\n'
        'reply.words = { each = "w", text = "t", start = "s", end = "e" }'
    )
    assert read(tmp_path, reply, body).passages[0].text == "tern"
    with pytest.raises(UnexpectedReplyError, match="it is not"):
        read(tmp_path, reply, b"\xc1\xff")


def test_several_files_of_an_archive_are_one_reply_in_order(tmp_path: Path) -> None:
    kept = io.BytesIO()
    with zipfile.ZipFile(kept, "w") as archive:
        for number in (10, 2, 1):
            archive.writestr(f"part-{number}.json", json.dumps({"t": f"word{number}"}))
        archive.writestr("readme.txt", "no")
    reply = 'reply.file = "*.json"\nreply.text = "t"'
    found = read(tmp_path, reply, kept.getvalue()).passages
    assert " ".join(passage.text for passage in found) == "word1 word2 word10"


MULTIPART = (
    b'--x7\r\nContent-Type: application/json\r\n\r\n{"t": "tern"}\r\n'
    b"--x7\r\nContent-Type: audio/flac\r\n\r\nfLaC\r\n--x7--\r\n"
)


def test_a_multipart_answer_is_the_part_that_is_text(tmp_path: Path) -> None:
    assert unpacked_files(MULTIPART) == [b'{"t": "tern"}']
    assert unpacked_files(MULTIPART, "audio/*") == [b"fLaC"]
    for body, told in ((MULTIPART[:70], "breaks off"), (MULTIPART, "no part 'x' is in it")):
        with pytest.raises(UnexpectedReplyError, match=told):
            unpacked_files(body, "x")


@pytest.mark.parametrize(
    ("headers", "seconds"),
    [
        ({"RateLimit-Remaining": "0", "RateLimit-Reset": "7"}, 7.0),
        ({"X-RateLimit-Remaining": "0", "X-RateLimit-Reset": "9"}, 9.0),
        ({"RateLimit": "limit=10, remaining=0, reset=5"}, 5.0),
        ({"RateLimit-Remaining": "3", "RateLimit-Reset": "7"}, None),
        ({"RateLimit-Remaining": "0"}, None),
        ({"RateLimit-Remaining": "none", "RateLimit-Reset": "7"}, None),
    ],
)
def test_limits_are_read_before_they_are_passed(
    headers: dict[str, str], seconds: float | None
) -> None:
    assert seconds_until_more(HttpAnswer(200, headers)) == seconds


@pytest.mark.parametrize(
    ("renewed", "end"),
    [("hour", (2026, 12, 31, 23)), ("day", (2027, 1, 1, 0)), ("month", (2027, 1, 1, 0))],
)
def test_a_quota_is_renewed_with_the_next_hour_day_or_month(
    renewed: str, end: tuple[int, int, int, int]
) -> None:
    now = datetime(2026, 12, 31, 22, 15, 30, tzinfo=UTC).timestamp()
    assert now + _until_renewed(renewed, now) == datetime(*end, tzinfo=UTC).timestamp()


def test_a_long_piece_that_is_late_twice_is_cut_smaller(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(test_dispatch, "PIECE", replace(test_dispatch.PIECE, duration=300.0))
    weir = Weir(tmp_path)
    weir.to_sending = [HttpAnswer(504, {}, b"")] * 9
    with pytest.raises(TooSlowError) as told:
        weir.reply()
    assert weir.sent == 2 and "--piece-length" in (told.value.advice or "")
    weir.mend("reply.text", "accepts.cut_when_late = false\nreply.text")
    with pytest.raises(Exception, match="HTTP 504") as other:
        weir.reply(afresh=True)
    assert not isinstance(other.value, TooSlowError)


def test_a_job_that_is_unchanged_is_still_waiting(tmp_path: Path) -> None:
    toml = (
        f'{HEAD}reply.text = "t"\nsteps.start = {{ path = "/jobs", raw = "{{audio}}", '
        'take.job = "id" }\nsteps.ask = { path = "/jobs/{job}", state = "is", waiting = ["wet"], '
        'done = ["dry"], headers.If-None-Match = "{etag}" }\n'
    )
    tags: list[str | None] = []

    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "POST":
            return HttpAnswer(200, {}, b'{"id": "j"}')
        tags.append(request.header("if-none-match"))
        if len(tags) == 1:
            return HttpAnswer(200, {"ETag": '"a1"'}, b'{"is": "wet"}')
        if len(tags) == 2:
            return HttpAnswer(304, {}, b"")
        return HttpAnswer(200, {}, b'{"is": "dry", "t": "tern"}')

    came, _ = asked(tmp_path, toml, script)
    assert came.body == b'{"is": "dry", "t": "tern"}' and tags == [None, '"a1"', '"a1"']


def test_a_challenge_is_answered_by_digest() -> None:
    seen: list[str] = []

    async def handle(request: web.Request) -> web.Response:
        body = await request.read()
        proof = request.headers.get("Authorization", "")
        seen.append(proof)
        if not proof.startswith("Digest "):
            challenge = 'Digest realm="marsh", nonce="n1", qop="auth", algorithm=SHA-256'
            return web.Response(status=401, headers={"WWW-Authenticate": challenge})
        return web.json_response({"t": len(body)})

    async def go() -> HttpAnswer:
        application = web.Application()
        application.router.add_post("/listen", handle)
        runner = web.AppRunner(application)
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", 0)
        await site.start()
        port = runner.addresses[0][1]
        request = HttpRequest(
            "smew",
            "send",
            "POST",
            f"http://127.0.0.1:{port}/listen",
            body=b"sound",
            digest=("Ada", "reed"),
        )
        try:
            async with HttpTransport() as transport:
                return await transport.exchange(request)
        finally:
            await runner.cleanup()

    answer = asyncio.run(go())
    assert answer.body == b'{"t": 5}'
    assert seen[0] == "" and 'username="Ada"' in seen[1] and "reed" not in seen[1]


def test_a_request_is_signed_over_all_its_headers_by_a_derived_key(tmp_path: Path) -> None:
    toml = HEAD + (
        'values.key = "hush"\n'
        'sign.day = { key = "RUFF{key}", text = "{now|time:%Y%m%d}", encoding = "raw" }\n'
        'sign.shore = { key = "{day}", text = "north", encoding = "raw" }\n'
        'sign.seal = { key = "{shore}", encoding = "hex", text = """{method}\n{path}\n'
        '{query|sort:&}\n{headers}\n{header_names}\n{body|sha256|hex}""" }\n'
        'every.headers = { Authorization = "Ruff {header_names} {seal}", '
        'X-Moment = "{now|iso8601_basic}", X-Note = "two  blanks" }\n'
        'send = { path = "/hear", query = { z = "1", a = "b c" }, raw = "{audio}", '
        'headers.Content-Type = "audio/flac" }\nreply.text = "text"\n'
    )

    def script(request: HttpRequest) -> HttpAnswer:
        moment = request.header("x-moment") or ""
        assert (request.header("X-Note"), moment[8]) == ("two  blanks", "T")
        key = b"RUFFhush"
        for text in (moment[:8], "north"):
            key = hmac.digest(key, text.encode(), "sha256")
        names = "content-type;host;x-moment;x-note"
        headers = ["audio/flac", "smew.marsh.example", moment, "two blanks"]
        lines = [f"{name}:{value}" for name, value in zip(names.split(";"), headers, strict=True)]
        body = hashlib.sha256(request.body or b"").hexdigest()
        text = "\n".join(["POST", "/api/hear", "a=b%20c&z=1", *lines, names, body])
        seal = hmac.digest(key, text.encode(), "sha256").hex()
        assert request.header("authorization") == f"Ruff {names} {seal}"
        return HttpAnswer(200, {}, b'{"text": "Eleven terns."}')

    asked(tmp_path, toml, script)


def test_what_a_request_does_not_have_is_empty_in_what_is_signed(tmp_path: Path) -> None:
    toml = HEAD + (
        'values.key = "hush"\nsign.seal = { key = "{key}", text = "{path}\\n{query|sort:&}\\n" }\n'
        'send = { path = "/hear", raw = "{audio}", headers.X-Seal = "{seal}" }\n'
        'reply.text = "text"\n'
    )

    def script(request: HttpRequest) -> HttpAnswer:
        seal = hmac.digest(b"hush", b"/api/hear\n\n", "sha256").hex()
        assert request.header("x-seal") == seal
        return HttpAnswer(200, {}, b'{"text": "Eleven terns."}')

    asked(tmp_path, toml, script)


def test_values_are_made_of_what_a_step_took_and_are_hidden_with_it(tmp_path: Path) -> None:
    toml = HEAD + (
        'values.proof = "{ticket|sha256|hex}"\n'
        'steps.ticket = { path = "/tickets", method = "POST", '
        'take.ticket = { from = "ticket", secret = true } }\n'
        'steps.hear = { path = "/hear", raw = "{audio}", headers.X-Proof = "{proof}" }\n'
        'reply.text = "text"\n'
    )
    proof = hashlib.sha256(b"tide").hexdigest()

    def script(request: HttpRequest) -> HttpAnswer:
        if request.url.endswith("/hear"):
            assert request.header("x-proof") == proof
            assert proof in [secret.reveal() for secret in request.secrets]
        return HttpAnswer(200, {}, b'{"ticket": "tide", "text": "Eleven terns."}')

    asked(tmp_path, toml, script)
    early = toml.replace('"/tickets", ', '"/tickets", headers.X-Proof = "{proof}", ')
    with pytest.raises(SettingsError, match=r"unknown placeholder \{proof\}"):
        asked(tmp_path, early, script)


class Gate:
    """Gives a new refresh token with each token, and takes each for one time."""

    def __init__(self) -> None:
        self.good, self.logins = "first-refresh", 0

    def __call__(self, request: HttpRequest) -> HttpAnswer:
        if not request.url.endswith("/token"):
            assert (request.header("authorization") or "").startswith("Bearer pass-")
            return HttpAnswer(200, {}, b'{"text": "Eleven terns."}')
        if f"refresh_token={self.good}" not in (request.body or b"").decode():
            return HttpAnswer(400, {}, b'{"error": "that token was used before"}')
        self.logins += 1
        self.good = f"refresh-{self.logins}"
        tokens = {"access_token": f"pass-{self.logins}", "refresh_token": self.good}
        return HttpAnswer(200, {}, json.dumps(tokens).encode())


def test_a_refresh_token_that_is_replaced_is_kept_for_the_next_run_and_other_processes(
    tmp_path: Path,
) -> None:
    toml = HEAD + (
        'secrets.refresh = "file:refresh.token"\nevery.bearer = "{pass}"\n'
        'login = { path = "/token", take.pass = "access_token", '
        'urlencoded = { grant_type = "refresh_token", refresh_token = "{refresh}" }, '
        'replaces.refresh = "refresh_token" }\n'
        'send = { path = "/hear", raw = "{audio}" }\nreply.text = "text"\n'
    )
    file = tmp_path / "refresh.token"
    file.write_text("first-refresh\n")
    workspace = workspace_of(tmp_path, toml)
    card = workspace.engine(None)
    gate = Gate()
    # As several processes do that were started at one moment: each has read the first token.
    clients = [
        client_for(card, workspace.secrets_of(card), ScriptedTransport(gate)) for _ in range(4)
    ]

    async def go() -> None:
        await asyncio.gather(*(client.submit(PIECE, RequestOptions()) for client in clients))

    asyncio.run(go())
    assert gate.logins == 4 and file.read_text() == "refresh-4\n"
    assert file.stat().st_mode & 0o777 == 0o600
    later = client_for(card, workspace.secrets_of(card), ScriptedTransport(gate))
    asyncio.run(later.submit(PIECE, RequestOptions()))
    assert file.read_text() == "refresh-5\n"


def test_a_secret_that_is_replaced_needs_a_place_that_can_be_written(tmp_path: Path) -> None:
    toml = HEAD + (
        'secrets.refresh = "env:SMEW_REFRESH"\nevery.bearer = "{pass}"\n'
        'login = { path = "/token", take.pass = "p", replaces.refresh = "r" }\n'
        'send = { path = "/hear", raw = "{audio}" }\nreply.text = "text"\n'
    )
    with pytest.raises(SettingsError, match="where nothing can be written"):
        workspace_of(tmp_path, toml)
    with pytest.raises(SettingsError, match="there is no secret 'fresh'"):
        workspace_of(tmp_path, toml.replace("replaces.refresh", "replaces.fresh"))


@pytest.mark.parametrize(
    ("toml", "told"),
    [
        ('send.query.x = "{headers}"\nreply.text = "t"\n', r"\{headers\} is only known in headers"),
        (
            'every.query.x = "{header_names}"\nreply.text = "t"\n',
            r"\{header_names\} is only known in headers",
        ),
        ('reply = { text = "t", tracks.each = "c" }\n', "'tracks' has no effect without"),
        ('send.chunks = {}\nreply.text = "t"\n', "key 'size' is missing"),
        ('send.chunks.size = "{big}"\nreply.text = "t"\n', r"unknown placeholder \{big\}"),
        ('send.chunks.size = "{big} B"\nreply.text = "t"\n', "a size or one placeholder"),
    ],
)
def test_what_has_no_effect_is_refused(tmp_path: Path, toml: str, told: str) -> None:
    body = "chunk" if "chunks" in toml else "audio"
    with pytest.raises(SettingsError, match=told):
        workspace_of(tmp_path, f'{HEAD}send.raw = "{{{body}}}"\n{toml}')
