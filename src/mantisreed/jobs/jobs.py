"""Jobs in the ledger: what was asked for, who works on it, how it stands."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import msgspec

from mantisreed.files import bytes_digest
from mantisreed.jobs.life import JobEvent, JobOutcome, State, TransitionError, job_after
from mantisreed.jobs.records import StemClaim
from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database, Row


@dataclass(frozen=True, slots=True)
class JobToOpen:
    """A job that is begun, or taken up again.

    Attributes:
        id: by which users know it.
        recording: its name, fit for showing.
        digest: of the recording's bytes.
        engine: name of the card.
        currency: of the card's price.
        options: JSON; all that it takes to do it again, or to write it out.
        identity: a digest of the recording, what is asked of the engine, and the user's options;
            None where the id is that.
    """

    id: str
    recording: str
    digest: str
    engine: str
    currency: str | None = None
    options: str | None = None
    identity: str | None = None


class JobStore:
    """The jobs of one ledger."""

    def __init__(self, database: Database, owner: str) -> None:
        self._database, self._owner = database, owner

    def open(self, job: JobToOpen) -> bool:
        """Note that a job is begun or goes on.

        Returns:
            False when another process has it under way, which then says how it ends.
        """
        with self._database.transaction():
            values = self._create(job)
            values |= {"options": job.options, "state": "sending", "owner": self._owner}
            return bool(self._database.execute(statements.OPEN_JOB, values))

    def announce(self, job: JobToOpen) -> None:
        """Note a job that somebody wants, before anything of its recording is known but its
        name.
        """
        self._create(job)

    def queue(self, job: JobToOpen, priority: int, *, again: bool = False) -> bool:
        """Note a job that workers are to take.

        Args:
            job: with its options.
            priority: jobs with higher numbers come first.
            again: also when it is done, as its outputs are wanted in another way.

        Returns:
            False when it is done already, or a process has it under way.
        """
        with self._database.transaction():
            values = {**self._create(job), "options": job.options, "priority": priority}
            values["again"] = int(again)
            return bool(self._database.execute(statements.QUEUE_JOB, values))

    def _create(self, job: JobToOpen) -> dict[str, str | float | None]:
        """Add a job, unless it is there; the values of its row."""
        values: dict[str, str | float | None] = {
            "id": job.id,
            "identity": job.identity or job.id,
            "recording": job.recording,
            "searchable": job.recording.casefold(),
            "digest": job.digest,
            "engine": job.engine,
            "currency": job.currency,
        }
        self._database.note(statements.CREATE_JOB, values)
        return values

    def cuts(self, identity: str) -> str | None:
        """By which limits jobs that ask for the same were cut, as JSON; None when it is not known,
        or nothing of them has been sent.
        """
        rows = self._database.execute(statements.CUTS_OF_JOB, {"identity": identity})
        return rows[0]["cuts"] if rows else None

    def keep_cuts(self, job: str, cuts: str) -> None:
        """Note by which limits a job is cut."""
        self._database.note(statements.KEEP_CUTS, {"id": job, "cuts": cuts})

    def note(
        self,
        job: str,
        event: JobEvent,
        reason: str | None = None,
        outcome: JobOutcome | None = None,
    ) -> State:
        """Note what has happened to a job, and why.

        A job that another process has under way is left to that one, but for `written`, `cancelled`
        and what takes a reply away. A job of which a reply was taken away meanwhile is not done.

        Args:
            job: its id.
            event: what has happened.
            reason: why, for people.
            outcome: how it has ended, where its outputs are written.

        Returns:
            The state that it has now.
        """
        with self._database.transaction():
            if event == "written":
                self._database.note(statements.JOB_TO_CHANGE, {"id": job})  # nobody else does now
                rows = self._database.execute(statements.JOB_WITH_UNANSWERED, {"id": job})
            else:
                rows = self._database.execute(statements.JOB_TO_CHANGE, {"id": job})
            if not rows:
                raise TransitionError(f"there is no job {job}")
            row = rows[0]
            if row["owner"] not in (None, self._owner) and event in (
                "accepted",
                "failed",
                "postponed",
            ):
                return _state(row["state"])
            if event == "written" and _lacks_a_reply(rows):
                event, reason = "reply taken away", "the engine gave it the id of another job"
            state = job_after(_state(row["state"]), event)
            self._set(job, state, reason, outcome if state == "done" else None)
        return state

    def forget(self, job: str) -> None:
        """Note that nothing is kept of a job but what was paid for it."""
        self.note(job, "cancelled", "you forgot its replies")
        rows = self._database.execute(statements.OPTIONS_OF_JOB, {"id": job})
        found = re.search(r'"batch":"(\w*)"', rows[0]["options"] or "")
        # Its batch is known by it: what the others may spend does not grow.
        left = f'{{"forgotten":true,"batch":"{found[1] if found else ""}"}}'
        self._database.execute(statements.SET_OPTIONS, {"id": job, "options": left})

    def note_made(self, job: str, made: str, duration: float, *, is_out: bool) -> None:
        """Note what a job was made into.

        Args:
            job: its id.
            made: JSON; its requests in order.
            duration: seconds of its recording.
            is_out: whether the engine still has some of its requests, which are not waited for.
        """
        with self._database.transaction():
            self._database.note(
                statements.SET_MADE, {"id": job, "made": made, "duration": duration}
            )
            if is_out:
                self.note(job, "accepted")

    def leave(self, owner: str) -> None:
        """See to the jobs of a process that has ended; its requests have been seen to."""
        for row in self._database.execute(statements.JOBS_OF_PROCESS, {"owner": owner}):
            requests = [
                _state(one["state"])
                for one in self._database.execute(statements.STATES_OF_REQUESTS, {"job": row["id"]})
            ]
            before = _state(row["state"])
            after = job_after(before, "owner gone", requests)
            if after != before or after in ("waiting", "unconfirmed"):
                self._set(row["id"], after, "the program ended before everything was sent")
        self._database.note(statements.RELEASE_JOBS_OF_PROCESS, {"owner": owner})

    def claim_stem(self, name: str, owner: str) -> StemClaim:
        """Take a stem of outputs in a storage, for all processes on the ledger.

        Args:
            name: the whole address of the outputs, without their endings.
            owner: the key of the recording's source.
        """
        digests = {"name": bytes_digest([name.encode()]), "owner": bytes_digest([owner.encode()])}
        with self._database.transaction():
            if self._database.execute(statements.CLAIM_STEM, digests):
                return "new"
            rows = self._database.execute(statements.OWNER_OF_STEM, {"name": digests["name"]})
        return "ours" if rows and rows[0]["owner"] == digests["owner"] else "taken"

    def is_queued(self, job: str) -> bool:
        """Whether workers are to take a job, or have taken it."""
        rows = self._database.execute(statements.STATE_OF_JOB, {"id": job})
        return bool(rows) and rows[0]["queued"] is not None

    def is_another_process_at(self, job: str) -> bool:
        """Whether another process has a job under way; dead ones have been seen to."""
        rows = self._database.execute(statements.STATE_OF_JOB, {"id": job})
        return bool(rows) and rows[0]["owner"] not in (None, self._owner)

    def _set(
        self, job: str, state: State, reason: str | None, outcome: JobOutcome | None = None
    ) -> None:
        self._database.note(
            statements.SET_JOB,
            {
                "id": job,
                "state": state,
                "reason": reason,
                "outcome": outcome,
                # Whatever is noted of a job but that it is sending is the end of this process's
                # work on it.
                "owner": self._owner if state == "sending" else None,
            },
        )


def _lacks_a_reply(rows: Sequence[Row]) -> bool:
    """Whether a request that a job was made into has no reply."""
    made = rows[0]["made"]
    wanted: Iterable[str] = msgspec.json.decode(made)["pieces"] if made else ()
    return not {row["request"] for row in rows}.isdisjoint(wanted)


def _state(text: str) -> State:
    return text  # type: ignore[return-value]
