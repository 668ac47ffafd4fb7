"""Taking pieces to their replies at one engine: what the ledger knows, sending, asking, trying
again.

What follows from what has happened is looked up in `life.py`; this module does it. Each step is in
the ledger before the next one is made.
"""

import asyncio
import secrets
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field, replace
from itertools import count
from typing import TYPE_CHECKING, TypeVar
from weakref import WeakValueDictionary

import msgspec

from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineClient, EngineResponse, Ticket
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.errors import (
    AnothersIdError,
    EngineError,
    MantisreedError,
    PostponedError,
    SlowDownError,
    TooBigError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.jobs.budget import Budget, billed_seconds, cost_of
from mantisreed.jobs.failures import (
    NEEDS_AFRESH,
    AttemptEndedError,
    bill_of,
    event_while_sending,
    seconds_before,
)
from mantisreed.jobs.gate import LONGEST_ASKED_FOR, EngineGate, Progress, Time
from mantisreed.jobs.life import Rule
from mantisreed.jobs.polling import Poller
from mantisreed.jobs.replies import ReplyLostError
from mantisreed.jobs.requests import PieceToSend
from mantisreed.jobs.writer import LedgerWriter

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import RequestRecord

_OTHERS_LOOK = 1.0  # seconds between looks at a request that another process deals with

T = TypeVar("T")


class SoundFacts(msgspec.Struct, frozen=True):
    """What reading a reply needs to know of the piece that was sent; as in `Piece`."""

    duration: float
    sample_rate: int
    channels: int
    form: str
    speech: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, slots=True)
class Work:
    """One piece of a job.

    Attributes:
        job: the job's id.
        key: what the request is known by.
        start, end: seconds in the recording.
        channel: from 1; None when they are mixed.
        piece: what is sent.
    """

    job: str
    key: str
    start: float
    end: float
    channel: int | None
    piece: Piece


@dataclass(frozen=True, slots=True)
class DispatchOptions:
    """How an engine is dealt with.

    Attributes:
        request: language and hints.
        afresh: whether to send again what has been answered.
        max_attempts: how often a request is sent at most when it fails in a way that may pass.
        budget: what may be spent.
        purse_of: what else a job with this id is paid from, such as what its sender may spend in
            all; None for nothing.
        callbacks: the address under which the engine reaches us, if it can call back.
        ready: waits until requests can leave at once, as a turn is only taken then; None when they
            always can.
        time: the clock; tests give their own.
    """

    request: RequestOptions = field(default_factory=RequestOptions)
    afresh: bool = False
    max_attempts: int = 1
    budget: Budget = field(default_factory=Budget)
    purse_of: Callable[[str], Budget | None] = lambda job: None
    callbacks: str | None = None
    ready: Callable[[], Awaitable[None]] | None = None
    time: Time = field(default_factory=Time)


@dataclass(frozen=True, slots=True)
class _Leaving:
    """A request that is noted as on its way, with what is sent; room is taken for it."""

    record: "RequestRecord"
    piece: Piece


