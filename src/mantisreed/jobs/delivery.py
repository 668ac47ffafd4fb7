"""One piece's way to its reply at an engine: claimed, sent, asked for, tried again.

Each step is in the ledger before the next one is made. What follows from what has happened is
looked up in `life.py`.
"""

import secrets
from dataclasses import dataclass, field, replace
from itertools import count
from typing import TYPE_CHECKING

from mantisreed.cards.wire.streams import heard_by
from mantisreed.engines.client import EngineResponse, Ticket
from mantisreed.engines.request import Piece
from mantisreed.errors import (
    AnothersIdError,
    EngineError,
    IncompleteReplyError,
    MantisreedError,
    PostponedError,
    SlowDownError,
    TooBigError,
    TooSlowError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.jobs.engine_access import EngineAccess
from mantisreed.jobs.failures import (
    NEEDS_AFRESH,
    AttemptEndedError,
    event_while_sending,
    seconds_before,
)
from mantisreed.jobs.gate import LONGEST_ASKED_FOR, Progress, RateTurn
from mantisreed.jobs.life import Rule
from mantisreed.jobs.replies import ReplyLostError
from mantisreed.jobs.request_rows import ClaimLostError, PieceToSend
from mantisreed.jobs.work import Work

if TYPE_CHECKING:
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.jobs.records import RequestRecord

_LATE_STATUSES = (408, 504)  # RFC 9110: the server, or one in front of it, gave up waiting
_LONG_PIECE = 60.0  # seconds; what is shorter is not slow because of its length
_OTHERS_LOOK = 1.0  # seconds between looks at a request that another process deals with


@dataclass(frozen=True, slots=True)
class _Leaving:
    """A request that is noted as on its way, with what is sent; room is taken for it."""

    record: "RequestRecord"
    piece: Piece


@dataclass(slots=True)
class Delivery:
    """One piece on its way.

    Attributes:
        engine: where it goes.
        work: the piece.
        progress: told what happens.
        afresh: whether what is kept of it does not count.
        wait: also while the engine has it as a job.
    """

    engine: EngineAccess
    work: Work
    progress: Progress
    afresh: bool
    wait: bool
    _ticket: Ticket | None = None
    _leaving: _Leaving | None = None
    _incomplete: int = 0
    _late: int = 0
    _wanted: PieceToSend = field(init=False)

    def __post_init__(self) -> None:
        self._wanted = self.work.for_ledger(self.engine.card)

    async def response(self) -> EngineResponse | None:
        """The engine's reply, kept or new; None when the engine has taken it as a job and nobody
        waits.

        Raises:
            EngineError: it failed for good, or as often as it may.
            PostponedError: nothing more is done about it for now.
        """
        if not self.afresh:
            await self._begin()
        while True:
            # What has begun is new, so that no reply of it can be kept.
            record = self._leaving.record if self._leaving else await self._claimed()
            try:
                if self.afresh or not record.has_reply:
                    return await self._released(record)
                return await self.engine.kept(record)
            except ReplyLostError as error:
                self.progress("waiting", f"{error.what}; it is asked for again")
                await self._lost(record)
            except ClaimLostError:
                self.progress("waiting", "another process deals with this piece now")
                self._ticket = self._leaving = None

    async def _begin(self) -> None:
        """Claim a new request and note it as on its way in one step, with room taken for it.

        Most requests are new and may leave at once; for them it saves two commits. Nothing is done
        for a request that is known, or where the engine's rate limit has to be waited for.
        """
        gate = self.engine.gate
        # What may be kept waits for nothing that only sending needs.
        if self.work.is_known or self.engine.card.rate_limit is not None:
            return
        await gate.room.acquire()
        try:
            gate.check()
            if self.engine.options.ready:
                await self.engine.options.ready()
            if gate.is_open:
                self.progress("claiming", "")
                self._leaving = await self._noted_as_begun()
        finally:
            if self._leaving is None:
                gate.room.release()
        self.progress("waiting" if self._leaving is None else "sending", "")

    async def _noted_as_begun(self) -> _Leaving | None:
        wanted, size = self._wanted, len(self.work.piece.audio)
        budgets, token = self.engine.budgets(self.work.job), self._new_token()
        room = self.engine.gate.shared_room
        record = await self.engine.writer.perform(
            lambda ledger: ledger.requests.begin(
                wanted, size, token=token, budgets=budgets, room=room
            ),
            is_urgent=True,
        )
        if record is None:
            return None
        return _Leaving(record, self._piece_with(token))

    async def _claimed(self) -> "RequestRecord":
        """The piece's request, this process's own; waits as long as another process deals with
        it.
        """
        wanted, afresh = self._wanted, self.afresh
        while True:
            record = await self.engine.perform(
                lambda ledger: _claimed(ledger, wanted, afresh=afresh)
            )
            if record is not None:
                return record
            self.progress("waiting", "another process is sending this piece")
            await self.engine.gate.rest(_OTHERS_LOOK)

    async def _released(self, record: "RequestRecord") -> EngineResponse | None:
        """Send and ask until there is a reply, or until the rules say that this is enough; then the
        request is nobody's. One that is answered is nobody's already.
        """
        response = None
        try:
            response = await self._tried(record)
            return response
        finally:
            if response is None:
                key = self.work.key
                await self.engine.perform(lambda ledger: ledger.requests.release(key), is_owed=True)

    async def _tried(self, record: "RequestRecord") -> EngineResponse | None:
        engine = self.engine
        if self._leaving is None:
            at_hand = await self._at_hand(record)
            if isinstance(at_hand, EngineResponse):
                await engine.answered(record, at_hand)
                return at_hand
            self._ticket = at_hand
        for number in count(1):
            rule: Rule | None = None
            try:
                if self._ticket is None and record.state == "unconfirmed" and engine.card.lookup:
                    self._ticket = await self._looked_up(record)
                if self._ticket is None:
                    leaving = self._leaving or await self._left(record)
                    response = await self._exchanged(leaving)
                    if response is not None:
                        return response
                self.progress("working", "")
                if not self.wait:
                    return None
                now = await self._as_it_is(record)
                return await engine.poller.reply(now, self.progress, wait=True)
            except AttemptEndedError as ended:
                error, rule = ended.error, ended.rule
            except EngineError as raised:
                error = raised  # while looking it up; the request is unconfirmed as before
            self._ticket = self._leaving = None
            await self._wait_before_next(number, rule, error)
            record = await self._as_it_is(record)
        raise AssertionError("unreachable")

    async def _at_hand(self, record: "RequestRecord") -> EngineResponse | Ticket | None:
        """The reply in an answer that could not be read before, or what asking for the request
        needs, where it is at the engine already; None where it is to be sent.

        Raises:
            EngineError: an earlier answer cannot be read, and sending again might pay again.
        """
        card = self.engine.card
        if record.state == "working":
            return Ticket(record.ticket or {})
        if self.afresh:
            return None
        if record.failure == "too big":
            raise TooBigError(record.reason or "the piece is too big", engine=card.name)
        # The engine did not know the job, but may only have been slow to list it: asking costs
        # nothing, sending again may.
        if record.failure == "job unknown" and record.ticket:
            ticket = Ticket(record.ticket, record.mark)
            await self._found(record, ticket)
            return ticket
        if record.unread is not None and record.failure is not None:
            return await self._read_again(record)
        if record.failure in NEEDS_AFRESH:
            error = UnreadableReplyError(record.reason or "", engine=card.name)
            raise _never_by_itself(error)
        return None

    async def _read_again(self, record: "RequestRecord") -> EngineResponse | Ticket:
        """What is in an answer that could not be read; the card may have been fixed meanwhile."""
        assert record.unread is not None
        body = await self.engine.perform(lambda ledger: ledger.requests.unread_answer(record))
        try:
            found = self.engine.client.read_again(record.unread[0], body, record.ticket or {})
        except UnreadableReplyError as error:
            raise _never_by_itself(error) from error
        if isinstance(found, Ticket):
            await self._found(record, found)
        return found

    async def _found(self, record: "RequestRecord", ticket: Ticket) -> None:
        await self.engine.perform(
            lambda ledger: ledger.requests.accept(record, ticket.values, ticket.mark, is_found=True)
        )

    async def _lost(self, record: "RequestRecord") -> None:
        await self.engine.perform(lambda ledger: ledger.requests.lose_reply(record))

    async def _looked_up(self, record: "RequestRecord") -> Ticket | None:
        """The job that the engine has made of a request of which nobody knows what became."""
        ticket = await self.engine.client.look_up(
            replace(self.work.piece, request_id=self.work.key), self.engine.options.request
        )
        if ticket is not None:
            await self._found(record, ticket)
        return ticket

    async def _left(self, record: "RequestRecord") -> _Leaving:
        """Wait until the request may leave, take room for it, and note that it does."""
        gate = self.engine.gate
        await gate.room.acquire()
        try:
            gate.check()
            if self.engine.options.ready:
                await self.engine.options.ready()
            while True:
                # Room first, then the turn: a turn that waited for room would be past when it is
                # used.
                turn = await gate.turn(self.progress)
                gate.check()  # others may have failed meanwhile
                self.progress("sending", "")
                leaving = await self._noted_as_sent(record, turn)
                if leaving is not None:
                    return leaving
                await gate.room_of_all(self.progress)
        # Also when it is cancelled: a room that is never given back stops one piece for ever.
        except BaseException:
            gate.room.release()
            raise

    async def _noted_as_sent(
        self, record: "RequestRecord", turn: RateTurn | None
    ) -> _Leaving | None:
        """Note that the request leaves now; None where other processes have taken all room."""
        token, size = self._new_token(), len(self.work.piece.audio)
        budgets, room = self.engine.budgets(self.work.job), self.engine.gate.shared_room

        def note(ledger: "Ledger") -> "RequestRecord | None":
            if room is not None and not ledger.requests.take_room(room, budgets):
                if turn is not None:
                    ledger.pace.give_back(turn.engine, turn.moment)
                return None
            # In one transaction: a turn without its request would be lost to the others, and
            # a request without its turn would break the engine's limit.
            if turn is not None:
                ledger.pace.started(turn.engine, turn.moment)
            return ledger.requests.send(record, size, token=token, budgets=budgets, room=room)

        sent = await self.engine.writer.perform(note, is_urgent=True)
        return _Leaving(sent, self._piece_with(token)) if sent is not None else None

    def _new_token(self) -> str | None:
        """The secret part of the address to call back; None where the engine does not."""
        if self.engine.callbacks:
            return secrets.token_urlsafe(24)
        return None

    def _piece_with(self, token: str | None) -> Piece:
        """What is sent, with what is known only now."""
        callback = f"{self.engine.callbacks}/{token}" if token else None
        return replace(self.work.piece, request_id=self.work.key, callback=callback)

    async def _exchanged(self, leaving: _Leaving) -> EngineResponse | None:
        """The reply; None when the engine has taken the request as a job. Gives the room back."""
        engine, record = self.engine, leaving.record
        engine.sending += 1
        try:
            with heard_by(lambda text: self.progress("hearing", text)):
                taken = await engine.client.submit(leaving.piece, engine.options.request)
            if isinstance(taken, Ticket):
                return await self._accepted(record, taken)
            await engine.answered(record, taken)
            await engine.client.clean_up(taken)
            return taken
        except EngineError as error:
            raise AttemptEndedError(await self._failed(record, error), error) from error
        except (AttemptEndedError, MantisreedError):
            raise
        except Exception as error:
            # Whatever it was, the request may have left.
            lost = UnreachableError(f"internal error: {error!r}", engine=engine.card.name)
            lost.was_sent = True
            await self._failed(record, lost)
            raise
        finally:
            engine.sending -= 1
            engine.gate.room.release()

    async def _accepted(self, record: "RequestRecord", ticket: Ticket) -> EngineResponse | None:
        """Note the engine's job; the reply, when it called back before it answered."""
        what = await self.engine.perform(
            lambda ledger: ledger.requests.accept(record, ticket.values, ticket.mark),
            is_owed=True,
        )
        if what == "another's id":
            error = AnothersIdError(
                "it gave an id that another of its jobs has", engine=self.engine.card.name
            )
            raise AttemptEndedError(await self._failed(record, error), error)
        if what == "done":
            return await self.engine.kept(await self._as_it_is(record))
        return None

    async def _failed(self, record: "RequestRecord", error: EngineError) -> Rule:
        """Note that sending has failed; gives what follows."""
        event = event_while_sending(error)
        unread = values = None
        body = error.body if isinstance(error, UnreadableReplyError) else None
        if isinstance(error, IncompleteReplyError) and error.body is not None:
            unread = (_INCOMPLETE, error.body)
        if event == "unidentified" and isinstance(error, UnreadableReplyError) and body is not None:
            unread, values = (error.step, body), error.values
            _never_by_itself(error)
        rule = await self.engine.perform(
            lambda ledger: ledger.requests.end(record, event, error, unread=unread, ticket=values),
            is_owed=True,
        )
        # What was set aside for it may be spent by others; what may be charged for stays spent.
        if rule.charge == "none":
            for budget in self.engine.budgets(record.job):
                budget.give_back(record.attempt)
        return rule

    def _is_too_long(self, error: EngineError) -> bool:
        """Whether a long piece was not answered in time for the second time."""
        is_late = isinstance(error, UnreachableError) and error.is_late
        self._late += is_late or error.status in _LATE_STATUSES
        is_long = self.work.piece.duration >= _LONG_PIECE
        return self._late > 1 and is_long and self.engine.card.accepts.cut_when_late

    def _has_been_incomplete(self, error: EngineError) -> bool:
        """Whether an answer was not whole for the second time: each try may have been paid for."""
        self._incomplete += isinstance(error, IncompleteReplyError)
        return self._incomplete > 1

    async def _as_it_is(self, record: "RequestRecord") -> "RequestRecord":
        return await self.engine.perform(lambda ledger: ledger.requests.as_it_is(record))

    async def _wait_before_next(self, number: int, rule: Rule | None, error: EngineError) -> None:
        """Wait until the next try.

        Raises:
            EngineError: there is none.
            PostponedError: not for a long time, or everything is to stop.
        """
        gate, options = self.engine.gate, self.engine.options
        again = "soon" if rule is None else rule.again
        if again not in ("soon", "as asked"):
            gate.note_failure(error)
            raise error
        asked_for = error.retry_after or 0.0
        # Nobody watches a run for hours: it ends, and says when to come back.
        if asked_for > LONGEST_ASKED_FOR:
            postponed = PostponedError.because(error, options.time.clock() + asked_for)
            gate.leave_alone(postponed)
            raise postponed from error
        if self._is_too_long(error):
            raise TooSlowError(
                f"{error.what}; the next try has shorter pieces",
                engine=self.engine.card.name,
                advice="cut it smaller from the start, such as with --piece-length 5min",
            ) from error
        if number >= options.max_attempts or self._has_been_incomplete(error):
            gate.note_failure(error)
            raise error
        seconds = seconds_before(number, asked_for)
        # What the engine asks of one request it means for all.
        if isinstance(error, SlowDownError) and asked_for:
            gate.hold(asked_for)
        what = f"{error.what}; attempt {number + 1} of {options.max_attempts}"
        until = options.time.clock() + seconds
        self.progress("waiting", f"{self.engine.card.name}: {what}", until)
        await gate.rest(seconds)


_INCOMPLETE = "incomplete"
"""Stands for the step of an answer that is kept to be looked at, and not to be read again."""


def _never_by_itself(error: UnreadableReplyError) -> UnreadableReplyError:
    error.advice = (
        "fix the card and run the same command: the kept answer is read again and costs "
        "nothing; --afresh sends the request again, and pays again"
    )
    return error


def _claimed(ledger: "Ledger", wanted: PieceToSend, *, afresh: bool) -> "RequestRecord | None":
    record = ledger.requests.claim(wanted, afresh=afresh)
    if record is None:
        # Whoever has it may have ended; then it is anybody's.
        ledger.recover()
        record = ledger.requests.claim(wanted, afresh=afresh)
    return record
