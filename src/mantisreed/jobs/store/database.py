"""What the ledger asks of its database, and what both kinds have in common: one kept connection,
plain SQL.

Statements are written once, in `statements.py`, with `:name` for parameters, which both databases
understand after a translation. Every change is one transaction. SQLite lets one in at a time
(`BEGIN IMMEDIATE`). PostgreSQL lets all in: conditions inside the statements, locked rows and named
locks decide between them. Changes of one moment can share a transaction.
"""

import re
import threading
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, suppress
from typing import Any, Protocol

from mantisreed.errors import InputError, reason_of

Row = Mapping[str, Any]

IN_LIST = re.compile(r"IN_LIST\(:([a-z_]+)\)")
"""`IN_LIST(:names)` in a statement: any of the texts in one parameter, a JSON list. Drivers limit
how many parameters a statement may have, and a filter may name a hundred thousand jobs."""

ROW_LOCK = re.compile(r"\s+FOR UPDATE(?: OF \w+)?\s*$")
"""The end of a query that locks its rows until the transaction has ended."""


def in_order(row: Row) -> tuple[Any, ...]:
    """The values of a row in the order of its query, which is quicker than by name."""
    if isinstance(row, dict):
        return tuple(row.values())
    return tuple(row)


class LedgerError(InputError):
    """The ledger cannot be used."""


class LedgerAwayError(LedgerError):
    """The database cannot be reached now; what was asked of it was not made, and may be asked
    again.
    """


class Database(Protocol):
    """A database that several threads and processes use at once.

    Attributes:
        where: its place, fit for messages.
        before_first_change: called once, before the first transaction. Whoever only reads takes no
            lock and writes nothing.
        largest_reply: bytes; larger replies are files beside it.
        has_notices: whether one process can tell something to another by it.
    """

    where: str
    before_first_change: Callable[[], None] | None
    largest_reply: int
    has_notices: bool

    def execute(self, statement: str, values: Mapping[str, Any] | None = None) -> list[Row]:
        """Run one statement; gives the rows of a query or of RETURNING, by column name.

        Raises:
            LedgerAwayError: it cannot be reached now.
            LedgerError: the database cannot be used, or written.
        """
        ...

    def note(self, statement: str, values: Mapping[str, Any] | None = None) -> None:
        """Run one statement of a transaction whose rows nobody needs; at the latest when it ends.

        Raises:
            LedgerError: as `execute`; or the next statement raises it, or the end of the
                transaction.
        """
        ...

    def lock(self, name: str) -> None:
        """Let nobody else do what goes by this name until the transaction has ended, and see what
        they have done before. Where a change takes several, they are in alphabetical order.
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


class ConnectedDatabase:
    """What both kinds of database have in common: one connection, one lock, nested transactions."""

    _begin: Sequence[str]
    _driver_error: type[Exception]
    _advice: str
    where: str
    largest_reply: int
    has_notices = False

    def __init__(self) -> None:
        self._lock = threading.RLock()
        self._connection: Any = None
        self._is_in_transaction = False
        self._after_commit: list[Callable[[], object]] = []
        self.before_first_change: Callable[[], None] | None = None

    def execute(self, statement: str, values: Mapping[str, Any] | None = None) -> list[Row]:
        """As in `Database`."""
        with self._lock:
            try:
                return self._rows(self._connected(), statement, values or {})
            except self._driver_error as error:
                raise self._unusable(error) from error

    def note(self, statement: str, values: Mapping[str, Any] | None = None) -> None:
        """As in `Database`."""
        self.execute(statement, values)

    def lock(self, name: str) -> None:
        """As in `Database`; here a transaction has everything to itself."""

    def script(self, statements: Sequence[str]) -> None:
        """As in `Database`."""
        for statement in statements:
            self.execute(statement)

    def transaction(self) -> "_Transaction":
        """As in `Database`."""
        return _Transaction(self)

    def begin(self) -> bool:
        """Begin a transaction; False inside another one, which this is then a part of."""
        self._lock.acquire()
        if self._is_in_transaction:
            return False
        try:
            self._announce()
            self._begun()
        except BaseException:
            self._lock.release()
            raise
        self._is_in_transaction = True
        return True

    def _announce(self) -> None:
        """Tell that there will be a change, before the first one."""
        tell, self.before_first_change = self.before_first_change, None
        if tell is None:
            return
        try:
            tell()
        except BaseException:
            self.before_first_change = tell
            raise

    def _begun(self) -> None:
        for statement in self._begin:
            self.execute(statement)

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
        # A new connection would have nothing to commit, and would say that it has done so.
        if self._connection is None:
            raise self._cut_off()
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
        """As in `Database`."""
        with self._lock:
            if self._is_in_transaction:
                self._after_commit.append(action)
                return
        action()

    def close(self) -> None:
        """As in `Database`."""
        with self._lock:
            self._drop()

    def _connected(self) -> Any:
        if self._connection is None:
            # What was executed before the connection broke is undone; the rest must not be made
            # without it.
            if self._is_in_transaction:
                raise self._cut_off()
            self._connection = self._connect()
        return self._connection

    def _cut_off(self) -> LedgerAwayError:
        return LedgerAwayError(
            "the connection to the ledger broke in the middle of a change",
            where=self.where,
            advice=f"{self._advice}; earlier notes are safe",
        )

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
        kind: type[LedgerError] = LedgerError
        if self._is_away_by(error):
            kind = LedgerAwayError
            self._drop()
        return kind(
            f"the ledger cannot be used ({reason_of(error)})",
            where=self.where,
            advice=f"{self._advice}; earlier notes are safe",
        )

    def _is_away_by(self, error: Exception) -> bool:
        """Whether the connection is broken, or another try may succeed."""
        raise NotImplementedError


class _Transaction:
    """One `with` block. A class of its own, as the library's decorator costs as much as a
    statement.
    """

    __slots__ = ("_database", "_is_outermost")

    def __init__(self, database: "ConnectedDatabase") -> None:
        self._database = database
        self._is_outermost = False

    def __enter__(self) -> None:
        self._is_outermost = self._database.begin()

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        self._database.end(is_outermost=self._is_outermost, is_failed=kind is not None)
