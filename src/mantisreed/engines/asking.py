"""From a card to a client, and from a piece to a reading."""

import asyncio
import time
from collections.abc import Awaitable, Callable, Iterator, Mapping
from typing import TYPE_CHECKING

from mantisreed.engines.answers import quoted_beginning
from mantisreed.engines.card import EngineCard, Poll
from mantisreed.engines.client import EngineClient, EngineResponse, Ticket
from mantisreed.engines.http_client import HttpClient
from mantisreed.engines.local_client import CommandClient, PythonClient
from mantisreed.engines.reply import ParsedReply, read_reply
from mantisreed.engines.reply_paths import UnexpectedReplyError
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.engines.secrets import Secret
from mantisreed.errors import JobLostError, UnreadableReplyError
from mantisreed.transcript.repair import repaired

if TYPE_CHECKING:
    from mantisreed.engines.transport import Transport

_GROWTH = 1.5


def client_for(
    card: EngineCard,
    secrets: Mapping[str, Secret],
    transport: "Transport",
    *,
    clock: Callable[[], float] = time.monotonic,
) -> EngineClient:
    """What speaks to the card's engine.

    Raises:
        InputError: the card names a Python object that cannot be loaded.
    """
    if card.command:
        return CommandClient(card, secrets)
    if card.python:
        return PythonClient(card, secrets)
    return HttpClient(card, secrets, transport, clock=clock)


async def wait_for_reply(
    client: EngineClient,
    card: EngineCard,
    ticket: Ticket,
    *,
    clock: Callable[[], float] = time.monotonic,
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
) -> EngineResponse:
    """Ask until the reply is there: soon at first, then ever more slowly, up to the card's slowest.

    Raises:
        JobFailedError: the engine says that the job failed.
        JobLostError: it did not end within the card's limit.
    """
    poll = card.poll
    assert poll is not None
    started = clock()
    for pause in pauses(poll, first=poll.every):
        await sleep(pause)
        if (answered := await client.ask(ticket)) is not None:
            return answered
        if clock() - started > poll.limit:
            raise overdue(card)
    raise AssertionError("unreachable")


def pauses(poll: Poll, *, first: float) -> Iterator[float]:
    """Seconds before each question to an engine, without end: ever more, up to the card's slowest."""
    pause = float(first)
    while True:
        yield pause
        pause = min(pause * _GROWTH, float(poll.slowest))


def overdue(card: EngineCard) -> JobLostError:
    """The error for a job that did not end within the card's limit."""
    assert card.poll is not None
    return JobLostError(
        f"the job did not end within {card.poll.limit:g} s",
        engine=card.name,
        advice="look at it in your account, or raise poll.limit in its card",
    )


async def reply_to(
    client: EngineClient,
    card: EngineCard,
    piece: Piece,
    request_options: RequestOptions,
    *,
    on_taken: Callable[[], None] = lambda: None,
    clock: Callable[[], float] = time.monotonic,
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
) -> EngineResponse:
    """Send a piece and wait for its reply; `on_taken` is called when the engine has taken it as a job.

    Raises:
        EngineError: sending it failed, or the job did.
    """
    taken = await client.submit(piece, request_options)
    if isinstance(taken, EngineResponse):
        return taken
    on_taken()
    return await wait_for_reply(client, card, taken, clock=clock, sleep=sleep)


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
        passages, mended = repaired(reading.passages, piece.duration)
        return ParsedReply(passages, reading.language, mended)
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
