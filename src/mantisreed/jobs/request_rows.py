"""Rows of requests and attempts, and what every change of them does."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import partial
from typing import Any

import msgspec

from mantisreed.folders import forget
from mantisreed.jobs.budget import Budget, lock_budgets
from mantisreed.jobs.jobs import JobStore
from mantisreed.jobs.life import (
    REQUEST_LIFE,
    Event,
    Rule,
    State,
    TransitionError,
    after,
)
from mantisreed.jobs.records import RequestRecord, money_as_kept, request_record
from mantisreed.jobs.replies import ReplyStore
from mantisreed.jobs.store import statements
from mantisreed.jobs.store.calls import token_digest
from mantisreed.jobs.store.database import Database, LedgerAwayError, Row
from mantisreed.jobs.store.room import Room, RoomKeeper

_NUMBERED_BEFORE = 1000
"""So many attempts back may have become visible since: their numbers are given out before they are
committed, in whatever order."""


class ClaimLostError(TransitionError):
    """Others have taken this process for dead, and its claims are theirs."""


class TakenForDeadError(LedgerAwayError):
    """This process was held up for so long that others took it for dead; it has to sign on again
    before it may claim anything.
    """


@dataclass(frozen=True, slots=True)
class PieceToSend:
    """A piece of a job, as the ledger has to know it.

    Attributes:
        job: its job's id.
        key: what its request is known by.
        start, end: seconds in the recording.
        channel: from 1; None when they are mixed.
        sound: JSON; what reading its reply needs to know of what is sent.
        price: what it costs when it is answered; None where no price is known.
    """

    job: str
    key: str
    start: float
    end: float
    channel: int | None = None
    sound: str | None = None
    price: Decimal | None = None


@dataclass(frozen=True, slots=True)
class Bill:
    """What a request costs.

    Attributes:
        seconds: that are charged for, by the card.
        cost: money in the card's currency; None where no price is known.
        reported_seconds, reported_cost: the same as the engine says it; None where it does not.
    """

    seconds: float
    cost: Decimal | None
    reported_seconds: float | None = None
    reported_cost: Decimal | None = None


class RequestRows:
    """Reads and moves requests; `RequestStore` is what others call."""

    def __init__(self, database: Database, replies: ReplyStore, jobs: JobStore, owner: str) -> None:
        self._database, self._replies, self._jobs, self._owner = database, replies, jobs, owner
        self.room = RoomKeeper(database, owner)

    def _row_of(self, piece: PieceToSend) -> tuple[bool, Row]:
        """Whether a piece's request is new and this process's own, and its row."""
        added = self._database.execute(statements.ADD_REQUEST, self._values_of(piece, "waiting"))
        rows = self._database.execute(statements.REQUEST, {"key": piece.key})
        if not rows:
            raise TakenForDeadError("others took this process for dead while it waited")
        return bool(added), rows[0]

    def _values_of(
        self,
        piece: PieceToSend,
        state: State,
        token: str | None = None,
        room: Room | None = None,
    ) -> dict[str, Any]:
        """A new request's columns."""
        return {
            "key": piece.key,
            "state": state,
            "owner": self._owner,
            "engine": room.engine if room else None,
            "token": None if token is None else token_digest(token),
            "sound": piece.sound,
            "price": money_as_kept(piece.price),
        }

    def _add_piece(self, piece: PieceToSend) -> None:
        values = {"job": piece.job, "key": piece.key, "channel": piece.channel}
        self._database.note(
            statements.ADD_PIECE, {**values, "starts": piece.start, "ends": piece.end}
        )

    def as_it_is(self, record: RequestRecord) -> RequestRecord:
        """The same request, as it is now."""
        (row,) = self._database.execute(statements.REQUEST, {"key": record.key})
        return self._record(row, record.job, record.length)

    def _checked(self, budgets: Sequence[Budget], price: Decimal | None) -> list[list[Row]]:
        """See that one more request may be sent; gives for each budget what any process has sent
        since it was looked at.
        """
        lock_budgets(self._database, budgets)
        found = []
        for budget in budgets:
            others = []
            if budget.has_limit:
                others = self._database.execute(
                    statements.COSTLY_ATTEMPTS_SINCE,
                    {"last": budget.last_attempt - _NUMBERED_BEFORE},
                )
                budget.check(price, others)
            found.append(others)
        return found

    def _begin_attempt(
        self,
        key: str,
        job: str,
        size: int,
        price: Decimal | None,
        budgets: Sequence[Budget],
        others: list[list[Row]],
    ) -> int:
        """Note an attempt, and count it; gives its number."""
        values = {
            "key": key,
            "job": job,
            "bytes": size,
            "price": money_as_kept(price),
        }
        (row,) = self._database.execute(statements.BEGIN_ATTEMPT, values)
        number = int(row["id"])
        if price is not None:

            def count() -> None:
                for budget, lately in zip(budgets, others, strict=True):
                    budget.take_in(lately)
                    budget.add(number, price, job)

            # Not before: a transaction that is undone must not be counted.
            self._database.after_commit(count)
        return number

    def _is_answer(self, record: RequestRecord, body: bytes | None) -> bool:
        """Keep the answer to a request that is on its way and has no older reply, as nearly all
        are: in one step.
        """
        values = {
            "key": record.key,
            "owner": self._owner,
            "state": after("sending", "answered").state,
        }
        rows = self._database.execute(
            statements.ANSWER_REQUEST, {**values, "reply": self._replies.digest_of(body)}
        )
        if not rows:
            return False
        self._replies.keep(body)
        self.room.wake_next(rows[0]["engine"])
        return True

    def _take_away(self, row: Row) -> None:
        """Take back what a request got by an id that is another's: it is sent again, and no job
        with it is done.
        """
        if (row["state"], "another's id") not in REQUEST_LIFE:
            return
        reason = "the engine gave it the id of another job"
        # Its process goes on with it; without one, whoever comes next does.
        rule = self._move(row, "another's id", reason=reason, reply=None, owner=row["owner"])
        attempt = self._attempt_answered(row["key"]) or self._last_sure_attempt(row["key"])
        self._end_attempt(
            attempt, rule.outcome or "unconfirmed", reason, rule.charge, Bill(0.0, None)
        )
        self._remove({row["reply"]} - {None})
        for job in self._database.execute(statements.JOBS_TO_CHANGE, {"key": row["key"]}):
            if job["state"] == "done":
                self._jobs.note(job["id"], "reply taken away", reason)

    def _move(self, row: Row, event: Event, **values: Any) -> Rule:
        """Give a request the state that follows from an event. What is not named stays, but nobody
        deals with it.
        """
        rule = after(row["state"], event)
        columns = {
            name: row[name]
            for name in ("ticket", "mark", "was_known", "reply", "unread", "unread_step")
        }
        if not rule.keeps_ticket:
            columns |= {"ticket": None, "was_known": 0}
            # The mark of one that is done stays: it may prove to be another's.
            columns |= {} if rule.state == "done" else {"mark": None}
        columns |= {"reason": None, "owner": None, **values}
        columns |= {"key": row["key"], "before": row["state"], "state": rule.state}
        columns["failure"] = event if rule.state == "failed" else None
        if not self._database.execute(statements.MOVE_REQUEST, columns):
            raise TransitionError(f"a request was {row['state']!r} and is not any more")
        if row["state"] == "sending" and rule.state != "sending":
            self.room.wake_next(row["engine"])
        return rule

    def _row(self, key: str) -> Row:
        """A request that is to be changed in this transaction."""
        (row,) = self._database.execute(statements.REQUEST_TO_CHANGE, {"key": key})
        return row

    def _record(self, row: Row, job: str, length: float) -> RequestRecord:
        attempts = self._database.execute(statements.OPEN_ATTEMPT, {"key": row["key"]})
        return request_record(row, job, length, attempts[0]["id"] if attempts else None)

    def _attempt_answered(self, key: str) -> int | None:
        """The attempt that something which has come is the end of: one that is open, or one in
        doubt.
        """
        for statement in (statements.OPEN_ATTEMPT, statements.DOUBTFUL_ATTEMPT):
            for row in self._database.execute(statement, {"key": key}):
                return int(row["id"])
        return None

    def _last_sure_attempt(self, key: str) -> int | None:
        rows = self._database.execute(statements.SURE_ATTEMPT, {"key": key})
        return int(rows[0]["id"]) if rows else None

    def _end_attempt(
        self, attempt: int | None, outcome: str, error: str | None, charge: str, bill: Bill
    ) -> None:
        if attempt is None:
            return
        self._database.note(
            statements.END_ATTEMPT,
            {
                "id": attempt,
                "outcome": outcome,
                "error": error,
                "charge": charge,
                "billed": bill.seconds,
                "cost": money_as_kept(bill.cost),
                "reported_seconds": bill.reported_seconds,
                "reported_cost": money_as_kept(bill.reported_cost),
            },
        )

    def _remove(self, digests: Iterable[str]) -> int:
        """Remove replies that nobody needs; their files only once that is committed, as nothing
        brings them back.
        """
        wanted = set(digests)
        removed = self._replies.remove_if_unneeded(wanted) if wanted else []
        for path in removed:
            self._database.after_commit(partial(forget, path))
        return len(removed)


def encoded_ticket(ticket: Mapping[str, Any]) -> str:
    """A ticket as the ledger keeps it."""
    return msgspec.json.encode(dict(ticket)).decode()


def ticket_of(row: Row) -> Mapping[str, Any]:
    """The ticket of a request, as it is kept; empty for none."""
    ticket: Mapping[str, Any] = msgspec.json.decode(row["ticket"]) if row["ticket"] else {}
    return ticket
