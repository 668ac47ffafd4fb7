"""Looking at recordings before anything is done with them."""

import asyncio
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from mantisreed.audio.examine import Examination
from mantisreed.audio.workers import DecodingWorkers
from mantisreed.errors import RecordingError
from mantisreed.running import run_interruptibly
from mantisreed.sources.local import local_file
from mantisreed.sources.recordings import Source


@dataclass(frozen=True, slots=True)
class Inspected:
    """A recording and what it is like, or why it cannot be read."""

    recording: Source
    examination: Examination | None = None
    error: RecordingError | None = None


def inspect_recordings(
    recordings: Sequence[Source], *, track: int | None = None
) -> list[Inspected]:
    """What each of them is like, in order; those that are links are fetched for it."""
    return run_interruptibly(_inspected(recordings, track))


async def _inspected(recordings: Sequence[Source], track: int | None) -> list[Inspected]:
    # One for each core: decoding takes all of it.
    room = asyncio.Semaphore(os.cpu_count() or 1)

    async def one(recording: Source, folder: Path) -> Inspected:
        async with room:
            try:
                async with local_file(recording, folder) as path:
                    return Inspected(
                        recording, await asyncio.to_thread(workers.examine, path, track=track)
                    )
            except RecordingError as error:
                error.where = recording.label
                return Inspected(recording, error=error)

    with TemporaryDirectory(prefix="mantisreed-") as folder, DecodingWorkers() as workers:
        return list(
            await asyncio.gather(*(one(recording, Path(folder)) for recording in recordings))
        )
