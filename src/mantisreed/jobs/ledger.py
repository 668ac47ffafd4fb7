"""The ledger: what was sent, what came back and what it cost, kept so that nothing is lost or paid for twice.

Several processes may use one ledger at once. Replies are kept to the byte under the digest of their content: small
ones in the database, so that they are on disk with the same commit, large ones in files. A change is committed before
anything that rests on it is done: a piece is `sending` before it is sent, and `done` only when its reply is on disk.
The tables are in `schema.py`, how they are read in `listing.py`.
"""

import hashlib
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any, Literal

import msgspec
import sqlalchemy as sql
from sqlalchemy.engine import Connection, Row

from mantisreed.errors import MantisreedError
from mantisreed.files import bytes_digest, make_folder, shown, write_whole
from mantisreed.jobs import schema
from mantisreed.jobs.database import Database, LedgerError, Prepared
from mantisreed.jobs.listing import Listing
from mantisreed.jobs.owners import is_gone, own_name
from mantisreed.jobs.records import VERSION, PieceRecord, piece_record
from mantisreed.jobs.states import FOLLOWING, check_transition
from mantisreed.workspace import Workspace

_LATE_SECONDS = 0.5
_SILENT_SECONDS = 60.0  # after which a process that has said nothing is taken for dead
_CALLS_KEPT = 24 * 3600.0  # seconds; calls are refused by their age long before

NOTHING = "nothing"
"""Stands for the digest of a reply that says that nothing was heard."""

_NOT_ITS_OWN = "the engine gave it the id of another job"
_BROKEN_OFF = "the program ended before everything was sent"

_OUT = ("sending", "working", "in doubt")
"""The states of a piece of which an answer may come."""

_NOT_DONE = tuple(state for state in FOLLOWING if state != "done" and "done" in FOLLOWING[state])
_TAKABLE = tuple(state for state in FOLLOWING if "working" in FOLLOWING[state])
_SENDABLE = tuple(state for state in FOLLOWING if "sending" in FOLLOWING[state])

_LARGEST_IN_DATABASE = 256 * 1024  # bytes of a reply

_job, _piece, _attempt, _process, _start, _reply, _call = (
    schema.job,
    schema.piece,
    schema.attempt,
    schema.process,
    schema.start,
    schema.reply,
    schema.call,
)


