"""The ledger: what was sent, what came back and what it cost, kept so that nothing is lost or paid for twice.

One SQLite database in WAL mode, `.mantisreed/ledger.sqlite`, which several processes may use at once. Replies lie
beside it, to the byte, under the digest of their content. A change is committed before anything that rests on it is
done: a piece is `sending` before it is sent, and `done` only when its reply is on disk.

The schema, version 1:

    ledger    one row: the version of the schema
    job       one recording at one engine with one set of options; `id` is the address of that work
    piece     one request; `request` is its address, the same for the same sound, engine and options in any job
    attempt   one try of a piece: when, how much was sent, what came, what it cost
    process   those that work with the ledger, and when each was last alive
    start     when requests to an engine started, for its pace
"""

import os
import socket
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import sqlalchemy as sql
from sqlalchemy.engine import Connection, Row

from mantisreed.errors import InputError, MantisreedError
from mantisreed.files import bytes_digest, make_folder, shown, write_whole
from mantisreed.jobs.states import check_transition

VERSION = 1
LEDGER_FILE = "ledger.sqlite"

_BUSY_SECONDS = 60.0
_LATE_SECONDS = 0.1
_SILENT_SECONDS = 60.0  # after which a process that has said nothing is taken for dead

metadata = sql.MetaData()
_ledger = sql.Table("ledger", metadata, sql.Column("version", sql.Integer, nullable=False))
_job = sql.Table(
    "job",
    metadata,
    sql.Column("id", sql.String, primary_key=True),
    sql.Column("recording", sql.String, nullable=False),
    sql.Column("digest", sql.String, nullable=False),
    sql.Column("engine", sql.String, nullable=False, index=True),
    sql.Column("state", sql.String, nullable=False, index=True),
    sql.Column("reason", sql.String),
    sql.Column("duration", sql.Float),
    sql.Column("currency", sql.String),
    sql.Column("created", sql.Float, nullable=False, index=True),
    sql.Column("changed", sql.Float, nullable=False),
)
_piece = sql.Table(
    "piece",
    metadata,
    sql.Column("id", sql.Integer, primary_key=True),
    sql.Column("job", sql.String, sql.ForeignKey("job.id"), nullable=False, index=True),
    sql.Column("request", sql.String, nullable=False, index=True),
    sql.Column("channel", sql.Integer),
    sql.Column("start", sql.Float, nullable=False),
    sql.Column("end", sql.Float, nullable=False),
    sql.Column("state", sql.String, nullable=False),
    sql.Column("owner", sql.String),
    sql.Column("ticket", sql.String),
    sql.Column("reply", sql.String),
    sql.Column("saved", sql.Boolean, nullable=False, default=False),
    sql.UniqueConstraint("job", "request"),
)
_attempt = sql.Table(
    "attempt",
    metadata,
    sql.Column("id", sql.Integer, primary_key=True),
    sql.Column("piece", sql.Integer, sql.ForeignKey("piece.id"), nullable=False, index=True),
    sql.Column("started", sql.Float, nullable=False, index=True),
    sql.Column("ended", sql.Float),
    sql.Column("bytes", sql.Integer, nullable=False),
    sql.Column("outcome", sql.String),
    sql.Column("error", sql.String),
    sql.Column("billed", sql.Float, nullable=False, default=0.0),
    sql.Column("cost", sql.String),
)
_process = sql.Table(
    "process",
    metadata,
    sql.Column("owner", sql.String, primary_key=True),
    sql.Column("seen", sql.Float, nullable=False),
)
_start = sql.Table(
    "start",
    metadata,
    sql.Column("engine", sql.String, nullable=False),
    sql.Column("moment", sql.Float, nullable=False),
    sql.Index("start_by_engine", "engine", "moment"),
)

NOTHING = "nothing"
"""Stands for the digest of a reply that says that nothing was heard."""


class LedgerError(InputError):
    """The ledger cannot be used."""


@dataclass(frozen=True, slots=True)
class JobRecord:
    """A job as the ledger has it; times in seconds since 1970, `cost` None where no price is known."""

    id: str
    recording: str
    engine: str
    state: str
    reason: str | None
    duration: float | None
    created: float
    changed: float
    pieces: int
    pieces_done: int
    billed: float
    saved: float
    cost: Decimal | None
    currency: str | None


