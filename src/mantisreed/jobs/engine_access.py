"""What all deliveries to one engine share."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeVar

from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineClient, EngineResponse
from mantisreed.jobs.budget import Budget
from mantisreed.jobs.failures import bill_of
from mantisreed.jobs.gate import EngineGate
from mantisreed.jobs.polling import Poller
from mantisreed.jobs.work import DispatchOptions
from mantisreed.jobs.writer import LedgerWriter

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import RequestRecord

T = TypeVar("T")


@dataclass(slots=True)
class EngineAccess:
    """What all pieces share that go to one engine.

    Attributes:
        client: what speaks to it.
        card: of the engine.
        writer: what changes the ledger.
        options: how it is dealt with.
        gate: its rate limit, and whether it is left alone.
        poller: what asks for its jobs.
        callbacks: the address under which it calls back; None where it does not.
        sending: how many requests are on their way.
    """

    client: EngineClient
    card: EngineCard
    writer: LedgerWriter
    options: DispatchOptions
    gate: EngineGate
    poller: Poller
    callbacks: str | None = None
    sending: int = 0

    async def perform(self, change: "Callable[[Ledger], T]", *, is_owed: bool = False) -> T:
        """Do something with the ledger; it is committed when this returns. See `LedgerWriter`."""
        return await self.writer.perform(change, is_owed=is_owed)

    def budgets(self, job: str) -> tuple[Budget, ...]:
        """All that have to have room for what is sent for a job."""
        purse = self.options.purse_of(job)
        if purse is None:
            return (self.options.budget,)
        return (self.options.budget, purse)

    async def answered(self, record: "RequestRecord", response: EngineResponse) -> bool:
        """Note a reply; whether it was still waited for."""
        bill = bill_of(self.card, record, response.bill)
        return await self.perform(
            lambda ledger: ledger.requests.answer(record, response.body, bill), is_owed=True
        )

    async def kept(self, record: "RequestRecord") -> EngineResponse:
        """The reply that is kept of a request.

        Raises:
            ReplyLostError: it is not there any more.
        """
        return EngineResponse(await self.perform(lambda ledger: ledger.requests.reply(record)))
