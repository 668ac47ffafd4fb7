"""Conversations over a WebSocket, also with services that break them off."""

import asyncio
import json
import logging
import time
from collections.abc import Awaitable, Callable, Iterator
from pathlib import Path

import pytest
from starlette.applications import Starlette
from starlette.routing import WebSocketRoute
from starlette.websockets import WebSocket

from engines.cards import workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.cards.wire.transport import HttpTransport
from mantisreed.engines.asking import client_for, reading_of
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.errors import EngineError, UnreachableError, UnreadableReplyError
from mantisreed.standin import server

CARD = """
[engine.curlew]
url = "{address}"
accepts.formats = ["pcm-s16le"]
send.timeout = "5 s"

[engine.curlew.send.websocket]
first = {{ hello = "{{language}}" }}
chunk = "500 ms"
last = "over"
partial = "kind == 'partial'"
partial_text = "text"
final = "kind == 'final'"
error = "kind == 'error'"
end = "kind == 'end'"

[engine.curlew.reply]
format = "lines"
words = {{ each = "@", text = "w", start = "from", end = "to" }}
"""
PIECE = Piece(bytes(64_000), FORMATS["pcm-s16le"], 16_000, 1, 2.0)
Talk = Callable[[WebSocket], Awaitable[None]]


@pytest.fixture
def talking() -> Iterator[Callable[[Talk], str]]:
    """Serves a talk; gives the address."""
    talks: list[Talk] = []

    async def talk(socket: WebSocket) -> None:
        await socket.accept()
        await talks[0](socket)

    def begin(wanted: Talk) -> str:
        talks.append(wanted)
        return address

    with (
        server.bound_socket(0) as waiting,
        server.serving(Starlette(routes=[WebSocketRoute("/", talk)]), waiting) as address,
    ):
        yield begin


async def listened(socket: WebSocket) -> list[object]:
    """All messages up to the last one."""
    messages: list[object] = []
    while not messages or messages[-1] != "over":
        message = await socket.receive()
        messages.append(message.get("bytes") or message.get("text"))
    return messages


def reply(folder: Path, address: str) -> EngineResponse:
    card = workspace_of(folder, CARD.format(address=address)).engine(None)

    async def go() -> EngineResponse:
        async with HttpTransport() as transport:
            taken = await client_for(card, {}, transport).submit(PIECE, RequestOptions("en"))
        assert isinstance(taken, EngineResponse)
        return taken

    return asyncio.run(go())


def test_the_sound_goes_out_in_chunks_and_partial_text_is_told(
    tmp_path: Path, talking: Callable[[Talk], str], caplog: pytest.LogCaptureFixture
) -> None:
    heard: list[object] = []

    async def talk(socket: WebSocket) -> None:
        heard.extend(await listened(socket))
        await socket.send_json({"kind": "partial", "text": "Nets"})
        await socket.send_json({"kind": "final", "w": "Nets", "from": 0.5, "to": 0.9})
        await socket.send_json({"kind": "note", "w": "no word"})
        await socket.send_json({"kind": "end"})

    caplog.set_level(logging.INFO, "mantisreed")
    came = reply(tmp_path, talking(talk))
    assert heard[0] == json.dumps({"hello": "en"}) and heard[-1] == "over"
    assert [len(chunk) for chunk in heard[1:-1] if isinstance(chunk, bytes)] == [16_000] * 4
    read = reading_of(
        workspace_of(tmp_path, CARD.format(address="http://marsh.example")).engine(None),
        came,
        PIECE,
        {},
    )
    assert [word.text for passage in read.passages for word in passage.words] == ["Nets"]
    assert "heard so far: Nets" in caplog.text


def test_the_sound_goes_out_as_fast_as_it_was_spoken_where_the_card_says_so(
    tmp_path: Path, talking: Callable[[Talk], str]
) -> None:
    taken: list[float] = []

    async def talk(socket: WebSocket) -> None:
        began = time.monotonic()
        await listened(socket)
        taken.append(time.monotonic() - began)
        await socket.send_json({"kind": "end"})

    address = talking(talk)
    card = workspace_of(
        tmp_path, CARD.format(address=address).replace("chunk =", "speed = 4.0\nchunk =")
    ).engine(None)

    async def go() -> None:
        async with HttpTransport() as transport:
            await client_for(card, {}, transport).submit(PIECE, RequestOptions("en"))

    asyncio.run(go())
    # Two seconds of sound, four times as fast, the first chunk at once.
    assert 0.35 <= taken[0] < 2.0


def test_what_was_said_before_it_broke_off_is_no_whole_reply(
    tmp_path: Path, talking: Callable[[Talk], str]
) -> None:
    async def talk(socket: WebSocket) -> None:
        await listened(socket)
        await socket.send_json({"kind": "final", "w": "Nets", "from": 0.5, "to": 0.9})
        await socket.close(1011)

    with pytest.raises(UnreachableError, match="before the conversation had ended") as told:
        reply(tmp_path, talking(talk))
    assert told.value.was_sent and "Nets" in str(told.value.answer)


def test_an_error_message_is_told_in_the_services_words(
    tmp_path: Path, talking: Callable[[Talk], str]
) -> None:
    async def talk(socket: WebSocket) -> None:
        await socket.send_json({"kind": "error", "text": "too loud"})
        await socket.close()

    with pytest.raises(EngineError, match="too loud"):
        reply(tmp_path, talking(talk))


def test_messages_without_end_are_given_up(
    tmp_path: Path, talking: Callable[[Talk], str], monkeypatch: pytest.MonkeyPatch
) -> None:
    async def talk(socket: WebSocket) -> None:
        for _ in range(200):
            await socket.send_json({"kind": "final", "w": "Nets" * 1000, "from": 0.5, "to": 0.9})
        # It must not close before all of that was read.
        while (await socket.receive())["type"] != "websocket.disconnect":
            pass

    address = talking(talk)
    card = workspace_of(tmp_path, CARD.format(address=address)).engine(None)

    async def go() -> None:
        async with HttpTransport(largest_reply=100_000) as transport:
            await client_for(card, {}, transport).submit(PIECE, RequestOptions("en"))

    with pytest.raises(UnreadableReplyError, match="larger than"):
        asyncio.run(go())


def test_a_service_that_never_ends_the_conversation_is_given_up(
    tmp_path: Path, talking: Callable[[Talk], str]
) -> None:
    async def talk(socket: WebSocket) -> None:
        await listened(socket)
        await socket.receive()

    address = talking(talk)
    card = workspace_of(tmp_path, CARD.format(address=address).replace('"5 s"', '"300 ms"')).engine(
        None
    )

    async def go() -> None:
        async with HttpTransport() as transport:
            await client_for(card, {}, transport).submit(PIECE, RequestOptions("en"))

    with pytest.raises(UnreachableError, match=r"did not end within 0\.3 s"):
        asyncio.run(go())