@dataclass(frozen=True, slots=True)
class AttemptRecord:
    """One try of a piece."""

    started: float
    ended: float | None
    bytes: int
    outcome: str | None
    error: str | None
    billed: float
    cost: Decimal | None


@dataclass(frozen=True, slots=True)
class PieceRecord:
    """A piece as the ledger has it. `saved` says that its reply had been kept before, and cost nothing."""

    id: int
    request: str
    channel: int | None
    start: float
    end: float
    state: str
    owner: str | None
    ticket: Mapping[str, Any] | None
    reply: str | None
    saved: bool
    attempts: tuple[AttemptRecord, ...] = ()


class Ledger:
    """One ledger. Its methods take a moment each and may be called from any thread."""

    def __init__(self, folder: Path) -> None:
        """Open the ledger in the workspace's hidden folder, or begin a new one.

        Raises:
            LedgerError: it cannot be opened or written, or a newer program has written it.
        """
        self._folder = folder
        make_folder(folder)
        file = folder / LEDGER_FILE
        self._where = shown(file)
        pid = os.getpid()
        self.owner = f"{socket.gethostname()}:{pid}:{_birth(pid)}:{time.time_ns():x}"
        self._engine = sql.create_engine(
            sql.URL.create("sqlite", database=os.fspath(file)),
            connect_args={"timeout": _BUSY_SECONDS, "check_same_thread": False, "isolation_level": None},
        )
        sql.event.listen(self._engine, "connect", _configured)
        try:
            with self._engine.connect() as connection, _writing(connection):
                metadata.create_all(connection)
                version = connection.scalar(sql.select(_ledger.c.version))
                if version is None:
                    connection.execute(_ledger.insert().values(version=VERSION))
                elif version > VERSION:  # leaving by an error takes back what was done so far
                    raise LedgerError(
                        f"the ledger is of version {version}; this program knows versions up to {VERSION}",
                        where=self._where,
                        advice="install a newer mantisreed; nothing was changed",
                    )
                connection.execute(_process.insert().values(owner=self.owner, seen=time.time()))
        except sql.exc.DBAPIError as error:
            raise self._unusable(error) from error

    def close(self) -> None:
        """Let go of the database."""
        self._engine.dispose()

    def beat(self) -> None:
        """Note that this process is alive."""
        with self._transaction() as connection:
            connection.execute(_process.delete().where(_process.c.owner == self.owner))
            connection.execute(_process.insert().values(owner=self.owner, seen=time.time()))

    def _is_alive(self, connection: Connection, owner: str) -> bool:
        """Whether the process that claimed something still works on it."""
        if _is_gone(owner):
            return False
        seen = connection.scalar(sql.select(_process.c.seen).where(_process.c.owner == owner))
        return seen is not None and time.time() - float(seen) < _SILENT_SECONDS

    def open_job(self, job: str, recording: str, digest: str, engine: str, currency: str | None) -> None:
        """Note a job that is being worked on; one that is known already goes on."""
        now = time.time()
        with self._transaction() as connection:
            known = connection.execute(sql.select(_job.c.id).where(_job.c.id == job)).first()
            values = {
                "recording": recording,
                "state": "working",
                "reason": None,
                "changed": now,
                "currency": currency,
            }
            if known:
                connection.execute(_job.update().where(_job.c.id == job).values(values))
            else:
                connection.execute(_job.insert().values(id=job, digest=digest, engine=engine, created=now, **values))

    def close_job(self, job: str, state: str, reason: str | None = None, duration: float | None = None) -> None:
        """Note how a job ended, or why it waits."""
        values = {"state": state, "reason": reason, "changed": time.time()}
        if duration is not None:
            values["duration"] = duration
        with self._transaction() as connection:
            connection.execute(_job.update().where(_job.c.id == job).values(values))

    def claim(
        self, job: str, request: str, start: float, end: float, channel: int | None, *, afresh: bool = False
    ) -> PieceRecord | None:
        """The piece with this request, now this process's own; None while another living process has it.

        A reply to the same request that any job has kept is taken over, unless `afresh`. A piece that a dead process
        was sending is given back as `in doubt`.
        """
        is_it = (_piece.c.job == job) & (_piece.c.request == request)
        values: dict[str, Any] = {"owner": self.owner}
        with self._transaction() as connection:
            row = connection.execute(sql.select(_piece).where(is_it)).first()
            if row is None:
                known = {"job": job, "request": request, "channel": channel, "start": start, "end": end}
                connection.execute(_piece.insert().values(**known, state="waiting"))
            elif row.owner != self.owner and row.state in ("sending", "working"):
                if self._is_alive(connection, row.owner):
                    return None
                if row.state == "sending":
                    self._doubt(connection, row)
            if afresh and row is not None and row.state == "done":
                values |= {"state": "waiting", "reply": None, "saved": False}
            elif not afresh and (row is None or row.reply is None):
                values |= self._kept_elsewhere(connection, request)
            return _piece_record(
                connection.execute(_piece.update().where(is_it).values(values).returning(_piece)).one()
            )

    def send(self, piece: PieceRecord, size: int) -> None:
        """Note that a piece is about to be sent."""
        with self._transaction() as connection:
            self._set_state(connection, piece.id, "sending", ticket=None)
            connection.execute(_attempt.insert().values(piece=piece.id, started=time.time(), bytes=size, billed=0.0))

    def take(self, piece: PieceRecord, ticket: Mapping[str, Any]) -> None:
        """Note that the engine has taken a piece as a job of its own."""
        encoded = msgspec.json.encode(dict(ticket)).decode()
        with self._transaction() as connection:
            self._set_state(connection, piece.id, "working", ticket=encoded)

    def finish(self, piece: PieceRecord, body: bytes | None, *, billed: float, cost: Decimal | None) -> None:
        """Keep a reply, then note the piece as done and what it cost."""
        digest = NOTHING if body is None else self._keep(body)
        with self._transaction() as connection:
            self._set_state(connection, piece.id, "done", reply=digest, ticket=None)
            self._end_attempt(connection, piece.id, "done", None, billed, cost)

    def fail(self, piece: PieceRecord, state: str, error: MantisreedError, *, outcome: str) -> None:
        """Note that an attempt failed with this outcome, why, and what the piece is now."""
        with self._transaction() as connection:
            self._set_state(connection, piece.id, state, ticket=None)
            self._end_attempt(connection, piece.id, outcome, str(error), 0.0, None)

    def reply(self, piece: PieceRecord) -> bytes | None:
        """A kept reply; None when it says that nothing was heard.

        Raises:
            LedgerError: somebody has removed or changed its file.
        """
        assert piece.reply is not None
        if piece.reply == NOTHING:
            return None
        path = self._reply_path(piece.reply)
        try:
            body = path.read_bytes()
        except OSError as error:
            raise LedgerError("a kept reply is gone", where=shown(path), advice="--afresh asks again") from error
        if bytes_digest([body]) != piece.reply:
            raise LedgerError("a kept reply was changed", where=shown(path), advice="--afresh asks again")
        return body

    def next_start(self, engine: str, requests: int, window: float, now: float) -> float:
        """The moment at which one more request to an engine may start, over all processes; it is then taken."""
        with self._transaction() as connection:
            before = connection.scalar(
                sql.select(_start.c.moment)
                .where(_start.c.engine == engine)
                .order_by(_start.c.moment.desc())
                .offset(requests - 1)
                .limit(1)
            )
            # A little more than the window, as a request leaves a moment after its start was noted.
            moment = now if before is None else max(now, before + window + min(_LATE_SECONDS, window / 100))
            connection.execute(_start.insert().values(engine=engine, moment=moment))
            connection.execute(_start.delete().where(_start.c.engine == engine, _start.c.moment < now - 2 * window))
            return float(moment)

    def jobs(
        self, *, state: str | None = None, engine: str | None = None, limit: int | None = None
    ) -> list[JobRecord]:
        """Jobs, the newest first."""
        chosen = sql.select(_job).order_by(_job.c.created.desc(), _job.c.id)
        if state:
            chosen = chosen.where(_job.c.state == state)
        if engine:
            chosen = chosen.where(_job.c.engine == engine)
        with self._engine.connect() as connection:
            rows = connection.execute(chosen.limit(limit) if limit else chosen).all()
            return [_job_record(row, self._sums(connection, row.id)) for row in rows]

    def job(self, beginning: str) -> JobRecord:
        """The job whose id begins so.

        Raises:
            InputError: there is none, or several.
        """
        with self._engine.connect() as connection:
            rows = connection.execute(
                sql.select(_job).where(_job.c.id.startswith(beginning, autoescape=True)).limit(3)
            ).all()
            if len(rows) != 1:
                what = "several jobs begin" if rows else "no job begins"
                raise InputError(f"{what} with {beginning!r}", advice="`mantisreed jobs` lists them")
            return _job_record(rows[0], self._sums(connection, rows[0].id))

    def pieces(self, job: str) -> list[PieceRecord]:
        """A job's pieces with their attempts, by channel and time."""
        with self._engine.connect() as connection:
            chosen = (
                sql.select(_piece).where(_piece.c.job == job).order_by(_piece.c.channel, _piece.c.start, _piece.c.id)
            )
            return [
                _piece_record(row, connection.execute(_attempts_of(row.id)).all())
                for row in connection.execute(chosen).all()
            ]

    def spending(self, by: str = "day") -> list[tuple[str, str, str | None, float, Decimal]]:
        """What was billed, the newest first: (YYYY-MM-DD or YYYY-MM, engine, currency, seconds, cost).

        Args:
            by: `day` or `month`, in UTC.
        """
        when = sql.func.strftime("%Y-%m" if by == "month" else "%Y-%m-%d", _attempt.c.started, "unixepoch")
        chosen = (
            sql.select(when, _job.c.engine, _job.c.currency, _attempt.c.billed, _attempt.c.cost)
            .join(_piece, _piece.c.id == _attempt.c.piece)
            .join(_job, _job.c.id == _piece.c.job)
            .where(_attempt.c.outcome == "done")
        )
        sums: dict[tuple[str, str, str | None], tuple[float, Decimal]] = {}
        with self._engine.connect() as connection:
            for period, engine, currency, billed, cost in connection.execute(chosen):
                seconds, money = sums.get((period, engine, currency), (0.0, Decimal(0)))
                sums[period, engine, currency] = (seconds + billed, money + Decimal(cost or "0"))
        return [(*key, *sums[key]) for key in sorted(sums, key=lambda key: (key[0], key[1]), reverse=True)]

    def saved_seconds(self) -> float:
        """Seconds of sound whose replies were kept already, and not paid for again."""
        with self._engine.connect() as connection:
            return float(
                connection.scalar(sql.select(sql.func.sum(_piece.c.end - _piece.c.start)).where(_piece.c.saved))
                or 0.0
            )

    @contextmanager
    def _transaction(self) -> Iterator[Connection]:
        try:
            with self._engine.connect() as connection, _writing(connection):
                yield connection
        except sql.exc.DBAPIError as error:
            raise self._unusable(error) from error

    def _unusable(self, error: sql.exc.DBAPIError) -> LedgerError:
        reason = str(error.orig).splitlines()[0] if error.orig else "unknown"
        advice = "is the disk full, or the file read-only? what was sent before is safe"
        return LedgerError(f"the ledger cannot be used ({reason})", where=self._where, advice=advice)

    def _set_state(self, connection: Connection, piece: int, state: str, **values: Any) -> None:
        before = connection.execute(sql.select(_piece.c.state).where(_piece.c.id == piece)).scalar_one()
        check_transition(before, state)
        connection.execute(_piece.update().where(_piece.c.id == piece).values(state=state, **values))

    def _doubt(self, connection: Connection, row: "Row[Any]") -> None:
        self._set_state(connection, row.id, "in doubt")
        self._end_attempt(connection, row.id, "in doubt", "the program ended while it was being sent", 0.0, None)

    def _end_attempt(
        self, connection: Connection, piece: int, outcome: str, error: str | None, billed: float, cost: Decimal | None
    ) -> None:
        last = connection.scalar(sql.select(sql.func.max(_attempt.c.id)).where(_attempt.c.piece == piece))
        values = {"ended": time.time(), "outcome": outcome, "error": error, "billed": billed}
        money = None if cost is None else str(cost)
        connection.execute(_attempt.update().where(_attempt.c.id == last).values(**values, cost=money))

    def _kept_elsewhere(self, connection: Connection, request: str) -> dict[str, Any]:
        """What a piece takes over from one of another job that had the same request answered."""
        other = connection.execute(
            sql.select(_piece.c.reply).where(_piece.c.request == request, _piece.c.state == "done").limit(1)
        ).first()
        return {"state": "done", "reply": other.reply, "saved": True} if other else {}

    def _keep(self, body: bytes) -> str:
        digest = bytes_digest([body])
        path = self._reply_path(digest)
        if not path.exists():
            make_folder(path.parent)
            write_whole(path, body)
        return digest

    def _reply_path(self, digest: str) -> Path:
        name = digest.removeprefix("sha256:")
        return self._folder / "replies" / name[:2] / f"{name[2:]}.reply"

    def _sums(self, connection: Connection, job: str) -> dict[str, Any]:
        of_job = _piece.c.job == job
        pieces = connection.execute(
            sql.select(
                sql.func.count(),
                sql.func.sum(sql.case((_piece.c.state == "done", 1), else_=0)),
                sql.func.sum(sql.case((_piece.c.saved, _piece.c.end - _piece.c.start), else_=0.0)),
            ).where(of_job)
        ).one()
        tries = connection.execute(
            sql.select(_attempt.c.billed, _attempt.c.cost).join(_piece, _piece.c.id == _attempt.c.piece).where(of_job)
        ).all()
        costs = [Decimal(row.cost) for row in tries if row.cost is not None]
        return {
            "pieces": pieces[0],
            "pieces_done": pieces[1] or 0,
            "saved": pieces[2] or 0.0,
            "billed": sum(row.billed for row in tries),
            "cost": sum(costs, Decimal(0)) if costs else None,
        }


