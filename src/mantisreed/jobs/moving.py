"""Moving one piece to its reply: what the ledger knows, the engine's pace, sending, asking, trying again."""

import asyncio
import hashlib
import time
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeVar
from weakref import WeakValueDictionary

import msgspec
import tenacity

from mantisreed.engines.asking import wait_for_reply
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.engines.client import Answered, EngineClient, Ticket
from mantisreed.engines.request import Piece, Wishes
from mantisreed.errors import (
    EngineBrokeError,
    EngineError,
    PostponedError,
    RefusedError,
    SlowDownError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.jobs.money import billed_seconds, cost_of

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger, PieceRecord

_FIRST_WAIT, _LONGEST_WAIT = 1.0, 60.0  # seconds
_LONGEST_ASKED_FOR = 900.0  # seconds that an engine may ask us to wait; after more we come back another day
_REFUSALS = 3  # from then on an engine that refuses is left alone
_OTHERS_LOOK = 1.0  # seconds between looks at a piece that another process is sending
_BEAT = 10.0  # seconds
_PASSING = (SlowDownError, EngineBrokeError, UnreachableError, UnreadableReplyError)

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Work:
    """One piece of a job, and what it is known by.

    Attributes:
        job: the job's id.
        request: the address of the request.
        start, end: seconds in the recording.
        channel: from 1; None when they are mixed.
        piece: what is sent.
    """

    job: str
    request: str
    start: float
    end: float
    channel: int | None
    piece: Piece


Tell = Callable[[str, str], None]
"""Called with a stage (`waiting`, `sending`, `working`) and a note."""


def card_address(card: EngineCard) -> bytes:
    """A card as text, without what makes no difference to what comes back: secrets, pace, price, how it is read."""
    bare = msgspec.structs.replace(
        card, secrets={}, pace=type(card.pace)(), price=None, about="", reply=Reply(kind="text")
    )
    return msgspec.json.encode(bare, enc_hook=str, order="sorted")


def request_address(card: bytes, wishes: Wishes, digest: str, described: tuple[Any, ...]) -> str:
    """The address of a request: recording, span and encoding as described, the card's address, and the wishes."""
    parts = msgspec.json.encode([digest, described, wishes], enc_hook=str, order="sorted")
    return hashlib.sha256(parts + card).hexdigest()


class Mover:
    """Moves pieces to their replies at one engine, many at once, and notes each step in the ledger first."""

    def __init__(
        self,
        client: EngineClient,
        card: EngineCard,
        wishes: Wishes,
        open_ledger: "Callable[[], Ledger]",
        *,
        afresh: bool = False,
        tries: int,
        clock: Callable[[], float] = time.time,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        """Start nothing yet.

        Args:
            client: what speaks to the engine.
            card: of the engine.
            wishes: language and hints.
            open_ledger: opens what everything is noted in; called when there is something to note.
            afresh: ask again also for what has been answered.
            tries: how often a request is sent at most when it fails in a way that may pass.
            clock: the time since 1970 in seconds, as the ledger's processes share it.
            sleep: given by tests.
        """
        self._client, self._card, self._wishes = client, card, wishes
        self._open_ledger = open_ledger
        self._ledger: Ledger | None = None
        self._afresh, self._tries, self._clock, self._sleep = afresh, tries, clock, sleep
        self._under_way: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()
        self._sending = asyncio.Semaphore(card.pace.at_once)
        self._writer = ThreadPoolExecutor(1, thread_name_prefix="ledger")
        self._refusals = 0
        self._stopped: EngineError | None = None

    async def noted(self, change: "Callable[[Ledger], T]") -> T:
        """Do something with the ledger, on the one thread that does."""
        return await asyncio.get_running_loop().run_in_executor(self._writer, self._with_ledger, change)

    def _with_ledger(self, change: "Callable[[Ledger], T]") -> T:
        if self._ledger is None:
            self._ledger = self._open_ledger()
        return change(self._ledger)

    def close(self) -> None:
        """Wait for the last note."""
        self._writer.shutdown()
        if self._ledger is not None:
            self._ledger.close()

    async def beat(self) -> None:
        """Let other processes know, until cancelled, that this one is alive."""
        while True:
            await asyncio.sleep(_BEAT)
            await self.noted(lambda ledger: ledger.beat())

    async def reply(self, work: Work, tell: Tell) -> bytes | None:
        """The engine's reply to a piece; None when it says that nothing was heard. What is kept is not asked again.

        Raises:
            EngineError: it failed for good, or as often as it may.
            PostponedError: the engine is left alone for now.
        """
        # The same sound may be in two recordings of a batch; it is sent once.
        async with self._under_way.setdefault(work.request, asyncio.Lock()):
            return await self._reply(work, tell)

    async def _reply(self, work: Work, tell: Tell) -> bytes | None:
        record = await self._claimed(work, tell)
        if record.state == "done":
            return await self.noted(lambda ledger: ledger.reply(record))
        retrying = tenacity.AsyncRetrying(
            retry=tenacity.retry_if_exception(self._may_pass),
            wait=self._wait_before_next,
            stop=tenacity.stop_after_attempt(self._tries),
            sleep=self._sleep,
            before_sleep=lambda state: self._tell_wait(state, tell),
            reraise=True,
        )
        ticket = Ticket(record.ticket) if record.state == "working" and record.ticket else None
        try:
            async for attempt in retrying:
                with attempt:
                    given, ticket = ticket, None
                    answered = await self._attempted(work, record, given, tell)
        except (UnreachableError, RefusedError) as error:
            self._refusals += 1
            if isinstance(error, UnreachableError) or self._refusals >= _REFUSALS:
                self._stopped = error
            raise
        return answered.body

    async def _claimed(self, work: Work, tell: Tell) -> "PieceRecord":
        while True:
            record = await self.noted(
                lambda ledger: ledger.claim(
                    work.job, work.request, work.start, work.end, work.channel, afresh=self._afresh
                )
            )
            if record is not None:
                return record
            tell("waiting", "another process is sending this piece")
            await self._sleep(_OTHERS_LOOK)

    async def _attempted(self, work: Work, record: "PieceRecord", ticket: Ticket | None, tell: Tell) -> Answered:
        try:
            taken = await self._sent(work, record, tell) if ticket is None else ticket
            if isinstance(taken, Ticket):
                tell("working", "")
                taken = await wait_for_reply(self._client, self._card, taken, clock=self._clock, sleep=self._sleep)
            self._check_whole(taken)
        except EngineError as error:
            await self._note_failure(record, error)
            raise
        billed = billed_seconds(self._card, [work.piece.duration])
        cost = cost_of(self._card, billed)
        await self.noted(lambda ledger: ledger.finish(record, taken.body, billed=billed, cost=cost))
        return taken

    async def _note_failure(self, record: "PieceRecord", error: EngineError) -> None:
        state = "waiting" if self._may_pass(error) or isinstance(error, RefusedError) else "failed"
        outcome = "in doubt" if isinstance(error, UnreachableError) and error.was_sent else "failed"
        await self.noted(lambda ledger: ledger.fail(record, state, error, outcome=outcome))

    def _check_whole(self, answered: Answered) -> None:
        """See that a reply came through unharmed; whether it is as its card says shows when it is read.

        Raises:
            UnreadableReplyError: it breaks off, is empty, or is a page for people.
        """
        body = answered.body
        if body is None:
            return
        if self._card.reply.kind == "json":
            damage = None if _is_json(body) else "not JSON"
        else:
            is_page = body[:200].lstrip().lower().startswith((b"<!doctype html", b"<html"))
            damage = "a page for people" if is_page else None
        if damage:
            what = f"its reply is damaged: it is {damage}"
            error = UnreadableReplyError(what, engine=self._card.name, advice="try again later")
            error.body = body
            raise error

    async def _sent(self, work: Work, record: "PieceRecord", tell: Tell) -> Answered | Ticket:
        async with self._sending:
            self._check_engine()
            await self._wait_for_turn(tell)
            self._check_engine()  # others may have failed meanwhile
            tell("sending", "")
            await self.noted(lambda ledger: ledger.send(record, len(work.piece.audio)))
            taken = await self._client.submit(work.piece, self._wishes)
            if isinstance(taken, Ticket):
                values = taken.values
                await self.noted(lambda ledger: ledger.take(record, values))
            return taken

    def _check_engine(self) -> None:
        """See that the engine is not left alone for now."""
        if self._stopped:
            raise PostponedError(self._stopped)

    async def _wait_for_turn(self, tell: Tell) -> None:
        pace = self._card.pace
        if pace.requests is None:
            return
        now = self._clock()
        name = self._card.name.partition(":")[0]
        requests, window = pace.requests, float(pace.window)
        moment = await self.noted(lambda ledger: ledger.next_start(name, requests, window, now))
        if moment > now:
            note = f"{self._card.name} allows {pace.requests} per {pace.window:g} s: next in {moment - now:.0f} s"
            tell("waiting", note)
            await self._sleep(moment - now)

    def _may_pass(self, error: BaseException) -> bool:
        """Whether the same request may succeed later."""
        return isinstance(error, _PASSING) and (getattr(error, "retry_after", None) or 0.0) <= _LONGEST_ASKED_FOR

    def _wait_before_next(self, state: tenacity.RetryCallState) -> float:
        """Growing waits with jitter; longer when the engine asks for it."""
        grown = tenacity.wait_exponential_jitter(_FIRST_WAIT, _LONGEST_WAIT)(state)
        error = state.outcome.exception() if state.outcome else None
        return max(grown, getattr(error, "retry_after", None) or 0.0)

    def _tell_wait(self, state: tenacity.RetryCallState, tell: Tell) -> None:
        error = state.outcome.exception() if state.outcome else None
        seconds = state.next_action.sleep if state.next_action else 0.0
        what = error.what if isinstance(error, EngineError) else "it failed"
        tell(
            "waiting",
            f"{self._card.name}: {what}; try {state.attempt_number + 1} of {self._tries} in {seconds:.0f} s",
        )


def _is_json(body: bytes) -> bool:
    try:
        msgspec.json.decode(body)
    except (msgspec.DecodeError, UnicodeDecodeError):
        return False
    return True
