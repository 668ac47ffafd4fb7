"""Reading the ledger: jobs, their pieces, and money."""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from decimal import Decimal
from itertools import islice
from typing import Any

import sqlalchemy as sql
from sqlalchemy.engine import Connection, Row

from mantisreed.errors import InputError
from mantisreed.jobs import schema
from mantisreed.jobs.database import Database
from mantisreed.jobs.records import Filter, JobRecord, PieceRecord, money, piece_record

_AT_ONCE = 500  # values in one question, well below what any database allows


class Listing:
    """What can be asked of a ledger without changing it."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def jobs(self, chosen: Filter | None = None, *, limit: int | None = None) -> list[JobRecord]:
        """Jobs, the newest first."""
        statement = _where(sql.select(schema.job), chosen or Filter())
        statement = statement.order_by(schema.job.c.created.desc(), schema.job.c.id).limit(limit)
        with self._database.reading() as connection:
            rows = connection.execute(statement).all()
            sums = _sums(connection, [row.id for row in rows])
        return [_job_record(row, sums[row.id]) for row in rows]

    def count(self, chosen: Filter | None = None) -> int:
        """How many jobs there are."""
        with self._database.reading() as connection:
            statement = _where(sql.select(sql.func.count()).select_from(schema.job), chosen or Filter())
            return int(connection.scalar(statement) or 0)

    def job(self, beginning: str) -> JobRecord:
        """The job whose id begins so.

        Raises:
            InputError: there is none, or several.
        """
        with self._database.reading() as connection:
            begins = schema.job.c.id.startswith(beginning, autoescape=True)
            rows = connection.execute(sql.select(schema.job).where(begins).limit(3)).all()
            if len(rows) != 1:
                what = "several jobs begin" if rows else "no job begins"
                raise InputError(f"{what} with {beginning!r}", advice="`mantisreed jobs` lists them")
            return _job_record(rows[0], _sums(connection, [rows[0].id])[rows[0].id])

    def pieces(self, job: str) -> list[PieceRecord]:
        """A job's pieces with their attempts, by channel and time."""
        table, attempt = schema.piece, schema.attempt
        with self._database.reading() as connection:
            rows = connection.execute(
                sql.select(table).where(table.c.job == job).order_by(table.c.channel, table.c.start, table.c.id)
            ).all()
            of_job = sql.select(attempt).join(table, table.c.id == attempt.c.piece).where(table.c.job == job)
            attempts: dict[int, list[Row[Any]]] = defaultdict(list)
            for one in connection.execute(of_job.order_by(attempt.c.id)):
                attempts[one.piece].append(one)
        return [piece_record(row, attempts[row.id]) for row in rows]

    def spending(self, by: str = "day") -> list[tuple[str, str, str | None, float, Decimal]]:
        """What was billed, the newest first: (YYYY-MM-DD or YYYY-MM, engine, currency, seconds, cost).

        Args:
            by: `day` or `month`, in UTC.
        """
        attempt, piece, job = schema.attempt, schema.piece, schema.job
        statement = (
            sql.select(attempt.c.started, job.c.engine, job.c.currency, attempt.c.billed, attempt.c.cost)
            .join(piece, piece.c.id == attempt.c.piece)
            .join(job, job.c.id == piece.c.job)
            .where(attempt.c.outcome == "done")
        )
        form = "%Y-%m" if by == "month" else "%Y-%m-%d"
        sums: dict[tuple[str, str, str | None], tuple[float, Decimal]] = {}
        with self._database.reading() as connection:
            for started, engine, currency, billed, cost in connection.execute(statement):
                key = (datetime.fromtimestamp(started, UTC).strftime(form), engine, currency)
                seconds, paid = sums.get(key, (0.0, Decimal(0)))
                sums[key] = (seconds + billed, paid + Decimal(cost or "0"))
        return [(*key, *sums[key]) for key in sorted(sums, key=lambda key: (key[0], key[1]), reverse=True)]

    def saved_seconds(self) -> float:
        """Seconds of sound whose replies were kept already, and not paid for again."""
        piece = schema.piece
        with self._database.reading() as connection:
            statement = sql.select(sql.func.sum(piece.c.end - piece.c.start)).where(piece.c.saved)
            return float(connection.scalar(statement) or 0.0)

    def owed(self, jobs: Iterable[str]) -> Decimal:
        """What these jobs have cost, with what is still out and what may have been charged for."""
        attempt, piece = schema.attempt, schema.piece
        total = Decimal(0)
        with self._database.reading() as connection:
            for some in _batches(jobs):
                statement = (
                    sql.select(attempt.c.outcome, attempt.c.cost, piece.c.price)
                    .join(piece, piece.c.id == attempt.c.piece)
                    .where(piece.c.job.in_(some))
                    .where(sql.or_(attempt.c.outcome.is_(None), attempt.c.outcome.in_(("done", "in doubt"))))
                )
                for row in connection.execute(statement):
                    total += (money(row.cost) if row.outcome == "done" else money(row.price)) or Decimal(0)
        return total


