"""How stand-ins misbehave when they are asked to, so that what happens with real engines can be
tried and tested.
"""

import random
import time
from collections import Counter, deque
from collections.abc import Callable, Mapping, MutableMapping
from contextvars import ContextVar
from dataclasses import dataclass, field
from email.utils import formatdate
from typing import Any, Literal

import anyio
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mantisreed.standin.habits import Habits

Fault = Literal[
    "refused",
    "cut",
    "500",
    "503",
    "hang",
    "truncated",
    "page",
    "wrong type",
    "empty",
    "duplicate id",
]
FAULTS: tuple[Fault, ...] = (
    *(
        "refused",
        "cut",
        "500",
        "503",
        "hang",
        "truncated",
        "page",
        "wrong type",
        "empty",
        "duplicate id",
    ),
)
"""What can go wrong with one request: the connection is closed without an answer, or half way
through the body; an
error of the engine's own; no answer for long; a body that breaks off although its length is right,
is a page for people, is called something else, or is empty; the id of another job."""

_BEFORE: tuple[Fault, ...] = ("refused", "500", "503", "hang")  # the engine has not done anything
_PAGE = (
    b"<!DOCTYPE html><html><body><h1>Low tide</h1><p>Come back with the water.</p></body></html>"
)


@dataclass(frozen=True, slots=True)
class FaultProfile:
    """What goes wrong, and how often.

    Attributes:
        seed: the same one makes the same things go wrong in the same order.
        faults: share of requests that a fault befalls.
        kinds: which faults.
        hang: seconds without an answer.
        pace: requests in any so many seconds; what is more gets status 429. None for no limit.
        retry_after: how a 429 says when to come back: in seconds, as a date, or not.
        queue: seconds that a job takes, where the engine has jobs.
        failing, losing: shares of jobs that end failed, and that the engine forgets.
        calls: how the engine calls back, where it is given an address: before the job's own answer,
            twice, never.
        confusion: share of words that are misheard.
        habits: what is wrong with what an engine hears besides, by its name; by an empty one for
            all others.
    """

    seed: int = 0
    faults: float = 0.0
    kinds: tuple[Fault, ...] = FAULTS
    hang: float = 30.0
    pace: tuple[int, float] | None = None
    retry_after: Literal["seconds", "date", "none"] = "seconds"
    queue: float = 0.0
    failing: float = 0.0
    losing: float = 0.0
    calls: Literal["once", "twice", "early", "never"] = "once"
    confusion: float = 0.0
    habits: Mapping[str, Habits] = field(default_factory=dict)


heard_sounds: ContextVar[list[str] | None] = ContextVar("heard_sounds", default=None)
"""Digests of the sounds that were listened to for the request in hand."""


