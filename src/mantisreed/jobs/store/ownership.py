"""Who is alive. Beside a SQLite file each process holds a lock that the operating system releases
when it ends. At a database server each process has a lease, which it renews by the server's clock.

No process number takes part: two containers may have the same host name and the same numbers. A cut
connection is not death, and neither is a machine's clock that is wrong.
"""

import logging
import os
import secrets
import socket
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Protocol

from mantisreed.jobs import records
from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database, LedgerError
from mantisreed.jobs.store.lock_files import LockFiles
from mantisreed.jobs.store.postgresql import PostgresqlDatabase
from mantisreed.jobs.store.room import CHANNEL
from mantisreed.version import __version__

_log = logging.getLogger(__name__)

_ALIVE_FOLDER = "alive"
_BEAT_SECONDS = 2.0  # between two renewals of a lease
_LEASE_SECONDS = 10.0  # without one, until a process counts as dead
# After the server was away nobody has renewed a lease; all of them get the time to do so.
_GRACE_SECONDS = _LEASE_SECONDS + 2 * _BEAT_SECONDS


class Ownership(Protocol):
    """This process's sign of life, and a way to look for those of others.

    Attributes:
        owner: how this process signs what it has under way.
        role: what it is, where it stays: `work` or `serve`.
        on_notice: called, on any thread, with what another process tells this one.
        is_listening: whether it would hear that.
    """

    owner: str
    role: str | None
    on_notice: Callable[[str], None]
    is_listening: bool

    def take(self) -> None:
        """Show from now on that this process is alive.

        Raises:
            LedgerError, OutputError: it cannot be shown.
        """
        ...

    def is_alive(self, owner: str) -> bool:
        """Whether another process is still there."""
        ...

    def release(self) -> None:
        """Show it no more."""
        ...


def _new_owner() -> str:
    return secrets.token_hex(8)


def _register(database: Database, owner: str, role: str | None) -> None:
    """Note a process among those that work with the ledger; or that it is alive, if it is there."""
    values = {
        "host": socket.gethostname(),
        "pid": os.getpid(),
        "program": __version__,
        "role": role,
        "ledger": records.VERSION,
    }
    database.execute(statements.REGISTER_PROCESS, {"owner": owner, **values})


class FileOwnership:
    """A locked file for each process, beside the SQLite ledger."""

    def __init__(self, folder: Path, database: Database) -> None:
        """Show nothing yet.

        Args:
            folder: the workspace's hidden folder.
            database: where processes are noted.
        """
        self._files = LockFiles(folder / _ALIVE_FOLDER)
        self._database = database
        self.owner = _new_owner()
        self.role: str | None = None
        self.on_notice: Callable[[str], None] = lambda notice: None
        self.is_listening = False

    def take(self) -> None:
        """Lock a file of this process's own, and note the process."""
        self._files.hold(self.owner)
        _register(self._database, self.owner, self.role)

    def is_alive(self, owner: str) -> bool:
        """Whether a process holds the lock of its file."""
        return self._files.is_held(owner)

    def release(self) -> None:
        """Let go of the file, and remove it."""
        self._files.release(self.owner)


class LeaseOwnership:
    """A row of the process table that is renewed every two seconds, on a connection of its own.

    Whoever is late by ten seconds counts as dead, and its claims are anybody's. If it lives after
    all, it notes itself again: it sends nothing that it had claimed before, and answers that come
    late are still taken.
    """

    def __init__(self, database: PostgresqlDatabase) -> None:
        """Show nothing yet.

        Args:
            database: where processes are noted.
        """
        self._database = database
        self.owner = _new_owner()
        self.role: str | None = None
        self.on_notice: Callable[[str], None] = lambda notice: None
        self.is_listening = False
        self._thread: threading.Thread | None = None
        self._is_over = threading.Event()
        self._ending: socket.socket | None = None
        self._end: socket.socket | None = None  # what is written here ends the waiting for notices
        self._interrupted_at = 0.0

    def take(self) -> None:
        """Note the process, and begin to renew its lease."""
        _register(self._database, self.owner, self.role)
        if self._thread is None:
            self._ending, self._end = socket.socketpair()
            self._thread = threading.Thread(target=self._renew, name="lease", daemon=True)
            self._thread.start()

    def is_alive(self, owner: str) -> bool:
        """Whether a process has renewed its lease lately, or could not have done so."""
        if time.monotonic() - self._interrupted_at < _GRACE_SECONDS and self._interrupted_at:
            return True
        values = {"owner": owner, "lease": _LEASE_SECONDS, "grace": _GRACE_SECONDS}
        return not self._database.execute(statements.LEASE_IS_OVER, values)

    def release(self) -> None:
        """Renew the lease no more."""
        self._is_over.set()
        if self._thread is None or self._ending is None or self._end is None:
            return
        with suppress(OSError):  # it was released before
            self._end.send(b".")
        self._thread.join(timeout=_LEASE_SECONDS)
        self._ending.close()
        self._end.close()

    def _renew(self) -> None:
        database = self._database.another()
        database.listen(f"{CHANNEL}{self.owner}")
        try:
            # A command that has ended by then needs no second connection.
            self._is_over.wait(_BEAT_SECONDS)
            while not self._is_over.is_set():
                try:
                    _register(database, self.owner, self.role)
                    self.is_listening = True
                except LedgerError as error:
                    self._interrupted_at = time.monotonic()
                    self.is_listening = False
                    _log.debug("the lease could not be renewed: %s", error)
                self._listen(database, time.monotonic() + _BEAT_SECONDS)
        finally:
            with suppress(LedgerError):  # nothing is kept in it
                database.close()

    def _listen(self, database: PostgresqlDatabase, until: float) -> None:
        """Hear what others tell this process, until a moment of the monotonic clock."""
        assert self._ending is not None
        while not self._is_over.is_set() and (left := until - time.monotonic()) > 0:
            for notice in database.heard(left, self._ending):
                self.on_notice(notice)