def _batches(ids: Iterable[str]) -> Iterator[list[str]]:
    rest = iter(ids)
    while some := list(islice(rest, _AT_ONCE)):
        yield some


def _where(statement: "sql.Select[Any]", chosen: Filter) -> "sql.Select[Any]":
    job = schema.job
    if chosen.states:
        statement = statement.where(job.c.state.in_(chosen.states))
    if chosen.engine:
        # A card's profiles are the same engine.
        name = job.c.engine
        profiles = name.startswith(f"{chosen.engine}:", autoescape=True)
        statement = statement.where(sql.or_(name == chosen.engine, profiles))
    if chosen.recording:
        statement = statement.where(job.c.recording.icontains(chosen.recording, autoescape=True))
    if chosen.since is not None:
        statement = statement.where(job.c.created >= chosen.since)
    if chosen.until is not None:
        statement = statement.where(job.c.created <= chosen.until)
    if chosen.ids is not None:
        statement = statement.where(job.c.id.in_(chosen.ids))
    return statement


def _sums(connection: Connection, jobs: Sequence[str]) -> Mapping[str, dict[str, Any]]:
    """What the pieces and attempts of each job come to."""
    sums: dict[str, dict[str, Any]] = {
        job: {"pieces": 0, "pieces_done": 0, "saved": 0.0, "billed": 0.0, "cost": None, "doubts": 0} for job in jobs
    }
    piece, attempt = schema.piece, schema.attempt
    for some in _batches(jobs):
        pieces = (
            sql.select(
                piece.c.job,
                sql.func.sum(sql.case((piece.c.state != "cancelled", 1), else_=0)),
                sql.func.sum(sql.case((piece.c.state == "done", 1), else_=0)),
                sql.func.sum(sql.case((piece.c.saved, piece.c.end - piece.c.start), else_=0.0)),
            )
            .where(piece.c.job.in_(some))
            .group_by(piece.c.job)
        )
        for job, count, done, saved in connection.execute(pieces):
            sums[job] |= {"pieces": count, "pieces_done": done, "saved": saved}
        tries = (
            sql.select(piece.c.job, attempt.c.billed, attempt.c.cost, attempt.c.outcome)
            .join(piece, piece.c.id == attempt.c.piece)
            .where(piece.c.job.in_(some))
        )
        for job, billed, cost, outcome in connection.execute(tries):
            entry = sums[job]
            entry["billed"] += billed
            entry["doubts"] += outcome == "in doubt"
            if cost is not None:
                entry["cost"] = (entry["cost"] or Decimal(0)) + Decimal(cost)
    return sums


def _job_record(row: "Row[Any]", sums: dict[str, Any]) -> JobRecord:
    fields = row._mapping
    return JobRecord(**{name: fields[name] for name in _JOB_FIELDS}, **sums)


_JOB_FIELDS = (
    *("id", "recording", "digest", "engine", "state", "reason", "duration", "created", "changed", "currency"),
    *("order", "made"),
)
