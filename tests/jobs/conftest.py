"""Ledgers of both kinds: on SQLite, and on a PostgreSQL server that is started for the tests."""

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from itertools import count
from pathlib import Path

import pytest
import sqlalchemy as sql

from conftest import free_port
from mantisreed.jobs.ledger import Ledger

Opening = Callable[[], Ledger]


def server_program(name: str) -> str | None:
    found = shutil.which(name)
    others = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"))
    return found or (str(others[-1]) if others else None)


@pytest.fixture(scope="session")
def postgresql() -> Iterator[sql.URL]:
    """The address of a server's first database."""
    initdb, server = server_program("initdb"), server_program("postgres")
    if initdb is None or server is None:
        pytest.skip("no PostgreSQL server is installed")
    user = None
    if os.getuid() == 0:  # it refuses to run as root
        names = {entry.pw_name for entry in pwd.getpwall()}
        user = "postgres" if "postgres" in names else "nobody"
    folder, port = Path(tempfile.mkdtemp(prefix="marsh-")), free_port()
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
        [server, *options], user=user, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        for _ in range(200):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        yield sql.URL.create("postgresql+psycopg", username="marsh", host="127.0.0.1", port=port, database="postgres")
    finally:
        process.terminate()
        process.wait(timeout=30)
        shutil.rmtree(folder, ignore_errors=True)


NUMBERS = count(1)


@pytest.fixture(params=["sqlite", "postgresql"])
def place(request: pytest.FixtureRequest) -> sql.URL | None:
    """Where a ledger of a test's own is: None for a file in its folder."""
    if request.param == "sqlite":
        return None
    address: sql.URL = request.getfixturevalue("postgresql")
    name = f"ledger_{os.getpid()}_{next(NUMBERS)}"
    engine = sql.create_engine(address, isolation_level="AUTOCOMMIT")
    with engine.connect() as connection:
        while True:
            try:
                connection.exec_driver_sql(f"CREATE DATABASE {name}")
                break
            except sql.exc.OperationalError:  # it is still starting
                time.sleep(0.1)
    engine.dispose()
    return address.set(database=name)


@pytest.fixture
def opening(place: sql.URL | None, tmp_path: Path) -> Iterator[Opening]:
    """Opens the test's ledger, as one more process would."""
    opened = []

    def one_more() -> Ledger:
        opened.append(Ledger(tmp_path, place))
        return opened[-1]

    yield one_more
    for ledger in opened:
        ledger.close()


@pytest.fixture
def ledger(opening: Opening) -> Ledger:
    made = opening()
    made.open_job("abc123", "note.wav", "sha256:1", "brook", "shells")
    return made
