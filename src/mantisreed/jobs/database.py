"""The ledger's database: SQLite in WAL mode, or PostgreSQL; one kept connection, transactions that hold their locks.

Every change begins as one that writes, so that it never has to give way later: `BEGIN IMMEDIATE` in SQLite, one
advisory lock in PostgreSQL. Changes of one moment can be made in one transaction, all of them or none.
"""

import os
import threading
from collections import namedtuple
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import sqlalchemy as sql
from sqlalchemy.engine import Connection

from mantisreed.errors import InputError
from mantisreed.files import make_folder, shown
from mantisreed.jobs.records import LEDGER_FILE

_BUSY_SECONDS = 60.0
_LOCK = 0x6D616E7469737265  # any number that is always the same


class LedgerError(InputError):
    """The ledger cannot be used."""


class Prepared:
    """A statement that is made very often: compiled once, then given to the driver as it is, which costs a tenth."""

    def __init__(self, statement: "sql.Executable", keys: Sequence[str] | None = None) -> None:
        """Compile nothing yet.

        Args:
            statement: with bound parameters.
            keys: the columns that an insertion gives values to.
        """
        self._statement: Any = statement
        self._keys = keys
        self._compiled: dict[str, tuple[str, tuple[str, ...] | None]] = {}
        names = [column.name for column in getattr(statement, "exported_columns", ())]
        self._row: Callable[[Any], Any] = getattr(namedtuple("Row", names), "_make")  # noqa: B009 - names are not known

    def rows(self, connection: Connection, values: Mapping[str, Any]) -> list[Any]:
        """The rows that it gives, with columns by name."""
        return [self._row(row) for row in self._cursor(connection, values).fetchall()]

    def run(self, connection: Connection, values: Mapping[str, Any]) -> int:
        """How many rows it changed."""
        return int(self._cursor(connection, values).rowcount)

    def _cursor(self, connection: Connection, values: Mapping[str, Any]) -> Any:
        dialect = connection.dialect
        if dialect.name not in self._compiled:
            compiled = self._statement.compile(dialect=dialect, column_keys=self._keys)
            positions = compiled.positiontup
            self._compiled[dialect.name] = compiled.string, None if positions is None else tuple(positions)
        text, order = self._compiled[dialect.name]
        driver: Any = connection.connection.driver_connection
        parameters = values if order is None else [values[name] for name in order]
        return driver.execute(text, parameters)


class Database:
    """A database that several threads and processes use at once."""

    def __init__(self, folder: Path, address: sql.URL | None = None) -> None:
        """Connect to nothing yet.

        Args:
            folder: where the SQLite file lies.
            address: of another database; None for the SQLite file.

        Raises:
            LedgerError: the address names no database that can be spoken to.
        """
        self._lock = threading.RLock()
        self._is_changing = False
        self._connection: Connection | None = None
        if address is None:
            make_folder(folder)
            file = folder / LEDGER_FILE
            self.where = shown(file)
            address = sql.URL.create("sqlite", database=os.fspath(file))
            arguments: dict[str, Any] = {"timeout": _BUSY_SECONDS, "check_same_thread": False}
        else:
            self.where = f"{address.host or 'localhost'}/{address.database or ''}"
            arguments = {"connect_timeout": 10}
        self._is_sqlite = address.get_backend_name() == "sqlite"
        try:
            self._engine = sql.create_engine(address, connect_args=arguments, isolation_level="AUTOCOMMIT")
        except ImportError as error:
            raise LedgerError(
                "the ledger is in PostgreSQL, and its driver is not installed",
                where=self.where,
                advice="pip install 'mantisreed[postgresql]'",
            ) from error
        assert self._engine.dialect.dbapi is not None
        self._driver_error: type[Exception] = self._engine.dialect.dbapi.Error
        if self._is_sqlite:
            sql.event.listen(self._engine, "connect", _configured)

    def close(self) -> None:
        """Let go of the connection."""
        with self._lock:
            self._drop()
            self._engine.dispose()

    @contextmanager
    def changing(self) -> Iterator[Connection]:
        """One change: all of it is made or nothing. Inside another change it is a part of that one.

        Raises:
            LedgerError: the database cannot be used, or written.
        """
        with self._lock, self._translated():
            connection = self._connected()
            if self._is_changing:
                yield connection
                return
            connection.exec_driver_sql("BEGIN IMMEDIATE" if self._is_sqlite else "BEGIN")
            self._is_changing = True
            try:
                if not self._is_sqlite:
                    connection.exec_driver_sql(f"SELECT pg_advisory_xact_lock({_LOCK})")
                yield connection
                connection.exec_driver_sql("COMMIT")
            except BaseException:
                # When the disk is full, or the connection gone, it is undone already.
                with suppress(sql.exc.DBAPIError, self._driver_error):
                    connection.exec_driver_sql("ROLLBACK")
                raise
            finally:
                self._is_changing = False

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """Reading only.

        Raises:
            LedgerError: the database cannot be used.
        """
        with self._lock, self._translated():
            yield self._connected()

    def _connected(self) -> Connection:
        if self._connection is None:
            self._connection = self._engine.connect()
        return self._connection

    def _drop(self) -> None:
        if self._connection is not None:
            with suppress(sql.exc.DBAPIError):
                self._connection.close()
            self._connection = None

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except sql.exc.DBAPIError as error:
            if error.connection_invalidated or self._connection is None:
                self._drop()
            raise self._unusable(error.orig) from error
        except self._driver_error as error:
            if not self._is_sqlite:
                self._drop()
            raise self._unusable(error) from error

    def _unusable(self, error: BaseException | None) -> LedgerError:
        reason = next(iter(str(error or "").strip().splitlines()), "unknown")
        if self._is_sqlite:
            advice = "is the disk full, or the file read-only? what was noted before is safe"
        else:
            advice = "is the database running, and are its address and password right? what was noted before is safe"
        return LedgerError(f"the ledger cannot be used ({reason})", where=self.where, advice=advice)


def _configured(connection: Any, _: object) -> None:
    cursor = connection.cursor()
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=FULL")
    cursor.close()
