"""The ledger's database: SQLite in WAL mode, or PostgreSQL; one kept connection, plain SQL.

Statements are written once, in `statements.py`, with `:name` for parameters, which both databases
understand after the translation here. Every change is one transaction that takes its lock at the
start, so that it never has to give way later: `BEGIN IMMEDIATE` in SQLite, an advisory lock in
PostgreSQL. Changes of one moment can share a transaction.
"""

import re
import sqlite3
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, suppress
from functools import cache
from pathlib import Path
from typing import Any, Protocol

from mantisreed.errors import InputError, reason_of
from mantisreed.files import printable
from mantisreed.folders import check_no_link
from mantisreed.jobs.records import LEDGER_FILE
from mantisreed.state import make_folder

Row = Mapping[str, Any]

_BUSY_SECONDS = 60.0  # how long SQLite waits for another process's transaction
_SWITCH_PAUSE = 0.01  # seconds between two tries to switch a new file to WAL
_CONNECT_SECONDS = 10  # until a database server counts as away
_LOCK = 0x6D616E7469737265  # of all changes in PostgreSQL; any number that is always the same
_IN_LIST = re.compile(r"IN_LIST\(:([a-z_]+)\)")
"""`IN_LIST(:names)` in a statement: any of the texts in one parameter, a JSON list. Drivers limit
how many parameters
a statement may have, and a filter may name a hundred thousand jobs."""
_PARAMETER = re.compile(r"(?<!:):([a-z_]+)")


class LedgerError(InputError):
    """The ledger cannot be used."""


class Database(Protocol):
    """A database that several threads and processes use at once.

    Attributes:
        where: its place, fit for messages.
        on_connect: called after each new connection was made.
    """

    where: str
    on_connect: Callable[[], None]

    def execute(self, statement: str, values: Mapping[str, Any] | None = None) -> list[Row]:
        """Run one statement; gives the rows of a query or of RETURNING, by column name.

        Raises:
            LedgerError: the database cannot be used, or written.
        """
        ...

    def script(self, statements: Sequence[str]) -> None:
        """Run statements without parameters, in order."""
        ...

    def transaction(self) -> AbstractContextManager[None]:
        """All that is executed inside is made or nothing; inside another transaction it is a part
        of that one.
        """
        ...

    def now(self) -> float:
        """Seconds since 1970, by the clock that all processes on this database share."""
        ...

    def tables(self) -> set[str]:
        """The names of its tables."""
        ...

    def after_commit(self, action: Callable[[], object]) -> None:
        """Do something when the transaction that is open is on disk; nothing when it is undone."""
        ...

    def tidy(self) -> None:
        """See that what was removed is nowhere any more, as far as the database lets us."""
        ...

    def close(self) -> None:
        """Let go of the connection."""
        ...


class _Connected:
    """What both kinds of database have in common: one connection, one lock, nested transactions."""

    _begin: Sequence[str]
    _driver_error: type[Exception]
    _advice: str
    where: str

    def __init__(self) -> None:
        self._lock = threading.RLock()
        self._connection: Any = None
        self._is_in_transaction = False
        self._after_commit: list[Callable[[], object]] = []
        self.on_connect: Callable[[], None] = lambda: None

    def execute(self, statement: str, values: Mapping[str, Any] | None = None) -> list[Row]:
        with self._lock:
            try:
                return self._rows(self._connected(), statement, values or {})
            except self._driver_error as error:
                raise self._unusable(error) from error

    def script(self, statements: Sequence[str]) -> None:
        for statement in statements:
            self.execute(statement)

    def transaction(self) -> "_Transaction":
        return _Transaction(self)

    def begin(self) -> bool:
        """Begin a transaction; False inside another one, which this is then a part of."""
        self._lock.acquire()
        if self._is_in_transaction:
            return False
        try:
            for statement in self._begin:
                self.execute(statement)
        except BaseException:
            self._lock.release()
            raise
        self._is_in_transaction = True
        return True

    def end(self, *, is_outermost: bool, is_failed: bool) -> None:
        """Commit, or undo what was executed."""
        actions: list[Callable[[], object]] = []
        try:
            if not is_outermost:
                return
            actions, self._after_commit = self._after_commit, []
            self._is_in_transaction = False
            if not is_failed:
                self._commit()
        finally:
            if is_outermost and is_failed:
                actions = []
                self._undo()
            self._lock.release()
        for action in actions:
            action()

    def _commit(self) -> None:
        try:
            self.execute("COMMIT")
        except LedgerError:
            self._undo()
            raise

    def _undo(self) -> None:
        # When the disk is full, or the connection gone, it is undone already.
        if self._connection is not None:
            with suppress(self._driver_error):  # nothing is left to undo
                self._connection.execute("ROLLBACK")

    def after_commit(self, action: Callable[[], object]) -> None:
        with self._lock:
            if self._is_in_transaction:
                self._after_commit.append(action)
                return
        action()

    def close(self) -> None:
        with self._lock:
            self._drop()

    def _connected(self) -> Any:
        if self._connection is None:
            self._connection = self._connect()
            # Whoever holds something by the connection, such as a lock, takes it again.
            self.on_connect()
        return self._connection

    def _connect(self) -> Any:
        raise NotImplementedError

    def _rows(self, connection: Any, statement: str, values: Mapping[str, Any]) -> list[Row]:
        raise NotImplementedError

    def _drop(self) -> None:
        if self._connection is not None:
            with suppress(self._driver_error):  # it is broken
                self._connection.close()
            self._connection = None

    def _unusable(self, error: Exception) -> LedgerError:
        """The driver's error as ours; a connection that may be broken is not used again."""
        if self._is_broken_by(error):
            self._drop()
        return LedgerError(
            f"the ledger cannot be used ({reason_of(error)})",
            where=self.where,
            advice=f"{self._advice}; what was noted before is safe",
        )

    def _is_broken_by(self, error: Exception) -> bool:
        raise NotImplementedError


