"""Forgetting jobs: every place where what was said, or its sound, lies in a workspace's state.

Whatever keeps a text, a reply or sound of a job adds its place here; a test searches the whole
workspace for the words of a job that was forgotten.
"""

from collections.abc import Iterable, Iterator
from contextlib import closing, suppress
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

from mantisreed.errors import InputError, MantisreedError
from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.folders import remove
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.records import Filter, JobRecord
from mantisreed.pipeline.incoming.live_files import forget_phrase
from mantisreed.pipeline.incoming.shared_storage import SharedStorage
from mantisreed.pipeline.incoming.storage_cache import StorageCache
from mantisreed.pipeline.options import StoredOptions, stored_options
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.second_opinions.kept import forget_opinion, kept_opinion
from mantisreed.pipeline.sent_jobs.choosing import outputs_of_job
from mantisreed.pipeline.unreadable import UnreadableReplies
from mantisreed.sources.recordings import Source
from mantisreed.sources.streams import drop_input
from mantisreed.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Forgotten:
    """What became of a job that was forgotten.

    Attributes:
        record: the job as it was.
        replies: how many kept replies are gone.
        shared_with: jobs that need some of its replies, which stay for them.
        outputs: files that were written of it and are still there.
    """

    record: JobRecord
    replies: int
    shared_with: tuple[str, ...]
    outputs: tuple[Path, ...]


def forget(
    workspace: Workspace, ids: Iterable[str], *, with_outputs: bool = False
) -> list[Forgotten]:
    """Remove what is kept of jobs. What was paid stays noted; outputs stay unless they are to go.

    Args:
        workspace: with the ledger.
        ids: of jobs, or beginnings of them.
        with_outputs: also what was written of them and not edited since.

    Raises:
        OutputError: an output cannot be removed.
        TrustError: the settings are not trusted with the storage that they name.
        InputError: an id begins no job, or several; or a recording cannot be removed from the
            storage, and its job is as it was, so that it can be forgotten later.
    """
    with closing(open_ledger(workspace)) as ledger:
        records = list(map(ledger.listing.job, ids))
        return [
            _forgotten(workspace, ledger, record, with_outputs=with_outputs) for record in records
        ]


def _forgotten(
    workspace: Workspace, ledger: Ledger, record: JobRecord, *, with_outputs: bool
) -> Forgotten:
    stored = _stored(record)
    # First, as it may be refused: where a recording lies is only known while its job is kept.
    if stored is not None and (recording := _recording_of(stored)) is not None:
        forget_stored(workspace, ledger, record.id, record.digest, recording)
    if stored is None:
        outputs = []
    else:
        outputs = list(_outputs_of(workspace, stored, ledger, record))
    left = []
    for memory, path in outputs:
        if not (with_outputs and memory.remove(path)):
            left.append(path)
    opinion = kept_opinion(workspace.hidden, record.id)
    second = None if opinion is None else opinion.second.job
    count = _forget_replies(workspace, ledger, record.id)
    if second is not None:
        with suppress(InputError):  # the ledger is another one than it was
            count += _forget_replies(workspace, ledger, ledger.listing.job(second).id)
    forget_opinion(workspace.hidden, record.id)
    _forget_upload(workspace.hidden, record.id)
    if stored is not None and (recording := _recording_of(stored)) is not None:
        _forget_sound(workspace, recording)
    ledger.tidy()
    shared = tuple(ledger.listing.jobs_sharing(record.id))
    return Forgotten(record, count, shared, tuple(left))


def _stored(record: JobRecord) -> StoredOptions | None:
    try:
        return stored_options(record)
    except InputError:  # it was forgotten before, or never came so far
        return None


def _recording_of(stored: StoredOptions) -> Source | None:
    try:
        return stored.recording
    except InputError:  # an address that held a secret was not kept, and is nowhere
        return None


def _outputs_of(
    workspace: Workspace, stored: StoredOptions, ledger: Ledger, record: JobRecord
) -> Iterator[tuple[Outputs, Path]]:
    """The files that were written of a job, in any format and by its follow-ups, and are there."""
    try:
        outputs = outputs_of_job(workspace, stored)
    except MantisreedError:  # its folder is gone, or may not be touched
        return
    for path in outputs.with_formats(list(OUTPUT_FORMATS.values())).paths(stored.output_stem):
        if outputs.has_written(path):
            yield outputs, path
    for followed in ledger.follow_ups.of_job(record.id):
        for file in followed.result.get("files") or ():
            if outputs.has_written(Path(str(file))):
                yield outputs, Path(str(file))


def _forget_replies(workspace: Workspace, ledger: Ledger, job: str) -> int:
    digests = {piece.request.reply for piece in ledger.listing.pieces(job)} - {None}
    count = ledger.requests.forget(job)
    unreadable = UnreadableReplies(workspace.hidden)
    for digest in digests:
        assert digest is not None
        if not ledger.requests.is_kept(digest):
            unreadable.forget(digest)
    return count


def _forget_upload(hidden: Path, job: str) -> None:
    """Remove the recording that was uploaded to the service for a job, and the copy that browsers
    play.
    """
    if job.isalnum():
        service = hidden / "serve"
        remove(service / "recordings" / job)
        remove(service / "played" / f"{job}.webm")


def _forget_sound(workspace: Workspace, recording: Source) -> None:
    """Remove a recording that lies in the state itself: from standard input, or of a stream."""
    drop_input(recording)
    forget_phrase(workspace.hidden, recording.path)


def forget_stored(
    workspace: Workspace, ledger: Ledger, job: str, digest: str, recording: Source
) -> None:
    """Remove a job's recording that was put into the storage of the settings for the queue, unless
    another job needs it.

    Args:
        workspace: with the settings.
        ledger: that knows the other jobs.
        job: the ID of the one that is forgotten.
        digest: of its recording.
        recording: as workers find it.

    Raises:
        InputError: it cannot be removed.
        TrustError: the settings are not trusted with the storage that they name.
    """
    storage = SharedStorage.of(workspace)
    if storage is None or not storage.holds(recording):
        return
    for other in ledger.listing.jobs(Filter(digest=digest)):
        stored = _stored(other)
        if other.id != job and stored is not None and stored.source == recording.link:
            return
    storage.remove(recording)
    cache = StorageCache.of(workspace)
    if cache is not None:
        cache.forget(recording)


def described(forgotten: Forgotten) -> Iterator[str]:
    """What became of a job, in lines for people."""
    record, count = forgotten.record, forgotten.replies
    replies = "1 reply" if count == 1 else f"{count} replies"
    yield f"{record.id}  {record.recording}: {replies} removed"
    if forgotten.shared_with:
        jobs = ", ".join(forgotten.shared_with)
        yield f"  replies that {jobs} need too stay until these are forgotten"


def described_outputs(forgotten: Iterable[Forgotten]) -> str | None:
    """Which outputs are still there, on one line; None where none are."""
    files = list(chain.from_iterable(one.outputs for one in forgotten))
    if not files:
        return None
    first = "1 output stays" if len(files) == 1 else f"{len(files)} outputs stay"
    return (
        f"{first} ({files[0].name}{', ...' if len(files) > 1 else ''}); --outputs removes them too"
    )
