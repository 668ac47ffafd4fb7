"""Answers that make no sense: one clear line, the answer kept, nothing sent again."""

import asyncio
import json
from collections.abc import Callable
from pathlib import Path

import pytest

from engines.cards import workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import ScriptedTransport
from mantisreed.engines.asking import client_for, reading_of, wait_for_reply
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.http_client import ClientOptions
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.errors import EngineError, SettingsError, UnreadableReplyError

PIECE = Piece(bytes(1000), FORMATS["wav"], 16_000, 1, 10.0, ((0.0, 10.0),))
HEAD = """
[engine.smew]
url = "http://smew.marsh.example/api"
"""
JOB = f"""{HEAD}
steps.start = {{ path = "/jobs", raw = "{{audio}}", take.job = "id" }}
reply.words = {{ each = "words", text = "w", start = "from", end = "to" }}
"""
PAGES = f"""{JOB}
[engine.smew.steps.fetch]
path = "/jobs/{{job}}"
pages = {{ next_url = "next", limit = 5 }}
"""
CHUNKS = f"""{HEAD}
reply.text = "text"
[engine.smew.steps.put]
path = "/up"
method = "PUT"
raw = "{{chunk}}"
headers.Content-Range = "bytes {{chunk_start}}-{{chunk_end}}/{{audio_size}}"
ok_statuses = [308]
chunks = {{ size = 400, received = "header:Range" }}
[engine.smew.steps.start]
path = "/jobs"
method = "POST"
"""


def asked(
    folder: Path, toml: str, script: Callable[[HttpRequest], HttpAnswer]
) -> tuple[EngineResponse, list[str]]:
    card = workspace_of(folder, toml).engine(None)
    transport = ScriptedTransport(script)

    async def sleep(seconds: float) -> None:
        await asyncio.sleep(0)

    async def go() -> EngineResponse:
        client = client_for(card, {}, transport, ClientOptions(lambda: 0.0, sleep))
        taken = await client.submit(PIECE, RequestOptions("en"))
        if isinstance(taken, EngineResponse):
            return taken
        return await wait_for_reply(client, card, taken, clock=lambda: 0.0, sleep=sleep)

    try:
        return asyncio.run(go()), [
            request.url.removeprefix("http://smew.marsh.example") for request in transport.asked
        ]
    except EngineError as error:
        error.add_note(" ".join(request.step for request in transport.asked))
        raise


def page(number: int, following: object) -> HttpAnswer:
    word = {"w": f"word{number}", "from": number, "to": number + 0.5}
    return HttpAnswer(200, {}, json.dumps({"words": [word], "next": following}).encode())


def test_pages_are_read_as_one_reply(tmp_path: Path) -> None:
    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "POST":
            return HttpAnswer(200, {}, b'{"id": "j"}')
        number = int(request.url.partition("=")[2] or 0)
        return page(number, f"?from={number + 1}" if number < 3 else None)

    came, urls = asked(tmp_path, PAGES, script)
    read = reading_of(workspace_of(tmp_path, PAGES).engine(None), came, PIECE, {})
    assert [word.text for passage in read.passages for word in passage.words] == [
        f"word{n}" for n in range(4)
    ]
    assert urls == [
        "/api/jobs",
        "/api/jobs/j",
        "/api/jobs/j?from=1",
        "/api/jobs/j?from=2",
        "/api/jobs/j?from=3",
    ]


@pytest.mark.parametrize(
    ("link", "told"),
    [
        ("/api/jobs/j?again", "points to a page that was read already"),
        ("/api/jobs/j?n={n}", "there are more than 5 pages"),
        ("http://[no", "the link to the next page cannot be used"),
    ],
)
def test_pages_without_end_are_given_up_and_the_work_is_not_done_again(
    tmp_path: Path, link: str, told: str
) -> None:
    count = 0

    def script(request: HttpRequest) -> HttpAnswer:
        nonlocal count
        count += 1
        return (
            HttpAnswer(200, {}, b'{"id": "j"}')
            if request.method == "POST"
            else page(count, link.format(n=count))
        )

    with pytest.raises(UnreadableReplyError, match=told) as error:
        asked(tmp_path, PAGES, script)
    assert error.value.body and error.value.__notes__[0].split().count("start") == 1


