"""Which jobs are meant, and what is left of their recordings."""

from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from mantisreed.destinations.stored_outputs import local_folder
from mantisreed.errors import InputError
from mantisreed.files import printable
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.jobs.records import Filter, JobRecord
from mantisreed.pipeline.options import (
    StoredOptions,
    TranscriptionOptions,
    path_at,
    stored_options,
)
from mantisreed.pipeline.outputs import Outputs, formats_to_write
from mantisreed.pipeline.unreadable import UnreadableReplies
from mantisreed.sources.recordings import Source
from mantisreed.state import is_same_place, place_of
from mantisreed.workspace import Workspace


class ElsewhereError(InputError):
    """Something is in the files of another machine."""


def chosen_jobs(
    workspace: Workspace, ids: Sequence[str], states: tuple[str, ...]
) -> list[JobRecord]:
    """The jobs whose ids begin so, each once; without any, those in one of these states, the oldest
    first.

    Raises:
        InputError: an id begins no job, or several.
    """
    if isinstance(ids, str):
        ids = [ids]
    with closing(open_ledger(workspace)) as ledger:
        if not ids:
            return ledger.listing.jobs(Filter(states=states))[::-1]
        found = list(map(ledger.listing.job, ids))
        return list({record.id: record for record in found}.values())


def jobs_to_use(
    workspace: Workspace, ids: Sequence[str], states: tuple[str, ...]
) -> list[JobRecord]:
    """The same, for whoever will speak to their engines; nothing has been done when trust is asked
    for.

    Raises:
        InputError: as `chosen_jobs` does.
        TrustError: the settings are not trusted with what an engine's card uses.
    """
    jobs = chosen_jobs(workspace, ids, states)
    for engine in {job.engine for job in jobs}:
        workspace.require_trust_in(engine)
    return jobs


def outputs_of_job(
    workspace: Workspace, stored: StoredOptions, *, overwrite: bool = False
) -> Outputs:
    """Where a job's outputs go, and how they are written.

    Raises:
        InputError: there is no such format any more, or they lie on another machine.
    """
    formats = formats_to_write(stored.wanted.to or ())
    if stored.address:
        # Each machine has a local copy of its own.
        folder = local_folder(workspace.folder, workspace.hidden, stored.address)
    else:
        _check_place(workspace, stored, "its outputs go to", stored.folder)
        folder = stored.folder
    outputs = Outputs(
        folder, workspace.hidden, formats, options=stored.writing, overwrite=overwrite
    )
    outputs.own(stored.output_stem)
    return outputs


def let_go_of_unreadable(
    ledger: Ledger, workspace: Workspace, job: str, options: TranscriptionOptions
) -> None:
    """Ask anew for replies of a job that cannot be read as the card is now: whoever retries wants
    others.
    """
    unreadable = UnreadableReplies(workspace.hidden)
    for piece in ledger.listing.pieces(job):
        if unreadable.is_marked(piece.request.reply, options.card):
            ledger.requests.lose_reply(piece.request)


def _check_place(workspace: Workspace, stored: StoredOptions, what: str, path: Path) -> None:
    """See that a path means here what it meant when the job was sent.

    Raises:
        ElsewhereError: it is another machine's.
    """
    # A SQLite ledger is in the folder that it is about; only a server is used from elsewhere.
    if workspace.ledger is None or is_same_place(stored.place, place_of(workspace.hidden)):
        return
    raise ElsewhereError(
        f"{what} in a folder of another machine",
        where=printable(path),
        advice="go on there; or let the machines share the folder of the settings, or name "
        "recordings and outputs by addresses (s3://...)",
    )


def still_there(workspace: Workspace, stored: StoredOptions) -> Source:
    """A job's recording.

    Raises:
        InputError: it is not there any more, it is on another machine, or its address was not kept.
    """
    source = stored.recording
    if source.link is None:
        _check_place(workspace, stored, "its recording is", source.path)
    if source.link is None and not source.path.exists():
        raise InputError("the recording is not there any more", where=source.label)
    return source


def path_of(record: JobRecord) -> Path:
    """Where a job's recording was, or what it is called."""
    source = stored_options(record).source if record.options else ""
    if source.startswith("file:"):
        return path_at(source)
    return Path(record.recording)
