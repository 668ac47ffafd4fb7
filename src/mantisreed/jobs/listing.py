"""Reading the ledger: jobs, their pieces, and money."""

import json
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from decimal import Decimal
from itertools import chain
from typing import Any, TypeVar

import msgspec

from mantisreed.errors import InputError
from mantisreed.jobs.records import (
    AttemptRecord,
    Filter,
    JobRecord,
    JobSummary,
    PieceRecord,
    RequestRecord,
    attempt_record,
    money,
    piece_record,
    request_record,
)
from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database, Row, in_order

# Jobs that are read at a time: few enough for a few megabytes, enough that a database far away is
# not asked often.
_PAGE = 2000
_DAY = 86_400  # seconds


@dataclass(frozen=True, slots=True)
class Spending:
    """What was paid to an engine on one day, or in one month.

    Attributes:
        when: YYYY-MM-DD or YYYY-MM, in UTC.
        currency: empty where the card names none.
        seconds: of sound that were surely billed, by the card.
        cost: of these; None where the card named no price.
        maybe: what unconfirmed attempts may have cost beyond that.
        reported_seconds, reported_cost: what the engine itself says of these; None where it never
            does.
    """

    when: str
    engine: str
    currency: str
    seconds: float
    cost: Decimal | None
    maybe: Decimal
    reported_seconds: float | None = None
    reported_cost: Decimal | None = None


