"""The ledger's database on a PostgreSQL server, which several machines can share.

Nothing rests on the session: no lock, no setting and no prepared statement outlives a transaction,
so that a pooler that gives connections out by transaction works too. A server that restarts, cuts
connections or is away for a while costs time only: what was under way is undone and may be asked
again, and where nobody knows whether a commit was made, the server is asked.

A server may be far away, so that round trips count: statements whose rows nobody needs wait for the
next one, and all of them go together.
"""

import hashlib
import re
import selectors
import socket
import threading
import time
from collections.abc import Mapping
from contextlib import suppress
from functools import cache
from typing import Any

from mantisreed.extras import from_extra
from mantisreed.jobs.store.database import (
    IN_LIST,
    ConnectedDatabase,
    LedgerAwayError,
    LedgerError,
    Row,
)
from mantisreed.limits import LARGEST_REPLY

_CONNECT_SECONDS = 10  # until a database server counts as away
_LOST_SECONDS = 10  # without a sign of the other side, until a connection counts as broken
# A process that is stopped in the middle of a change stops all others: they wait so long for it.
# More than any change takes, also with a reply of 32 MiB at 5 MB/s.
_IDLE_SECONDS = 8
_LOCK_SECONDS = 60  # for which a change waits for those of others
_OUTAGE_SECONDS = 600.0  # for which it is asked again whether a commit was made
_PAUSE_SECONDS = 1.0
_LONGEST_TOGETHER = 1 << 20  # bytes of a value that goes with other statements, written as text
_PARAMETER = re.compile(r"(?<!:):([a-z_]+)")

# By class: the connection broke, the server is stopping or starting, too many connections.
_AWAY = ("08", "57P", "53300")
# Another try may succeed: the lock was not had in time, or somebody else had to come first.
_TRY_AGAIN = ("55P03", "40001", "40P01", "25P03")

# Whatever the server's usual is: each statement has to see what others have committed before it.
_BEGIN = "BEGIN ISOLATION LEVEL READ COMMITTED"
# The settings hold for the transaction only. The number of the transaction is what the server is
# asked by when the connection breaks at the commit.
_NUMBER = f"""
SELECT set_config('lock_timeout', '{_LOCK_SECONDS}s', true),
    set_config('idle_in_transaction_session_timeout', '{_IDLE_SECONDS}s', true),
    txid_current() AS number
"""
_LOCK = "SELECT pg_advisory_xact_lock(:number)"
_TRY_LOCK = "SELECT pg_try_advisory_xact_lock(:number) AS found"
_CLOCK = "CAST(extract(epoch FROM clock_timestamp()) AS DOUBLE PRECISION)"