@pytest.mark.parametrize("received", ["bytes=0-99999", "bytes=0-5", "0"])
def test_a_count_of_bytes_that_makes_no_sense_is_told(tmp_path: Path, received: str) -> None:
    def script(request: HttpRequest) -> HttpAnswer:
        first = (request.header("Content-Range") or "").startswith("bytes 0-")
        return HttpAnswer(308, {"Range": "bytes=0-399" if first else received}, b"")

    with pytest.raises(UnreadableReplyError, match="it has received") as error:
        asked(tmp_path, CHUNKS, script)
    assert error.value.before_work and "start" not in error.value.__notes__[0].split()


@pytest.mark.parametrize(
    ("toml", "told"),
    [
        (
            f'{HEAD}send.raw = "{{audio}}"\nsend.form.a = "{{audio}}"\nreply.text = "t"',
            "only one of the keys",
        ),
        (f'{HEAD}send.path = "/x"\nreply.text = "t"', "no step sends the audio"),
        (
            f'{HEAD}send = {{ raw = "{{audio}}" }}\nsteps.a.raw = "{{audio}}"\nreply.text = "t"',
            "send",
        ),
        (
            f'{HEAD}steps.a = {{ raw = "{{audio}}", path = "/{{job}}" }}\nreply.text = "t"',
            "unknown placeholder",
        ),
        (
            f'{HEAD}values.a = "{{b}}"\nvalues.b = "{{a}}"\nsend.raw = "{{audio}}"\nreply.text = "t"',  # noqa: E501
            "unknown",
        ),
        (
            f'{HEAD}send.raw = "{{audio}}"\nsend.state = "x"\nsend.done = [1]\nreply.text = "t"',
            "step",
        ),
        (f'{JOB}\nsteps.ask = {{ path = "/{{job}}", state = "s" }}', "done"),
        (f'{JOB}\nsteps.more = {{ raw = "{{audio}}" }}', "the audio is sent already"),
        (
            f'{HEAD}send.raw = "{{audio}}"\nreply.format = "text"\nreply.words.text = "w"',
            "is not read with format",
        ),
        (f'{HEAD}send.raw = "{{audio}}"\nreply.text = "t"\nreply.times = "ms"', "has no effect"),
        (
            f'{HEAD}send.raw = "{{audio}}"\nreply.format = "yaml"',
            "'json', 'lines', 'events', 'xml'",
        ),
        (f'{HEAD}send.raw = "{{audio_file}}"\nreply.text = "t"', "unknown placeholder"),
    ],
)
def test_a_card_that_contradicts_itself_is_refused_in_a_line(
    tmp_path: Path, toml: str, told: str
) -> None:
    with pytest.raises(SettingsError) as error:
        workspace_of(tmp_path, toml)
    said = f"{error.value} {error.value.advice or ''}"
    assert told in said and "[engine.smew" in said and "\n" not in str(error.value)


BOMB = b'<!DOCTYPE a [<!ENTITY b "bbbb">]><r><w from="0" to="1">&b;</w></r>'


@pytest.mark.parametrize("body", [BOMB, b"<r><w>", b"<r>" * 2000, b'{"words": [' + b"[" * 100_000])
def test_documents_that_bite_are_refused(tmp_path: Path, body: bytes) -> None:
    form = "xml" if body.startswith(b"<") else "json"
    toml = f'{HEAD}send.raw = "{{audio}}"\nreply.format = "{form}"\nreply.words = {{ each = "r.w", text = "text" }}'  # noqa: E501
    card = workspace_of(tmp_path, toml).engine(None)
    with pytest.raises(UnreadableReplyError) as error:
        reading_of(card, EngineResponse(body), PIECE, {})
    assert error.value.body == body
