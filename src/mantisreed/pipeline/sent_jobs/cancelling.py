"""Cancelling jobs, also at their engines."""

from collections.abc import Sequence
from contextlib import closing

from mantisreed.engines.asking import client_for
from mantisreed.engines.client import Ticket
from mantisreed.errors import (
    EngineError,
    InputError,
)
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.records import JobRecord
from mantisreed.jobs.store.database import LedgerError
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.options import (
    options_of_job,
    stored_options,
)
from mantisreed.pipeline.sent_jobs.choosing import jobs_to_use
from mantisreed.running import run_interruptibly
from mantisreed.workspace import Workspace


def cancel(workspace: Workspace, ids: Sequence[str]) -> list[tuple[JobRecord, str]]:
    """Cancel jobs, also at their engines where the cards say how; what was answered stays kept.

    Returns:
        Each job, and what became of it at its engine.

    Raises:
        InputError: an id begins no job, or several; or another process is sending a piece of one.
    """
    jobs = jobs_to_use(workspace, ids, ())

    async def work(ledger: Ledger) -> list[tuple[JobRecord, str]]:
        async with LateTransport() as transport:
            told = []
            for job in jobs:
                if job.state in ("done", "cancelled"):
                    told.append((job, f"is {job.state} already"))
                    continue
                tickets = cancel_in_ledger(ledger, job.id)
                told.append((job, await cancelled_at_engine(workspace, job, tickets, transport)))
            return told

    with closing(open_ledger(workspace)) as ledger:
        return run_interruptibly(work(ledger))


def cancel_in_ledger(ledger: Ledger, job: str) -> list[Ticket]:
    """Note that nobody wants a job any more. A worker that has it sends nothing more of it.

    Returns:
        What its engine is asked by to end it.

    Raises:
        LedgerError: a process that is no worker is sending a piece of it.
    """
    try:
        return list(map(Ticket, ledger.requests.cancel(job)))
    except LedgerError:
        if not ledger.jobs.is_queued(job):
            raise
        ledger.jobs.note(job, "cancelled", "cancelled by the user")
        return []


async def cancelled_at_engine(
    workspace: Workspace, job: JobRecord, tickets: list[Ticket], transport: LateTransport
) -> str:
    """What became of a cancelled job at its engine, in words for people."""
    if not tickets:
        return "nothing of it was at the engine"
    try:
        options = options_of_job(workspace, job.engine, stored_options(job))
        client = client_for(options.card, options.secrets, transport)
        done = [await client.cancel(ticket) for ticket in tickets]
    except (EngineError, InputError) as error:
        return f"the engine goes on with it ({error}); its answer will not be used"
    if all(done):
        return "cancelled at the engine too"
    return (
        f"the card of {job.engine} has no [cancel]; the engine goes on with it, and its answer "
        "will not be used"
    )
