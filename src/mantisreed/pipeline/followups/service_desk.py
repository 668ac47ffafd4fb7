"""Asking text services: several questions at a time, again where that helps, and never what was
answered.
"""

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any, Protocol, TypeVar

from mantisreed.errors import (
    EngineBrokeError,
    EngineError,
    InterruptedRunError,
    JobFailedError,
    MantisreedError,
    SlowDownError,
    UnreachableError,
)
from mantisreed.jobs.budget import Budget, BudgetsOf
from mantisreed.jobs.failures import seconds_before
from mantisreed.jobs.follow_ups import QuestionToAsk
from mantisreed.pipeline.results import Tally
from mantisreed.services.card import TextServiceCard
from mantisreed.services.client import Question, TextServiceClient, question_key
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport
    from mantisreed.jobs.ledger import Ledger

T = TypeVar("T")

_LOOK = 0.5  # seconds between two looks at what another process is asking
_PASSING = (SlowDownError, EngineBrokeError, UnreachableError)


class Perform(Protocol):
    """Does something with the ledger."""

    def __call__(self, change: "Callable[[Ledger], T]", *, is_owed: bool = False) -> Awaitable[T]:
        """What it gives, once it is committed; see `LedgerWriter`."""


class ServiceDesk:
    """Asks the text services of one workspace."""

    def __init__(
        self,
        workspace: Workspace,
        transport: "Transport",
        perform: Perform,
        budgets_of: BudgetsOf,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        """Ask nothing yet."""
        self._workspace, self._transport = workspace, transport
        self._perform, self._budgets_of, self._sleep = perform, budgets_of, sleep
        self._clients: dict[str, tuple[TextServiceClient, asyncio.Semaphore]] = {}
        self._stopped: MantisreedError | None = None

    def stop(self) -> None:
        """Ask nothing more."""
        self._stopped = InterruptedRunError()

    async def answers(
        self,
        card: TextServiceCard,
        questions: list[Question],
        job: str,
        tally: Tally,
        attempts: int,
    ) -> list[bytes]:
        """The answers to questions, in order.

        Args:
            card: of the service.
            questions: to ask it.
            job: for which.
            tally: to count in.
            attempts: how often each is asked at most.

        Raises:
            EngineError: the service has no answer to one of them; those to others are kept.
            TrustError: the settings are not trusted with what the service uses.
        """
        asked = [
            asyncio.ensure_future(self._answer(card, one, job, tally, attempts))
            for one in questions
        ]
        try:
            return list(await asyncio.gather(*asked))
        except BaseException:
            # What is on its way has been paid for: it is waited for and kept.
            await asyncio.gather(*asked, return_exceptions=True)
            raise

    async def _answer(
        self, card: TextServiceCard, question: Question, job: str, tally: Tally, attempts: int
    ) -> bytes:
        price = card.price
        if price is None:
            cost = None
        else:
            cost = price.per_thousand_characters * question.characters / 1000
        if price is None:
            currency = None
        else:
            currency = price.currency
        to_ask = QuestionToAsk(
            question_key(card, question),
            card.name,
            job,
            question.characters,
            cost,
            currency,
            card.max_concurrent,
        )
        budgets = [budget.of(currency) for budget in self._budgets_of(job)]
        client, room = self._client(card)
        async with room:
            while True:
                found: Any = await self._perform(
                    lambda ledger: ledger.follow_ups.ask(to_ask, budgets)
                )
                if isinstance(found, bytes):
                    return found
                # Else another process asks the same; its answer is waited for.
                if found == "ask":
                    break
                await self._sleep(_LOOK)
                # Whoever was asking may have ended.
                await self._perform(lambda ledger: ledger.recover())
            answer = await self._asked(card, client, question, to_ask, attempts, budgets)
        tally.add(question.texts, cost, currency)
        await self._perform(
            lambda ledger: ledger.follow_ups.answered(to_ask.key, answer), is_owed=True
        )
        return answer

    async def _asked(
        self,
        card: TextServiceCard,
        client: TextServiceClient,
        question: Question,
        to_ask: QuestionToAsk,
        attempts: int,
        budgets: Sequence[Budget],
    ) -> bytes:
        """Ask until there is an answer; the ledger knows of it when there is none."""
        number = 0
        while True:
            number += 1
            try:
                if self._stopped is not None:
                    raise self._stopped
                await self._wait_for_turn(card)
                return await client.answer(question)
            except EngineError as error:
                if isinstance(error, _PASSING) and number < attempts:
                    await self._sleep(seconds_before(number, error.retry_after))
                    continue
                await self._note_failure(to_ask, budgets, is_unconfirmed=_may_be_charged(error))
                raise
            except BaseException as error:
                is_unconfirmed = error is not self._stopped
                await self._note_failure(to_ask, budgets, is_unconfirmed=is_unconfirmed)
                raise

    async def _note_failure(
        self, to_ask: QuestionToAsk, budgets: Sequence[Budget], *, is_unconfirmed: bool
    ) -> None:
        key = to_ask.key
        # What may have been paid for stays spent.
        if not is_unconfirmed:
            for budget in budgets:
                budget.give_back(key)
        with suppress(MantisreedError):  # what failed is raised, and matters more
            await self._perform(
                lambda ledger: ledger.follow_ups.not_answered(key, is_unconfirmed=is_unconfirmed),
                is_owed=True,
            )

    async def _wait_for_turn(self, card: TextServiceCard) -> None:
        limit = card.rate_limit
        if limit is None:
            return
        name = f"service.{card.name}"
        _, seconds = await self._perform(
            lambda ledger: ledger.pace.next_turn(name, limit.requests, limit.window)
        )
        if seconds > 0:
            await self._sleep(seconds)

    def _client(self, card: TextServiceCard) -> tuple[TextServiceClient, asyncio.Semaphore]:
        if card.name not in self._clients:
            self._workspace.require_trust_in_service(card.name)
            secrets = {
                name: source.read(self._workspace.folder) for name, source in card.secrets.items()
            }
            client = TextServiceClient(card, secrets, self._transport, sleep=self._sleep)
            self._clients[card.name] = client, asyncio.Semaphore(card.max_concurrent)
        return self._clients[card.name]


def _may_be_charged(error: EngineError) -> bool:
    if isinstance(error, UnreachableError):
        return error.was_sent
    return not isinstance(error, (SlowDownError, JobFailedError)) and error.status is None
