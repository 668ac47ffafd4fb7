"""A PostgreSQL server for a benchmark or a test, where one is installed."""

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import count
from pathlib import Path

import psycopg

NUMBERS = count(1)


class NoServerError(Exception):
    """No PostgreSQL server is installed."""


def server_program(name: str) -> str | None:
    found = shutil.which(name)
    others = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"))
    return found or (str(others[-1]) if others else None)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextmanager
def standing() -> Iterator[str]:
    """Where a server listens, as the beginning of a URL to which a database's name is added.

    Raises:
        NoServerError: none is installed.
    """
    initdb, server = server_program("initdb"), server_program("postgres")
    if initdb is None or server is None:
        raise NoServerError("no PostgreSQL server is installed")
    user = None
    if os.getuid() == 0:  # it refuses to run as root
        names = {entry.pw_name for entry in pwd.getpwall()}
        user = "postgres" if "postgres" in names else "nobody"
    # Not below a temporary folder that only we may look into.
    folder, port = Path(tempfile.mkdtemp(prefix="marsh-", dir="/tmp")), free_port()
    if user:
        shutil.chown(folder, user)
    data = str(folder / "data")
    subprocess.run(
        [initdb, "-D", data, "-U", "marsh", "-A", "trust", "--no-sync", "--locale=C", "-E", "UTF8"],
        user=user,
        cwd=folder,
        check=True,
        capture_output=True,
    )
    options = ["-D", data, "-k", str(folder), "-h", "127.0.0.1", "-p", str(port), "-c", "fsync=off"]
    process = subprocess.Popen(
        [server, *options],
        user=user,
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        for _ in range(200):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        yield f"postgresql://marsh@127.0.0.1:{port}/"
    finally:
        process.terminate()
        process.wait(timeout=30)
        shutil.rmtree(folder, ignore_errors=True)


def new_database(server: str) -> str:
    """The URL of a new database on a server, when that has started."""
    name = f"ledger_{os.getpid()}_{next(NUMBERS)}"
    while True:
        try:
            with psycopg.connect(server + "postgres", autocommit=True) as connection:
                connection.execute(f"CREATE DATABASE {name}")
            return server + name
        except psycopg.OperationalError:  # it is still starting
            time.sleep(0.1)