class Dispatcher:
    """Takes pieces to their replies at one engine, many at once.

    Attributes:
        budget: what is owed, and what may be.
        sending: how many requests are on their way.
    """

    def __init__(
        self, client: EngineClient, card: EngineCard, writer: LedgerWriter, options: DispatchOptions
    ) -> None:
        """Start nothing yet.

        Args:
            client: what speaks to the engine.
            card: of the engine.
            writer: what changes the ledger.
            options: how.
        """
        self._client, self._card, self._writer, self._options = client, card, writer, options
        self.budget = options.budget
        self._callbacks: str | None = None
        if options.callbacks and card.callback:
            self._callbacks = options.callbacks.rstrip("/")
        self._gate = EngineGate(card, writer, options.time)
        self._poller = Poller(
            client,
            card,
            writer,
            self._gate,
            is_called=self._callbacks is not None,
            max_attempts=options.max_attempts,
            time=options.time,
        )
        # The same sound may be in two recordings of a batch; it is sent once.
        self._under_way: WeakValueDictionary[str, asyncio.Lock] = WeakValueDictionary()
        self._fresh: set[str] = set()
        self.sending = 0

    @property
    def out(self) -> int:
        """How many pieces the engine has as jobs, which are asked for."""
        return self._poller.out

    async def perform(self, change: "Callable[[Ledger], T]", *, is_owed: bool = False) -> T:
        """Do something with the ledger; it is committed when this returns. See `LedgerWriter`."""
        return await self._writer.perform(change, is_owed=is_owed)

    def stop(self, reason: PostponedError) -> None:
        """Send nothing more and wait for nothing; what is on its way is still noted."""
        self._gate.stop(reason)

    def budgets(self, job: str) -> tuple[Budget, ...]:
        """All that have to have room for what is sent for a job."""
        purse = self._options.purse_of(job)
        if purse is None:
            return (self.budget,)
        return (self.budget, purse)

    async def make_ready(self) -> None:
        """Load what the engine needs, before anything is sent.

        Raises:
            InputError: it cannot be loaded.
        """
        await self._client.make_ready()

    async def reply(self, work: Work, progress: Progress) -> EngineResponse:
        """The engine's reply to a piece. What is kept is not asked for again.

        Raises:
            EngineError: it failed for good, or as often as it may.
            PostponedError: nothing more is done about it for now.
        """
        response = await self._dispatched(work, progress, wait=True)
        assert response is not None
        return response

    async def submit(self, work: Work, progress: Progress) -> EngineResponse | None:
        """As `reply`, but None as soon as the engine has taken the piece as a job."""
        return await self._dispatched(work, progress, wait=False)

    async def collect(
        self, record: "RequestRecord", progress: Progress, *, wait: bool
    ) -> EngineResponse | None:
        """The reply to a request that is at the engine; None while it is under way, unless we wait.

        Raises:
            EngineError: the job failed, or the engine does not know it.
            PostponedError: the engine cannot be asked for now, or another process waits for it.
        """
        claimed = await self._writer.perform(lambda ledger: _claimed_again(ledger, record))
        if claimed is None:
            raise PostponedError("another process is waiting for it", where=self._card.name)
        try:
            if claimed.state != "working":
                if claimed.has_reply:
                    return await self._kept(claimed)
                return None
            return await self._poller.reply(claimed, progress, wait=wait)
        except AttemptEndedError as ended:
            raise ended.error from ended
        finally:
            await self._writer.perform(
                lambda ledger: ledger.requests.release(record.key), is_owed=True
            )

    async def ask_once(self, record: "RequestRecord") -> None:
        """Ask once for a request, whoever waits for it; the ledger takes its reply only once."""
        await self._poller.ask_once(record)

    async def deliver(self, record: "RequestRecord", body: bytes) -> None:
        """Take a reply that the engine has brought by itself, if it is still waited for."""
        await self._answered(record, EngineResponse(body))

    async def _dispatched(
        self, work: Work, progress: Progress, *, wait: bool
    ) -> EngineResponse | None:
        async with self._under_way.setdefault(work.key, asyncio.Lock()):
            # Two recordings of a batch with the same sound: what the first has just paid for is
            # fresh enough.
            afresh = self._options.afresh and work.key not in self._fresh
            self._fresh.add(work.key)
            leaving = None if afresh else await self._begun(work, progress)
            if leaving is not None:
                return await self._tried(work, leaving.record, progress, leaving=leaving, wait=wait)
            while True:
                record = await self._claimed(work, progress, afresh=afresh)
                if not record.has_reply or afresh:
                    break
                try:
                    return await self._kept(record)
                except ReplyLostError as error:
                    progress("waiting", f"{error.what}; it is asked for again")
                    await self._lost(record)
            return await self._tried(work, record, progress, afresh=afresh, wait=wait)

    async def _begun(self, work: Work, progress: Progress) -> "_Leaving | None":
        """A new request, claimed and noted as on its way in one step, with room taken for it.

        Most requests are new and may leave at once; for them it saves two commits.

        Returns:
            None for a request that is known, or where the engine's rate limit has to be waited for.
        """
        if self._card.rate_limit is not None:
            return None
        await self._gate.room.acquire()
        leaving = None
        try:
            self._gate.check()
            if self._options.ready:
                await self._options.ready()
            if self._gate.is_open:
                progress("claiming", "")
                leaving = await self._noted_as_begun(work)
        finally:
            if leaving is None:
                self._gate.room.release()
        progress("waiting" if leaving is None else "sending", "")
        return leaving

    async def _noted_as_begun(self, work: Work) -> "_Leaving | None":
        wanted, size, budgets = self._wanted(work), len(work.piece.audio), self.budgets(work.job)
        token = self._new_token()
        record = await self._writer.perform(
            lambda ledger: ledger.requests.begin(wanted, size, token=token, budgets=budgets),
            is_urgent=True,
        )
        if record is None:
            return None
        return _Leaving(record, self._piece_with(work, token))

    async def _claimed(self, work: Work, progress: Progress, *, afresh: bool) -> "RequestRecord":
        """The piece's request, this process's own; waits as long as another process deals with
        it.
        """
        wanted = self._wanted(work)
        while True:
            record = await self._writer.perform(
                lambda ledger: _claimed(ledger, wanted, afresh=afresh)
            )
            if record is not None:
                return record
            progress("waiting", "another process is sending this piece")
            await self._gate.rest(_OTHERS_LOOK)

    def _wanted(self, work: Work) -> PieceToSend:
        """What the ledger has to know of a piece."""
        piece = work.piece
        sound = SoundFacts(
            piece.duration, piece.sample_rate, piece.channels, piece.form.name, piece.speech
        )
        return PieceToSend(
            work.job,
            work.key,
            work.start,
            work.end,
            work.channel,
            sound=msgspec.json.encode(sound).decode(),
            price=cost_of(self._card, billed_seconds(self._card, [piece.duration])),
        )

    async def _tried(
        self,
        work: Work,
        record: "RequestRecord",
        progress: Progress,
        *,
        leaving: "_Leaving | None" = None,
        afresh: bool = False,
        wait: bool,
    ) -> EngineResponse | None:
        """Send and ask until there is a reply, or until the rules say that this is enough.

        Args:
            work: which piece.
            record: its request, this process's own.
            progress: told what happens.
            leaving: it is on its way already.
            afresh: whatever is kept of it does not count.
            wait: also while the engine has it as a job.
        """
        response = None
        try:
            response = await self._tried_again_and_again(
                work, record, progress, leaving=leaving, afresh=afresh, wait=wait
            )
            return response
        finally:
            if response is None:  # one that is answered is nobody's already
                await self._writer.perform(
                    lambda ledger: ledger.requests.release(work.key), is_owed=True
                )

    async def _tried_again_and_again(
        self,
        work: Work,
        record: "RequestRecord",
        progress: Progress,
        *,
        leaving: "_Leaving | None",
        afresh: bool,
        wait: bool,
    ) -> EngineResponse | None:
        ticket = None if leaving else await self._ticket_at_hand(record, afresh=afresh)
        for number in count(1):
            try:
                if ticket is None and record.state == "unconfirmed" and self._card.lookup:
                    ticket = await self._looked_up(work, record)
                if ticket is None:
                    leaving = leaving or await self._left(work, record, progress)
                    response = await self._exchanged(leaving)
                    if response is not None:
                        return response
                progress("working", "")
                if not wait:
                    return None
                return await self._poller.reply(await self._as_it_is(record), progress, wait=True)
            except AttemptEndedError as ended:
                error, rule = ended.error, ended.rule
            except (
                EngineError
            ) as raised:  # while looking it up; the request is unconfirmed as before
                error, rule = raised, None
            ticket = leaving = None
            await self._wait_before_next(number, rule, error, progress)
            record = await self._as_it_is(record)
        raise AssertionError("unreachable")

    async def _ticket_at_hand(self, record: "RequestRecord", *, afresh: bool) -> Ticket | None:
        """What asking for the request needs, where it is at the engine already; None where it is to
        be sent.

        Raises:
            EngineError: an earlier answer cannot be read, and sending again might pay again.
        """
        if record.state == "working":
            return Ticket(record.ticket or {})
        if afresh:
            return None
        if record.failure == "too big":
            raise TooBigError(record.reason or "the piece is too big", engine=self._card.name)
        if record.failure == "job unknown" and record.ticket:
            await self._found(record, Ticket(record.ticket, record.mark))
            return Ticket(record.ticket, record.mark)
        if record.unread is not None:
            return await self._read_again(record)
        if record.failure in NEEDS_AFRESH:
            raise self._never_by_itself(
                UnreadableReplyError(record.reason or "", engine=self._card.name)
            )
        return None

    async def _read_again(self, record: "RequestRecord") -> Ticket:
        """The ticket in an answer that could not be read; the card may have been mended
        meanwhile.
        """
        assert record.unread is not None
        body = await self._writer.perform(lambda ledger: ledger.requests.unread_answer(record))
        try:
            ticket = self._client.read_again(record.unread[0], body, record.ticket or {})
        except UnreadableReplyError as error:
            raise self._never_by_itself(error) from error
        await self._found(record, ticket)
        return ticket

    async def _found(self, record: "RequestRecord", ticket: Ticket) -> None:
        await self._writer.perform(
            lambda ledger: ledger.requests.accept(record, ticket.values, ticket.mark, is_found=True)
        )

    def _never_by_itself(self, error: UnreadableReplyError) -> UnreadableReplyError:
        error.advice = (
            "fix the card and run the same command: the kept answer is read again and costs "
            "nothing; "
            "--afresh sends the request again, and pays again"
        )
        return error

    async def _looked_up(self, work: Work, record: "RequestRecord") -> Ticket | None:
        """The job that the engine has made of a request of which nobody knows what became."""
        ticket = await self._client.look_up(
            replace(work.piece, request_id=work.key), self._options.request
        )
        if ticket is not None:
            await self._found(record, ticket)
        return ticket

    async def _left(self, work: Work, record: "RequestRecord", progress: Progress) -> "_Leaving":
        """Wait until the request may leave, take room for it, and note that it does."""
        await self._gate.room.acquire()
        try:
            self._gate.check()
            if self._options.ready:
                await self._options.ready()
            turn = await self._gate.turn(progress)
            self._gate.check()  # others may have failed meanwhile
            progress("sending", "")
            token, size = self._new_token(), len(work.piece.audio)
            budgets = self.budgets(work.job)

            def note(ledger: "Ledger") -> "RequestRecord":
                if turn is not None:
                    ledger.pace.started(turn.engine, turn.moment)
                return ledger.requests.send(record, size, token=token, budgets=budgets)

            sent = await self._writer.perform(note, is_urgent=True)
            return _Leaving(sent, self._piece_with(work, token))
        except BaseException:
            self._gate.room.release()
            raise

    def _new_token(self) -> str | None:
        """The secret part of the address to call back; None where the engine does not."""
        if self._callbacks:
            return secrets.token_urlsafe(24)
        return None

    def _piece_with(self, work: Work, token: str | None) -> Piece:
        """What is sent, with what is known only now."""
        callback = f"{self._callbacks}/{token}" if token else None
        return replace(work.piece, request_id=work.key, callback=callback)

    async def _exchanged(self, leaving: "_Leaving") -> EngineResponse | None:
        """The reply; None when the engine has taken the request as a job. Gives the room back."""
        record = leaving.record
        self.sending += 1
        try:
            taken = await self._client.submit(leaving.piece, self._options.request)
            if isinstance(taken, Ticket):
                return await self._accepted(record, taken)
            await self._answered(record, taken)
            await self._client.clean_up(taken)
            return taken
        except EngineError as error:
            raise AttemptEndedError(await self._failed(record, error), error) from error
        except (AttemptEndedError, MantisreedError):
            raise
        except Exception as error:
            # Whatever it was, the request may have left.
            lost = UnreachableError(f"internal error: {error!r}", engine=self._card.name)
            lost.was_sent = True
            await self._failed(record, lost)
            raise
        finally:
            self.sending -= 1
            self._gate.room.release()

    async def _accepted(self, record: "RequestRecord", ticket: Ticket) -> EngineResponse | None:
        """Note the engine's job; the reply, when it called back before it answered."""
        what = await self._writer.perform(
            lambda ledger: ledger.requests.accept(record, ticket.values, ticket.mark),
            is_owed=True,
        )
        if what == "another's id":
            error = AnothersIdError(
                "it gave an id that another of its jobs has", engine=self._card.name
            )
            raise AttemptEndedError(await self._failed(record, error), error)
        if what == "done":
            return await self._kept(await self._as_it_is(record))
        return None

    async def _failed(self, record: "RequestRecord", error: EngineError) -> Rule:
        """Note that sending has failed; gives what follows."""
        event = event_while_sending(error)
        unread = None
        values = None
        if (
            event == "unidentified"
            and isinstance(error, UnreadableReplyError)
            and error.body is not None
        ):
            unread, values = (error.step, error.body), error.values
            self._never_by_itself(error)
        rule = await self._writer.perform(
            lambda ledger: ledger.requests.end(record, event, error, unread=unread, ticket=values),
            is_owed=True,
        )
        if rule.charge == "none":
            for budget in self.budgets(record.job):
                budget.give_back(record.attempt)
        return rule

    async def _answered(self, record: "RequestRecord", response: EngineResponse) -> bool:
        bill = bill_of(self._card, record, response.bill)
        return await self._writer.perform(
            lambda ledger: ledger.requests.answer(record, response.body, bill), is_owed=True
        )

    async def _kept(self, record: "RequestRecord") -> EngineResponse:
        return EngineResponse(
            await self._writer.perform(lambda ledger: ledger.requests.reply(record))
        )

    async def _lost(self, record: "RequestRecord") -> None:
        await self._writer.perform(lambda ledger: ledger.requests.lose_reply(record))

    async def _as_it_is(self, record: "RequestRecord") -> "RequestRecord":
        return await self._writer.perform(lambda ledger: ledger.requests.as_it_is(record))

    async def _wait_before_next(
        self, number: int, rule: Rule | None, error: EngineError, progress: Progress
    ) -> None:
        """Wait until the next try.

        Raises:
            EngineError: there is none.
            PostponedError: not for a long time, or everything is to stop.
        """
        again = "soon" if rule is None else rule.again
        if again not in ("soon", "as asked"):
            self._gate.note_failure(error)
            raise error
        asked_for = error.retry_after or 0.0
        if asked_for > LONGEST_ASKED_FOR:
            postponed = PostponedError.because(error, self._options.time.clock() + asked_for)
            self._gate.leave_alone(postponed)
            raise postponed from error
        if number >= self._options.max_attempts:
            self._gate.note_failure(error)
            raise error
        seconds = seconds_before(number, asked_for)
        if isinstance(error, SlowDownError) and asked_for:
            self._gate.hold(asked_for)
        what = f"{error.what}; attempt {number + 1} of {self._options.max_attempts}"
        progress("waiting", f"{self._card.name}: {what}", self._options.time.clock() + seconds)
        await self._gate.rest(seconds)


def _claimed(ledger: "Ledger", wanted: PieceToSend, *, afresh: bool) -> "RequestRecord | None":
    record = ledger.requests.claim(wanted, afresh=afresh)
    if record is None:
        # Whoever has it may have ended; then it is anybody's.
        ledger.recover()
        record = ledger.requests.claim(wanted, afresh=afresh)
    return record


def _claimed_again(ledger: "Ledger", record: "RequestRecord") -> "RequestRecord | None":
    claimed = ledger.requests.claim_again(record)
    if claimed is None:
        ledger.recover()
        claimed = ledger.requests.claim_again(record)
    return claimed
