"""Asking for jobs that an engine has taken: soon at first, then ever more slowly, until there is a reply.

Whatever goes wrong while asking, the engine still has the job: the ticket is kept, and nothing is sent again.
"""

from typing import TYPE_CHECKING

from mantisreed.engines.asking import pauses
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineClient, EngineResponse, Ticket
from mantisreed.errors import AnothersIdError, EngineError, PostponedError
from mantisreed.jobs.failures import AttemptEndedError, bill_of, event_while_asking
from mantisreed.jobs.gate import EngineGate, Progress, Time, silent
from mantisreed.jobs.life import after
from mantisreed.jobs.writer import LedgerWriter

if TYPE_CHECKING:
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
        # Whether the engine has said of any job that it has it: then the address on the card is right, and a job that
        # it does not know was lost.
        self._knows_jobs = False
        self.out = 0

    async def reply(self, record: "RequestRecord", progress: Progress, *, wait: bool) -> EngineResponse | None:
        """The reply to a request that is at the engine; None while it is under way, unless we wait.

        Args:
            record: this process's own, with a ticket.
            progress: told why we wait.
            wait: until the reply is there.

        Raises:
            AttemptEndedError: the job failed, or the engine does not know it; that is noted.
            PostponedError: the engine cannot be asked now, or the job takes longer than the card allows.
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

    async def _asked_for(self, record: "RequestRecord", progress: Progress, *, wait: bool) -> EngineResponse | None:
        poll = self._card.poll
        assert poll is not None
        started, failures, asked_for = self._time.clock(), 0, 0.0
        first = poll.slowest if self._is_called else poll.every
        for pause in pauses(poll, first=first):
            if wait:
                called = await self._called_within(record, max(pause, asked_for))
                if called is not None:
                    return called
            try:
                response = await self._client.ask(Ticket(record.ticket or {}, record.mark))
                failures, asked_for = 0, 0.0
                self._knows_jobs = True
                if response is not None:
                    return await self._taken(record, response)
                await self._writer.perform(lambda ledger: ledger.requests.note_known(record))
            except EngineError as error:
                failures += 1
                asked_for = error.retry_after or 0.0
                await self._question_failed(record, error, is_last=not wait or failures >= self._max_attempts)
                progress("waiting", f"{self._card.name}: {error.what}; the job is asked for again")
            if not wait:
                return None
            if self._time.clock() - started > poll.limit:
                raise _overdue(self._card)
        raise AssertionError("unreachable")

    async def _question_failed(self, record: "RequestRecord", error: EngineError, *, is_last: bool) -> None:
        """See what a failed question means; returns when it is to be asked again."""
        now = await self._writer.perform(lambda ledger: ledger.requests.as_it_is(record))
        event = event_while_asking(error, was_known=now.was_known or self._knows_jobs)
        if event == "question failed" or (event == "job unknown" and not is_last):
            # An engine may take a moment until it knows a job that it has just taken.
            if is_last:
                raise PostponedError.because(error) from error
            return
        rule = await self._writer.perform(lambda ledger: ledger.requests.end(record, event, error))
        raise AttemptEndedError(rule, error) from error

    async def _taken(self, record: "RequestRecord", response: EngineResponse) -> EngineResponse:
        """Keep a reply; gives what is kept, also when it came by another way meanwhile."""
        bill = bill_of(self._card, record)
        is_taken = await self._writer.perform(
            lambda ledger: ledger.requests.answer(record, response.body, bill, by_ticket=True)
        )
        if is_taken:
            return response
        now = await self._writer.perform(lambda ledger: ledger.requests.as_it_is(record))
        if now.state == "done":
            return await self._kept(now)
        if now.state == "cancelled":
            raise PostponedError("it was cancelled meanwhile", where=self._card.name)
        # Its id is another's, who has it now; whoever found that out has noted it.
        error = AnothersIdError("it gave an id that another of its jobs has", engine=self._card.name)
        raise AttemptEndedError(after("working", "another's id"), error)

    async def _called_within(self, record: "RequestRecord", seconds: float) -> EngineResponse | None:
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
        return EngineResponse(await self._writer.perform(lambda ledger: ledger.requests.reply(record)))


def _overdue(card: EngineCard) -> PostponedError:
    assert card.poll is not None
    return PostponedError(
        f"the job has not ended within {card.poll.limit:g} s; it stays at the engine",
        where=card.name,
        advice="`mantisreed collect`, or the same command, asks for it again",
    )
