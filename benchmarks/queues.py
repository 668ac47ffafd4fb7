"""Which queue on PostgreSQL hands out recordings: procrastinate or pgqueuer, measured alike.

    python benchmarks/queues.py [--jobs N] [--workers N]

It starts a PostgreSQL server of its own. Both are used as they come, with a job that does nothing.
For each one that is installed it prints: seconds to put all jobs there in shares of 500, jobs a
second by all workers together, jobs that were never done or done twice, seconds until another
worker has the job of one that was killed (SIGKILL) with ten seconds of lease, and how many packages
an installation has.
"""

import argparse
import asyncio
import importlib.metadata
import signal
import subprocess
import sys
import time
from collections.abc import Iterator

import psycopg
from packaging.requirements import Requirement

from database_server import NoServerError, new_database, standing
from sizes import parsed

LEASE = 10.0
SHARE = 500
NAMES = ("procrastinate", "pgqueuer")
NOTED = "INSERT INTO done (number, worker) VALUES (%s, %s)"


def app_of_procrastinate(url: str, worker: str = "", seconds: float = 0.0):  # type: ignore[no-untyped-def]
    import procrastinate

    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=url))

    @app.task(name="one")
    async def one(number: int) -> None:
        await note(url, number, worker)
        await asyncio.sleep(seconds)

    @app.periodic(cron="* * * * * *")
    @app.task(name="take back", queueing_lock="take back", pass_context=True)
    async def take_back(context, timestamp: int) -> None:  # type: ignore[no-untyped-def]
        stalled = await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=LEASE)
        for job in stalled:
            await app.job_manager.retry_job(job)

    return app


_connections: dict[str, psycopg.AsyncConnection] = {}


async def note(url: str, number: int, worker: str) -> None:
    if url not in _connections:
        _connections[url] = await psycopg.AsyncConnection.connect(url, autocommit=True)
    await _connections[url].execute(NOTED, (number, worker))


async def put(name: str, url: str, numbers: range) -> None:
    shares = [numbers[first : first + SHARE] for first in range(0, len(numbers), SHARE)]
    if name == "procrastinate":
        app = app_of_procrastinate(url)
        async with app.open_async():
            if not await app.check_connection_async():
                await app.schema_manager.apply_schema_async()
            for share in shares:
                await app.tasks["one"].batch_defer_async(*({"number": one} for one in share))
        return
    from pgqueuer import PsycopgDriver, Queries  # type: ignore[import-not-found]

    async with await psycopg.AsyncConnection.connect(url, autocommit=True) as connection:
        queries = Queries(PsycopgDriver(connection))
        if not await queries.has_table("pgqueuer"):
            await queries.install()
        for share in shares:
            count = len(share)
            await queries.enqueue(
                ["one"] * count, [str(one).encode() for one in share], [0] * count
            )


async def work(name: str, url: str, worker: str, seconds: float) -> None:
    if name == "procrastinate":
        app = app_of_procrastinate(url, worker, seconds)
        async with app.open_async():
            await app.run_worker_async(
                concurrency=20,
                delete_jobs="always",
                update_heartbeat_interval=LEASE / 5,
                stalled_worker_timeout=LEASE,
            )
        return
    from datetime import timedelta

    from pgqueuer import Job, PgQueuer, PsycopgDriver

    async with await psycopg.AsyncConnection.connect(url, autocommit=True) as connection:
        queue = PgQueuer(PsycopgDriver(connection))

        @queue.entrypoint("one")  # type: ignore[untyped-decorator]
        async def one(job: Job) -> None:
            await note(url, int(job.payload or b""), worker)
            await asyncio.sleep(seconds)

        await queue.run(
            batch_size=20,
            heartbeat_timeout=timedelta(seconds=LEASE),
        )


def begun(name: str, url: str, worker: str, seconds: float) -> "subprocess.Popen[bytes]":
    command = [sys.executable, __file__, "--be", name, url, worker, str(seconds)]
    return subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def count(connection: psycopg.Connection, what: str = "*") -> int:
    (number,) = connection.execute(f"SELECT count({what}) FROM done").fetchone() or (0,)
    return int(number)


def ready(connection: psycopg.Connection) -> None:
    connection.execute("DROP SCHEMA IF EXISTS public CASCADE")
    connection.execute("CREATE SCHEMA public")
    connection.execute("CREATE TABLE done (number INTEGER, worker TEXT)")


def measured(name: str, url: str, jobs: int, workers: int) -> str:
    with psycopg.connect(url, autocommit=True) as connection:
        ready(connection)
        began = time.monotonic()
        asyncio.run(put(name, url, range(jobs)))
        put_seconds = time.monotonic() - began
        processes = [begun(name, url, str(number), 0.0) for number in range(workers)]
        while not count(connection):
            time.sleep(0.02)
        began = time.monotonic()
        done, last = 0, time.monotonic()
        while done < jobs and time.monotonic() - last < 3 * LEASE:
            time.sleep(0.05)
            before, done = done, count(connection)
            if done > before:
                last = time.monotonic()
        rate = done / (last - began)
        for process in processes:
            process.terminate()
        for process in processes:
            process.kill()
            process.wait()
        missing = jobs - count(connection, "DISTINCT number")
        twice = done - count(connection, "DISTINCT number")
        again = seconds_until_taken(name, url, connection)
    packages = len(set(needed(name)))
    return f"{name:14}{put_seconds:8.1f}{rate:10.0f}{missing:9}{twice:7}{again:11.1f}{packages:10}"


def seconds_until_taken(name: str, url: str, connection: psycopg.Connection) -> float:
    """From the end of a worker until another one has begun its job again."""
    ready(connection)
    asyncio.run(put(name, url, range(1)))
    first = begun(name, url, "killed", 600.0)
    while not count(connection):
        time.sleep(0.02)
        if first.poll() is not None:  # connections of the workers before may still be open
            first = begun(name, url, "killed", 600.0)
    other = begun(name, url, "other", 0.0)
    time.sleep(3.0)
    first.send_signal(signal.SIGKILL)
    first.wait()
    began = time.monotonic()
    while count(connection) < 2 and time.monotonic() - began < 120:
        time.sleep(0.02)
    other.kill()
    other.wait()
    return time.monotonic() - began


def needed(name: str) -> Iterator[str]:
    """The packages that come with one, itself among them."""
    wanted = [name]
    seen: set[str] = set()
    while wanted:
        one = wanted.pop().lower()
        if one in seen:
            continue
        seen.add(one)
        try:
            requires = importlib.metadata.requires(one) or []
        except importlib.metadata.PackageNotFoundError:
            continue
        yield one
        for text in requires:
            requirement = Requirement(text)
            if requirement.marker is None or requirement.marker.evaluate({"extra": ""}):
                wanted.append(requirement.name)


def is_here(name: str) -> bool:
    try:
        importlib.metadata.version(name)
    except importlib.metadata.PackageNotFoundError:
        return False
    return True


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--jobs", type=int, default=100_000)
    parser.add_argument("--workers", type=int, default=4)
    parser.add_argument("--be", nargs=4, help=argparse.SUPPRESS)
    options = parsed(parser, {"jobs": 500, "workers": 2})
    if options.be:
        name, url, worker, seconds = options.be
        asyncio.run(work(name, url, worker, float(seconds)))
        return
    print("                put s    jobs/s  missing  twice  again in s  packages")
    try:
        with standing() as server:
            for name in filter(is_here, NAMES):
                print(measured(name, new_database(server), options.jobs, options.workers))
    except NoServerError as error:
        print(error)


if __name__ == "__main__":
    main()