def _configured(connection: Any, _: object) -> None:
    cursor = connection.cursor()
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=FULL")
    cursor.close()


@contextmanager
def _writing(connection: Connection) -> Iterator[None]:
    """One transaction that may write from its beginning, so that it never has to give way later."""
    connection.exec_driver_sql("BEGIN IMMEDIATE")
    try:
        yield
    except BaseException:
        connection.exec_driver_sql("ROLLBACK")
        raise
    connection.exec_driver_sql("COMMIT")


def _birth(pid: int) -> str:
    """When a process was started, in ticks, where the system tells; numbers of processes come again."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


def _is_gone(owner: str) -> bool:
    """Whether a process of this machine has surely ended."""
    host, pid, birth, _ = owner.rsplit(":", 3)
    if host != socket.gethostname():
        return False
    try:
        os.kill(int(pid), 0)
    except ProcessLookupError:
        return True
    except PermissionError:
        return False
    return birth != _birth(int(pid))


def _attempts_of(piece: int) -> "sql.Select[Any]":
    return sql.select(_attempt).where(_attempt.c.piece == piece).order_by(_attempt.c.id)


def _piece_record(row: "Row[Any]", attempts: "Sequence[Row[Any]]" = ()) -> PieceRecord:
    return PieceRecord(
        row.id,
        row.request,
        row.channel,
        row.start,
        row.end,
        row.state,
        row.owner,
        msgspec.json.decode(row.ticket) if row.ticket else None,
        row.reply,
        row.saved,
        tuple(
            AttemptRecord(
                one.started,
                one.ended,
                one.bytes,
                one.outcome,
                one.error,
                one.billed,
                None if one.cost is None else Decimal(one.cost),
            )
            for one in attempts
        ),
    )


def _job_record(row: "Row[Any]", sums: dict[str, Any]) -> JobRecord:
    named = {name: getattr(row, name) for name in ("id", "recording", "engine", "state", "reason", "duration")}
    return JobRecord(**named, created=row.created, changed=row.changed, currency=row.currency, **sums)
