"""Putting recordings into the queue."""

import asyncio
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field, replace
from typing import Any

import msgspec

from mantisreed.errors import InputError, MantisreedError, RecordingError
from mantisreed.files import bytes_digest, file_digest
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.records import Filter
from mantisreed.pipeline.followups.checking import check_follow_ups
from mantisreed.pipeline.incoming.shared_storage import SharedStorage
from mantisreed.pipeline.options import (
    RunOptions,
    TranscriptionOptions,
    options_to_store,
    stored_options,
)
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.surroundings import identity_of, job_of
from mantisreed.pipeline.transcribe import outputs_of_run, source_parts
from mantisreed.sources.finding import Sources, find_recordings
from mantisreed.sources.recordings import Source
from mantisreed.working.cards import digests_of_cards
from mantisreed.working.queue import JobQueue, QueuedJob
from mantisreed.workspace import Workspace

_SHARE = 20
"""So many recordings of one call come before those of the next one, whichever was there first: a
long batch does not keep a short one waiting."""

_TOGETHER = 200  # recordings that are noted at once
_HIGHEST = 1_000_000  # steps between two priorities; a batch has no more shares than that


def enqueue(
    sources: Sources, workspace: Workspace, options: RunOptions | None = None, *, priority: int = 0
) -> list[Outcome]:
    """Let workers take recordings, on whichever machine.

    Everything that can be checked is checked before anything is queued.

    Args:
        sources: as in `transcribe`.
        workspace: with the engine cards and a ledger that several machines can use.
        options: what is wanted.
        priority: recordings with higher numbers come first.

    Returns:
        One outcome for each recording, in order: `waiting` where it is queued, `done` where its job
        is done already, `working` where a process is at it, `failed` where it cannot be read.

    Raises:
        InputError: a source, an option, the card or a secret is wrong, or there is no queue;
            nothing was queued.
    """
    wanted = options or RunOptions()
    queue = checked_queue(workspace, wanted)
    storage = SharedStorage.of(workspace)
    if storage is not None:
        into = storage.folder_for(os.fspath(wanted.into or workspace.settings.into))
        wanted = msgspec.structs.replace(wanted, into=into)
    recordings = find_recordings(sources, wanted.selection)
    parts = source_parts(workspace, wanted, recordings)
    check_follow_ups(workspace, wanted)
    outputs = outputs_of_run(workspace, wanted)
    outcomes: dict[str, Outcome] = {}
    numbers = {source.key: number for number, source in enumerate(recordings)}

    async def put() -> None:
        cards = digests_of_cards(workspace)
        async with queue:
            with closing(open_ledger(workspace)) as ledger:
                jobs = _JobsToQueue(ledger, outputs, storage)
                for part in parts:
                    if not isinstance(part.options, TranscriptionOptions):
                        for source in part.recordings:
                            outcomes[source.key] = Outcome(source, "failed", error=part.options)
                        continue
                    for some in _chunks(part.recordings):
                        noted = await asyncio.to_thread(
                            _noted, jobs, part.options, some, priority, numbers
                        )
                        outcomes.update((one.recording.key, one) for one, _ in noted)
                        await queue.put([job for _, job in noted if job is not None], cards)

    asyncio.run(put())
    return [outcomes[source.key] for source in recordings]


def checked_queue(workspace: Workspace, wanted: RunOptions) -> JobQueue:
    """The queue, where it takes such recordings.

    Raises:
        InputError: one of these is not so.
    """
    if not wanted.keep:
        raise InputError("the queue needs the ledger", where="--no-keep")
    if wanted.afresh or wanted.overwrite:
        raise InputError(
            "a queue takes neither --afresh nor --overwrite", advice="`mantisreed run` does"
        )
    return JobQueue(workspace)


def _chunks(recordings: Sequence[Source]) -> Iterator[Sequence[Source]]:
    for first in range(0, len(recordings), _TOGETHER):
        yield recordings[first : first + _TOGETHER]


def _noted(
    jobs: "_JobsToQueue",
    options: TranscriptionOptions,
    recordings: Sequence[Source],
    priority: int,
    numbers: Mapping[str, int],
) -> list[tuple[Outcome, QueuedJob | None]]:
    """Recordings as jobs in the ledger; None where there is nothing to queue."""
    found: list[tuple[Outcome, QueuedJob | None]] = []
    opened: list[tuple[Source, JobToOpen]] = []
    for source in recordings:
        try:
            opened.append((source, jobs.job_for(options, source)))
        except (MantisreedError, OSError) as error:
            failed = error if isinstance(error, MantisreedError) else InputError(str(error))
            found.append((Outcome(source, "failed", error=failed), None))
    ledger = jobs.ledger
    with ledger.together():
        for source, job in opened:
            first = priority * _HIGHEST - numbers[source.key] // _SHARE
            is_queued = ledger.jobs.queue(job, first, again=_is_written_otherwise(ledger, job))
            record = ledger.listing.job(job.id)
            if is_queued:
                queued = QueuedJob(job.id, job.engine, first)
                found.append((Outcome(source, "waiting", job=record), queued))
            elif record.state == "done":
                found.append((Outcome(source, "done", job=record), None))
            else:
                found.append((Outcome(source, "working", job=record), None))
    return found