class Ledger:
    """One ledger. Its methods take a moment each and may be called from any thread.

    Attributes:
        listing: what can be asked of it.
        owner: this process, as it signs what it has under way.
    """

    def __init__(self, folder: Path, address: sql.URL | None = None) -> None:
        """Open a ledger, or begin a new one; one of an older version is brought up to this one.

        Args:
            folder: the workspace's hidden folder, for the kept replies and the SQLite file.
            address: of another database; None for the SQLite file.

        Raises:
            LedgerError: it cannot be opened or written, or a newer program has written it.
        """
        self._folder = folder
        make_folder(folder)
        self._database = Database(folder, address)
        self.listing = Listing(self._database)
        self.owner = own_name()
        with self._database.changing() as connection:
            if newer := schema.prepare(connection):
                raise LedgerError(
                    f"the ledger is of version {newer}; this program knows versions up to {VERSION}",
                    where=self._database.where,
                    advice="install a newer mantisreed; nothing was changed",
                )
            connection.execute(_process.insert().values(owner=self.owner, seen=time.time()))

    def close(self) -> None:
        """Sign off, and let go of the database."""
        try:
            with self._database.changing() as connection:
                connection.execute(_process.delete().where(_process.c.owner == self.owner))
        except LedgerError:
            pass  # it will be taken for dead in a minute
        finally:
            self._database.close()

    @contextmanager
    def together(self) -> Iterator[None]:
        """What is changed meanwhile is committed at once, at the end; when something is raised, none of it is made.

        Raises:
            LedgerError: it could not be committed.
        """
        with self._database.changing():
            yield

    def beat(self) -> None:
        """Note that this process is alive, and forget those that have not been for long."""
        now = time.time()
        with self._database.changing() as connection:
            connection.execute(_process.delete().where(_process.c.owner == self.owner))
            connection.execute(_process.insert().values(owner=self.owner, seen=now))
            connection.execute(_process.delete().where(_process.c.seen < now - 60 * _SILENT_SECONDS))

    def settle(self) -> None:
        """See to what dead processes have left: pieces that were being sent are in doubt, their jobs are waiting."""
        with self._database.changing() as connection:
            alive: dict[str, bool] = {}

            def is_left(owner: str | None) -> bool:
                if owner is None or owner == self.owner:
                    return False
                if owner not in alive:
                    alive[owner] = self._is_alive(connection, owner)
                return not alive[owner]

            for row in connection.execute(sql.select(_piece).where(_piece.c.state == "sending")).all():
                if is_left(row.owner):
                    self._doubt(connection, row)
            open_jobs = sql.select(_job.c.id, _job.c.owner, _job.c.made).where(
                _job.c.state.in_(("sending", "working")), _job.c.owner.is_not(None)
            )
            for row in connection.execute(open_jobs).all():
                if not is_left(row.owner):
                    continue
                states = set(connection.scalars(sql.select(_piece.c.state).where(_piece.c.job == row.id).distinct()))
                if "in doubt" in states:
                    self._set_job(connection, row.id, "in doubt", _BROKEN_OFF, owner=None)
                elif row.made is None or states & {"waiting", "failed"}:
                    self._set_job(connection, row.id, "waiting", _BROKEN_OFF, owner=None)
                else:
                    connection.execute(_job.update().where(_job.c.id == row.id).values(owner=None))

    def open_job(
        self, job: str, recording: str, digest: str, engine: str, currency: str | None, order: str | None = None
    ) -> None:
        """Note a job that is being sent; one that is known already goes on."""
        now = time.time()
        values = {
            "recording": recording,
            "state": "sending",
            "reason": None,
            "changed": now,
            "currency": currency,
            "owner": self.owner,
            "order": order,
            "made": None,
        }
        with self._database.changing() as connection:
            if connection.execute(sql.select(_job.c.id).where(_job.c.id == job)).first():
                connection.execute(_job.update().where(_job.c.id == job).values(values))
            else:
                connection.execute(_job.insert().values(id=job, digest=digest, engine=engine, created=now, **values))

    def set_job(
        self,
        job: str,
        state: str,
        reason: str | None = None,
        *,
        made: str | None = None,
        duration: float | None = None,
    ) -> str:
        """Note how a job stands and why, and what it was made into, where that is known now.

        Returns:
            The state that it has: `waiting` instead of `done` when a reply was taken away from it meanwhile.
        """
        known = {"made": made, "duration": duration}
        with self._database.changing() as connection:
            values = {name: value for name, value in known.items() if value is not None}
            if state == "done" and self._lacks_a_piece(connection, job, made):
                state, reason = "waiting", _NOT_ITS_OWN
            self._set_job(connection, job, state, reason, **values)
        return state

    def claim(
        self,
        job: str,
        request: str,
        start: float,
        end: float,
        channel: int | None,
        *,
        sound: str | None = None,
        price: Decimal | None = None,
        afresh: bool = False,
    ) -> PieceRecord | None:
        """The piece with this request, now this process's own; None while another living process has it.

        A reply to the same request that any job has kept is taken over, unless `afresh`. A piece that a dead process
        was sending is given back as `in doubt`.
        """
        values: dict[str, Any] = {"owner": self.owner, "sound": sound, "price": _text(price)}
        with self._database.changing() as connection:
            rows = _FIND.rows(connection, {"a_request": request})
            row = next((one for one in rows if one.job == job), None)
            if row is not None and self._is_anothers(connection, row):
                return None
            if afresh and row is not None and row.state == "done":
                values |= {"state": "waiting", "reply": None, "saved": False}
            elif not afresh and (row is None or row.state not in ("done", "working")):
                other = _best([one for one in rows if one.job != job])
                if other is not None and other.state == "sending" and self._is_alive(connection, other.owner):
                    return None
                values |= _taken_over(other)
            if row is None:
                known = {"job": job, "request": request, "channel": channel, "start": start, "end": end}
                values = {**dict.fromkeys(_MADE), "state": "waiting", "saved": False, **known, **values}
                return piece_record(*_MAKE.rows(connection, values))
            return piece_record(
                connection.execute(
                    _piece.update().where(_piece.c.id == row.id).values(values).returning(_piece)
                ).one()
            )

    def adopt(self, piece: int) -> PieceRecord | None:
        """A piece that is at its engine, now this process's own; None while another living process waits for it."""
        with self._database.changing() as connection:
            row = connection.execute(sql.select(_piece).where(_piece.c.id == piece)).one()
            if self._is_anothers(connection, row):
                return None
            mine = _piece.update().where(_piece.c.id == piece).values(owner=self.owner).returning(_piece)
            return piece_record(connection.execute(mine).one())

    def send(
        self,
        piece: PieceRecord,
        size: int,
        token: str | None = None,
        turn: tuple[str, float] | None = None,
        now: float | None = None,
    ) -> None:
        """Note that a piece is about to be sent.

        Args:
            piece: which one.
            size: bytes of its audio.
            token: the secret part of the address it may be called at.
            turn: the engine and the moment that `next_start` gave it; for the pace it starts now, which is later.
            now: seconds since 1970; None takes the system's clock.
        """
        hidden = None if token is None else _hidden(token)
        with self._database.changing() as connection:
            if turn is not None:
                _LATER.run(
                    connection, {"engine": turn[0], "turn": turn[1], "now": time.time() if now is None else now}
                )
            if not self._moved(connection, piece.id, _SENDABLE, "sending", ticket=None, token=hidden):
                self._move(connection, piece.id, "sending", ticket=None, token=hidden)
            _BEGIN.run(connection, {"piece": piece.id, "started": time.time(), "bytes": size, "billed": 0.0})

    def take(
        self, piece: PieceRecord, ticket: Mapping[str, Any], mark: str | None = None, *, is_found: bool = False
    ) -> Literal["taken", "done", "not its own"]:
        """Note that the engine has taken a piece as a job of its own.

        Args:
            piece: which one.
            ticket: what asking for it needs.
            mark: the engine's own id for it; no other piece may have the same.
            is_found: it was taken by an attempt that seemed to have failed, which goes on with this.

        Returns:
            `done` when its reply has come meanwhile, `not its own` when another piece has that mark.
        """
        encoded = msgspec.json.encode(dict(ticket)).decode()
        with self._database.changing() as connection:
            others = [] if mark is None else _SAME_MARK.rows(connection, {"a_mark": mark, "a_request": piece.request})
            if others and not is_found:
                return "not its own"
            for other in self._with_heirs(
                connection, others
            ):  # the engine knows whose it is; it gave it to another one by mistake
                self._take_away(connection, other)
            if is_found:
                _REOPEN.run(connection, {"a_piece": piece.id})
            if self._moved(connection, piece.id, _TAKABLE, "working", ticket=encoded, mark=mark):
                return "taken"
            self._move(connection, piece.id, "done")  # the only other state; nothing changes
        return "done"

    def _take_away(self, connection: Connection, row: "Row[Any]") -> None:
        """Take back what a piece got by an id that is another's: it is sent again, and its job is not done."""
        if row.state == "cancelled":
            return
        self._move(connection, row.id, "waiting", ticket=None, reply=None, mark=None, saved=False)
        self._end_attempt(connection, row.id, "in doubt", _NOT_ITS_OWN, 0.0, None)
        self._set_job(connection, row.job, "waiting", _NOT_ITS_OWN)

    def _with_heirs(self, connection: Connection, rows: "Sequence[Row[Any]]") -> "list[Row[Any]]":
        """Pieces, and those that have taken a reply over from them; each once."""
        found = {row.id: row for row in rows}
        for row in rows:
            for twin in _FIND.rows(connection, {"a_request": row.request}) if row.state == "done" else ():
                if twin.saved and twin.state == "done" and twin.reply == row.reply:
                    found.setdefault(twin.id, twin)
        return list(found.values())

    def _lacks_a_piece(self, connection: Connection, job: str, made: str | None) -> bool:
        """Whether a piece that a job was made into is not done."""
        missing = {row.request for row in _MISSING.rows(connection, {"a_job": job})}
        if not missing:
            return False
        if made is None:
            made = connection.scalar(sql.select(_job.c.made).where(_job.c.id == job))
        return not missing.isdisjoint(msgspec.json.decode(made)["pieces"] if made else ())

    def finish(
        self,
        piece: PieceRecord,
        body: bytes | None,
        *,
        billed: float,
        cost: Decimal | None,
        is_out: bool = False,
    ) -> bool:
        """Keep a reply, then note the piece as done and what it cost; False when it is not waited for any more.

        Args:
            piece: which one.
            body: the reply to the byte; None when it says that nothing was heard.
            billed: seconds that are charged for.
            cost: money, in the card's currency.
            is_out: only finish a piece that is out, as one that was asked for or called for is.
        """
        with self._database.changing() as connection:
            digest = NOTHING if body is None else self._keep(connection, body)
            waiting_for = _OUT if is_out else _NOT_DONE
            if not self._moved(connection, piece.id, waiting_for, "done", reply=digest, ticket=None):
                return False
            self._end_attempt(connection, piece.id, "done", None, billed, cost)
        return True

    def fail(self, piece: PieceRecord, state: str, error: MantisreedError, *, outcome: str) -> None:
        """Note that an attempt failed with this outcome, why, and what the piece is now."""
        with self._database.changing() as connection:
            if self._state(connection, piece.id) == "done":
                return  # its reply came by another way
            self._move(connection, piece.id, state, ticket=None)
            self._end_attempt(connection, piece.id, outcome, str(error), 0.0, None)

    def cancel(self, job: str, reason: str) -> list[Mapping[str, Any]]:
        """Note that a job is not wanted any more; what is answered stays kept.

        Returns:
            The tickets of pieces that are at the engine and that no other job waits for.

        Raises:
            LedgerError: a living process is sending a piece of it.
        """
        tickets = []
        with self._database.changing() as connection:
            for row in connection.execute(
                sql.select(_piece).where(_piece.c.job == job, _piece.c.state != "done")
            ).all():
                if self._is_anothers(connection, row) and row.state == "sending":
                    raise LedgerError(
                        "a piece of it is being sent by another process", where=job, advice="stop that one first"
                    )
                shared = sql.select(_piece.c.id).where(
                    _piece.c.mark == row.mark, _piece.c.job != job, _piece.c.state == "working"
                )
                if row.ticket and not connection.execute(shared.limit(1)).first():
                    tickets.append(msgspec.json.decode(row.ticket))
                self._move(connection, row.id, "cancelled", ticket=None)
                self._end_attempt(connection, row.id, "cancelled", reason, 0.0, None, only_open=True)
            self._set_job(connection, job, "cancelled", reason)
        return tickets

    def forget(self, job: str) -> int:
        """Remove a job's kept replies, but for those that other jobs need; what was paid stays noted.

        Returns:
            How many were removed.
        """
        with self._database.changing() as connection:
            of_job = _piece.c.job == job
            replies = connection.scalars(
                sql.select(_piece.c.reply).where(of_job, _piece.c.reply.is_not(None)).distinct()
            ).all()
            for row in connection.execute(sql.select(_piece).where(of_job, _piece.c.state == "done")).all():
                self._move(connection, row.id, "cancelled", reply=None, saved=False)
            self._set_job(connection, job, "cancelled", "its replies were forgotten")
            needed = set(connection.scalars(sql.select(_piece.c.reply).where(_piece.c.reply.in_(replies))))
            unneeded = [reply for reply in replies if reply not in needed and reply != NOTHING]
            connection.execute(_reply.delete().where(_reply.c.digest.in_(unneeded)))
            # Within the change, so that nobody takes one over meanwhile.
            for reply in unneeded:
                self._reply_path(reply).unlink(missing_ok=True)
        return len(unneeded)

    def called(self, token: str) -> PieceRecord | None:
        """The piece whose engine was given this token; None when there is none."""
        with self._database.reading() as connection:
            row = connection.execute(sql.select(_piece).where(_piece.c.token == _hidden(token))).first()
        return None if row is None else piece_record(row)

    def is_left(self, job: str) -> bool:
        """Whether no living process has this job under way."""
        with self._database.reading() as connection:
            owner = connection.scalar(sql.select(_job.c.owner).where(_job.c.id == job))
            return owner is None or not self._is_alive(connection, owner)

    def note_call(self, call: str) -> bool:
        """Note a callback by its id; False when it was noted before."""
        now = time.time()
        with self._database.changing() as connection:
            if connection.execute(sql.select(_call.c.id).where(_call.c.id == call)).first():
                return False
            connection.execute(_call.delete().where(_call.c.moment < now - _CALLS_KEPT))
            connection.execute(_call.insert().values(id=call, moment=now))
        return True

    def piece(self, number: int) -> PieceRecord:
        """One piece, as it is now."""
        with self._database.reading() as connection:
            return piece_record(*_LOOK.rows(connection, {"a_piece": number}))

    def reply(self, piece: PieceRecord) -> bytes | None:
        """A kept reply; None when it says that nothing was heard.

        Raises:
            LedgerError: somebody has removed or changed its file.
        """
        assert piece.reply is not None
        if piece.reply == NOTHING:
            return None
        path = self._reply_path(piece.reply)
        with self._database.reading() as connection:
            kept = connection.scalar(sql.select(_reply.c.body).where(_reply.c.digest == piece.reply))
        try:
            body = path.read_bytes() if kept is None else bytes(kept)
        except OSError as error:
            raise LedgerError("a kept reply is gone", where=shown(path), advice="--afresh asks again") from error
        if bytes_digest([body]) != piece.reply:
            where = shown(path) if kept is None else self._database.where
            raise LedgerError("a kept reply was changed", where=where, advice="--afresh asks again")
        return body

    def next_start(self, engine: str, requests: int, window: float, now: float) -> float:
        """The moment at which one more request to an engine may start, over all processes; it is then taken."""
        with self._database.changing() as connection:
            before = connection.scalar(
                sql.select(_start.c.moment)
                .where(_start.c.engine == engine)
                .order_by(_start.c.moment.desc())
                .offset(requests - 1)
                .limit(1)
            )
            moment = now if before is None else max(now, before + window + _late(window))
            connection.execute(_start.insert().values(engine=engine, moment=moment))
            connection.execute(_start.delete().where(_start.c.engine == engine, _start.c.moment < now - 2 * window))
            return float(moment)

    def turn_due(self, turn: tuple[str, float], requests: int, window: float) -> float:
        """When a turn may really start, as those before it may have started later than they were given."""
        with self._database.reading() as connection:
            before = connection.scalar(
                sql.select(_start.c.moment)
                .where(_start.c.engine == turn[0], _start.c.moment <= turn[1])
                .order_by(_start.c.moment.desc())
                .offset(requests)
                .limit(1)
            )
        return turn[1] if before is None else max(turn[1], float(before) + window + _late(window))

    def _is_alive(self, connection: Connection, owner: str) -> bool:
        """Whether the process that claimed something still works on it."""
        if is_gone(owner):
            return False
        seen = connection.scalar(sql.select(_process.c.seen).where(_process.c.owner == owner))
        return seen is not None and time.time() - float(seen) < _SILENT_SECONDS

    def _is_anothers(self, connection: Connection, row: "Row[Any]") -> bool:
        """Whether a living process has a piece under way; what a dead one was sending is then in doubt."""
        if row.owner == self.owner or row.owner is None or row.state not in ("sending", "working"):
            return False
        if self._is_alive(connection, row.owner):
            return True
        if row.state == "sending":
            self._doubt(connection, row)
        return False

    def _set_job(self, connection: Connection, job: str, state: str, reason: str | None, **values: Any) -> None:
        values |= {"state": state, "reason": reason, "changed": time.time()}
        connection.execute(_job.update().where(_job.c.id == job).values(values))

    def _state(self, connection: Connection, piece: int) -> str:
        return str(_LOOK.rows(connection, {"a_piece": piece})[0].state)

    def _move(self, connection: Connection, piece: int, state: str, **values: Any) -> None:
        check_transition(self._state(connection, piece), state)
        _moving(tuple(values)).run(connection, {"a_piece": piece, "state": state, **values})

    def _moved(self, connection: Connection, piece: int, before: tuple[str, ...], state: str, **values: Any) -> bool:
        """Give a piece another state, if it is in one of these."""
        statement = _moving(tuple(values), before)
        return statement.run(connection, {"a_piece": piece, "state": state, **values}) > 0

    def _doubt(self, connection: Connection, row: "Row[Any]") -> None:
        self._move(connection, row.id, "in doubt")
        self._end_attempt(connection, row.id, "in doubt", "the program ended while it was being sent", 0.0, None)

    def _end_attempt(
        self,
        connection: Connection,
        piece: int,
        outcome: str,
        error: str | None,
        billed: float,
        cost: Decimal | None,
        *,
        only_open: bool = False,
    ) -> None:
        values = {"ended": time.time(), "outcome": outcome, "error": error, "billed": billed, "cost": _text(cost)}
        (_END_OPEN if only_open else _END).run(connection, {"a_piece": piece, **values})

    def _keep(self, connection: Connection, body: bytes) -> str:
        digest = bytes_digest([body])
        if len(body) <= _LARGEST_IN_DATABASE:
            _KEEP.run(connection, {"digest": digest, "body": body})
            return digest
        path = self._reply_path(digest)
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, body)
        return digest

    def _reply_path(self, digest: str) -> Path:
        name = digest.removeprefix("sha256:")
        return self._folder / "replies" / name[:2] / f"{name[2:]}.reply"


