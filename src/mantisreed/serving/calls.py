"""Calls to whoever wants to be told that a job has ended, signed after Standard Webhooks, and tried
again.
"""

import asyncio
import json
import logging
import time
from collections.abc import Awaitable, Callable, Mapping
from typing import TYPE_CHECKING, Literal

from mantisreed.cards.requests import HttpRequest
from mantisreed.destinations.calls import signed_headers
from mantisreed.errors import MantisreedError
from mantisreed.secrets import Secret
from mantisreed.serving.orders import Order, OrderBook
from mantisreed.serving.problems import Problem
from mantisreed.serving.routes.views import described

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport

_log = logging.getLogger(__name__)

WAITS = (0.0, 5.0, 30.0, 120.0, 600.0, 3600.0, 4 * 3600.0)
"""Seconds before each attempt; after the last one the call has failed."""

_LIMIT = 20.0  # seconds for an answer

Profile = Literal["live", "test"]


class Caller:
    """Calls back, for as long as the service runs; what is left is called for when it runs
    again.
    """

    def __init__(
        self,
        book: OrderBook,
        transport: "Transport",
        keys: Mapping[Profile, Secret | None],
        check: Callable[[str], Awaitable[None]],
        *,
        prefix: str = "",
        waits: tuple[float, ...] = WAITS,
    ) -> None:
        """Call nobody yet.

        Args:
            book: of the orders.
            transport: what carries requests.
            keys: with which calls are signed, by profile; None signs none.
            check: raises a problem where an address must not be called.
            prefix: of the paths under which the service is reached.
            waits: seconds before each attempt.
        """
        self._book, self._transport, self._keys, self._check = book, transport, keys, check
        self._prefix, self._waits = prefix, waits
        self._tasks: dict[str, asyncio.Task[None]] = {}

    def look(self, order: Order) -> None:
        """Begin to call for an order that has ended, if it wants that."""
        wants = order.webhook_state == "waiting" and order.has_ended and self._book.is_own(order)
        if wants and order.id not in self._tasks:
            task = asyncio.get_running_loop().create_task(self._called(order))
            self._tasks[order.id] = task
            task.add_done_callback(lambda _: self._tasks.pop(order.id, None))

    async def stop(self) -> None:
        """Call nobody any more."""
        tasks = list(self._tasks.values())
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    async def _called(self, order: Order) -> None:
        for wait in self._waits:
            await asyncio.sleep(wait)
            if await self._is_taken(order):
                await self._book.change(order, webhook_state="done")
                return
        await self._book.change(order, webhook_state="failed")

    async def _is_taken(self, order: Order) -> bool:
        try:
            assert order.webhook is not None
            await self._check(order.webhook)
            answer = await self._transport.exchange(self.request(order, int(time.time())))
        except (MantisreedError, Problem) as error:
            _log.info("the call for job %s was not taken: %s", order.id, error)
            return False
        except Exception:
            _log.exception("the call for job %s failed", order.id)
            return False
        return 200 <= answer.status < 300

    def request(self, order: Order, moment: int) -> HttpRequest:
        """The call: the job as the API tells it, under an id by which a repeated call is known."""
        body = json.dumps(
            {"type": "job.ended", "profile": order.profile, "job": described(order, self._prefix)}
        ).encode()
        known_by = f"msg_{order.id}_{int(order.finished or 0)}"
        signed = signed_headers(self._keys.get(order.profile), known_by, moment, body)
        headers = [("content-type", "application/json"), *signed]
        return HttpRequest(
            "call", "call", "POST", order.webhook or "", tuple(headers), timeout=_LIMIT, body=body
        )
