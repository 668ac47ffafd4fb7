"""Asking for jobs that an engine has taken: soon at first, then ever more slowly, until there is a
reply.

Whatever goes wrong while asking, the engine still has the job: the ticket is kept, and nothing is
sent again.
"""

from typing import TYPE_CHECKING

from mantisreed.cards.wire.streams import heard_by
from mantisreed.engines.asking import Waits
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineClient, EngineResponse, StillWorking, Ticket
from mantisreed.errors import AnothersIdError, EngineError, PostponedError
from mantisreed.jobs.failures import AttemptEndedError, bill_of, event_while_asking
from mantisreed.jobs.gate import EngineGate, Progress, Time, silent
from mantisreed.jobs.life import after
from mantisreed.jobs.writer import LedgerWriter

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import RequestRecord

_LOOK = 1.0  # seconds between looks whether the engine has called back


class Poller:
    """Asks one engine for its jobs.

    Attributes:
        out: how many jobs are asked for.
    """

    def __init__(
        self,
        client: EngineClient,
        card: EngineCard,
        writer: LedgerWriter,
        gate: EngineGate,
        *,
        is_called: bool = False,
        max_attempts: int = 1,
        time: Time | None = None,
    ) -> None:
        """Ask nothing yet.

        Args:
            client: what speaks to the engine.
            card: of the engine.
            writer: what changes the ledger.
            gate: by which waiting is broken off.
            is_called: whether the engine calls back, so that asking is for calls that get lost.
            max_attempts: how many questions in a row may fail.
            time: the clock; tests give their own.
        """
        self._client, self._card, self._writer, self._gate = client, card, writer, gate
        self._is_called, self._max_attempts, self._time = is_called, max_attempts, time or Time()
        # Whether the engine has said of any job that it has it: then the address on the card is
        # right, and a job that it does not know was lost.
        self._knows_jobs = False
        self.out = 0

    async def reply(
        self, record: "RequestRecord", progress: Progress, *, wait: bool
    ) -> EngineResponse | None:
        """The reply to a request that is at the engine; None while it is under way, unless we wait.

        Args:
            record: this process's own, with a ticket.
            progress: told why we wait.
            wait: until the reply is there.

        Raises:
            AttemptEndedError: the job failed, or the engine does not know it; that is noted.
            PostponedError: the engine cannot be asked now, or the job takes longer than the card
                allows.
        """
        self.out += 1
        try:
            return await self._asked_for(record, progress, wait=wait)
        finally:
            self.out -= 1

    async def ask_once(self, record: "RequestRecord") -> None:
        """Ask once for a request, whoever waits for it.

        Raises:
            EngineError: the job failed, or the engine does not know it.
            PostponedError: the engine cannot be asked now.
        """
        if record.ticket is None:
            return
        try:
            await self.reply(record, silent, wait=False)
        except AttemptEndedError as ended:
            raise ended.error from ended

    async def _asked_for(
        self, record: "RequestRecord", progress: Progress, *, wait: bool
    ) -> EngineResponse | None:
        waits = Waits.for_ticket(self._card, _ticket(record))
        started, failures, asked_for = self._time.clock(), 0, 0.0
        pauses = waits.pauses(is_called=self._is_called)
        while True:
            if wait:
                called = await self._called_within(record, max(next(pauses), asked_for))
                if called is not None:
                    return called
            try:
                with heard_by(lambda text: progress("hearing", text)):
                    answer = await self._client.ask(_ticket(record))
                failures = 0
                self._knows_jobs = True
                if isinstance(answer, EngineResponse):
                    return await self._taken(record, answer)
                asked_for = answer.retry_after or 0.0
                if answer.ticket is not None:
                    pauses = Waits.for_ticket(self._card, answer.ticket).pauses()
                record = await self._noted(record, answer)
            except EngineError as error:
                failures += 1
                asked_for = error.retry_after or 0.0
                await self._question_failed(
                    record, error, is_last=not wait or failures >= self._max_attempts
                )
                progress("waiting", f"{self._card.name}: {error.what}; the job is asked for again")
            if not wait:
                return None
            if self._time.clock() - started > waits.limit:
                raise _overdue(self._card, waits.limit)

    async def _noted(self, record: "RequestRecord", answer: StillWorking) -> "RequestRecord":
        """Note that the engine has the job, and how it is asked for from now on."""

        def note(ledger: "Ledger") -> "RequestRecord":
            ledger.requests.note_known(record)
            if answer.ticket is None:
                return record
            return ledger.requests.keep_ticket(record, answer.ticket.values)

        return await self._writer.perform(note, is_owed=True)

    async def _question_failed(
        self, record: "RequestRecord", error: EngineError, *, is_last: bool
    ) -> None:
        """See what a failed question means; returns when it is to be asked again."""
        now = await self._writer.perform(lambda ledger: ledger.requests.as_it_is(record))
        event = event_while_asking(error, was_known=now.was_known or self._knows_jobs)
        if event == "question failed" or (event == "job unknown" and not is_last):
            # An engine may take a moment until it knows a job that it has just taken.
            if is_last:
                raise PostponedError.because(error) from error
            return
        rule = await self._writer.perform(
            lambda ledger: ledger.requests.end(record, event, error), is_owed=True
        )
        raise AttemptEndedError(rule, error) from error

    async def _taken(self, record: "RequestRecord", response: EngineResponse) -> EngineResponse:
        """Keep a reply; gives what is kept, also when it came by another way meanwhile."""
        bill = bill_of(self._card, record, response.bill)
        is_taken = await self._writer.perform(
            lambda ledger: ledger.requests.answer(record, response.body, bill, by_ticket=True),
            is_owed=True,
        )
        if is_taken:
            await self._client.clean_up(response)
            return response
        now = await self._writer.perform(lambda ledger: ledger.requests.as_it_is(record))
        if now.state == "done":
            return await self._kept(now)
        if now.state == "cancelled":
            raise PostponedError("somebody cancelled it meanwhile", where=self._card.name)
        # Its id is another's, who has it now; whoever found that out has noted it.
        error = AnothersIdError(
            "it gave an id that another of its jobs has", engine=self._card.name
        )
        raise AttemptEndedError(after("working", "another's id"), error)

    async def _called_within(
        self, record: "RequestRecord", seconds: float
    ) -> EngineResponse | None:
        """Wait; the reply, if the engine has called back meanwhile."""
        if not self._is_called:
            await self._gate.rest(seconds)
            return None
        while seconds > 0:
            await self._gate.rest(min(_LOOK, seconds))
            seconds -= _LOOK
            now = await self._writer.perform(lambda ledger: ledger.requests.as_it_is(record))
            if now.state == "done":
                return await self._kept(now)
        return None

    async def _kept(self, record: "RequestRecord") -> EngineResponse:
        return EngineResponse(
            await self._writer.perform(lambda ledger: ledger.requests.reply(record))
        )


def _ticket(record: "RequestRecord") -> Ticket:
    return Ticket(record.ticket or {}, record.mark)


def _overdue(card: EngineCard, limit: float) -> PostponedError:
    return PostponedError(
        f"the job has not ended within {limit:g} s; it stays at the engine",
        where=card.name,
        advice="`mantisreed collect`, or the same command, asks for it again",
    )
