"""What each token may spend in all: asked before anything is sent, whatever it is sent for."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from decimal import Decimal
from itertools import chain
from typing import TYPE_CHECKING

from mantisreed.engines.card import EngineCard
from mantisreed.jobs.budget import Budget, billed_seconds, cost_of
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.serving.orders import Order, OrderBook

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger

_SECOND = "-second"
"""Behind the ID of a job: what a second engine is asked about it."""

_MARGIN = 2.0  # times what a header promises: pieces overlap, and each may be rounded up


class Purse(Budget):
    """What one token may spend, in whatever money: its limit has none."""

    def of(self, currency: str | None) -> Budget:
        """Itself: all money counts alike."""
        return self


class Purses:
    """The purses of all tokens that have a limit."""

    def __init__(
        self,
        book: OrderBook,
        writer: LedgerWriter,
        limit_of: Callable[[str], float | None],
        *,
        others_spend: bool = False,
    ) -> None:
        """Know of nothing yet.

        Args:
            book: of the orders.
            writer: what the ledger is asked by.
            limit_of: what the token with a name may spend; None for no limit.
            others_spend: whether other processes spend it too: each order then gets a limit of its
                own, and the ledger is asked before each.
        """
        self._book, self._writer, self._limit_of = book, writer, limit_of
        self._others_spend = others_spend
        self._purses: dict[str, Purse] = {}

    def of(self, job: str) -> Budget | None:
        """What a job is paid from; None where its token has no limit."""
        order = self._book.get(job.removesuffix(_SECOND))
        return None if order is None else self._purses.get(order.owner)

    async def ready(self, owners: Iterable[str]) -> None:
        """Know what the tokens with these names have spent, before anything more is sent."""
        for owner in set(owners):
            limit = self._limit_of(owner)
            if limit is None:
                self._purses.pop(owner, None)
                continue
            purse = self._purses.get(owner)
            if purse is None or self._others_spend:
                purse = await self._opened(owner)
                self._purses[owner] = purse
            purse.limit = Decimal(str(limit))

    async def _opened(self, owner: str) -> Purse:
        purse = Purse()
        jobs = set(
            chain.from_iterable(
                (order.id, order.id + _SECOND) for order in self._book if order.owner == owner
            )
        )

        def spent(ledger: "Ledger") -> None:
            purse.watch(jobs, ledger.listing.costly_attempts(jobs))
            for key, cost in ledger.follow_ups.costs_of(jobs):
                purse.reserve(key, cost)

        await self._writer.perform(spent)
        purse.reserve("jobs that were forgotten", Decimal(str(self._book.forgotten(owner))))
        return purse

    def admit(self, order: Order, card: EngineCard, under_way: set[str]) -> "Admission | None":
        """Whether there is room for an order beside those that are not at an end.

        Args:
            order: new, or to be tried again.
            card: of its engine.
            under_way: IDs of orders that have ended, and may still cost something.

        Returns:
            None where its token has no limit.
        """
        purse = self._purses.get(order.owner)
        if purse is None:
            return None
        # From now on it is one of those that are paid from it.
        purse.watch({order.id, order.id + _SECOND}, ())
        others = [
            one
            for one in self._book
            if one.owner == order.owner
            and one.id != order.id
            and (not one.has_ended or one.id in under_way)
        ]
        claimed = [self._claim(one, card) for one in others]
        own = _estimate(order, card)
        if own is None or None in claimed:
            return Admission(float(purse.limit or 0), float(purse.owed), None, None)
        owed = purse.by_job()
        waiting = sum(
            max(Decimal(0), (claim or Decimal(0)) - owed.get(one.id, Decimal(0)))
            for claim, one in zip(claimed, others, strict=True)
        )
        left = (purse.limit or Decimal(0)) - purse.owed - waiting
        rest = max(Decimal(0), own - owed.get(order.id, Decimal(0)))
        return Admission(float(purse.limit or 0), float(purse.owed), float(left), float(rest))

    def limit_for(self, order: Order, room: "Admission") -> float | None:
        """What an order may cost that is admitted; None where its requests ask the purse."""
        if is_open(order):
            return room.left
        if not self._others_spend or room.left is None:
            return None
        return min(room.left, _MARGIN * (room.own or 0.0))

    def _claim(self, order: Order, card: EngineCard) -> Decimal | None:
        """What an order that is under way may cost in all."""
        has_limit = order.options.spend_limit is not None
        if has_limit and (is_open(order) or self._others_spend):
            return order.options.spend_limit
        return _estimate(order, card)

    def owed_for(self, order: Order) -> float:
        """What an order has cost, or may have, as far as its token's purse knows."""
        purse = self._purses.get(order.owner)
        if purse is None:
            return 0.0
        owed = purse.by_job()
        return float(sum(owed.get(job, Decimal(0)) for job in (order.id, order.id + _SECOND)))


@dataclass(frozen=True, slots=True)
class Admission:
    """What there is room for.

    Attributes:
        limit: of the token.
        spent: by it so far.
        left: for one more order; None where nobody knows what the engine costs.
        own: what the order will cost, by its header; of one without a length it is nothing.
    """

    limit: float
    spent: float
    left: float | None
    own: float | None

    @property
    def has_room(self) -> bool:
        """Whether the order may begin."""
        return self.left is not None and self.left > 0 and self.left >= (self.own or 0.0)


def is_open(order: Order) -> bool:
    """Whether nobody knows what an order will cost: that of a link, of a recording without a
    length, or one with a second opinion.
    """
    return order.duration is None or order.options.second_opinion is not None


def _estimate(order: Order, card: EngineCard) -> Decimal | None:
    return cost_of(card, billed_seconds(card, [order.duration or 0.0]))
