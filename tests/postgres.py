"""A PostgreSQL server that is started for the tests, where one is installed."""

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urlsplit

import pytest

import database_server
from conftest import free_port
from database_server import new_database

__all__ = ["new_database", "pooled", "postgresql"]


@pytest.fixture(scope="session")
def postgresql() -> Iterator[str]:
    """Where a server listens, as the beginning of a URL to which a database's name is added."""
    try:
        with database_server.standing() as server:
            yield server
    except database_server.NoServerError as error:
        pytest.skip(str(error))


@contextmanager
def pooled(url: str) -> Iterator[str]:
    """The URL of a database by a pooler that gives each transaction any of two connections."""
    program = shutil.which("pgbouncer")
    if program is None:
        pytest.skip("no pooler is installed")
    place, port = urlsplit(url), free_port()
    name = place.path.lstrip("/")
    with tempfile.TemporaryDirectory(prefix="marsh-") as folder:
        Path(folder).chmod(0o755)  # it refuses to run as root
        settings = Path(folder) / "pooler.ini"
        settings.write_text(
            f"[databases]\n{name} = host=127.0.0.1 port={place.port} user=marsh\n"
            f"[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = {port}\nauth_type = any\n"
            "pool_mode = transaction\ndefault_pool_size = 2\nunix_socket_dir =\n"
        )
        user = "nobody" if os.getuid() == 0 else None
        with subprocess.Popen(
            [program, str(settings)], user=user, cwd="/", stderr=subprocess.DEVNULL
        ) as pooler:
            try:
                yield f"postgresql://marsh@127.0.0.1:{port}/{name}"
            finally:
                pooler.terminate()
