"""The ledger: what was sent, what came back and what it cost, kept so that nothing is lost or paid
for twice.

It opens the database and holds one object for each responsibility. Several processes may use one
ledger at once.
"""

import socket
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from mantisreed.jobs.follow_ups import FollowUpStore
from mantisreed.jobs.jobs import JobStore
from mantisreed.jobs.listing import Listing
from mantisreed.jobs.records import VERSION
from mantisreed.jobs.replies import ReplyStore
from mantisreed.jobs.requests import RequestStore
from mantisreed.jobs.store import schema, statements
from mantisreed.jobs.store.calls import CallRegister
from mantisreed.jobs.store.database import Database, LedgerError
from mantisreed.jobs.store.ownership import FileOwnership, LeaseOwnership, Ownership
from mantisreed.jobs.store.pace import PaceKeeper
from mantisreed.jobs.store.payments import PaymentStore
from mantisreed.jobs.store.postgresql import PostgresqlDatabase
from mantisreed.jobs.store.served import ServedStore, TokenRows, UploadStore
from mantisreed.jobs.store.sqlite import SqliteDatabase
from mantisreed.jobs.under_way import UnderWay, under_way
from mantisreed.workspace import Workspace


class Ledger:
    """One ledger. Its methods take a moment each and may be called from any thread.

    Attributes:
        owner: this process, as it signs what it has under way.
        jobs, requests, replies, pace, calls, follow_ups, served, uploads, tokens: what is kept, and
            how it changes.
        listing: what can be asked.
    """

    def __init__(
        self,
        folder: Path,
        url: str | None = None,
        password: str | None = None,
        *,
        clock: Callable[[], float] = time.time,
        role: str | None = None,
    ) -> None:
        """Open a ledger, or begin a new one; one of an older version is brought up to this one.

        Args:
            folder: the workspace's hidden folder, for large replies and the SQLite file.
            url: of a PostgreSQL database; None for the SQLite file.
            password: of that database.
            clock: of the SQLite file; a server has its own. Tests give one.
            role: what this process is, where it stays: `work` or `serve`.

        Raises:
            LedgerError: it cannot be opened or written, or a newer program has written it.
        """
        self._database, self._ownership = _opened(folder, url, password, clock)
        database = self._database
        self._ownership.role = role
        self.owner = self._ownership.owner
        self.listing = Listing(database)
        self.replies = ReplyStore(folder, database)
        self.pace = PaceKeeper(database)
        self.payments = PaymentStore(database)
        self.calls = CallRegister(database)
        self.served, self.tokens = ServedStore(database), TokenRows(database)
        self.uploads = UploadStore(database)
        self.follow_ups = FollowUpStore(database, self.replies, self.owner)
        self.jobs = JobStore(database, self.owner)
        self.requests = RequestStore(database, self.replies, self.jobs, self.owner)
        self._has_signed_on = False
        database.before_first_change = self.sign_on
        self.recover()

    def close(self) -> None:
        """Sign off, and let go of the database."""
        try:
            if self._has_signed_on:
                with suppress(LedgerError), self.together():  # whoever comes next sees that we end
                    self._left_by(self.owner)
        finally:
            try:
                # Whatever failed: nobody takes us for living any more.
                self._ownership.release()
            finally:
                self._database.close()

    @contextmanager
    def together(self) -> Iterator[None]:
        """What is changed meanwhile is committed at once, at the end; when something is raised,
        none of it is made.

        Raises:
            LedgerError: it could not be committed.
        """
        with self._database.transaction():
            yield

    @property
    def where(self) -> str:
        """Its place, fit for messages."""
        return self._database.where

    def now(self) -> float:
        """Seconds since 1970, by the clock that all processes on it share."""
        return self._database.now()

    @property
    def is_listening(self) -> bool:
        """Whether this process hears what others tell it."""
        return self._ownership.is_listening

    def on_notice(self, tell: Callable[[str], None]) -> None:
        """From now on call this, on any thread, with what others tell this process: the name of an
        engine that may have room for it.
        """
        self._ownership.on_notice = tell

    def end_workers(self) -> int:
        """Ask the workers on this machine to end; gives how many there are."""
        values = {"host": socket.gethostname()}
        with self.together():
            self._database.execute(statements.END_WORKERS, values)
        return sum(one.host == values["host"] for one in self.under_way().workers)

    @property
    def is_to_end(self) -> bool:
        """Whether somebody has asked this process to end."""
        rows = self._database.execute(statements.IS_TO_END, {"owner": self.owner})
        return bool(rows) and bool(rows[0]["is_to_end"])

    def under_way(self) -> UnderWay:
        """Who works with it now, and how much of what was queued is left."""
        return under_way(self._database, self._ownership)

    def living(self, owners: set[str]) -> set[str]:
        """Those of these processes that live."""
        if not owners:
            return set()
        known = {row["owner"] for row in self._database.execute(statements.ALL_PROCESSES)}
        return {owner for owner in owners & known if self._ownership.is_alive(owner)}

    def tidy(self) -> None:
        """See that what was removed is nowhere any more."""
        self._database.tidy()

    def recover(self) -> None:
        """See to what processes that have ended left: requests on their way are unconfirmed, the
        rest is anybody's.
        """
        this = {"owner": self.owner}
        others = self._database.execute(statements.OTHER_PROCESSES, this)
        gone = [row["owner"] for row in others if not self._ownership.is_alive(row["owner"])]
        gone += [row["owner"] for row in self._database.execute(statements.STRAY_OWNERS, this)]
        strays = self._database.execute(statements.STRAY_REQUESTS)
        if gone or strays:
            with self.together():
                self._database.lock("recovery")
                for owner in gone:
                    self._left_by(owner)
                self.requests.leave_strays()

    def sign_on(self) -> None:
        """Note this process among those that work with the ledger; again, when others have taken
        it for dead.

        Raises:
            LedgerError, OutputError: it cannot be noted.
        """
        self._ownership.take()
        self._has_signed_on = True

    def _left_by(self, owner: str) -> None:
        self._database.lock("recovery")  # two processes must not see to the same one
        self.requests.leave(owner)
        self.jobs.leave(owner)
        self.follow_ups.leave(owner)
        self._database.note(statements.REMOVE_PROCESS, {"owner": owner})


