"""Who is alive: each process holds a lock that the operating system or the database releases when
it ends.

No clock and no process number takes part: a laptop may sleep, and two containers may have the same
host name and the same process numbers.
"""

import hashlib
import secrets
import time
from pathlib import Path
from typing import Protocol

from filelock import FileLock, Timeout

from mantisreed.files import cannot_write
from mantisreed.folders import check_no_link, forget
from mantisreed.jobs.store.database import LedgerError, PostgresqlDatabase
from mantisreed.state import make_folder

_ALIVE_FOLDER = "alive"
_RECONNECT_SECONDS = 30.0  # for which the server may take a lost session for living


class Ownership(Protocol):
    """This process's sign of life, and a way to look for those of others.

    Attributes:
        owner: how this process signs what it has under way.
    """

    owner: str

    def take(self) -> None:
        """Take the lock; again after the connection that held it was lost.

        Raises:
            LedgerError, OutputError: it cannot be taken.
        """
        ...

    def is_alive(self, owner: str) -> bool:
        """Whether another process is still there."""
        ...

    def release(self) -> None:
        """Give the lock up."""
        ...


def _new_owner() -> str:
    return secrets.token_hex(8)


class FileOwnership:
    """A locked file for each process, beside the SQLite ledger."""

    def __init__(self, folder: Path) -> None:
        """Take the lock.

        Args:
            folder: the workspace's hidden folder.

        Raises:
            OutputError: the folder cannot be written.
        """
        self._folder = folder / _ALIVE_FOLDER
        make_folder(self._folder)
        self.owner = _new_owner()
        self._lock = self._lock_of(self.owner)
        self.take()

    def take(self) -> None:
        """Show that this process is alive, by a locked file."""
        try:
            self._lock.acquire()
        except OSError as error:
            raise cannot_write(self._path_of(self.owner), error) from error

    def is_alive(self, owner: str) -> bool:
        """Whether a process holds the lock of its file."""
        path = self._path_of(owner)
        if not path.exists():
            return False
        lock = self._lock_of(owner)
        try:
            lock.acquire(blocking=False)
        except Timeout:
            return True
        lock.release()
        forget(path)
        return False

    def release(self) -> None:
        """Let go of the file, and remove it."""
        self._lock.release()
        forget(self._path_of(self.owner))

    def _lock_of(self, owner: str) -> FileLock:
        # Not bound to a thread: the ledger is opened on one and closed on another.
        try:
            return FileLock(check_no_link(self._path_of(owner)), thread_local=False)
        except OSError as error:
            raise cannot_write(self._path_of(owner), error) from error

    def _path_of(self, owner: str) -> Path:
        return self._folder / f"{owner}.lock"


class SessionOwnership:
    """An advisory lock of the database session; the server releases it when the connection ends."""

    def __init__(self, database: PostgresqlDatabase) -> None:
        """Take the lock.

        Raises:
            LedgerError: the database cannot be used.
        """
        self._database = database
        self.owner = _new_owner()
        self.take()

    def is_alive(self, owner: str) -> bool:
        """Whether a process holds its lock in the database."""
        high, low = _halves(owner)
        # Looked up, not tried: a lock that is tried is taken for a moment, which others would see.
        found = self._database.execute(
            """
            SELECT 1 AS found FROM pg_locks
            WHERE locktype = 'advisory' AND objsubid = 2 AND granted
              AND database = (SELECT oid FROM pg_database WHERE datname = current_database())
              AND classid::bigint = :high AND objid::bigint = :low
            """,
            {"high": high, "low": low},
        )
        return bool(found)

    def release(self) -> None:
        """Let go of the lock."""
        self._database.execute("SELECT pg_advisory_unlock_all()")

    def take(self) -> None:
        """Show that this process is alive, by a lock of its connection."""
        high, low = map(_signed, _halves(self.owner))
        deadline = time.monotonic() + _RECONNECT_SECONDS
        while True:
            (row,) = self._database.execute(
                "SELECT pg_try_advisory_lock(CAST(:high AS INTEGER), CAST(:low AS INTEGER)) AS "
                "is_taken",
                {"high": high, "low": low},
            )
            if row["is_taken"]:
                return
            if time.monotonic() > deadline:
                raise LedgerError(
                    "the database still holds the lock of a connection that was lost",
                    where=self._database.where,
                    advice="start the same command again; what was noted before is safe",
                )
            time.sleep(0.5)


def _halves(owner: str) -> tuple[int, int]:
    """The two keys of an owner's advisory lock, as `pg_locks` shows them: unsigned, 32 bits
    each.
    """
    digest = hashlib.sha256(f"mantisreed {owner}".encode()).digest()
    return int.from_bytes(digest[:4], "big"), int.from_bytes(digest[4:8], "big")


def _signed(half: int) -> int:
    """The same 32 bits as the signed number that PostgreSQL's function takes."""
    return half - (1 << 32) if half >= 1 << 31 else half
