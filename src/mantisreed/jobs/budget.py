"""What requests cost, by an engine's card, and not spending more than was allowed."""

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from mantisreed.errors import SpendLimitError
from mantisreed.jobs.records import money

if TYPE_CHECKING:
    from mantisreed.engines.card import EngineCard
    from mantisreed.jobs.store.database import Database


def billed_seconds(card: "EngineCard", lengths: Sequence[float]) -> float:
    """Seconds that the engine charges for requests of these lengths: each rounded up to its billing
    step.
    """
    step = float(card.price.billing_step) if card.price else 1.0
    return sum(math.ceil(round(length / step, 6)) * step for length in lengths)


def cost_of(card: "EngineCard", billed: float) -> Decimal | None:
    """What so many billed seconds cost, in the card's currency; None when the card names no
    price.
    """
    if card.price:
        return card.price.per_minute * Decimal(str(round(billed, 3))) / 60
    return None


def amount_as_json(amount: Decimal | None) -> float | None:
    """An amount of money as JSON has it."""
    return None if amount is None else float(amount)


def money_text(amount: Decimal | None, currency: str | None) -> str:
    """For people, with four places: fractions of the smallest coin are usual here."""
    if amount is None:
        return "unknown cost"
    return f"{amount:.4f} {currency or ''}".rstrip()


def reported_text(seconds: float | None, cost: Decimal | None, currency: str | None) -> str:
    """What an engine says that it charges, for people; empty where it says nothing."""
    said: list[str] = []
    if seconds is not None:
        said.append(f"{seconds / 60:.1f} min")
    if cost is not None:
        said.append(money_text(cost, currency))
    return ", ".join(said)


def lock_budgets(database: "Database", budgets: "Sequence[Budget]") -> None:
    """See, in a transaction, that no two processes spend the last of a limit; before it takes other
    locks.
    """
    if any(budget.has_limit for budget in budgets):
        database.lock("budget")


BudgetsOf = Callable[[str], "Sequence[Budget]"]
"""All that have to have room for what is sent for the job with this id."""


class Budget:
    """What may be spent on some jobs, and what they owe: what was charged, may have been, or is
    under way.

    It is used on the ledger's thread, inside the transaction that notes a request as sent, so that
    several processes with the same jobs see each other's requests before they make their own.

    Attributes:
        limit: what may be spent; None for no limit.
        owed: the sum.
        last_attempt: the number of the last attempt that was taken in.
    """

    def __init__(self, limit: Decimal | None = None, currency: str = "") -> None:
        """No limit when `limit` is None; then it only sums up."""
        self.limit = limit
        self._currency = currency
        self._jobs: set[str] = set()
        self._counted: dict[int | str, tuple[str, Decimal]] = {}  # of a job, and its price
        self._others: dict[str, Budget] = {}
        self.owed = Decimal(0)
        self.last_attempt = 0

    @property
    def has_limit(self) -> bool:
        """Whether there is one."""
        return self.limit is not None

    def of(self, currency: str | None) -> "Budget":
        """What may be spent in this money: the same limit, whatever it is spent on."""
        if not currency or currency == self._currency:
            return self
        return self._others.setdefault(currency, Budget(self.limit, currency))

    def watch(self, jobs: Iterable[str], attempts: Iterable[Mapping[str, Any]]) -> None:
        """Count what some jobs cost from now on, and what they have cost so far.

        Args:
            jobs: their ids.
            attempts: all that may have cost something, as rows of the ledger.
        """
        self._jobs.update(jobs)
        for row in attempts:
            self.add(row["id"], money(row["cost"]) or money(row["price"]), row["job"])

    def by_job(self) -> dict[str, Decimal]:
        """What is owed, job by job."""
        owed: dict[str, Decimal] = {}
        for job, price in self._counted.values():
            owed[job] = owed.get(job, Decimal(0)) + price
        return owed

    def take_in(self, attempts: Iterable[Mapping[str, Any]]) -> None:
        """Count attempts that have been made since the last time, by any process, where they are
        for these jobs.
        """
        for row in attempts:
            self.last_attempt = max(self.last_attempt, row["id"])
            if row["job"] in self._jobs:
                self.add(row["id"], money(row["cost"]) or money(row["price"]), row["job"])

    def add(self, attempt: int, price: Decimal | None, job: str) -> None:
        """Count one attempt of a job; one that is counted already only once."""
        self.last_attempt = max(self.last_attempt, attempt)
        self._count(attempt, price or Decimal(0), job)

    def reserve(self, question: str, price: Decimal, job: str = "") -> None:
        """Count what a question to a text service will cost; one that is counted already once."""
        self._count(question, price, job)

    def _count(self, what: int | str, price: Decimal, job: str) -> None:
        _, before = self._counted.get(what, (job, Decimal(0)))
        self.owed += price - before
        self._counted[what] = job, price

    def give_back(self, attempt: int | str | None) -> None:
        """An attempt or a question proved to cost nothing."""
        if attempt is not None:
            _, price = self._counted.pop(attempt, ("", Decimal(0)))
            self.owed -= price

    def check(self, price: Decimal | None, others: Sequence[Mapping[str, Any]] = ()) -> None:
        """See that one more request may be sent.

        Args:
            price: of the request.
            others: attempts that have been made since the last time, as for `take_in`.

        Raises:
            SpendLimitError: it would be more than allowed.
        """
        if self.limit is None:
            return
        lately = [
            money(row["cost"]) or money(row["price"]) or Decimal(0)
            for row in others
            if row["job"] in self._jobs and row["id"] not in self._counted
        ]
        after = self.owed + sum(lately, Decimal(0)) + (price or 0)
        if after > self.limit:
            raise SpendLimitError(
                f"the next request would bring the cost to {money_text(after, self._currency)}, "
                f"over the limit of {money_text(self.limit, self._currency)}",
                advice="the same command with a higher --spend-limit goes on",
            )