# Statements that are made for every piece.
_FIND = Prepared(sql.select(_piece).where(_piece.c.request == sql.bindparam("a_request")))
_MISSING = Prepared(
    sql.select(_piece.c.request).where(
        _piece.c.job == sql.bindparam("a_job"), _piece.c.state != sql.literal_column("'done'")
    )
)
_LOOK = Prepared(sql.select(_piece).where(_piece.c.id == sql.bindparam("a_piece")))
_SAME_MARK = Prepared(
    sql.select(_piece).where(_piece.c.mark == sql.bindparam("a_mark"), _piece.c.request != sql.bindparam("a_request"))
)
_MADE = [column.name for column in _piece.columns if column.name != "id"]
_MAKE = Prepared(_piece.insert().returning(_piece), _MADE)
_KEEP = Prepared(  # one that is there already stays
    _reply.insert().from_select(
        ["digest", "body"],
        sql.select(sql.bindparam("digest", type_=sql.String), sql.bindparam("body", type_=sql.LargeBinary)).where(
            ~sql.exists().where(_reply.c.digest == sql.bindparam("digest", type_=sql.String))
        ),
    )
)
_TURN = (_start.c.engine == sql.bindparam("engine")) & (_start.c.moment == sql.bindparam("turn"))
_LATER = Prepared(  # turns of the same moment move together, which errs on the safe side
    _start.update().where(_TURN, _start.c.moment < sql.bindparam("now")).values(moment=sql.bindparam("now"))
)
_BEGIN = Prepared(_attempt.insert(), ["piece", "started", "bytes", "billed"])
_LAST = sql.select(sql.func.max(_attempt.c.id)).where(_attempt.c.piece == sql.bindparam("a_piece")).scalar_subquery()
_ENDED: dict[str, Any] = {name: sql.bindparam(name) for name in ("ended", "outcome", "error", "billed", "cost")}
_END = Prepared(_attempt.update().where(_attempt.c.id == _LAST).values(_ENDED))
_REOPEN = Prepared(
    _attempt.update()
    .where(_attempt.c.id == _LAST)
    .values({name: sql.null() for name in ("ended", "outcome", "error")})
)
_END_OPEN = Prepared(_attempt.update().where(_attempt.c.id == _LAST, _attempt.c.ended.is_(None)).values(_ENDED))