class _Transaction:
    """One `with` block. A class of its own, as the library's decorator costs as much as a
    statement.
    """

    __slots__ = ("_database", "_is_outermost")

    def __init__(self, database: "_Connected") -> None:
        self._database = database
        self._is_outermost = False

    def __enter__(self) -> None:
        self._is_outermost = self._database.begin()

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        self._database.end(is_outermost=self._is_outermost, is_failed=kind is not None)


class SqliteDatabase(_Connected):
    """The file in the workspace's hidden folder."""

    # IMMEDIATE: a transaction that reads first and writes later would fail when another one wrote
    # in between.
    _begin = ("BEGIN IMMEDIATE",)
    _driver_error = sqlite3.Error
    _advice = "check that the disk is not full and the file can be written"

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

    def _is_broken_by(self, error: Exception) -> bool:
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


class PostgresqlDatabase(_Connected):
    """A database on a PostgreSQL server, which several machines can share."""

    _advice = "check that the database is running and that its URL and password are right"

    def __init__(self, url: str, password: str | None = None) -> None:
        """Connect to nothing yet.

        Args:
            url: `postgresql://USER@HOST:PORT/DATABASE`.
            password: None where the server asks for none.

        Raises:
            LedgerError: the driver is not installed, or the URL cannot be read.
        """
        super().__init__()
        try:
            import psycopg
            from psycopg.conninfo import conninfo_to_dict, make_conninfo
            from psycopg.rows import dict_row
        except ImportError as error:
            raise LedgerError(
                "the ledger is in PostgreSQL, and its driver is not installed",
                advice="pip install 'mantisreed[postgresql]'",
            ) from error
        self._driver, self._dict_row = psycopg, dict_row
        self._driver_error = psycopg.Error
        extra = {} if password is None else {"password": password}
        try:
            self._conninfo = make_conninfo(url, connect_timeout=_CONNECT_SECONDS, **extra)
            parts = conninfo_to_dict(self._conninfo)
        except psycopg.Error as error:
            raise LedgerError(
                "the URL of the ledger cannot be read", advice="check [ledger] url"
            ) from error
        self.where = f"{parts.get('host') or 'localhost'}/{parts.get('dbname') or ''}"
        self._begin = ("BEGIN", f"SELECT pg_advisory_xact_lock({_LOCK})")

    def now(self) -> float:
        """The server's clock: machines' own clocks differ."""
        return float(self.execute("SELECT extract(epoch FROM clock_timestamp()) AS now")[0]["now"])

    def tidy(self) -> None:
        """The server does so by itself."""

    def tables(self) -> set[str]:
        """The names of all tables."""
        found = self.execute(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema()"
        )
        return {row["table_name"] for row in found}

    def _connect(self) -> Any:
        return self._driver.connect(self._conninfo, autocommit=True, row_factory=self._dict_row)

    def _rows(self, connection: Any, statement: str, values: Mapping[str, Any]) -> list[Row]:
        cursor = connection.execute(_for_postgresql(statement), values)
        rows: list[Row] = cursor.fetchall() if cursor.description else []
        return rows

    def _is_broken_by(self, error: Exception) -> bool:
        # A statement that fails for its own reasons leaves the connection whole, and our session
        # lock with it.
        return (
            self._connection is None
            or self._connection.closed
            or isinstance(error, self._driver.OperationalError)
        )


@cache
def _for_sqlite(statement: str) -> str:
    return _IN_LIST.sub(r"IN (SELECT value FROM json_each(:\1))", statement)


@cache
def _for_postgresql(statement: str) -> str:
    listed = _IN_LIST.sub(r"IN (SELECT jsonb_array_elements_text(:\1::jsonb))", statement)
    return _PARAMETER.sub(r"%(\1)s", listed.replace("%", "%%"))
