"""Moving one piece to its reply: what the ledger knows, the engine's pace, sending, asking, trying again."""

import asyncio
import hashlib
import secrets
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, replace
from decimal import Decimal
from itertools import count
from typing import TYPE_CHECKING, Any, Protocol, TypeVar
from weakref import WeakValueDictionary

import msgspec

from mantisreed.engines.asking import overdue, pauses
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.engines.client import Answered, EngineClient, Ticket
from mantisreed.engines.request import Piece, Wishes
from mantisreed.errors import (
    EngineBrokeError,
    EngineError,
    FormatRefusedError,
    JobFailedError,
    JobLostError,
    PostponedError,
    RefusedError,
    SlowDownError,
    TooBigError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.jobs.money import Budget, billed_seconds, cost_of
from mantisreed.jobs.writing import LedgerWriter

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import PieceRecord

_FIRST_WAIT, _LONGEST_WAIT = 1.0, 60.0  # seconds
_LONGEST_ASKED_FOR = 900.0  # seconds that an engine may ask us to wait; after more we come back another day
_REFUSALS = 3  # from then on an engine that refuses is left alone
_OTHERS_LOOK = 1.0  # seconds between looks at a piece that another process has, or that is called for
_PASSING = (SlowDownError, EngineBrokeError, UnreachableError, UnreadableReplyError)
_ENDINGS = (JobFailedError, JobLostError, TooBigError, FormatRefusedError)  # after these, asking again is of no use

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


class Sound(msgspec.Struct, frozen=True):
    """What reading a reply needs to know of the piece that was sent; as in `Piece`."""

    duration: float
    sample_rate: int
    channels: int
    form: str
    speech: tuple[tuple[float, float], ...] = ()


class _AnothersIdError(UnreadableReplyError):
    """A job's id turned out to be another one's: asking again is of no use, sending again is."""


class Tell(Protocol):
    """Called when a piece has come to another stage (`waiting`, `sending`, `working`)."""

    def __call__(self, stage: str, note: str, until: float | None = None) -> None:
        """`note` says why; `until` is when it goes on, in seconds since 1970, None where nobody knows."""


def card_address(card: EngineCard) -> bytes:
    """A card as text, without what makes no difference to what comes back: secrets, pace, price, how it is read."""
    bare = msgspec.structs.replace(
        card, secrets={}, pace=type(card.pace)(), price=None, about="", reply=Reply(kind="text")
    )
    document = msgspec.to_builtins(bare, enc_hook=str)
    for name in ("lookup", "cancel", "callback"):
        del document[name]
    return msgspec.json.encode(document, order="sorted")


def request_address(card: bytes, wishes: Wishes, digest: str, described: tuple[Any, ...]) -> str:
    """The address of a request: recording, span and encoding as described, the card's address, and the wishes."""
    parts = msgspec.json.encode([digest, described, wishes], enc_hook=str, order="sorted")
    return hashlib.sha256(parts + card).hexdigest()


def _untold(stage: str, note: str, until: float | None = None) -> None:
    pass


class Mover:
    """Moves pieces to their replies at one engine, many at once, and notes each step in the ledger first.

    Attributes:
        budget: what is owed, and what may be.
        sending: how many requests are on their way.
        out: how many pieces the engine has as jobs, which are asked for.
    """

    def __init__(
        self,
        client: EngineClient,
        card: EngineCard,
        wishes: Wishes,
        writer: LedgerWriter,
        *,
        afresh: bool = False,
        tries: int,
        budget: Budget | None = None,
        callbacks: str | None = None,
        ready: Callable[[], Awaitable[None]] | None = None,
        clock: Callable[[], float] = time.time,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        """Start nothing yet.

        Args:
            client: what speaks to the engine.
            card: of the engine.
            wishes: language and hints.
            writer: what changes the ledger.
            afresh: ask again also for what has been answered.
            tries: how often a request is sent at most when it fails in a way that may pass.
            budget: what may be spent; None sets no limit.
            callbacks: the address under which the engine reaches us, if it can call back.
            ready: waits until requests can leave at once, as a turn is only taken then; None when they always can.
            clock: the time since 1970 in seconds, as the ledger's processes share it.
            sleep: given by tests.
        """
        self._client, self._card, self._wishes = client, card, wishes
        self._writer = writer
        self.budget = budget or Budget()
        self._ready = ready
        self._afresh, self._tries, self._clock, self._sleep = afresh, tries, clock, sleep
        self._callbacks = callbacks.rstrip("/") if callbacks and card.callback else None
        self._under_way: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()
        self._room = asyncio.Semaphore(card.pace.at_once)
        self._refusals = 0
        self._not_before = 0.0
        self._stopped: PostponedError | None = None
        self._halt = asyncio.Event()
        self.sending = self.out = 0

    async def noted(self, change: "Callable[[Ledger], T]") -> T:
        """Do something with the ledger; it is committed when this returns."""
        return await self._writer.noted(change)

    def stop(self, reason: PostponedError) -> None:
        """Send nothing more and wait for nothing; what is on its way is still noted."""
        self._stopped = reason
        self._halt.set()

    async def reply(self, work: Work, tell: Tell) -> bytes | None:
        """The engine's reply to a piece; None when it says that nothing was heard. What is kept is not asked again.

        Raises:
            EngineError: it failed for good, or as often as it may.
            PostponedError: nothing more is done about it for now.
        """
        answered = await self._moved(work, tell, wait=True)
        assert answered is not None
        return answered.body

    async def hand_in(self, work: Work, tell: Tell) -> Answered | None:
        """As `reply`, but None as soon as the engine has taken the piece as a job."""
        return await self._moved(work, tell, wait=False)

    async def collected(self, record: "PieceRecord", tell: Tell, *, wait: bool) -> Answered | None:
        """The reply to a piece that is at the engine; None while it is under way, unless we wait.

        Raises:
            EngineError: the job failed, or the engine does not know it.
            PostponedError: the engine cannot be asked for now.
        """
        mine = await self.noted(lambda ledger: ledger.adopt(record.id))
        if mine is None:
            raise PostponedError("another process is waiting for it", where=self._card.name)
        if mine.state == "done":
            return await self._kept(mine)
        ticket = Ticket(mine.ticket or {})
        try:
            return await self._awaited(mine, ticket, tell, wait=wait)
        except EngineError as error:
            await self._note_failure(mine, error)
            raise

    async def asked(self, record: "PieceRecord") -> None:
        """Ask once for a piece, whoever waits for it; the ledger takes its reply only once."""
        if record.ticket is None:
            return
        try:
            await self._awaited(record, Ticket(record.ticket), _untold, wait=False)
        except EngineError as error:
            await self._note_failure(record, error)
            raise

    async def brought(self, record: "PieceRecord", body: bytes) -> None:
        """Take a reply that the engine has brought by itself, if the piece is still out.

        Raises:
            UnreadableReplyError: it is damaged.
        """
        answered = Answered(body)
        self._check_whole(answered)
        await self._finished(record, answered, is_out=True)

    async def _moved(self, work: Work, tell: Tell, *, wait: bool) -> Answered | None:
        # The same sound may be in two recordings of a batch; it is sent once.
        async with self._under_way.setdefault(work.request, asyncio.Lock()):
            record = await self._claimed(work, tell)
            if record.state == "done":
                return await self._kept(record)
            try:
                return await self._tried(work, record, tell, wait=wait)
            except SlowDownError as error:
                if (error.retry_after or 0.0) <= _LONGEST_ASKED_FOR:
                    raise
                postponed = PostponedError.because(error, self._clock() + (error.retry_after or 0.0))
                self._stopped = self._stopped or postponed
                raise postponed from error
            except (UnreachableError, RefusedError) as error:
                self._refusals += 1
                if isinstance(error, UnreachableError) or self._refusals >= _REFUSALS:
                    self._stopped = self._stopped or PostponedError.because(error)
                raise

    async def _tried(self, work: Work, record: "PieceRecord", tell: Tell, *, wait: bool) -> Answered | None:
        ticket = Ticket(record.ticket) if record.state == "working" and record.ticket else None
        is_in_doubt = record.state == "in doubt"
        for number in count(1):
            try:
                if ticket is None and is_in_doubt and self._card.lookup:
                    ticket = await self._looked_up(work, record)
                given, ticket, is_in_doubt = ticket, None, True
                return await self._attempted(work, record, given, tell, wait=wait)
            except EngineError as error:
                if number >= self._tries or not self._may_be_sent_again(error):
                    raise
                seconds = self._wait_before_next(number, error)
                what = f"{error.what}; try {number + 1} of {self._tries}"
            tell("waiting", f"{self._card.name}: {what}", self._clock() + seconds)
            await self._rest(seconds)
        raise AssertionError("unreachable")

    async def _kept(self, record: "PieceRecord") -> Answered:
        return Answered(await self.noted(lambda ledger: ledger.reply(record)))

    async def _claimed(self, work: Work, tell: Tell) -> "PieceRecord":
        piece = work.piece
        sound = msgspec.json.encode(
            Sound(piece.duration, piece.sample_rate, piece.channels, piece.form.name, piece.speech)
        ).decode()
        price = self._price_of(piece.duration)
        while True:
            record = await self.noted(
                lambda ledger: ledger.claim(
                    work.job,
                    work.request,
                    work.start,
                    work.end,
                    work.channel,
                    sound=sound,
                    price=price,
                    afresh=self._afresh,
                )
            )
            if record is not None:
                return record
            tell("waiting", "another process is sending this piece")
            await self._rest(_OTHERS_LOOK)

    async def _looked_up(self, work: Work, record: "PieceRecord") -> Ticket | None:
        """The job that the engine has made of a request of which nobody knows what became."""
        ticket = await self._client.look_up(replace(work.piece, request_id=work.request), self._wishes)
        if ticket is not None:
            await self.noted(lambda ledger: ledger.take(record, ticket.values, ticket.mark, is_found=True))
        return ticket

    async def _attempted(
        self, work: Work, record: "PieceRecord", ticket: Ticket | None, tell: Tell, *, wait: bool
    ) -> Answered | None:
        try:
            taken = await self._sent(work, record, tell) if ticket is None else ticket
            if isinstance(taken, Ticket):
                tell("working", "")
                return await self._awaited(record, taken, tell, wait=True) if wait else None
            self._check_whole(taken)
        except EngineError as error:
            await self._note_failure(record, error)
            raise
        await self._finished(record, taken)
        return taken

    async def _awaited(self, record: "PieceRecord", ticket: Ticket, tell: Tell, *, wait: bool) -> Answered | None:
        """Ask until the reply is there, soon at first, then ever more slowly; only once unless we wait.

        What fails while asking never makes the piece be sent again; the ticket is kept.
        """
        poll = self._card.poll
        assert poll is not None
        started, failures, asked_for = self._clock(), 0, 0.0
        self.out += 1
        try:
            for pause in pauses(poll, first=poll.slowest if self._callbacks else poll.every):
                if wait and (called := await self._called_within(record, max(pause, asked_for))):
                    return called
                try:
                    answered = await self._client.ask(ticket)
                    if answered is not None:
                        self._check_whole(answered)
                        if await self._finished(record, answered, is_out=True):
                            return answered
                        return await self._settled(record)
                    failures, asked_for = 0, 0.0
                except (*_ENDINGS, _AnothersIdError):
                    raise
                except EngineError as error:
                    failures += 1
                    if not (wait and self._may_pass(error) and failures < self._tries):
                        raise PostponedError.because(error) from error
                    tell("waiting", f"{self._card.name}: {error.what}; the job is asked for again")
                    asked_for = error.retry_after or 0.0
                if not wait:
                    return None
                if self._clock() - started > poll.limit:
                    raise overdue(self._card)
        finally:
            self.out -= 1
        raise AssertionError("unreachable")

    async def _called_within(self, record: "PieceRecord", seconds: float) -> Answered | None:
        """Wait; the reply, if the engine has called back meanwhile."""
        if self._callbacks is None:
            await self._rest(seconds)
            return None
        while seconds > 0:
            await self._rest(min(_OTHERS_LOOK, seconds))
            seconds -= _OTHERS_LOOK
            now = await self.noted(lambda ledger: ledger.piece(record.id))
            if now.state == "done":
                return await self._kept(now)
        return None

    async def _settled(self, record: "PieceRecord") -> Answered:
        """What has become of a piece that somebody else has seen to meanwhile."""
        now = await self.noted(lambda ledger: ledger.piece(record.id))
        if now.state == "done":
            return await self._kept(now)
        if now.state == "cancelled":
            raise PostponedError("it was called off meanwhile", where=self._card.name)
        # Its id is another's, who has it now.
        raise _AnothersIdError("it gave an id that another of its jobs has", engine=self._card.name)

    async def _finished(self, record: "PieceRecord", answered: Answered, *, is_out: bool = False) -> bool:
        sound = msgspec.json.decode(record.sound or "{}")
        billed = billed_seconds(self._card, [sound.get("duration", record.end - record.start)])
        cost = cost_of(self._card, billed)
        if record.saved:  # another job has paid for it
            billed, cost = 0.0, None
        return await self.noted(
            lambda ledger: ledger.finish(record, answered.body, billed=billed, cost=cost, is_out=is_out)
        )

    async def _note_failure(self, record: "PieceRecord", error: EngineError) -> None:
        again = self._may_be_sent_again(error) or isinstance(error, (RefusedError, SlowDownError))
        state = "waiting" if again else "failed"
        is_unknown = getattr(error, "was_sent", False) or getattr(error, "is_forgotten", False)
        if not is_unknown:
            self.budget.give_back(record.price)
        outcome = "in doubt" if is_unknown else "failed"
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
        async with self._room:
            self._check_engine()
            if self._ready:
                await self._ready()
            turn = await self._wait_for_turn(tell)
            self._check_engine()  # others may have failed meanwhile
            self.budget.take(record.price)
            tell("sending", "")
            token = secrets.token_urlsafe(24) if self._callbacks else None
            await self._writer.noted(
                lambda ledger: ledger.send(record, len(work.piece.audio), token, turn, self._clock()), is_urgent=True
            )
            callback = f"{self._callbacks}/{token}" if token else None
            piece = replace(work.piece, request_id=work.request, callback=callback)
            self.sending += 1
            try:
                taken = await self._client.submit(piece, self._wishes)
            finally:
                self.sending -= 1
            if not isinstance(taken, Ticket):
                return taken
            values, mark = taken.values, taken.mark
            what = await self.noted(lambda ledger: ledger.take(record, values, mark))
            if what == "not its own":
                raise UnreadableReplyError("it gave an id that another of its jobs has", engine=self._card.name)
            if what == "done":  # it called before it answered
                return await self._kept(await self.noted(lambda ledger: ledger.piece(record.id)))
            return taken

    def _price_of(self, duration: float) -> Decimal | None:
        return cost_of(self._card, billed_seconds(self._card, [duration]))

    def _check_engine(self) -> None:
        """See that the engine is not left alone for now."""
        if self._stopped:
            raise self._stopped

    async def _wait_for_turn(self, tell: Tell) -> tuple[str, float] | None:
        """The turn that was waited for, as the ledger knows it; None where the engine has no pace."""
        while (left := self._not_before - self._clock()) > 0:
            tell("waiting", f"{self._card.name} asks for fewer requests: next", self._not_before)
            await self._rest(left)
        pace = self._card.pace
        if pace.requests is None:
            return None
        now = self._clock()
        name = self._card.name.partition(":")[0]
        requests, window = pace.requests, float(pace.window)
        moment = await self.noted(lambda ledger: ledger.next_start(name, requests, window, now))
        turn, due = (name, moment), moment
        while (left := due - self._clock()) > 0:
            tell("waiting", f"{self._card.name} allows {requests} per {window:g} s: next", due)
            await self._rest(left)
            due = await self.noted(lambda ledger: ledger.turn_due(turn, requests, window))
        return turn

    async def _rest(self, seconds: float) -> None:
        """Wait, unless everything is to stop."""
        resting = asyncio.ensure_future(self._sleep(seconds))
        halting = asyncio.create_task(self._halt.wait())
        try:
            await asyncio.wait({resting, halting}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            resting.cancel()
            halting.cancel()
        if self._halt.is_set():
            self._check_engine()

    def _may_pass(self, error: BaseException) -> bool:
        """Whether the same request may succeed later."""
        return isinstance(error, _PASSING) and (getattr(error, "retry_after", None) or 0.0) <= _LONGEST_ASKED_FOR

    def _may_be_sent_again(self, error: BaseException) -> bool:
        return self._may_pass(error) or (isinstance(error, JobLostError) and error.is_forgotten)

    def _wait_before_next(self, number: int, error: EngineError) -> float:
        """Growing waits with jitter; longer when the engine asks for it, and then for all its pieces."""
        import tenacity  # it takes long to import, and most requests need no second try

        state = tenacity.RetryCallState(tenacity.Retrying(), None, (), {})
        state.attempt_number = number
        grown = tenacity.wait_exponential_jitter(_FIRST_WAIT, _LONGEST_WAIT)(state)
        asked_for = error.retry_after or 0.0
        if asked_for:
            self._not_before = max(self._not_before, self._clock() + asked_for)
        return max(grown, asked_for)


def _is_json(body: bytes) -> bool:
    try:
        msgspec.json.decode(body)
    except (msgspec.DecodeError, UnicodeDecodeError):
        return False
    return True