class Weather:
    """Stands before the stand-ins: lets requests through, spoils some, counts all. `GET /tally`
    tells the counts.
    """

    def __init__(
        self, engines: ASGIApp, profile: FaultProfile, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._engines = engines
        self._profile = profile
        self._clock = clock
        self._chance = random.Random(profile.seed)  # noqa: S311 - nothing is kept secret with it
        self._starts: MutableMapping[str, deque[float]] = {}
        self._given: dict[str, bytes] = {}
        self.asked: Counter[str] = Counter()
        self.faults: Counter[str] = Counter()
        self.answered: Counter[str] = Counter()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """ASGI."""
        if scope["type"] != "http":
            await self._engines(scope, receive, send)
        elif scope["path"] == "/tally":
            await JSONResponse(self.tally())(scope, receive, send)
        else:
            await self._engine(scope, receive, send)

    def tally(self) -> dict[str, Any]:
        """Requests by engine, faults by kind, and by the digest of each sound how often it was
        answered well.
        """
        return {
            "asked": dict(self.asked),
            "faults": dict(self.faults),
            "answered": dict(self.answered),
        }

    async def _engine(self, scope: Scope, receive: Receive, send: Send) -> None:
        engine = scope["path"].split("/")[1]
        self.asked[engine] += 1
        if scope["method"] == "POST" and (wait := self._over_pace(engine)) is not None:
            self.faults["429"] += 1
            await _drained(receive)
            refusal = JSONResponse(
                {"trouble": "the tide is too strong"}, 429, self._retry_after(wait)
            )
            await refusal(scope, receive, send)
            return
        # Drawn for each request, in order, so that a seed gives the same faults.
        is_spoiled = self._chance.random() < self._profile.faults
        fault = self._chance.choice(self._profile.kinds) if is_spoiled else None
        if fault in _BEFORE:
            self.faults[str(fault)] += 1
            await self._spoiled_before(fault, scope, receive, send)
            return
        heard: list[str] = []
        mark = heard_sounds.set(heard)
        answer = _SpoiledAnswer(fault, scope["path"], self._given, send)
        try:
            await self._engines(scope, receive, answer.take)
        finally:
            heard_sounds.reset(mark)
        was_spoiled = await answer.give(receive)
        self.faults.update([fault] if fault and was_spoiled else [])
        # What was spoiled was not answered: sending it again pays once.
        if not was_spoiled and answer.status < 400:
            self.answered.update(heard)

    def _over_pace(self, engine: str) -> float | None:
        """Seconds until one more request would be let in; None when it is let in now."""
        if self._profile.pace is None:
            return None
        count, window = self._profile.pace
        now, starts = self._clock(), self._starts.setdefault(engine, deque())
        while starts and starts[0] <= now - window:
            starts.popleft()
        if len(starts) >= count:
            return starts[0] + window - now
        starts.append(now)
        return None

    def _retry_after(self, wait: float) -> dict[str, str]:
        whole = int(wait) + 1
        match self._profile.retry_after:
            case "seconds":
                return {"Retry-After": str(whole)}
            case "date":
                return {"Retry-After": formatdate(time.time() + whole, usegmt=True)}
            case _:
                return {}

    async def _spoiled_before(
        self, fault: Fault | None, scope: Scope, receive: Receive, send: Send
    ) -> None:
        if fault == "refused":
            _close(receive)
            return
        await _drained(receive)
        if fault == "hang":
            await anyio.sleep(self._profile.hang)
            _close(receive)
            return
        await JSONResponse({"trouble": "the sluice is broken"}, int(fault or 500))(
            scope, receive, send
        )


class _SpoiledAnswer:
    """An engine's answer, held back until it is known how it is spoiled."""

    def __init__(self, fault: Fault | None, path: str, given: dict[str, bytes], send: Send) -> None:
        self._fault, self._path, self._given, self._send = fault, path, given, send
        self._start: Message = {}
        self._body = b""
        self.status = 0

    async def take(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self._start = message
            self.status = int(message["status"])
        else:
            self._body += message.get("body", b"")

    async def give(self, receive: Receive) -> bool:
        """Send it on; whether it was spoiled so that it is of no use."""
        body, headers, fault = self._body, list(self._start.get("headers", ())), self._fault
        kinds: dict[Fault, bytes] = {
            "truncated": body[: len(body) // 2],
            "page": _PAGE,
            "empty": b"",
        }
        is_spoiled = fault in kinds or fault == "cut"
        if fault in kinds:
            body = kinds[fault]
        elif fault == "duplicate id" and self.status == 202 and self._path in self._given:
            body, is_spoiled = self._given[self._path], True
        # The first job's answer is what later ones are given in place of their own.
        elif self.status == 202:
            self._given[self._path] = body
        kind = b"text/html" if fault in ("wrong type", "page") else None
        for at, (name, _) in enumerate(headers):
            if kind and name == b"content-type":
                headers[at] = (name, kind)
            elif _is_length(name):
                headers[at] = (name, str(len(body)).encode())
        await self._send({**self._start, "headers": headers})
        if fault == "cut":
            await self._send(
                {"type": "http.response.body", "body": body[: len(body) // 2], "more_body": True}
            )
            _close(receive)
            return True
        await self._send({"type": "http.response.body", "body": body})
        return is_spoiled


def _is_length(name: bytes) -> bool:
    return name == b"content-length"


async def _drained(receive: Receive) -> None:
    """Take in the whole request, as a server that answers early would cut the sender off."""
    while (await receive()).get("more_body"):
        pass


def _close(receive: Receive) -> None:
    """Close the connection without another byte. ASGI has no word for it; the server's own object
    does.
    """
    transport = getattr(getattr(receive, "__self__", None), "transport", None)
    if transport is not None:
        transport.abort()