class Listing:
    """What can be asked of a ledger without changing it."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def jobs(self, chosen: Filter | None = None, *, limit: int | None = None) -> list[JobRecord]:
        """Jobs, the newest first."""
        pages = self._pages(statements.JOBS, _job_record, chosen or Filter(), limit)
        return list(chain.from_iterable(pages))

    def pages(
        self, chosen: Filter | None = None, *, limit: int | None = None
    ) -> Iterator[list[JobSummary]]:
        """What a list tells of them, some at a time, so that a ledger of any size takes the memory
        of one page.
        """
        return self._pages(statements.SUMMARIES_OF_JOBS, _job_summary, chosen or Filter(), limit)

    def _pages(
        self,
        statement: str,
        told: "Callable[[Row, _Sums], _Told]",
        chosen: Filter,
        limit: int | None,
    ) -> "Iterator[list[_Told]]":
        left, last = limit, None
        while left is None or left > 0:
            size = _PAGE if left is None else min(_PAGE, left)
            rows = self._page(statement, chosen, last, size)
            sums = self._sums([row["id"] for row in rows])
            page = [told(row, sums[row["id"]]) for row in rows]
            if page:
                yield page
            if len(page) < size:
                return
            last = page[-1]
            left = None if left is None else left - size

    def _page(
        self, statement: str, chosen: Filter, last: JobSummary | None, size: int
    ) -> list[Row]:
        """The rows of the jobs that come after the last one that was listed."""
        where, values = _where(chosen)
        if last is not None:
            # By values, and not by a number of rows: jobs may come and go meanwhile.
            after = "(created < :created OR (created = :created AND id > :last))"
            where = f"{where} AND {after}" if where else f"WHERE {after}"
            values |= {"created": last.created, "last": last.id}
        limited = statement.format(where=where, limit=f"LIMIT {size}")
        return self._database.execute(limited, values)

    def count(self, chosen: Filter | None = None) -> int:
        """How many jobs there are."""
        where, values = _where(chosen or Filter())
        return int(
            self._database.execute(statements.COUNT_JOBS.format(where=where), values)[0]["found"]
        )

    def job(self, beginning: str) -> JobRecord:
        """The job whose id begins so.

        Raises:
            InputError: there is none, or several.
        """
        rows = self._database.execute(statements.JOBS_BEGINNING, {"beginning": beginning})
        exact = [row for row in rows if row["id"] == beginning]
        rows = exact or rows
        if len(rows) != 1:
            what = "several jobs begin" if rows else "no job begins"
            raise InputError(f"{what} with {beginning!r}", advice="`mantisreed jobs` lists them")
        return _job_record(rows[0], self._sums([rows[0]["id"]])[rows[0]["id"]])

    def pieces(self, job: str) -> list[PieceRecord]:
        """A job's pieces with their attempts, by channel and time."""
        attempts: dict[str, list[tuple[str, AttemptRecord]]] = defaultdict(list)
        for row in self._database.execute(statements.ATTEMPTS_OF_REQUESTS, {"job": job}):
            attempts[row["request"]].append((row["job"], attempt_record(row)))
        rows = self._database.execute(statements.PIECES_OF_JOB, {"job": job})
        return [piece_record(row, attempts[row["key"]]) for row in rows]

    def request_called(self, row: Row) -> RequestRecord | None:
        """A request that an engine has called about, for the first job that wants it; None when
        none does.
        """
        pieces = self._database.execute(statements.PIECES_WITH_REQUEST, {"key": row["key"]})
        if not pieces:
            return None
        return request_record(row, pieces[0]["job"], pieces[0]["ends"] - pieces[0]["starts"])

    def jobs_with(self, key: str) -> list[str]:
        """The ids of the jobs that want a request."""
        return [
            row["id"] for row in self._database.execute(statements.JOBS_OF_REQUEST, {"key": key})
        ]

    def jobs_sharing(self, job: str) -> list[str]:
        """The ids of other jobs that want some request of a job too."""
        return [row["id"] for row in self._database.execute(statements.JOBS_SHARING, {"job": job})]

    def spending(self, by: str = "day") -> list[Spending]:
        """What was billed, the newest first.

        Args:
            by: `day` or `month`, in UTC.
        """
        sums: dict[tuple[int, str, str, str], _Sums] = defaultdict(_Sums)
        for row in self._database.execute(statements.SPENDING):
            started, engine, currency, *attempt = in_order(row)
            charge = attempt[0]
            sums[int(started // _DAY), engine, currency or "", charge].add(*attempt)
        form = "%Y-%m" if by == "month" else "%Y-%m-%d"
        spent: dict[tuple[str, str, str], Spending] = {}
        for (day, engine, currency, charge), one in sums.items():
            when = datetime.fromtimestamp(day * _DAY, UTC).strftime(form)
            key = when, engine, currency
            before = spent.get(key, Spending(*key, 0.0, None, Decimal(0)))
            spent[key] = _with_day(before, one, is_sure=charge == "sure")
        return [spent[key] for key in sorted(spent, key=lambda key: key[:2], reverse=True)]

    def saved_seconds(self) -> float:
        """Seconds of sound whose replies were kept already, and not paid for again."""
        return float(self._database.execute(statements.SAVED_SECONDS)[0]["seconds"] or 0.0)

    def jobs_of_batch(self, batch: str) -> list[str]:
        """The ids of the jobs that share a spend limit; none where the batch has no name."""
        if not batch:
            return []
        rows = self._database.execute(statements.JOBS_OF_BATCH, {"batch": f'"batch":"{batch}"'})
        return [row["id"] for row in rows]

    def costly_attempts(self, jobs: Iterable[str]) -> list[Row]:
        """What these jobs have cost, may have cost, or are about to cost: a row for each
        attempt.
        """
        return self._database.execute(
            statements.COSTLY_ATTEMPTS_OF_JOBS, {"jobs": json.dumps(list(jobs))}
        )

    def _sums(self, jobs: Sequence[str]) -> Mapping[str, "_Sums"]:
        """What the pieces and attempts of each job come to."""
        sums = {job: _Sums() for job in jobs}
        listed = {"jobs": json.dumps(list(jobs))}
        paid = set()
        for row in self._database.execute(statements.ATTEMPTS_OF_JOBS, listed):
            job, request, *attempt = in_order(row)
            sums[job].add(*attempt)
            if attempt[0] == "sure":
                paid.add((job, request))
        # What was paid for is told apart here: for each piece a database would go through all
        # attempts of its job.
        for row in self._database.execute(statements.PIECES_OF_JOBS, listed):
            job, request, *piece = in_order(row)
            sums[job].add_piece(*piece, is_paid=(job, request) in paid)
        return sums


class _Sums(msgspec.Struct):
    """What a job's pieces and attempts come to; as in `JobRecord`, and in its order."""

    pieces: int = 0
    pieces_done: int = 0
    billed: float = 0.0
    saved: float = 0.0
    cost: Decimal | None = None
    maybe: Decimal = Decimal(0)
    unconfirmed: int = 0
    reported_seconds: float | None = None
    reported_cost: Decimal | None = None

    def add_piece(
        self, seconds: float, is_cancelled: int, is_answered: int, *, is_paid: bool
    ) -> None:
        """Count a piece; whether its reply was paid for by this job."""
        if not is_cancelled:
            self.pieces += 1
            self.pieces_done += is_answered
        if is_answered and not is_paid:
            self.saved += seconds

    def add(
        self,
        charge: str,
        billed: float,
        cost: str | None,
        price: str | None,
        reported_seconds: float | None,
        reported_cost: str | None,
    ) -> None:
        """Count an attempt."""
        self.billed += billed
        if charge == "sure":
            if cost is not None:
                self.cost = _plus(self.cost, Decimal(cost))
            if reported_cost is not None:
                self.reported_cost = _plus(self.reported_cost, Decimal(reported_cost))
            self.reported_seconds = _plus(self.reported_seconds, reported_seconds)
        elif charge == "maybe":
            self.maybe += money(price) or Decimal(0)
            self.unconfirmed += 1


def _with_day(spending: Spending, day: _Sums, *, is_sure: bool) -> Spending:
    return replace(
        spending,
        seconds=spending.seconds + (day.billed if is_sure else 0.0),
        cost=_plus(spending.cost, day.cost),
        maybe=spending.maybe + day.maybe,
        reported_seconds=_plus(spending.reported_seconds, day.reported_seconds),
        reported_cost=_plus(spending.reported_cost, day.reported_cost),
    )


_Amount = TypeVar("_Amount", float, Decimal)


def _plus(total: _Amount | None, more: _Amount | None) -> _Amount | None:
    """A sum of what is known; None as long as nothing is."""
    if more is None:
        return total
    return more if total is None else total + more


def _where(chosen: Filter) -> tuple[str, dict[str, Any]]:
    """The condition and its values."""
    parts: list[str] = []
    values: dict[str, Any] = {}
    if chosen.states:
        parts.append("state IN_LIST(:states)")
        values["states"] = json.dumps(chosen.states)
    if chosen.shown:
        parts.append(f"({statements.SHOWN_STATE}) IN_LIST(:shown)")
        more = ("follow-up failed",) if "failed" in chosen.shown else ()
        values["shown"] = json.dumps([*chosen.shown, *more])
    if chosen.engine:
        # A card's profiles are the same engine.
        parts.append("(engine = :engine OR substr(engine, 1, length(:profiles)) = :profiles)")
        values |= {"engine": chosen.engine, "profiles": f"{chosen.engine}:"}
    if chosen.recording:
        parts.append("replace(searchable, :recording, '') <> searchable")
        values["recording"] = chosen.recording.casefold()
    if chosen.since is not None:
        parts.append("created >= :since")
        values["since"] = chosen.since
    if chosen.until is not None:
        parts.append("created <= :until")
        values["until"] = chosen.until
    if chosen.changed_since is not None:
        parts.append("changed >= :changed_since")
        values["changed_since"] = chosen.changed_since
    if chosen.digest is not None:
        parts.append("digest = :digest")
        values["digest"] = chosen.digest
    if chosen.ids is not None:
        parts.append("id IN_LIST(:ids)")
        values["ids"] = json.dumps(chosen.ids)
    return ("WHERE " + " AND ".join(parts) if parts else ""), values


_Told = TypeVar("_Told", bound=JobSummary)
# What a record has beyond a summary; last in it, and in its row.
_MORE = len(JobRecord.__struct_fields__) - len(JobSummary.__struct_fields__)


def _job_summary(row: Row, sums: _Sums) -> JobSummary:
    return JobSummary(*in_order(row), *_summed(sums, row["currency"]))


def _job_record(row: Row, sums: _Sums) -> JobRecord:
    values, summed = in_order(row), _summed(sums, row["currency"])
    return JobRecord(*values[:-_MORE], *summed, *values[-_MORE:])


def _summed(sums: _Sums, currency: str | None) -> tuple[Any, ...]:
    """The sums in the order of the summary."""
    if sums.cost is None and sums.saved and not sums.billed and currency is not None:
        sums.cost = Decimal(0)  # a price is known, and kept replies answered everything
    return msgspec.structs.astuple(sums)
