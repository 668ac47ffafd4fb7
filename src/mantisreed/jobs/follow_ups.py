"""What the ledger knows of follow-ups: how each stands, what it gave, and what text services were
asked.

A follow-up is noted before it is begun, and a question before it is sent, so that whoever comes
after a crash knows what may have happened already.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any, Literal

import msgspec

from mantisreed.errors import SpendLimitError
from mantisreed.jobs.budget import Budget, lock_budgets
from mantisreed.jobs.records import money, money_as_kept
from mantisreed.jobs.replies import ReplyLostError, ReplyStore
from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database, Row

FollowUpState = Literal["waiting", "working", "done", "failed", "unconfirmed", "skipped"]


@dataclass(frozen=True, slots=True)
class FollowUpRecord:
    """How one follow-up of a job stands.

    Attributes:
        id: of the follow-up with what goes into it.
        job: of the job.
        name: of its table in the settings.
        state: `unconfirmed` when it may have been done already.
        reason: why it failed or waits.
        attempts: how often it was begun.
        result: its kind, its files, where it went.
        body: the digest of what it gave.
        characters: that text services were sent for it, and had not answered before.
        cost: of these; None where nobody names a price.
        currency: of the cost.
        changed: seconds since 1970.
    """

    id: str
    job: str
    name: str
    state: FollowUpState
    reason: str | None = None
    attempts: int = 0
    result: Mapping[str, Any] = field(default_factory=dict)
    body: str | None = None
    characters: int = 0
    cost: Decimal | None = None
    currency: str | None = None
    changed: float = 0.0


@dataclass(frozen=True, slots=True)
class FollowUpEnd:
    """How a follow-up ended.

    Attributes:
        state: the new one.
        reason: why it failed.
        result: as in `FollowUpRecord`.
        body: what it gave, to the byte.
        characters, cost, currency: as in `FollowUpRecord`.
    """

    state: FollowUpState
    reason: str | None = None
    result: Mapping[str, Any] = field(default_factory=dict)
    body: bytes | None = None
    characters: int = 0
    cost: Decimal | None = None
    currency: str | None = None


@dataclass(frozen=True, slots=True)
class QuestionToAsk:
    """What a text service is asked.

    Attributes:
        key: what it is known by.
        service: the name of the service's card.
        job: for which it is asked.
        characters: that are sent.
        cost: by the card; None where it names no price.
        currency: of the cost.
        most: questions that the service takes at once; None for no limit.
    """

    key: str
    service: str
    job: str
    characters: int
    cost: Decimal | None = None
    currency: str | None = None
    most: int | None = None


@dataclass(slots=True)
class ServiceSpending:
    """What was paid to a text service on one day, or in one month.

    Attributes:
        when: YYYY-MM-DD or YYYY-MM, in UTC.
        service: its name.
        currency: empty where the card names none.
        characters: that were sent and answered.
        cost: of these; None where the card names no price.
        maybe: what unconfirmed questions may have cost beyond that.
    """

    when: str
    service: str
    currency: str
    characters: int = 0
    cost: Decimal | None = None
    maybe: Decimal = Decimal(0)


class FollowUpStore:
    """The follow-ups and the questions of one ledger."""

    def __init__(self, database: Database, replies: ReplyStore, owner: str) -> None:
        self._database, self._replies, self._owner = database, replies, owner

    def claim(
        self, known_by: str, job: str, name: str, *, also_doubtful: bool
    ) -> FollowUpRecord | None:
        """Begin a follow-up; what stands in the way where it is done, unconfirmed, or under way in
        another process.

        Args:
            known_by: its id.
            job: of which it is a follow-up.
            name: of its table.
            also_doubtful: whether one that may have been done is done again.
        """
        with self._database.transaction():
            self._database.lock(f"follow-up {known_by}")  # it may not have a row yet
            found = self._found(known_by)
            if found is not None:
                is_anothers = found.state == "working"
                if (
                    found.state == "done"
                    or is_anothers
                    or (found.state == "unconfirmed" and not also_doubtful)
                ):
                    return found
            values = {
                "id": known_by,
                "job": job,
                "name": name,
                "owner": self._owner,
            }
            self._database.note(statements.CLAIM_FOLLOW_UP, values)
        return None

    def put_off(self, known_by: str, job: str, name: str, reason: str) -> None:
        """Note that a follow-up waits for something."""
        values = {
            "id": known_by,
            "job": job,
            "name": name,
            "reason": reason,
        }
        self._database.execute(statements.PUT_FOLLOW_UP_OFF, values)

    def end(self, known_by: str, end: FollowUpEnd) -> None:
        """Note how a follow-up ended, and keep what it gave."""
        with self._database.transaction():
            body = None if end.body is None else self._replies.keep(end.body)
            self._database.note(
                statements.END_FOLLOW_UP,
                {
                    "id": known_by,
                    "state": end.state,
                    "reason": end.reason,
                    "result": msgspec.json.encode(dict(end.result)).decode(),
                    "body": body,
                    "characters": end.characters,
                    "cost": money_as_kept(end.cost),
                    "currency": end.currency,
                },
            )

    def body(self, record: FollowUpRecord) -> bytes | None:
        """What a follow-up gave; None when it gave nothing, or somebody has removed it."""
        try:
            if record.body is None:
                return None
            return self._replies.read(record.body)
        except ReplyLostError:
            return None

    def of_job(self, job: str) -> list[FollowUpRecord]:
        """The follow-ups of a job, the newest of each name, in the order in which they were first
        noted.
        """
        rows = self._database.execute(statements.FOLLOW_UPS_OF_JOB, {"job": job})
        newest: dict[str, FollowUpRecord] = {}
        for record in map(_record, rows):
            if record.name not in newest or record.changed >= newest[record.name].changed:
                newest[record.name] = record
        return list(newest.values())

    def open_jobs(self) -> set[str]:
        """The jobs of which some follow-up is not done."""
        return {row["job"] for row in self._database.execute(statements.JOBS_WITH_OPEN_FOLLOW_UPS)}

    def spending(self, by: Literal["day", "month"]) -> list[ServiceSpending]:
        """What text services were paid, by day or month (in UTC), the newest first."""
        sums: dict[tuple[str, str, str], ServiceSpending] = {}
        for row in self._database.execute(statements.SERVICE_SPENDING):
            when = datetime.fromtimestamp(row["asked"], UTC).strftime(
                "%Y-%m-%d" if by == "day" else "%Y-%m"
            )
            key = when, row["service"], row["currency"] or ""
            one = sums.setdefault(key, ServiceSpending(*key))
            cost = money(row["cost"]) or Decimal(0)
            if row["state"] == "done":
                one.characters += row["characters"]
                one.cost = None if row["cost"] is None else (one.cost or Decimal(0)) + cost
            else:
                one.maybe += cost
        return sorted(sums.values(), key=lambda one: (one.when, one.service), reverse=True)

    def ask(
        self, question: QuestionToAsk, budgets: Sequence[Budget] = ()
    ) -> "bytes | Literal['another', 'ask']":
        """The kept answer to a question; `another` where another process is asking it, or others
        ask as much as the service takes at once; `ask` where we are to.

        What is to be asked is noted as sent from now on.

        Args:
            question: to be asked.
            budgets: what may be spent; each has to have room for it.

        Raises:
            SpendLimitError: it would be more than may be spent, or nobody knows what it costs;
                nothing was changed.
        """
        with self._database.transaction():
            # It may not have a row yet; and what others spend or ask at this moment counts.
            lock_budgets(self._database, budgets)
            self._database.lock(f"question {question.key}")
            if question.most is not None:
                self._database.lock(f"service {question.service}")
            rows = self._database.execute(statements.QUESTION, {"key": question.key})
            if rows and rows[0]["state"] == "done":
                try:
                    return self._replies.read(rows[0]["answer"]) or b""
                except ReplyLostError:
                    pass  # it is asked again
            if rows and rows[0]["state"] == "sending":
                return "another"
            if not self._has_room(question):
                return "another"
            self._reserve(question, budgets)
            self._database.note(
                statements.CLAIM_QUESTION,
                {
                    "key": question.key,
                    "service": question.service,
                    "job": question.job,
                    "owner": self._owner,
                    "characters": question.characters,
                    "cost": money_as_kept(question.cost),
                    "currency": question.currency,
                },
            )
        return "ask"

    def _has_room(self, question: QuestionToAsk) -> bool:
        """Whether the service may be asked one more question now, by whichever process."""
        if question.most is None:
            return True
        values = {"service": question.service}
        (row,) = self._database.execute(statements.QUESTIONS_ON_THEIR_WAY, values)
        return bool(row["taken"] < question.most)

    def costs_of(self, jobs: Collection[str]) -> list[tuple[str, Decimal]]:
        """What the questions of some jobs have cost, or may have, by their keys."""
        rows = self._database.execute(
            statements.COSTLY_QUESTIONS, {"jobs": msgspec.json.encode(sorted(jobs)).decode()}
        )
        return [(row["key"], money(row["cost"]) or Decimal(0)) for row in rows]

    def _reserve(self, question: QuestionToAsk, budgets: Sequence[Budget]) -> None:
        price = question.cost
        for budget in budgets:
            if price is None and budget.has_limit:
                raise SpendLimitError(
                    f"the card of the service {question.service} has no price, and there is "
                    "a spend limit",
                    advice="name its price in its card, or leave the limit out",
                )
            budget.check(price)
        if price is not None:

            def count() -> None:
                for budget in budgets:
                    budget.reserve(question.key, price, question.job)

            # Not before: a transaction that is undone must not be counted.
            self._database.after_commit(count)

    def answered(self, key: str, answer: bytes) -> None:
        """Keep the answer to a question."""
        with self._database.transaction():
            values = {"key": key, "state": "done", "answer": self._replies.keep(answer)}
            self._database.note(statements.END_QUESTION, values)

    def not_answered(self, key: str, *, is_unconfirmed: bool) -> None:
        """Note that a question has no answer.

        Args:
            key: of the question.
            is_unconfirmed: whether the service may have answered it all the same, and charged.
        """
        state = "unconfirmed" if is_unconfirmed else "failed"
        self._database.execute(
            statements.END_QUESTION, {"key": key, "state": state, "answer": None}
        )

    def leave(self, owner: str) -> None:
        """See to what a process had under way that has ended."""
        self._database.note(statements.LEAVE_FOLLOW_UPS, {"owner": owner})
        self._database.note(statements.LEAVE_QUESTIONS, {"owner": owner})

    def _found(self, known_by: str) -> FollowUpRecord | None:
        rows = self._database.execute(statements.FOLLOW_UP, {"id": known_by})
        return _record(rows[0]) if rows else None


def _record(row: Row) -> FollowUpRecord:
    return FollowUpRecord(
        row["id"],
        row["job"],
        row["name"],
        row["state"],
        row["reason"],
        row["attempts"],
        msgspec.json.decode(row["result"]) if row["result"] else {},
        row["body"],
        row["characters"],
        money(row["cost"]),
        row["currency"],
        row["changed"],
    )
