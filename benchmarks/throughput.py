"""How fast many requests go through with every promise of the ledger kept, beside a client that
promises nothing.

    python benchmarks/throughput.py [--requests N] [--at-once N] [--kilobytes N] [--delay S]

A server in a process of its own takes each upload and answers after a delay. The same uploads are
made by a bare aiohttp client and by the dispatcher (each piece noted before it is sent, each reply
on disk before it counts). Prints wall time against the ideal (requests / at once x delay), CPU per
request and peak memory. Target: at most 1.25 x the bare client.
"""

import argparse
import asyncio
import multiprocessing
import os
import resource
import socket
import tempfile
import time
from collections.abc import Callable, Coroutine
from functools import partial
from itertools import count
from pathlib import Path
from typing import Any

import aiohttp
from aiohttp import web

from mantisreed.audio.formats import FORMATS
from mantisreed.cards.wire.transport import HttpTransport
from mantisreed.engines.asking import client_for
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import Piece
from mantisreed.jobs.dispatch import Dispatcher
from mantisreed.jobs.gate import silent
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.work import DispatchOptions, Work
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.workspace import open_workspace
from sizes import parsed

CARD = """
[engine.weir]
url = "http://127.0.0.1:{port}"
max_concurrent = {at_once}
price = {{ per_minute = 0.01, currency = "credits" }}
send.raw = "{{audio}}"
reply.text = "says"
"""


def serve(listening: socket.socket, delay: float) -> None:
    numbers = count()

    async def answer(request: web.Request) -> web.Response:
        size = 0
        async for block in request.content.iter_chunked(1 << 18):
            size += len(block)
        await asyncio.sleep(delay)
        return web.json_response({"says": f"{size} bytes, upload {next(numbers)}"})

    async def go() -> None:
        application = web.Application(client_max_size=1 << 30)
        application.router.add_post("/", answer)
        runner = web.AppRunner(application, access_log=None)
        await runner.setup()
        await web.SockSite(runner, listening).start()
        await asyncio.Event().wait()

    asyncio.run(go())


async def bare(port: int, audio: bytes, requests: int, at_once: int) -> None:
    room = asyncio.Semaphore(at_once)
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as session:

        async def one() -> None:
            async with room, session.post(f"http://127.0.0.1:{port}/", data=audio) as response:
                await response.read()

        await asyncio.gather(*(one() for _ in range(requests)))


async def dispatched(card: EngineCard, folder: Path, audio: bytes, requests: int) -> None:
    writer = LedgerWriter(lambda: Ledger(folder))
    piece = Piece(audio, FORMATS["flac"], 16_000, 1, 10.0, ((0.0, 10.0),))
    async with HttpTransport() as transport:
        dispatcher = Dispatcher(
            client_for(card, {}, transport), card, writer, DispatchOptions(max_attempts=3)
        )
        job = JobToOpen("job", "made up", "sha256:0", "weir", "credits")
        await dispatcher.perform(lambda ledger: ledger.jobs.open(job))
        works = [
            Work("job", f"request {number}", 10.0 * number, 10.0, None, piece)
            for number in range(requests)
        ]
        await asyncio.gather(*(dispatcher.reply(work, silent) for work in works))
    writer.close()


def in_a_process(work: Callable[[], Coroutine[Any, Any, None]]) -> tuple[float, float, float]:
    """Wall seconds, CPU seconds and peak megabytes of the work, in a process of its own."""
    receiver, sender = multiprocessing.Pipe(duplex=False)

    def go() -> None:
        before, started = time.process_time(), time.perf_counter()
        asyncio.run(work())
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        sender.send((time.perf_counter() - started, time.process_time() - before, peak))

    process = multiprocessing.get_context("fork").Process(target=go)
    process.start()
    process.join()
    result: tuple[float, float, float] = receiver.recv()
    return result


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--requests", type=int, default=2000)
    parser.add_argument("--at-once", type=int, default=200)
    parser.add_argument("--kilobytes", type=int, default=200)
    parser.add_argument("--delay", type=float, default=0.2)
    parser.add_argument("--rounds", type=int, default=3)
    options = parsed(
        parser, {"requests": 20, "at_once": 10, "kilobytes": 10, "delay": 0.01, "rounds": 1}
    )
    audio = os.urandom(options.kilobytes * 1000)
    ideal = options.requests / options.at_once * options.delay
    listening = socket.create_server(("127.0.0.1", 0), backlog=1024)
    port = listening.getsockname()[1]
    server = multiprocessing.get_context("fork").Process(
        target=serve, args=(listening, options.delay), daemon=True
    )
    server.start()
    print(
        f"{options.requests} requests of {options.kilobytes} kB, {options.at_once} at once; ideal "
        f"{ideal:.2f} s"
    )
    with tempfile.TemporaryDirectory() as place:
        settings = Path(place, "mantisreed.toml")
        settings.write_text(CARD.format(port=port, at_once=options.at_once))
        card = open_workspace(settings).engine("weir")
        for number in range(options.rounds):
            walls = []
            folder = Path(place, f"ledger {number}")
            for name, work in (
                ("bare aiohttp", partial(bare, port, audio, options.requests, options.at_once)),
                ("with the ledger", partial(dispatched, card, folder, audio, options.requests)),
            ):
                wall, cpu, peak = in_a_process(work)
                walls.append(wall)
                each = cpu / options.requests * 1000
                print(
                    f"{name:16} {wall:6.2f} s  {wall / ideal:5.2f} x  {each:5.2f} ms of CPU a "
                    f"request  {peak:4.0f} MB"
                )
            print(f"with the ledger against bare: {walls[1] / walls[0]:.2f} x")
    server.terminate()


if __name__ == "__main__":
    main()
