"""How the service stands up to many at once.

    python benchmarks/service.py [--uploads N] [--streams N] [--kills N]

Starts an engine that answers at once and `mantisreed serve` on loopback, and prints:
- 200 uploads of 10 MB at 50 at once: seconds, and the service's peak memory while they come
  (target: under 250 MB);
- 1000 open event streams: how many get the events of a job;
- 10 000 calls of junk and 2000 connections that say nothing: the longest wait for a `GET`
  meanwhile;
- small `GET`s a second, beside the bare framework with one route (target: at least 0.6 x);
- kill -9 at 50 moments under load: accepted jobs that are lost (target: none).
"""

import argparse
import asyncio
import contextlib
import os
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import aiohttp
import numpy as np
import soundfile

from mantisreed.standin.bank import load_bank
from mantisreed.standin.composer import compose
from sizes import parsed

BARE = """
import sys, uvicorn
from fastapi import FastAPI, Response
app = FastAPI()
@app.get("/health")
async def health() -> Response:
    return Response(b'{"state":"running"}', media_type="application/json")
uvicorn.run(app, port=int(sys.argv[1]), log_level="critical", access_log=False, http="h11")
"""


ENGINE = """
import sys, uvicorn
from starlette.applications import Starlette
from starlette.responses import JSONResponse
from starlette.routing import Route
async def listen(request):
    async for _ in request.stream():
        pass
    return JSONResponse({"says": "Nets closed at nine."})
app = Starlette(routes=[Route("/listen", listen, methods=["POST"])])
uvicorn.run(app, port=int(sys.argv[1]), log_level="critical")
"""

CARD = """
[settings]
engine = "stub"
to = ["txt"]

[engine.stub]
url = "http://127.0.0.1:{port}"
max_concurrent = 8
send.path = "/listen"
send.form.sound = "{{audio}}"
reply.text = "says"
accepts.formats = ["flac"]
"""


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port: int = probe.getsockname()[1]
    return port


@contextlib.contextmanager
def service(folder: Path, port: int) -> Iterator[subprocess.Popen[str]]:
    command = [sys.executable, "-m", "mantisreed", "serve", "--listen", f"127.0.0.1:{port}"]
    with (folder / "serve.err").open("a") as errors:
        process = subprocess.Popen(
            command, cwd=folder, stdout=subprocess.PIPE, stderr=errors, text=True
        )
    assert process.stdout is not None
    line = process.stdout.readline()
    if "listening" not in line:
        raise SystemExit((folder / "serve.err").read_text())
    try:
        yield process
    finally:
        process.terminate()
        process.wait(60)


def peak(process: subprocess.Popen[str]) -> float:
    """Megabytes of the process alone, at most so far; decoders are processes of their own."""
    status = Path(f"/proc/{process.pid}/status").read_text()
    return int(re.findall(r"VmHWM:\s+(\d+)", status)[0]) / 1024


async def uploads(address: str, content: bytes, count: int, at_once: int) -> float:
    room = asyncio.Semaphore(at_once)
    timeout = aiohttp.ClientTimeout(total=None)
    async with aiohttp.ClientSession(
        timeout=timeout, connector=aiohttp.TCPConnector(limit=at_once)
    ) as session:

        async def one(number: int) -> None:
            async with room:
                kind = {"Content-Type": "audio/wav"}
                async with session.post(
                    f"{address}/jobs?name=u{number}.wav", data=content, headers=kind
                ) as answer:
                    assert answer.status == 202, await answer.text()

        begun = time.perf_counter()
        await asyncio.gather(*(one(number) for number in range(count)))
        return time.perf_counter() - begun


async def streams(address: str, count: int, content: bytes) -> int:
    """How many of so many streams hear that a job has ended."""
    heard = 0
    timeout = aiohttp.ClientTimeout(total=120)
    async with aiohttp.ClientSession(
        timeout=timeout, connector=aiohttp.TCPConnector(limit=0)
    ) as session:
        opened = asyncio.Semaphore(0)

        async def one() -> None:
            nonlocal heard
            async with session.get(f"{address}/events") as answer:
                await answer.content.readline()
                opened.release()
                async for line in answer.content:
                    if b'"state": "done"' in line and b"streams.wav" in line:
                        heard += 1
                        return

        tasks = [asyncio.create_task(one()) for _ in range(count)]
        for _ in range(count):
            await opened.acquire()
        async with session.post(f"{address}/jobs?name=streams.wav", data=content) as answer:
            assert answer.status == 202
        await asyncio.wait(tasks, timeout=100)
        for task in tasks:
            task.cancel()
    return heard