@cache
def _moving(names: tuple[str, ...], before: tuple[str, ...] | None = None) -> Prepared:
    """The statement that gives a piece a state and values for these columns; if it is in one of these states."""
    columns: dict[str, Any] = {name: sql.bindparam(name) for name in ("state", *names)}
    statement = _piece.update().where(_piece.c.id == sql.bindparam("a_piece")).values(columns)
    if before is not None:
        statement = statement.where(sql.or_(*(_piece.c.state == sql.literal_column(f"'{one}'") for one in before)))
    return Prepared(statement)


def _best(rows: "Sequence[Row[Any]]") -> "Row[Any] | None":
    """The one of other jobs' pieces with the same request that is farthest on; None if none has been sent."""
    order = ("done", "working", "sending")
    sent = [row for row in rows if row.state in order]
    return min(sent, key=lambda row: order.index(row.state), default=None)


def _taken_over(other: "Row[Any] | None") -> dict[str, Any]:
    """What a piece takes over from one of another job with the same request: its reply, or the wait for it."""
    if other is None or other.state == "sending":
        return {}
    if other.state == "done":
        return {"state": "done", "reply": other.reply, "saved": True, "price": None}
    return {"state": "working", "ticket": other.ticket, "mark": other.mark, "saved": True, "price": None}


def _late(window: float) -> float:
    """Seconds that are waited beyond a pace's window: a request arrives a moment after its start was noted."""
    return min(_LATE_SECONDS, window / 100)


def _text(money: Decimal | None) -> str | None:
    return None if money is None else str(money)


def _hidden(token: str) -> str:
    """A token as it is kept: whoever reads the ledger cannot call back with it."""
    return hashlib.sha256(token.encode()).hexdigest()


def open_ledger(workspace: Workspace) -> Ledger:
    """The workspace's ledger.

    Raises:
        LedgerError: it cannot be used.
        SecretError: its password is not there.
    """
    place = workspace.ledger
    if place is None:
        return Ledger(workspace.hidden)
    address = sql.make_url(place.address).set(drivername="postgresql+psycopg")
    if place.password is not None:
        address = address.set(password=place.password.read(workspace.folder).reveal())
    return Ledger(workspace.hidden, address)
