"""Sending again what is missing of jobs."""

import secrets
from collections.abc import Sequence
from contextlib import AsyncExitStack, closing
from decimal import Decimal

import msgspec

from mantisreed.errors import (
    InputError,
    InterruptedRunError,
)
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.records import JobRecord
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.options import (
    StoredOptions,
    options_of_job,
    stored_options,
)
from mantisreed.pipeline.outcomes import (
    Outcome,
)
from mantisreed.pipeline.sent_jobs.choosing import (
    chosen_jobs,
    jobs_to_use,
    let_go_of_unreadable,
    outputs_of_job,
    path_of,
    still_there,
)
from mantisreed.pipeline.sent_jobs.collecting import Collector, Show
from mantisreed.pipeline.transcribe import RunHooks, run_batch
from mantisreed.running import interruptible, run_interruptibly
from mantisreed.sources.recordings import Source
from mantisreed.workspace import Workspace


def retry(
    workspace: Workspace,
    ids: Sequence[str] = (),
    *,
    states: tuple[str, ...] = ("failed", "waiting", "unconfirmed"),
    afresh: bool = False,
    spend_limit: Decimal | None = None,
    on_event: Show = lambda event: None,
) -> list[Outcome]:
    """Send again what is missing of jobs, with the same options, and wait for it.

    What was answered is not paid again.

    Args:
        workspace: with the engine cards and the ledger.
        ids: of jobs, or beginnings of them; none means all in these states.
        states: of the jobs that are meant without ids.
        afresh: send again, and pay again, also what was answered.
        spend_limit: what each run may cost, in place of the limit that it was started with; None
            keeps that.
        on_event: called as recordings move along.

    Raises:
        InputError: an id begins no job, or several; or the ledger cannot be used.
    """
    outcomes: list[Outcome] = _followed_again(workspace, ids, states) if not afresh else []
    followed = {outcome.job.id for outcome in outcomes if outcome.job}
    batches: dict[bytes, list[tuple[JobRecord, StoredOptions]]] = {}
    own_batch = secrets.token_hex(8)
    for record in jobs_to_use(workspace, ids, states):
        if record.id in followed:
            continue
        try:
            stored = stored_options(record)
        except InputError as error:
            outcomes.append(Outcome(Source(path_of(record)), "failed", error=error, job=record))
            continue
        if spend_limit is not None:
            wanted = msgspec.structs.replace(stored.wanted, spend_limit=spend_limit)
            stored = msgspec.structs.replace(stored, wanted=wanted, batch=stored.batch or own_batch)
        alike = msgspec.json.encode([record.engine, stored.wanted, stored.wanted_by, stored.batch])
        batches.setdefault(alike, []).append((record, stored))
    retrial = _Retrial(workspace, afresh=afresh, on_event=on_event)
    for batch in batches.values():
        outcomes += retrial.outcomes(batch)
    return outcomes


def _followed_again(
    workspace: Workspace, ids: Sequence[str], states: tuple[str, ...]
) -> list[Outcome]:
    """The outcomes of jobs that are done, but for some of their follow-ups; these are done
    again.
    """
    with closing(open_ledger(workspace)) as ledger:
        left = ledger.follow_ups.open_jobs()
    if not left:
        return []  # without reading through all that was ever done
    jobs = [
        job
        for job in chosen_jobs(workspace, ids, (*states, "done"))
        if job.state == "done" and job.id in left
    ]
    for engine in {job.engine for job in jobs}:
        workspace.require_trust_in(engine)

    async def work() -> list[Outcome]:
        async with AsyncExitStack() as stack:
            transport = await stack.enter_async_context(LateTransport())
            collector = Collector(workspace, transport, also_doubtful=True)
            stack.callback(collector.close)
            stack.enter_context(interruptible(collector.interrupt))
            return [await collector.followed(job) for job in jobs]

    return run_interruptibly(work())


class _Retrial:
    """Batches of jobs that are sent again, one after the other, until the user wants to stop."""

    def __init__(self, workspace: Workspace, *, afresh: bool, on_event: Show) -> None:
        self._workspace, self._afresh, self._on_event = workspace, afresh, on_event
        self._interrupted: InterruptedRunError | None = None

    def outcomes(self, batch: Sequence[tuple[JobRecord, StoredOptions]]) -> list[Outcome]:
        """The outcomes of jobs with the same options."""
        if self._interrupted:
            return [
                Outcome(Source(path_of(record)), "waiting", error=self._interrupted, job=record)
                for record, _ in batch
            ]
        first, stored = batch[0]
        try:
            options = options_of_job(self._workspace, first.engine, stored, afresh=self._afresh)
            outputs = outputs_of_job(self._workspace, stored)
        except InputError as error:
            return [
                Outcome(Source(path_of(record)), "failed", error=error, job=record)
                for record, _ in batch
            ]
        failed, recordings, expected = [], [], {}
        for record, one in batch:
            try:
                source = still_there(self._workspace, one)
            except InputError as error:
                failed.append(Outcome(Source(path_of(record)), "failed", error=error, job=record))
                continue
            recordings.append(source)
            known = expected[source.key] = one.expected(record.digest)
            if known.stem is not None:
                outputs.own(known.stem)
            with closing(open_ledger(self._workspace)) as ledger:
                let_go_of_unreadable(ledger, self._workspace, record.id, options)
        if not recordings:
            return failed
        hooks = RunHooks(
            expected, on_event=self._on_event, on_interrupt=self._interrupt, also_doubtful=True
        )
        return failed + run_batch(self._workspace, options, outputs, recordings, hooks)

    def _interrupt(self) -> None:
        self._interrupted = InterruptedRunError()
