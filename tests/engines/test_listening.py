"""Servers of ours: who says nothing, too slowly or too often keeps nobody out."""

import asyncio
import contextlib
import socket
import time
from collections.abc import AsyncIterator, Callable, Coroutine

import pytest
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import PlainTextResponse, StreamingResponse
from starlette.routing import Route

from conftest import free_port
from mantisreed import guarded
from mantisreed.engines import listening
from mantisreed.guarded import LimitedBodies, quiet_about_files


def served(talk: Callable[[int], Coroutine[None, None, None]]) -> None:
    async def hello(request: object) -> PlainTextResponse:
        return PlainTextResponse("tide")

    async def go() -> None:
        port = free_port()
        application = Starlette(routes=[Route("/", hello)])
        async with listening.serving(application, f"127.0.0.1:{port}", key="a test"):
            await talk(port)

    asyncio.run(asyncio.wait_for(go(), 40))


async def asked(port: int) -> bytes:
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    writer.write(b"GET / HTTP/1.1\r\nHost: marsh\r\nConnection: close\r\n\r\n")
    answer = await reader.read()
    writer.close()
    return answer


def test_who_says_nothing_is_cut_off_and_others_are_answered(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(guarded, "_ROUND", 0.5)

    async def talk(port: int) -> None:
        silent = [await asyncio.open_connection("127.0.0.1", port) for _ in range(20)]
        silent[0][1].write(b"GET / HTTP/1.1\r\nX-Slow: ")
        began = time.monotonic()
        assert b"tide" in await asked(port) and time.monotonic() - began < 2
        for reader, writer in silent:
            with contextlib.suppress(ConnectionResetError):
                assert await asyncio.wait_for(reader.read(), 5) == b""
            writer.close()

    served(talk)


def test_who_sends_a_body_too_slowly_is_cut_off_and_who_only_takes_long_is_not(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(guarded, "_ROUND", 0.2)
    monkeypatch.setattr(guarded, "_SLOWEST", 100)

    async def take(request: Request) -> PlainTextResponse:
        return PlainTextResponse(f"{len(await request.body())} bytes")

    async def begun(port: int, length: int) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write(f"POST / HTTP/1.1\r\nHost: marsh\r\nContent-Length: {length}\r\n\r\n".encode())
        return reader, writer

    async def drip(writer: asyncio.StreamWriter, block: bytes, times: int) -> None:
        with contextlib.suppress(ConnectionError):
            for _ in range(times):
                writer.write(block)
                await asyncio.sleep(0.05)

    async def go() -> None:
        port = free_port()
        application = Starlette(routes=[Route("/", take, methods=["POST"])])
        async with listening.serving(application, f"127.0.0.1:{port}", key="a test"):
            steady, slow, silent = [await begun(port, 4000) for _ in range(3)]
            await asyncio.gather(drip(steady[1], b"x" * 100, 40), drip(slow[1], b"x", 40))
            assert b"4000 bytes" in await asyncio.wait_for(steady[0].read(500), 5)
            # A second head on the same connection has no more time than the first.
            await drip(steady[1], b"G", 20)
            for reader, _ in (slow, silent, steady):
                with contextlib.suppress(ConnectionError):
                    assert await asyncio.wait_for(reader.read(), 5) == b""
            for _, writer in (steady, slow, silent):
                writer.close()

    asyncio.run(asyncio.wait_for(go(), 40))


def test_who_does_not_read_the_answer_is_cut_off_and_a_stream_of_events_is_not(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(guarded, "_ROUND", 0.1)
    ended: list[str] = []

    async def endless(request: Request) -> StreamingResponse:
        async def blocks() -> AsyncIterator[bytes]:
            try:
                for _ in range(1000):
                    yield b"m" * 100_000
            finally:
                ended.append("mud")

        return StreamingResponse(blocks())

    async def events(request: Request) -> StreamingResponse:
        async def blocks() -> AsyncIterator[bytes]:
            for number in range(3):
                await asyncio.sleep(0.8)  # many rounds
                yield f"data: {number}\n\n".encode()

        return StreamingResponse(blocks())

    async def go() -> None:
        port = free_port()
        application = Starlette(routes=[Route("/", endless), Route("/events", events)])
        async with listening.serving(application, f"127.0.0.1:{port}", key="a test"):
            told, asking = await asyncio.open_connection("127.0.0.1", port)
            asking.write(b"GET /events HTTP/1.1\r\nHost: marsh\r\nConnection: close\r\n\r\n")
            with socket.create_connection(("127.0.0.1", port)) as deaf:
                deaf.sendall(b"GET / HTTP/1.1\r\nHost: marsh\r\n\r\n")
                while not ended:
                    await asyncio.sleep(0.05)
            assert b"data: 2" in await asyncio.wait_for(told.read(), 10)
            asking.close()

    asyncio.run(asyncio.wait_for(go(), 40))


def test_one_address_has_only_so_many_connections(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(listening, "_MOST_OF_ONE", 5)

    async def talk(port: int) -> None:
        many = [await asyncio.open_connection("127.0.0.1", port) for _ in range(20)]
        closed = 0
        for reader, _ in many:
            try:
                closed += await asyncio.wait_for(reader.read(), 0.2) == b""
            except ConnectionResetError:
                closed += 1
            except TimeoutError:
                pass
        assert closed == 15
        for _, writer in many:
            writer.close()
        await asyncio.sleep(0.1)
        assert b"tide" in await asked(port)

    served(talk)


def test_a_gigantic_head_is_refused() -> None:
    async def talk(port: int) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write(b"GET / HTTP/1.1\r\n" + b"X-Mud: " + b"m" * 200_000)
        try:
            answer = await asyncio.wait_for(reader.read(), 5)
        except ConnectionResetError:
            answer = b""
        assert b"tide" not in answer and b"Traceback" not in answer
        writer.close()

    served(talk)


@pytest.mark.parametrize(
    "head",
    ["Content-Length: 5000", "Content-Length: 99999999999999999999", "Transfer-Encoding: chunked"],
)
def test_a_body_beyond_what_is_taken_is_not_read(head: str) -> None:
    read: list[bytes] = []

    async def take(request: Request) -> PlainTextResponse:
        read.append(await request.body())
        return PlainTextResponse("tide")

    async def go() -> None:
        port = free_port()
        application = LimitedBodies(Starlette(routes=[Route("/", take, methods=["POST"])]), 1000)
        async with listening.serving(application, f"127.0.0.1:{port}", key="a test"):
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(f"POST / HTTP/1.1\r\nHost: marsh\r\n{head}\r\n\r\n".encode())
            writer.write(b"1000\r\n" + b"x" * 4096 + b"\r\n0\r\n\r\n")
            with contextlib.suppress(ConnectionResetError):
                assert b" 413 " in await asyncio.wait_for(reader.read(200), 10)
            writer.close()

    asyncio.run(asyncio.wait_for(go(), 40))
    assert not read


@pytest.mark.parametrize("expects", [False, True])
def test_whoever_is_refused_while_sending_hears_why(expects: bool) -> None:
    async def refuse(request: Request) -> PlainTextResponse:
        return PlainTextResponse("no tide today", 401)

    async def go() -> None:
        port = free_port()
        application = LimitedBodies(
            Starlette(routes=[Route("/", refuse, methods=["POST"])]), 30_000_000
        )
        async with listening.serving(application, f"127.0.0.1:{port}", key="a test"):
            for length, told in ((20_000_000, b"no tide today"), (40_000_000, b" 413 ")):
                reader, writer = await asyncio.open_connection("127.0.0.1", port)
                more = "Expect: 100-continue\r\n" if expects else ""
                head = f"POST / HTTP/1.1\r\nHost: marsh\r\n{more}Content-Length: {length}\r\n\r\n"
                writer.write(head.encode())
                if not expects:  # all of it, before anything is read
                    writer.write(b"x" * length)
                    await asyncio.wait_for(writer.drain(), 20)
                answer = await asyncio.wait_for(reader.read(4000), 10)
                assert told in answer and b"100 Continue" not in answer
                writer.close()

    asyncio.run(asyncio.wait_for(go(), 60))


def test_connections_send_small_answers_at_once() -> None:
    from mantisreed.engines.listening import _bound

    with (
        _bound("127.0.0.1:0", "listen") as waiting,
        socket.create_connection(waiting.getsockname()),
    ):
        accepted, _ = waiting.accept()
        with accepted:
            assert accepted.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY)


@pytest.mark.parametrize(
    ("head", "status"),
    [
        (b"Content-Length: 5\r\nTransfer-Encoding: chunked\r\n", b"400"),
        (b"Transfer-Encoding: chunked\r\nContent-Length: 5\r\n", b"400"),
        (b"Content-Length: 5\r\nContent-Length: 6\r\n", b"400"),
        (b"X-Mud: " + b"m" * 33_000 + b"\r\nContent-Length: 5\r\n", b"431"),
        (b"".join(b"X-%d: %s\r\n" % (n, b"m" * 400) for n in range(95)), b"431"),
    ],
    ids=["both", "both again", "two lengths", "one large line", "many lines"],
)
@pytest.mark.parametrize("is_slow", [False, True])
def test_a_head_that_may_mean_two_things_or_is_too_large_is_refused_and_closed(
    head: bytes, status: bytes, is_slow: bool
) -> None:
    reached: list[bytes] = []

    async def take(request: Request) -> PlainTextResponse:
        reached.append(await request.body())
        return PlainTextResponse("tide")

    async def go() -> None:
        port = free_port()
        application = LimitedBodies(Starlette(routes=[Route("/", take, methods=["POST"])]), 1000)
        async with listening.serving(application, f"127.0.0.1:{port}", key="a test"):
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            smuggled = b"POST / HTTP/1.1\r\nHost: marsh\r\nContent-Length: 0\r\n\r\n"
            content = b"POST / HTTP/1.1\r\nHost: marsh\r\n" + head + b"\r\n0\r\n\r\n" + smuggled
            for at in range(0, len(content), 16_000 if is_slow else len(content)):
                writer.write(content[at : at + (16_000 if is_slow else len(content))])
                await writer.drain()
                await asyncio.sleep(0.01)
            answer = b""
            with contextlib.suppress(ConnectionResetError):
                answer = await asyncio.wait_for(reader.read(), 10)  # to the end: it is closed
            assert not answer or answer.split()[1] in (status, b"400")
            assert b"tide" not in answer
            writer.close()

    asyncio.run(asyncio.wait_for(go(), 40))
    assert not reached


def test_too_many_open_files_are_told_once_a_minute(caplog: pytest.LogCaptureFixture) -> None:
    async def go() -> None:
        loop = asyncio.get_running_loop()
        with quiet_about_files():
            for _ in range(1000):
                loop.call_exception_handler(
                    {
                        "message": "socket.accept() out of system resource",
                        "exception": OSError(24, "Too many open files"),
                    }
                )

    asyncio.run(go())
    told = [record for record in caplog.records if "Too many open files" in record.getMessage()]
    assert len(told) == 1 and told[0].exc_info is None
