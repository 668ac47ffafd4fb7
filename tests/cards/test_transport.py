"""The real transport against servers that misbehave, on loopback."""

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager, suppress

import pytest
from multidict import CIMultiDict

from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import HttpTransport
from mantisreed.errors import UnreachableError, UnreadableReplyError
from mantisreed.secrets import Secret

Serve = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]


@asynccontextmanager
async def serving(serve: Serve) -> AsyncIterator[str]:
    handling: list[asyncio.Task[None] | None] = []

    async def handled(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        handling.append(asyncio.current_task())
        try:
            with suppress(ConnectionError, asyncio.CancelledError):
                await serve(reader, writer)
        finally:
            writer.close()
            with suppress(ConnectionError):
                await writer.wait_closed()

    server = await asyncio.start_server(handled, "127.0.0.1", 0)
    async with server:
        yield f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/"
        tasks = [task for task in handling if task is not None]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


def exchange(
    serve: Serve, *, timeout: float = 5.0, largest: int = 1 << 20, path: str = ""
) -> HttpAnswer:
    async def go() -> HttpAnswer:
        async with serving(serve) as address, HttpTransport(largest) as transport:
            request = HttpRequest(
                "marsh",
                "send",
                "POST",
                address + path,
                (),
                timeout,
                b"x",
                secrets=(Secret("hush"),),
            )
            return await transport.exchange(request)

    return asyncio.run(go())


async def head(writer: asyncio.StreamWriter, more: str = "") -> None:
    writer.write(f"HTTP/1.1 200 OK\r\n{more}\r\n".encode())
    await writer.drain()


async def silent(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    await asyncio.sleep(30)


async def dripping(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    await head(writer, "Connection: close\r\n")
    while True:
        writer.write(b"drip ")
        await writer.drain()
        await asyncio.sleep(0.02)


async def flooding(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    await head(writer, "Connection: close\r\n")
    while True:
        writer.write(b"flood" * 1000)
        await writer.drain()


async def hanging_up(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    await reader.read(10)
    writer.close()


async def half_a_body(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    await head(writer, "Content-Length: 1000\r\n")
    writer.write(b"half")
    await writer.drain()
    writer.close()


async def moved(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    writer.write(
        b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:9/elsewhere\r\nContent-Length: 0\r\n\r\n"
    )
    await writer.drain()


def test_an_engine_that_says_nothing_is_given_up() -> None:
    with pytest.raises(
        UnreachableError, match=r"no answer within 0\.3 s \(http://127\.0\.0\.1:\d+\)"
    ) as caught:
        exchange(silent, timeout=0.3)
    assert caught.value.was_sent


def test_a_reply_that_never_ends_is_given_up_and_may_have_been_charged() -> None:
    with pytest.raises(UnreachableError, match=r"the answer did not end within 0\.3 s") as caught:
        exchange(dripping, timeout=0.3)
    assert caught.value.was_sent


def test_a_gigantic_reply_is_given_up_and_its_beginning_kept() -> None:
    with pytest.raises(
        UnreadableReplyError, match="larger than 1.0 MiB".replace(".", r"\.")
    ) as caught:
        exchange(flooding)
    assert (
        caught.value.body is not None
        and len(caught.value.body) <= 1 << 20
        and not caught.value.is_whole
    )


@pytest.mark.parametrize("serve", [hanging_up, half_a_body])
def test_a_broken_connection_is_told(serve: Serve) -> None:
    with pytest.raises(UnreachableError, match="cannot reach http://127"):
        exchange(serve)


def test_a_redirect_is_an_answer_and_is_not_followed() -> None:
    answer = exchange(moved)
    assert (answer.status, answer.header("location")) == (302, "http://127.0.0.1:9/elsewhere")


def test_headers_of_an_answer_are_plain_texts_that_can_be_kept() -> None:
    answer = HttpAnswer(200, CIMultiDict({"X-Tide": "high"}), b"")
    assert all(type(text) is str for pair in answer.headers for text in pair)
    assert answer.header("x-tide") == "high"
