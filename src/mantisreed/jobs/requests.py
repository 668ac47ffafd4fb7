"""Requests in the ledger: who deals with one, what has happened to it, what it has cost.

Every change goes through the table in `life.py`; the conditions under which a process may make it
are inside the statements. A change is committed before anything that rests on it is done: a request
is `sending` before it is sent, and `done` only when its reply is on disk.
"""

import json
from collections.abc import Mapping, Sequence
from itertools import chain
from typing import Any, Literal

from mantisreed.errors import MantisreedError
from mantisreed.jobs.budget import Budget, lock_budgets
from mantisreed.jobs.life import (
    REQUEST_LIFE,
    Event,
    Rule,
    TransitionError,
    after,
    states_before,
)
from mantisreed.jobs.records import RequestRecord, money_as_kept, request_record
from mantisreed.jobs.request_rows import (
    Bill,
    ClaimLostError,
    PieceToSend,
    RequestRows,
    encoded_ticket,
    ticket_of,
)
from mantisreed.jobs.store import statements
from mantisreed.jobs.store.calls import token_digest
from mantisreed.jobs.store.database import LedgerError, Row
from mantisreed.jobs.store.room import Room

_GOES_ON_BY_ITSELF = ("soon", "as asked", "keep asking")

_BEGIN_SENDING = statements.BEGIN_SENDING.format(
    states="(" + ", ".join(f"'{state}'" for state in states_before("send")) + ")"
)