def _is_written_otherwise(ledger: Ledger, job: JobToOpen) -> bool:
    """Whether a job that is done has written other outputs than these."""
    for record in ledger.listing.jobs(Filter(ids=(job.id,), states=("done",))):
        before, now = (
            _where_and_how(msgspec.json.decode(one or "{}"))
            for one in (record.options, job.options)
        )
        return before != now
    return False


def _where_and_how(asked: Mapping[str, Any]) -> list[Any]:
    """Where the outputs of a job go, and in which formats."""
    wanted = asked.get("wanted", {})
    how = [wanted.get("to"), wanted.get("writing")]
    if asked.get("address"):
        return [asked["address"], *how]  # whichever machine has written them
    return [asked.get("place"), asked.get("name"), wanted.get("into"), *how]


def job_to_queue(
    options: TranscriptionOptions,
    source: Source,
    digest: str,
    outputs: Outputs,
    ledger: Ledger,
    *,
    named: str,
) -> JobToOpen:
    """A recording's job, with all that a worker needs to know.

    Args:
        options: what is asked of the engine.
        source: where workers find the recording.
        digest: of its content; empty where nobody has read it.
        outputs: where its outputs go.
        ledger: where the stem of its outputs is claimed.
        named: what the recording is called in the ledger.

    Raises:
        OutputError: the storage of the outputs cannot be asked.
    """
    # What a web link is called is only known when it was fetched.
    stem = source.path.stem
    if not source.is_web:
        stem = outputs.stem_for(source, ledger.jobs.claim_stem)
    price = options.card.price
    stored = options_to_store(options, source, stem, outputs)
    return JobToOpen(
        job_of(options, source, digest),
        named,
        digest,
        options.card.name,
        price.currency if price else None,
        msgspec.json.encode(stored).decode(),
        identity_of(options, digest) if digest else None,
    )


def file_for_workers(source: Source, storage: SharedStorage | None) -> tuple[Source, str]:
    """A file as workers find it, and its digest.

    Raises:
        RecordingError: it cannot be put into the storage.
        OSError: it cannot be read.
    """
    digest = file_digest(source.path)
    return source if storage is None else storage.put(source, digest), digest


def check_link(source: Source) -> None:
    """See that a link can be kept where workers find it.

    Raises:
        InputError: it cannot.
    """
    if source.holds_secrets:
        raise InputError("an address with a secret in it cannot be queued", where=source.label)


@dataclass(slots=True)
class _JobsToQueue:
    """Makes recordings into jobs.

    Attributes:
        ledger: where they will be noted.
        outputs: where their outputs go.
        storage: where their recordings are put; None where they stay.
    """

    ledger: Ledger
    outputs: Outputs
    storage: SharedStorage | None
    _owners: dict[str, str] = field(default_factory=dict)  # whose each job is, by its id

    def job_for(self, options: TranscriptionOptions, source: Source) -> JobToOpen:
        """A recording's job.

        Raises:
            MantisreedError, OSError: it cannot be read, or not be put into the storage.
        """
        if source.problem is not None:
            raise RecordingError(source.problem, where=source.label, advice=source.advice)
        named = source.label
        digest = ""
        if source.link is None:
            source, digest = self._file(options, source)
        else:
            source = _link(options, source)
        return job_to_queue(options, source, digest, self.outputs, self.ledger, named=named)

    def _file(self, options: TranscriptionOptions, source: Source) -> tuple[Source, str]:
        """A file as workers find it, and its digest."""
        path = source.path
        source, digest = file_for_workers(source, self.storage)
        known = job_of(options, source, digest)
        owner = self._owners.get(known) or self._owner_of(known) or source.key
        self._owners[known] = owner
        if owner != source.key:
            # The same sound in another file: it wants outputs of its own, and is sent once.
            apart = bytes_digest([os.fsencode(path.absolute()), known.encode()])
            source = replace(source, wanted_by=apart[-16:])
        return source, digest

    def _owner_of(self, job: str) -> str | None:
        """The key of the source for which a job was noted; None where nobody knows."""
        for record in self.ledger.listing.jobs(Filter(ids=(job,))):
            try:
                return stored_options(record).recording.key
            except InputError:  # it was forgotten, or its address was not kept
                return None
        return None


def _link(options: TranscriptionOptions, source: Source) -> Source:
    """A link as workers find it.

    Raises:
        InputError: it cannot be kept.
    """
    check_link(source)
    # What is behind a link is only known when it was fetched; the link has to do.
    wanted = [source.link, identity_of(options, source.link or ""), options.card.name]
    return replace(source, wanted_by=bytes_digest([msgspec.json.encode(wanted)])[-16:])