class PostgresqlDatabase(ConnectedDatabase):
    """A database on a PostgreSQL server."""

    _advice = "check that the database is running and that its URL and password are right"
    # Another machine does not see files that are beside the first one's ledger.
    largest_reply = LARGEST_REPLY
    has_notices = True

    def __init__(self, url: str, password: str | None = None) -> None:
        """Connect to nothing yet.

        Args:
            url: `postgresql://USER@HOST:PORT/DATABASE`.
            password: None where the server asks for none.

        Raises:
            MissingExtraError: the driver is not installed.
            LedgerError: the URL cannot be read.
        """
        super().__init__()
        with from_extra("postgresql", "the driver of the ledger, which is in PostgreSQL,"):
            import psycopg
            from psycopg.conninfo import conninfo_to_dict, make_conninfo
            from psycopg.rows import dict_row
        self._driver, self._dict_row = psycopg, dict_row
        self._driver_error = psycopg.Error
        self._url, self._password = url, password
        extra = {} if password is None else {"password": password}
        try:
            given: dict[str, Any] = conninfo_to_dict(url)
            self._conninfo = make_conninfo(url, **(_OF_CONNECTIONS | given | extra))
        except psycopg.Error as error:
            raise LedgerError(
                "the URL of the ledger cannot be read", advice="check [ledger] url"
            ) from error
        self.where = f"{given.get('host') or 'localhost'}/{given.get('dbname') or ''}"
        self._number: int | None = None
        self._noted: list[tuple[str, Mapping[str, Any]]] = []  # not sent yet
        self._has_begun = False  # whether anything of the transaction was sent
        self._locks: set[str] = set()
        self._is_closing = threading.Event()
        self._channel: str | None = None
        self._heard: list[str] = []

    @property
    def conninfo(self) -> str:
        """How it is connected to, with the password."""
        return self._conninfo

    def another(self) -> "PostgresqlDatabase":
        """The same database by a connection of its own."""
        return PostgresqlDatabase(self._url, self._password)

    def listen(self, channel: str) -> None:
        """Hear what is told to a channel, from the next connection on. Behind a pooler nothing is
        heard.
        """
        self._channel = channel

    def heard(self, seconds: float, other: socket.socket) -> list[str]:
        """What was told to the channel; waits for it, for so many seconds or until there is
        something to read at the other socket.
        """
        with selectors.DefaultSelector() as waiting:
            waiting.register(other, selectors.EVENT_READ)
            connection = self._connection
            if connection is not None:
                with suppress(self._driver_error):  # it is closed
                    waiting.register(connection.fileno(), selectors.EVENT_READ, connection)
            ready = [key.data for key, _ in waiting.select(seconds)]
        if connection is not None and connection in ready:
            try:
                connection.pgconn.consume_input()
                while notice := connection.pgconn.notifies():
                    self._heard.append(notice.extra.decode())
            except self._driver_error:
                self._drop()  # it broke; the next statement makes another one
        heard, self._heard = self._heard, []
        return heard

    def execute(self, statement: str, values: Mapping[str, Any] | None = None) -> list[Row]:
        """As in `Database`. What only reads is asked again when the connection was cut since, and
        so is the beginning of a transaction.
        """
        had_connection = self._connection is not None
        is_first = self._is_in_transaction and self._number is None
        noted = list(self._noted)
        try:
            return super().execute(statement, values)
        except LedgerAwayError:
            only_reads = not self._is_in_transaction and statement.lstrip().startswith("SELECT")
            if self._connection is not None or not had_connection or not (is_first or only_reads):
                raise
        self._noted = noted
        return super().execute(statement, values)

    def note(self, statement: str, values: Mapping[str, Any] | None = None) -> None:
        """As in `Database`."""
        given = values or {}
        is_long = any(
            isinstance(value, bytes) and len(value) > _LONGEST_TOGETHER for value in given.values()
        )
        with self._lock:
            if is_long or not self._is_in_transaction:
                self.execute(statement, given)
            else:
                self._noted.append((statement, given))

    def lock(self, name: str) -> None:
        """As in `Database`.

        Raises:
            LedgerAwayError: waiting for it could be without end, as somebody who has it may wait
                for one that this transaction has. Changes that share a transaction take locks in
                any order; each alone is made then.
        """
        number = int.from_bytes(
            hashlib.sha256(f"mantisreed {name}".encode()).digest()[:8], signed=True
        )
        with self._lock:
            if name in self._locks:
                return
            if all(name > other for other in self._locks):
                self.note(_LOCK, {"number": number})
            elif not self.execute(_TRY_LOCK, {"number": number})[0]["found"]:
                raise LedgerAwayError("others change the same at this moment", where=self.where)
            self._locks.add(name)

    def now(self) -> float:
        """The server's clock: machines' own clocks differ."""
        return float(self.execute("SELECT CLOCK() AS now")[0]["now"])

    def tidy(self) -> None:
        """The server does so by itself."""

    def tables(self) -> set[str]:
        """The names of all tables."""
        found = self.execute(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema()"
        )
        return {row["table_name"] for row in found}

    def close(self) -> None:
        """Let go of the connection; nothing is waited for any more."""
        self._is_closing.set()
        super().close()

    def _begun(self) -> None:
        self._number, self._has_begun = None, False
        self._locks.clear()
        self._noted = [(_BEGIN, {}), (_NUMBER, {})]

    def _commit(self) -> None:
        if not self._has_begun:
            self._commit_noted()
            return
        number = self._number
        was_connected = self._connection is not None
        try:
            super()._commit()
        except LedgerAwayError:
            if not was_connected or number is None or not self._was_committed(number):
                raise

    def _commit_noted(self) -> None:
        """Send a whole transaction in one message, by any connection.

        It asks nothing, and may be made twice. Where the answer is lost, its number is not known,
        and it counts as not made.
        """
        if len(self._noted) == len((_BEGIN, _NUMBER)):
            self._noted.clear()  # nothing was changed
            return
        had_connection, noted = self._connection is not None, list(self._noted)
        try:
            self.execute("COMMIT")
        except LedgerError as error:
            self._undo()
            if not had_connection or not isinstance(error, LedgerAwayError):
                raise
            # It was cut since it was used last.
            self._noted = noted
            self._commit_noted()

    def _undo(self) -> None:
        self._noted.clear()
        if self._has_begun:
            super()._undo()

    def _was_committed(self, number: int) -> bool:
        """Whether a transaction was committed of which the server's answer was lost.

        Raises:
            LedgerAwayError: the server is away for so long that nobody waits any more.
        """
        deadline = time.monotonic() + _OUTAGE_SECONDS
        while True:
            try:
                (row,) = super().execute(
                    "SELECT txid_status(CAST(:number AS BIGINT)) AS status", {"number": number}
                )
            except LedgerAwayError:
                if time.monotonic() > deadline or self._is_closing.is_set():
                    raise
            else:
                # The server may not have noticed yet that the connection is gone.
                if row["status"] != "in progress":
                    return bool(row["status"] == "committed")
            self._is_closing.wait(_PAUSE_SECONDS)

    def _connect(self) -> Any:
        connection = self._driver.connect(
            self._conninfo,
            autocommit=True,
            row_factory=self._dict_row,
            # A pooler gives each transaction another connection, which would not know them.
            prepare_threshold=None,
        )
        if self._channel is not None:
            # What comes while a statement is answered is given to the handler, all else to `heard`.
            connection.add_notify_handler(lambda notice: self._heard.append(notice.payload))
            connection.execute(f'LISTEN "{self._channel}"')
        return connection

    def _rows(self, connection: Any, statement: str, values: Mapping[str, Any]) -> list[Row]:
        if not self._noted:
            cursor = connection.execute(_for_postgresql(statement), values)
            return _fetched(cursor)
        together = [*self._noted, (statement, values)]
        self._noted, self._has_begun = [], True
        # Values are written into the text, as several statements with parameters of their own
        # cannot go together.
        cursor = self._driver.ClientCursor(connection, row_factory=self._dict_row)
        texts = [cursor.mogrify(_for_postgresql(one), given) for one, given in together]
        cursor.execute(";\n".join(texts))
        for one, _ in together[:-1]:
            if one is _NUMBER:
                self._number = int(_fetched(cursor)[0]["number"])
            cursor.nextset()
        return _fetched(cursor)

    def _connected(self) -> Any:
        # Before anything of a transaction was sent, any connection will do.
        is_in_transaction = self._is_in_transaction
        self._is_in_transaction = is_in_transaction and self._number is not None
        try:
            return super()._connected()
        finally:
            self._is_in_transaction = is_in_transaction

    def _is_away_by(self, error: Exception) -> bool:
        # A statement that fails for its own reasons leaves the connection whole.
        if self._connection is None:
            return not _is_refusal(error)
        state = getattr(error, "sqlstate", None) or ""
        return bool(self._connection.closed) or state.startswith(_AWAY) or state in _TRY_AGAIN


_OF_CONNECTIONS: dict[str, str | int] = {
    "connect_timeout": _CONNECT_SECONDS,
    "application_name": "mantisreed",
    # A machine that vanishes says nothing; without these it is waited for two hours.
    "keepalives": 1,
    "keepalives_idle": 5,
    "keepalives_interval": 2,
    "keepalives_count": 3,
    "tcp_user_timeout": 1000 * _LOST_SECONDS,
}
"""What a connection is made with, where the URL does not say it."""


def _is_refusal(error: Exception) -> bool:
    """Whether the server is there and lets us not in, which waiting does not change."""
    text = str(error)
    return "authentication failed" in text or "does not exist" in text


def _fetched(cursor: Any) -> list[Row]:
    """The rows of a statement; none of one that has none."""
    rows: list[Row] = cursor.fetchall() if cursor.description else []
    return rows


@cache
def _for_postgresql(statement: str) -> str:
    statement = statement.replace("CLOCK()", _CLOCK)
    listed = IN_LIST.sub(r"IN (SELECT jsonb_array_elements_text(:\1::jsonb))", statement)
    return _PARAMETER.sub(r"%(\1)s", listed.replace("%", "%%"))
