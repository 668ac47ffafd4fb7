"""An engine that is spoken to over the network, by the steps of its card."""

import asyncio
import json
import time
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Any

from mantisreed.cards.templates import Value
from mantisreed.cards.wire.exchange import Exchange
from mantisreed.cards.wire.sending import ExchangeOptions
from mantisreed.cards.wire.standing import FinishedExchange, Standing
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineResponse, ReportedBill, StillWorking, Ticket
from mantisreed.engines.reading.heard import ReplyStream
from mantisreed.engines.request import Piece, RequestOptions, attachment_of, piece_values
from mantisreed.limits import MOST_MONEY
from mantisreed.secrets import Secret, redacted_body

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport

_SECONDS, _COST = "billed_seconds", "billed_cost"


@dataclass(frozen=True, slots=True)
class ClientOptions:
    """How a client goes about it.

    Attributes:
        clock: seconds that only go forward.
        sleep: waits.
        on_limit: told for how many seconds nothing more may be sent.
    """

    clock: Callable[[], float] = time.monotonic
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep
    on_limit: Callable[[float], None] = lambda seconds: None


def _stream_of(card: EngineCard) -> ReplyStream | None:
    """How a card's reply is read while it comes; results of several pieces are read whole."""
    # Of a batch nobody knows yet whose text it is.
    if card.reply.format in ("lines", "events") and card.batch is None:
        return ReplyStream(card)
    return None


class HttpClient:
    """An engine that is spoken to over HTTP or a WebSocket."""

    def __init__(
        self,
        card: EngineCard,
        secrets: Mapping[str, Secret],
        transport: "Transport",
        options: ClientOptions | None = None,
    ) -> None:
        """Send nothing yet."""
        options = options or ClientOptions()
        self._card = card
        self.exchange = Exchange(
            card,
            secrets,
            transport,
            ExchangeOptions(
                notes={
                    name: take
                    for name, take in ((_SECONDS, card.billed.seconds), (_COST, card.billed.cost))
                    if take is not None
                },
                clock=options.clock,
                sleep=options.sleep,
                on_limit=options.on_limit,
                stream=_stream_of(card),
            ),
        )

    async def make_ready(self) -> None:
        """There is nothing to load."""

    async def submit(
        self, piece: Piece, request_options: RequestOptions
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        values = self.values_of(piece, request_options)
        came = await self.exchange.start(str(values["request_id"]), values, attachment_of(piece))
        if isinstance(came, FinishedExchange):
            return self.response(came)
        return self.ticket(came)

    async def ask(self, ticket: Ticket) -> EngineResponse | StillWorking:
        """See `EngineClient`."""
        came = await self.exchange.go_on(self._standing(ticket))
        if isinstance(came, FinishedExchange):
            return self.response(came)
        if came.standing is None:
            moved = None
        else:
            moved = Ticket(came.standing.as_json(), ticket.mark)
        return StillWorking(moved, came.retry_after)

    async def clean_up(self, response: EngineResponse) -> None:
        """See `EngineClient`."""
        if response.cleanup is not None:
            await self.exchange.clean_up(Standing.from_json(response.cleanup))

    def read_again(
        self, step: str, answer: bytes, values: Mapping[str, Any]
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        came = self.exchange.read_again(step, answer, values)
        if isinstance(came, FinishedExchange):
            return self.response(came)
        return self.ticket(came)

    async def look_up(self, piece: Piece, request_options: RequestOptions) -> Ticket | None:
        """See `EngineClient`."""
        standing = await self.exchange.look_up(self.values_of(piece, request_options))
        if standing is None:
            return None
        return self.ticket(standing)

    async def cancel(self, ticket: Ticket) -> bool:
        """See `EngineClient`."""
        return await self.exchange.cancel(self._standing(ticket))

    def values_of(self, piece: Piece, request_options: RequestOptions) -> dict[str, Value]:
        """What the card's placeholders stand for."""
        return piece_values(self._card, piece, request_options)

    def ticket(self, standing: Standing, key: str | None = None) -> Ticket:
        """A job of the engine, with what tells it from others.

        Args:
            standing: where its exchange stands.
            key: of a piece in a job of several.
        """
        named = {name: standing.values[name] for name in standing.taken}
        if "request_id" in standing.values:
            named["request_id"] = standing.values["request_id"]
        if key is not None:
            named["piece_key"] = key
        # The address is that of the card, so that the same number of two engines is not the same
        # job.
        url = self._card.url.source if self._card.url else None
        if named:
            mark = json.dumps([url, *sorted(named.items())], default=str)
        else:
            mark = None
        return Ticket(standing.as_json(), mark)

    def _standing(self, ticket: Ticket) -> Standing:
        """Where a ticket's exchange stands."""
        if "step" in ticket.values:
            return Standing.from_json(ticket.values)
        # Kept by a version that knew one order of steps only: what was taken, for the step that
        # asks.
        sequence = self.exchange.sequence
        step = sequence.steps[sequence.last_work + 1][0]
        return Standing(step, ticket.values, tuple(sorted(set(ticket.values) - {"request_id"})))

    def response(self, finished: FinishedExchange) -> EngineResponse:
        """A reply, with what the engine says of its price."""
        if finished.cleanup is None:
            cleanup = None
        else:
            cleanup = finished.cleanup.as_json()
        if finished.body is None:
            body = None
        else:
            body = redacted_body(finished.body)
        return EngineResponse(body, self.bill(finished.noted), cleanup)

    def bill(self, noted: Mapping[str, Value]) -> ReportedBill | None:
        """What the engine says that it charges; what is no number is not believed."""
        seconds = self._card.billed.times.seconds(noted.get(_SECONDS), 0)
        cost = _money(noted.get(_COST))
        # A negative length is a mistake of the engine, and no credit.
        if seconds is not None and seconds < 0:
            seconds = None
        if seconds is None and cost is None:
            return None
        return ReportedBill(seconds, cost)


_LONGEST_AMOUNT = 40  # characters
_PLACES = 12  # behind the point


def _money(value: Value) -> Decimal | None:
    if isinstance(value, bool) or not isinstance(value, (int, float, str)):
        return None
    try:
        # By its text: 0.1 as a number is not a tenth.
        amount = Decimal(str(value).strip()[:_LONGEST_AMOUNT])
    except InvalidOperation:
        return None
    # An amount of a hundred characters may be a number of a billion digits, or one with as many
    # behind the point.
    is_modest = (
        amount.is_finite() and 0 <= amount <= MOST_MONEY and amount.adjusted() > -_LONGEST_AMOUNT
    )
    if is_modest:
        return round(amount, _PLACES)
    return None
