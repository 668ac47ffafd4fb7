"""What an order tells of its result."""

from collections.abc import Iterable
from pathlib import Path
from typing import Any

from mantisreed.jobs.records import JobRecord
from mantisreed.pipeline.options import stored_options
from mantisreed.pipeline.sent_jobs.choosing import outputs_of_job
from mantisreed.state import place_of
from mantisreed.transcript.document import Transcript, from_json
from mantisreed.workspace import Workspace


def facts_of(transcript: Transcript, files: Iterable[Path], workspace: Workspace) -> dict[str, Any]:
    """What an order tells of its result."""
    paths = [str(file.absolute()) for file in files]
    return {
        "files": tuple(paths),
        "transcript": next((one for one in paths if one.endswith(".transcript.json")), None),
        "place": place_of(workspace.hidden),
        "words": len(transcript.words),
        "doubts": len(transcript.doubts_worth_hearing),
        "duration": transcript.recording.duration,
        "language": transcript.language,
    }


def facts_on_disk(
    workspace: Workspace, record: JobRecord, *, is_changed: bool = False
) -> dict[str, Any]:
    """The same of a job that another process has written.

    Args:
        workspace: into which its outputs are fetched.
        record: the job.
        is_changed: whether another machine has written them anew.

    Raises:
        MantisreedError: they cannot be fetched, or lie in a folder of another machine.
    """
    if record.state != "done":
        return {}
    stored = stored_options(record)
    outputs = outputs_of_job(workspace, stored)
    # A storage has them; a folder of this machine needs nothing.
    outputs.fetch(stored.output_stem, stored.recording, is_changed=is_changed)
    paths = outputs.paths(stored.output_stem)
    files = [path for path in paths if path.exists()]
    document = next((path for path in files if path.name.endswith(".transcript.json")), None)
    return {} if document is None else facts_of(from_json(document.read_bytes()), files, workspace)
