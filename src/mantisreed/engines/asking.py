"""From a card to a client, and from a piece to a reading."""

import asyncio
import time
from collections.abc import Awaitable, Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, TypeVar

from mantisreed.cards.answers import quoted_beginning
from mantisreed.cards.steps import Step
from mantisreed.cards.wire.exchange import pauses
from mantisreed.engines.batching import BatchClient
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineClient, EngineResponse, StillWorking, Ticket
from mantisreed.engines.http_client import ClientOptions, HttpClient
from mantisreed.engines.local_client import CommandClient, PythonClient
from mantisreed.engines.reading.reply import ParsedReply, read_reply
from mantisreed.engines.reading.unpacking import UnexpectedReplyError
from mantisreed.engines.reading.wholeness import check_whole
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.errors import EngineError, JobLostError, UnreadableReplyError
from mantisreed.secrets import Secret
from mantisreed.transcript.repair import repaired

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport

_Answer = TypeVar("_Answer")

_LIMIT = 6 * 3600.0  # seconds that a job without a step that asks may take


def client_for(
    card: EngineCard,
    secrets: Mapping[str, Secret],
    transport: "Transport",
    options: ClientOptions | None = None,
) -> EngineClient:
    """What speaks to the card's engine; it gives whole answers only."""
    return CheckingClient(card, _client_for(card, secrets, transport, options))


def _client_for(
    card: EngineCard,
    secrets: Mapping[str, Secret],
    transport: "Transport",
    options: ClientOptions | None,
) -> EngineClient:
    if card.command:
        return CommandClient(card, secrets)
    if card.python:
        return PythonClient(card, secrets)
    client = HttpClient(card, secrets, transport, options)
    if card.batch is None:
        return client
    return BatchClient(card, client)


class CheckingClient:
    """An engine's client that gives whole answers only; see `EngineClient`."""

    def __init__(self, card: EngineCard, client: EngineClient) -> None:
        """Send nothing yet."""
        self._card, self._client = card, client
        self.make_ready = client.make_ready
        self.clean_up = client.clean_up
        self.look_up = client.look_up
        self.cancel = client.cancel

    async def submit(
        self, piece: Piece, request_options: RequestOptions
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        return self._checked(await self._client.submit(piece, request_options))

    async def ask(self, ticket: Ticket) -> EngineResponse | StillWorking:
        """See `EngineClient`."""
        return self._checked(await self._client.ask(ticket))

    def read_again(
        self, step: str, answer: bytes, values: Mapping[str, Any]
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        return self._checked(self._client.read_again(step, answer, values))

    def _checked(self, answer: _Answer) -> _Answer:
        if isinstance(answer, EngineResponse) and answer.body is not None:
            check_whole(self._card, answer.body)
        return answer


@dataclass(frozen=True, slots=True)
class Waits:
    """How asking for one job goes.

    Attributes:
        step: that asks next; None where the next step is an ordinary one.
        limit: seconds after which no more is asked by itself.
    """

    step: Step | None
    limit: float

    @classmethod
    def for_ticket(cls, card: EngineCard, ticket: Ticket) -> "Waits":
        """Those of a job."""
        steps = dict(card.sequence)
        step = steps.get(str(ticket.values.get("step")))
        if step is not None and step.is_asking:
            asking = step
        else:
            asking = None
        # The longest of several, as each may be the one that takes long.
        limits = [other.limit for other in steps.values() if other.is_asking]
        return cls(asking, float(max(limits, default=_LIMIT)))

    def pauses(self, *, is_called: bool = False) -> Iterator[float]:
        """Seconds before each question, without end.

        Args:
            is_called: whether the engine calls when the job has ended, so that asking is for calls
                that get lost.
        """
        if self.step is None:
            return pauses(Step(), first=0.0)
        # An engine that calls is asked too, in case that the call gets lost.
        return pauses(self.step, first=float(self.step.max_interval) if is_called else None)


OnFailure = Callable[[EngineError], Awaitable[None]]
"""Waits until something that has failed is tried again, or raises the error."""


async def give_up(error: EngineError) -> None:
    """Try nothing again."""
    raise error


async def wait_for_reply(
    client: EngineClient,
    card: EngineCard,
    ticket: Ticket,
    *,
    on_failure: OnFailure = give_up,
    clock: Callable[[], float] = time.monotonic,
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
) -> EngineResponse:
    """Ask until the reply is there: soon at first, then ever more slowly. After a question that
    fails, `on_failure` waits until the next one, or raises the error.

    Raises:
        JobFailedError: the engine says that the job failed.
        JobLostError: it did not end within the card's limit.
    """
    started, waits = clock(), Waits.for_ticket(card, ticket)
    coming, asked_for = waits.pauses(), 0.0
    while True:
        # As late as both want it.
        await sleep(max(next(coming), asked_for))
        try:
            answer = await client.ask(ticket)
        except EngineError as error:
            await on_failure(error)
            continue
        if isinstance(answer, EngineResponse):
            return answer
        asked_for = answer.retry_after or 0.0
        if answer.ticket is not None:
            ticket = answer.ticket
            # Another step begins with short pauses again.
            coming = Waits.for_ticket(card, ticket).pauses()
        if clock() - started > waits.limit:
            raise overdue(card, waits.limit)


def overdue(card: EngineCard, limit: float) -> JobLostError:
    """The error for a job that did not end within the card's limit."""
    return JobLostError(
        f"the job did not end within {limit:g} s",
        engine=card.name,
        advice="look at it in your account, or raise the step's limit in its card",
    )


async def reply_to(
    client: EngineClient,
    card: EngineCard,
    piece: Piece,
    request_options: RequestOptions,
    *,
    on_refusal: OnFailure = give_up,
    on_failure: OnFailure = give_up,
) -> EngineResponse:
    """Send a piece and wait for its reply.

    Args:
        client: of the engine.
        card: its card.
        piece: what is sent.
        request_options: language and hints.
        on_refusal: called when sending has failed; waits until the next try, or raises the error.
        on_failure: the same of a question for the job.

    Raises:
        EngineError: sending it failed, or the job did.
    """
    came: EngineResponse | Ticket | None = None
    while came is None:
        try:
            came = await client.submit(piece, request_options)
        except EngineError as error:
            await on_refusal(error)
    if isinstance(came, Ticket):
        came = await wait_for_reply(client, card, came, on_failure=on_failure)
    await client.clean_up(came)
    return came


def reading_of(
    card: EngineCard, answered: EngineResponse, piece: Piece, secrets: Mapping[str, Secret]
) -> ParsedReply:
    """What a reply says.

    Raises:
        UnreadableReplyError: it is not as the card says; its body is kept with the error.
    """
    if answered.body is None:
        return ParsedReply(())
    try:
        reading = read_reply(card, answered.body, piece)
        # Whatever the engine gives: times in order, within the sound.
        passages, mended = repaired(reading.passages, piece.duration)
        return replace(reading, passages=passages, mended=mended)
    except UnexpectedReplyError as unexpected:
        quoted = quoted_beginning(answered.body, secrets.values())
        error = UnreadableReplyError(
            f"its reply is not as its card says: {unexpected}",
            engine=card.name,
            answer=quoted,
            advice=f"the reply begins: {quoted}" if quoted else "the reply is empty",
        )
        error.body = answered.body
        raise error from unexpected