def _opened(
    folder: Path, url: str | None, password: str | None, clock: Callable[[], float]
) -> tuple[Database, Ownership]:
    """The database with its tables, and this process's sign of life in it."""
    database = SqliteDatabase(folder, clock) if url is None else PostgresqlDatabase(url, password)
    ownership: Ownership
    if isinstance(database, PostgresqlDatabase):
        ownership = LeaseOwnership(database)
    else:
        ownership = FileOwnership(folder, database)
    try:
        unknown = schema.prepare(database, is_sqlite=url is None, is_alive=ownership.is_alive)
        if unknown:
            known = f"this program knows versions {schema.OLDEST} to {VERSION}"
            raise LedgerError(
                f"the ledger is of version {unknown}; {known}",
                where=database.where,
                advice="install a newer mantisreed; nothing was changed"
                if unknown > VERSION
                else "move it away to begin a new one; nothing was changed",
            )
        return database, ownership
    except BaseException:
        database.close()
        raise


def open_ledger(workspace: Workspace, role: str | None = None) -> Ledger:
    """The workspace's ledger.

    Args:
        workspace: with its place.
        role: as in `Ledger`.

    Raises:
        LedgerError: it cannot be used.
        SecretError: its password is not there.
        TrustError: it lies elsewhere, and the settings are not trusted with that.
    """
    url, password = place_of_ledger(workspace)
    return Ledger(workspace.hidden, url, password, role=role)


def place_of_ledger(workspace: Workspace) -> tuple[str | None, str | None]:
    """The URL of the workspace's database, None for the SQLite file; and its password.

    Raises:
        SecretError: its password is not there.
        TrustError: it lies elsewhere, and the settings are not trusted with that.
    """
    place = workspace.ledger
    workspace.trust.require("database", "leading")
    if place is None:
        return None, None
    if place.password is None:
        return place.url, None
    return place.url, place.password.read(workspace.folder).reveal()
