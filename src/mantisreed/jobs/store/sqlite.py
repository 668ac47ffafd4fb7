"""The ledger's database as a file: SQLite in WAL mode."""

import sqlite3
import time
from collections.abc import Callable, Mapping
from functools import cache
from pathlib import Path
from typing import Any

from mantisreed.errors import reason_of
from mantisreed.files import printable
from mantisreed.folders import check_no_link
from mantisreed.jobs.records import LEDGER_FILE
from mantisreed.jobs.store.database import (
    IN_LIST,
    ROW_LOCK,
    ConnectedDatabase,
    LedgerError,
    Row,
)
from mantisreed.state import make_folder

_BUSY_SECONDS = 60.0  # how long SQLite waits for another process's transaction
_SWITCH_PAUSE = 0.01  # seconds between two tries to switch a new file to WAL


class SqliteDatabase(ConnectedDatabase):
    """The file in the workspace's hidden folder."""

    # IMMEDIATE: a transaction that reads first and writes later would fail when another one wrote
    # in between.
    _begin = ("BEGIN IMMEDIATE",)
    _driver_error = sqlite3.Error
    _advice = "check that the disk is not full and the file can be written"
    largest_reply = 256 * 1024  # what a commit writes twice; larger ones are files

    def __init__(self, folder: Path, clock: Callable[[], float] = time.time) -> None:
        """Connect to nothing yet.

        Args:
            folder: where the file lies.
            clock: seconds since 1970, as all processes that can lock the file have them.
        """
        super().__init__()
        make_folder(folder)
        self._clock = clock
        self._file = folder / LEDGER_FILE
        self.where = printable(self._file)

    def now(self) -> float:
        """The machine's clock: all processes that can lock one SQLite file share it."""
        return self._clock()

    def tidy(self) -> None:
        """Put the write-ahead log into the database file."""
        self.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def tables(self) -> set[str]:
        """The names of all tables."""
        return {
            row["name"]
            for row in self.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
        }

    def _connect(self) -> sqlite3.Connection:
        # Autocommit, so that only our own BEGIN begins a transaction.
        connection = sqlite3.connect(
            self._checked_file(),
            timeout=_BUSY_SECONDS,
            check_same_thread=False,
            isolation_level=None,
            cached_statements=256,
        )
        connection.row_factory = sqlite3.Row
        connection.create_function("CLOCK", 0, self._clock)
        try:
            _switch_to_wal(connection)
            # A commit is on disk, not only with the system.
            connection.execute("PRAGMA synchronous=FULL")
            # What is forgotten is written over, not only given free.
            connection.execute("PRAGMA secure_delete=ON")
        except BaseException:
            connection.close()
            raise
        return connection

    def _checked_file(self) -> Path:
        """The file, and those that SQLite keeps beside it, of which none is a link."""
        try:
            for beside in ("-wal", "-shm", "-journal"):
                check_no_link(self._file.with_name(self._file.name + beside))
            return check_no_link(self._file)
        except OSError as error:
            raise LedgerError(
                f"the ledger cannot be used ({reason_of(error)})", where=self.where
            ) from error

    def _rows(self, connection: Any, statement: str, values: Mapping[str, Any]) -> list[Row]:
        rows: list[Row] = connection.execute(_for_sqlite(statement), values).fetchall()
        return rows

    def _is_away_by(self, error: Exception) -> bool:
        return False


def _switch_to_wal(connection: sqlite3.Connection) -> None:
    """Let readers and a writer work at once; while another process makes the file, wait for that.

    SQLite waits by itself for a lock everywhere but here: the switch fails at once when two
    processes open a new file at the same moment.
    """
    deadline = time.monotonic() + _BUSY_SECONDS
    while True:
        try:
            connection.execute("PRAGMA journal_mode=WAL")
            return
        except sqlite3.OperationalError as error:
            is_locked = error.sqlite_errorcode & 0xFF in (
                sqlite3.SQLITE_BUSY,
                sqlite3.SQLITE_LOCKED,
            )
            if not is_locked or time.monotonic() > deadline:
                raise
            time.sleep(_SWITCH_PAUSE)


@cache
def _for_sqlite(statement: str) -> str:
    # A transaction has the whole file, so that no row needs a lock of its own.
    unlocked = ROW_LOCK.sub("", statement)
    return IN_LIST.sub(r"IN (SELECT value FROM json_each(:\1))", unlocked)