class RequestStore(RequestRows):
    """The requests of one ledger."""

    def claim(self, piece: PieceToSend, *, afresh: bool = False) -> RequestRecord | None:
        """The request of a piece; None while another process deals with it.

        One whose reply is kept is given as it is; any other is this process's own from now on,
        until `release`.

        Args:
            piece: which one.
            afresh: also one whose reply is kept, in order to send it again.
        """
        with self._database.transaction():
            is_new, row = self._row_of(piece)
            self._add_piece(piece)
            length = piece.end - piece.start
            if is_new:
                return request_record(row, piece.job, length)
            if row["reply"] is not None and not afresh:
                return request_record(row, piece.job, length)
            claimed = self._database.execute(
                statements.CLAIM_REQUEST,
                {"key": piece.key, "owner": self._owner, "price": money_as_kept(piece.price)},
            )
            if claimed:
                return self._record(claimed[0], piece.job, length)
            return None

    def begin(
        self,
        piece: PieceToSend,
        size: int,
        *,
        token: str | None = None,
        budgets: Sequence[Budget] = (),
        room: Room | None = None,
    ) -> RequestRecord | None:
        """Claim a request that nobody has dealt with before, and note that it is about to be sent:
        all in one step.

        Args:
            piece: which one.
            size: bytes of its audio.
            token: the secret part of the address it may be called at.
            budgets: what may be spent; each has to have room for it.
            room: what the engine takes at once from all processes; None for no limit.

        Returns:
            The request on its way; None when it is known, so that `claim` has to be asked what
            became of it, or when the engine has no room for it.

        Raises:
            SpendLimitError: it would be more than may be spent; nothing was changed.
        """
        with self._database.transaction():
            # Locks are taken in the order of their names.
            others = self._checked(budgets, piece.price)
            values = self._values_of(piece, "sending", token, room)
            if not self.room.add(room, values):
                return None
            self._add_piece(piece)
            attempt = self._begin_attempt(piece.key, piece.job, size, piece.price, budgets, others)
        return RequestRecord(
            key=piece.key,
            job=piece.job,
            state="sending",
            owner=self._owner,
            sound=piece.sound,
            price=piece.price,
            length=piece.end - piece.start,
            attempt=attempt,
        )

    def take_room(self, room: Room, budgets: Sequence[Budget] = ()) -> bool:
        """Whether an engine has room for one more request, which has to be noted in the same
        transaction.
        """
        lock_budgets(self._database, budgets)
        return self.room.take(room)

    def claim_again(self, record: RequestRecord) -> RequestRecord | None:
        """A request that is known, as it is now and this process's own; None while another process
        deals with it.
        """
        claimed = self._database.execute(
            statements.CLAIM_REQUEST, {"key": record.key, "owner": self._owner, "price": None}
        )
        if claimed:
            return self._record(claimed[0], record.job, record.length)
        return None

    def release(self, key: str) -> None:
        """Let other processes deal with a request, if it is this process's own.

        One that is still on its way is unconfirmed from now on: what came back of it could not be
        noted, or nobody waited for it.
        """
        with self._database.transaction():
            row = self._row(key)
            if row["owner"] == self._owner and row["state"] == "sending":
                self._leave(row, "no answer to it was noted")
            self._database.note(statements.RELEASE_REQUEST, {"key": key, "owner": self._owner})

    def send(
        self,
        record: RequestRecord,
        size: int,
        *,
        token: str | None = None,
        budgets: Sequence[Budget] = (),
        room: Room | None = None,
    ) -> RequestRecord:
        """Note that a request is about to be sent, and what it will be charged with.

        Args:
            record: this process's own.
            size: bytes of its audio.
            token: the secret part of the address it may be called at.
            budgets: what may be spent; each has to have room for it.
            room: what the engine takes at once, of which a place was taken in this transaction;
                None for no limit.

        Raises:
            SpendLimitError: it would be more than may be spent; nothing was changed.
            ClaimLostError: it is not this process's own any more.
            TransitionError: it cannot be sent now.
        """
        with self._database.transaction():
            others = self._checked(budgets, record.price)
            hidden = None if token is None else token_digest(token)
            values = {"key": record.key, "owner": self._owner, "state": "sending", "token": hidden}
            values["engine"] = room.engine if room else None
            if not self._database.execute(_BEGIN_SENDING, values):
                row = self._row(record.key)
                text = f"a request that is {row['state']!r} cannot be sent"
                if row["owner"] != self._owner:
                    raise ClaimLostError(f"{text}: it is not this process's own any more")
                raise TransitionError(text)
            attempt = self._begin_attempt(
                record.key, record.job, size, record.price, budgets, others
            )
        return record.sent(attempt)

    def accept(
        self,
        record: RequestRecord,
        ticket: Mapping[str, Any],
        mark: str | None,
        *,
        is_found: bool = False,
    ) -> Literal["accepted", "done", "another's id"]:
        """Note that the engine has taken a request as a job of its own.

        Args:
            record: which one.
            ticket: what asking for it needs.
            mark: the engine's own id for it; no other request may have the same.
            is_found: the engine was asked whether it has it, or an earlier answer is read again:
                the attempt that had seemed to fail goes on.

        Returns:
            `done` when its reply has come meanwhile, `another's id` when another request has that
            mark.
        """
        with self._database.transaction():
            if mark is not None:
                self._database.lock(f"mark {mark}")  # or two requests could both get it
            row = self._row(record.key)
            if row["state"] == "done":
                return "done"
            others = []
            if mark is not None:
                others = self._database.execute(
                    statements.OTHERS_WITH_MARK, {"mark": mark, "key": record.key}
                )
            # An engine that gives an id twice would have one recording's text put under another.
            if others and not is_found:
                return "another's id"
            for other in others:
                # The engine knows whose job it is; another request was given its id by mistake.
                self._take_away(other)
            event: Event = "found" if is_found else "accepted"
            self._move(row, event, ticket=encoded_ticket(ticket), mark=mark, owner=self._owner)
            if is_found:
                for attempt in self._database.execute(
                    statements.DOUBTFUL_ATTEMPT, {"key": record.key}
                ):
                    self._database.execute(statements.REOPEN_ATTEMPT, {"id": attempt["id"]})
        return "accepted"

    def keep_ticket(self, record: RequestRecord, ticket: Mapping[str, Any]) -> RequestRecord:
        """Note that a job is asked for in another way from now on; gives the request as it is
        then.
        """
        with self._database.transaction():
            row = self._row(record.key)
            # Only if nobody else has moved it on: an older ticket must not replace a newer one.
            if row["state"] == "working" and ticket_of(row) == record.ticket:
                self._database.execute(
                    statements.KEEP_TICKET, {"key": record.key, "ticket": encoded_ticket(ticket)}
                )
        return self.as_it_is(record)

    def note_known(self, record: RequestRecord) -> None:
        """Note that the engine has said that it has the job."""
        self._database.execute(statements.NOTE_KNOWN, {"key": record.key})

    def answer(
        self, record: RequestRecord, body: bytes | None, bill: Bill, *, by_ticket: bool = False
    ) -> bool:
        """Keep a reply, note the request as done, and what it has cost; False when it is not waited
        for any more.

        Args:
            record: which request.
            body: the reply to the byte; None when it says that nothing was heard.
            bill: what the engine charges.
            by_ticket: it is the answer to a question; not taken when the request has another ticket
                by now.
        """
        with self._database.transaction():
            if (
                record.state == "sending"
                and record.attempt is not None
                and self._is_answer(record, body)
            ):
                self._end_attempt(record.attempt, "done", None, "sure", bill)
                return True
            row = self._row(record.key)
            if by_ticket and (row["state"] != "working" or ticket_of(row) != record.ticket):
                return False
            attempt = record.attempt or self._attempt_answered(record.key)
            self._end_attempt(attempt, "done", None, "sure", bill)
            # It came twice, by a call and by a question: the first one is kept, both attempts end.
            if row["state"] == "done":
                return False
            replaced = {row["reply"]} - {None}
            # First the file, then the note of it: a reply without a note is only room on a disk.
            digest = self._replies.keep(body)
            self._move(row, "answered", reply=digest)
            self._remove(replaced - {digest})
        return True

    def end(
        self,
        record: RequestRecord,
        event: Event,
        error: MantisreedError,
        *,
        unread: tuple[str, bytes] | None = None,
        ticket: Mapping[str, Any] | None = None,
    ) -> Rule:
        """Note that something else has happened to a request, and what follows from it.

        What another process has made of it meanwhile stays; then only the attempt is noted.

        Args:
            record: which one, in the state that it had when it happened.
            event: what happened.
            error: the same for people.
            unread: the name of a step, and its answer, which could not be read and is kept.
            ticket: what reading it again will need.

        Returns:
            The rule that was followed.

        Raises:
            TransitionError: it cannot happen.
        """
        rule = after(record.state, event)
        with self._database.transaction():
            row = self._row(record.key)
            if rule.outcome is not None:
                attempt = record.attempt or self._attempt_answered(record.key)
                self._end_attempt(attempt, rule.outcome, str(error), rule.charge, Bill(0.0, None))
            if row["state"] == record.state and row["owner"] in (None, self._owner):
                keeps_owner = rule.again in _GOES_ON_BY_ITSELF
                if unread is None:
                    step, digest = (None, None)
                else:
                    step, digest = (unread[0], self._replies.keep(unread[1]))
                self._move(
                    row,
                    event,
                    reason=str(error),
                    **({} if ticket is None else {"ticket": encoded_ticket(ticket)}),
                    unread=digest,
                    unread_step=step,
                    owner=self._owner if keeps_owner else None,
                )
        return rule

    def cancel(self, job: str) -> list[Mapping[str, Any]]:
        """Note that a job does not want its requests any more; replies stay kept.

        Returns:
            The tickets of those that are at the engine and that no other job wants.

        Raises:
            LedgerError: a living process is sending one of them.
        """
        tickets = []
        with self._database.transaction():
            for row in self._database.execute(statements.REQUESTS_OF_JOB_ALONE, {"job": job}):
                if row["state"] == "sending":
                    raise LedgerError(
                        "another process is sending a piece of it",
                        where=job,
                        advice="stop that one first",
                    )
                # A reply that is there was paid for, and stays for whoever wants it next.
                if row["state"] in ("done", "cancelled"):
                    continue
                if row["ticket"]:
                    tickets.append(ticket_of(row))
                rule = self._move(row, "cancelled", reason="cancelled by the user")
                for attempt in self._database.execute(statements.OPEN_ATTEMPT, {"key": row["key"]}):
                    self._end_attempt(
                        attempt["id"],
                        "cancelled",
                        "cancelled by the user",
                        rule.charge,
                        Bill(0.0, None),
                    )
            self._database.note(statements.CANCEL_PIECES, {"job": job})
            self._jobs.note(job, "cancelled", "cancelled by the user")
        return tickets

    def forget(self, job: str) -> int:
        """Remove a job's kept replies, but for those that other jobs need; what was paid stays
        noted.

        Returns:
            How many were removed.
        """
        with self._database.transaction():
            rows = self._database.execute(statements.REQUESTS_OF_JOB_ALONE, {"job": job})
            named = chain.from_iterable((row["reply"], row["unread"]) for row in rows)
            kept = {digest for digest in named if digest}
            for row in rows:
                if (row["state"], "cancelled") in REQUEST_LIFE:
                    self._move(row, "cancelled", reason="its reply was forgotten", reply=None)
            alone = json.dumps([row["key"] for row in rows])
            # Reasons quote what engines say, and what was asked for has names and hints.
            for statement in (statements.FORGET_REQUESTS, statements.FORGET_REASONS):
                self._database.execute(statement, {"keys": alone})
            self._database.execute(statements.CANCEL_PIECES, {"job": job})
            self._jobs.forget(job)
            kept |= {
                row["digest"]
                for row in self._database.execute(statements.BODIES_OF_JOB, {"job": job})
            }
            self._database.execute(statements.FORGET_FOLLOW_UPS, {"job": job})
            suffix = f" forgotten {self._database.now()}"
            self._database.execute(statements.FORGET_QUESTIONS, {"job": job, "suffix": suffix})
            return self._remove(kept)

    def reply(self, record: RequestRecord) -> bytes | None:
        """A kept reply; None when it says that nothing was heard.

        Raises:
            ReplyLostError: somebody has changed or removed it.
        """
        assert record.reply is not None
        return self._replies.read(record.reply)

    def is_kept(self, digest: str) -> bool:
        """Whether some request still has this reply."""
        return bool(
            self._database.execute(statements.NEEDED_REPLIES, {"digests": json.dumps([digest])})
        )

    def unread_answer(self, record: RequestRecord) -> bytes:
        """The answer that could not be read.

        Raises:
            ReplyLostError: somebody has changed or removed it.
        """
        assert record.unread is not None
        return self._replies.read(record.unread[1]) or b""

    def lose_reply(self, record: RequestRecord) -> None:
        """Note that a kept reply is gone or damaged: a new one is asked for."""
        with self._database.transaction():
            row = self._row(record.key)
            if row["reply"] == record.reply and row["state"] == "done":
                self._move(row, "reply lost", reply=None)
                assert record.reply is not None
                self._replies.discard(record.reply)

    def leave_strays(self) -> None:
        """See to requests on their way that are nobody's: what came of them was not noted."""
        for row in self._database.execute(statements.STRAYS_TO_CHANGE):
            self._leave(row, "no answer to it was noted")

    def leave(self, owner: str) -> None:
        """See to the requests of a process that has ended: those on their way are unconfirmed, all
        are anybody's.
        """
        for row in self._database.execute(statements.REQUESTS_OF_PROCESS, {"owner": owner}):
            if (row["state"], "owner gone") in REQUEST_LIFE:
                self._leave(row, "the program ended while the request was on its way")
        self._database.note(statements.RELEASE_REQUESTS_OF_PROCESS, {"owner": owner})

    def _leave(self, row: Row, reason: str) -> None:
        rule = self._move(row, "owner gone", reason=reason, ticket=row["ticket"], mark=row["mark"])
        if rule.outcome is not None:
            attempt = self._attempt_answered(row["key"])
            self._end_attempt(attempt, rule.outcome, reason, rule.charge, Bill(0.0, None))