async def gets(address: str, count: int, at_once: int = 20) -> float:
    """Small requests a second."""
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=at_once)) as session:

        async def some(times: int) -> None:
            for _ in range(times):
                async with session.get(f"{address}/health") as answer:
                    await answer.read()

        await asyncio.gather(*(some(20) for _ in range(at_once)))
        begun = time.perf_counter()
        await asyncio.gather(*(some(count // at_once) for _ in range(at_once)))
        return count / (time.perf_counter() - begun)


def junk(host: str, port: int, calls: int, silent: int, address: str) -> float:
    """The longest wait for a `GET` while nonsense and silence come in."""
    chance, lines = random.Random(3), []
    for _ in range(silent):
        with contextlib.suppress(OSError):
            lines.append(socket.create_connection((host, port), timeout=5))
    is_over = threading.Event()

    def noise(times: int) -> None:
        for _ in range(times):
            with (
                contextlib.suppress(OSError),
                socket.create_connection((host, port), timeout=5) as line,
            ):
                line.sendall(
                    chance.randbytes(300)
                    if chance.random() < 0.5
                    else b"GET /%s HTTP/1.1\r\n\r\n" % chance.randbytes(20).hex().encode()
                )
                line.settimeout(0.05)
                line.recv(50)

    threads = [threading.Thread(target=noise, args=(calls // 8,)) for _ in range(8)]
    for thread in threads:
        thread.start()

    async def watch() -> float:
        longest = 0.0
        async with aiohttp.ClientSession() as session:
            while not is_over.is_set():
                begun = time.perf_counter()
                async with session.get(f"{address}/health") as answer:
                    assert answer.status == 200
                longest = max(longest, time.perf_counter() - begun)
                await asyncio.sleep(0.02)
        return longest

    watcher = threading.Thread(target=lambda: found.append(asyncio.run(watch())))
    found: list[float] = []
    watcher.start()
    for thread in threads:
        thread.join()
    is_over.set()
    watcher.join()
    for line in lines:
        line.close()
    return found[0]


def kills(folder: Path, content: bytes, times: int) -> tuple[int, int]:
    """Jobs that were accepted, and those that are lost after as many kills under load."""
    port, chance = free_port(), random.Random(5)
    accepted: list[str] = []
    address = f"http://127.0.0.1:{port}"

    async def load(process: subprocess.Popen[str]) -> None:
        async with aiohttp.ClientSession() as session:
            while process.poll() is None:
                with contextlib.suppress(aiohttp.ClientError):
                    async with session.post(
                        f"{address}/jobs?name=k{len(accepted)}.wav", data=content
                    ) as answer:
                        if answer.status == 202:
                            accepted.append((await answer.json())["id"])

    for _ in range(times):
        with service(folder, port) as process:
            threading.Timer(
                chance.uniform(0.05, 1.2), lambda: os.kill(process.pid, signal.SIGKILL)
            ).start()
            asyncio.run(load(process))

    async def missing() -> int:
        async with aiohttp.ClientSession() as session:
            left = set(accepted)
            # Jobs that are not done by then are told as lost; a small run is not to wait for long.
            deadline = time.monotonic() + min(600, 40 * times)
            while left and time.monotonic() < deadline:
                for job in list(left):
                    async with session.get(f"{address}/jobs/{job}") as answer:
                        if answer.status == 200 and (await answer.json())["state"] == "done":
                            left.discard(job)
                await asyncio.sleep(1.0)
            return len(left)

    with service(folder, port):
        return len(accepted), asyncio.run(missing())


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--uploads", type=int, default=200)
    parser.add_argument("--streams", type=int, default=1000)
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--gets", type=int, default=4000)
    parser.add_argument("--junk", type=int, default=10_000)
    options = parsed(parser, {"uploads": 4, "streams": 5, "kills": 1, "gets": 200, "junk": 50})
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["MANTISREED_TRUST"] = name
        engine_port = free_port()
        # An engine that answers at once: the service is what is measured.
        with subprocess.Popen([sys.executable, "-c", ENGINE, str(engine_port)]) as engine:
            (folder / "mantisreed.toml").write_text(CARD.format(port=engine_port))
            phrases = [phrase for phrase in load_bank() if phrase.language == "en"]
            compose(phrases, seed=1, duration=12).write(folder / "small.wav")
            small = (folder / "small.wav").read_bytes()
            port = free_port()
            address = f"http://127.0.0.1:{port}"
            with service(folder, port) as process:
                ours = asyncio.run(gets(address, options.gets))
                bare_port = free_port()
                with subprocess.Popen([sys.executable, "-c", BARE, str(bare_port)]) as bare:
                    time.sleep(3)
                    theirs = asyncio.run(gets(f"http://127.0.0.1:{bare_port}", options.gets))
                    again = asyncio.run(gets(address, options.gets))
                    bare.terminate()
                best = max(ours, again)
                ratio = f"the bare framework {theirs:.0f}: {best / theirs:.2f} x"
                print(f"small GETs: {best:.0f} a second, {ratio}", flush=True)
                # Somebody speaks for a while, and then nobody: the engine has little to do, the
                # service all of it.
                spoken, rate = soundfile.read(folder / "small.wav", dtype="int16")
                sound = np.zeros(5_000_000, np.int16)
                sound[: len(spoken)] = spoken
                soundfile.write(folder / "large.wav", sound, rate)
                large = (folder / "large.wav").read_bytes()
                begun = peak(process)
                took = asyncio.run(uploads(address, large, options.uploads, 50))
                told = f"{peak(process):.0f} MB at most (before: {begun:.0f})"
                print(f"{options.uploads} uploads of 10 MB, 50 at once: {took:.1f} s, {told}")
                heard = asyncio.run(streams(address, options.streams, small))
                print(f"{options.streams} event streams: {heard} heard the end of a job")
                longest = junk("127.0.0.1", port, options.junk, options.junk // 5, address)
                silent = f"{options.junk // 5} silent connections"
                print(f"{options.junk} calls of junk, {silent}: a GET took {longest:.2f} s at most")
            kill_folder = folder / "kills"
            kill_folder.mkdir()
            (kill_folder / "mantisreed.toml").write_text(CARD.format(port=engine_port))
            accepted, lost = kills(kill_folder, small, options.kills)
            print(f"{options.kills} kills under load: {accepted} jobs accepted, {lost} lost")
            engine.terminate()


if __name__ == "__main__":
    main()
