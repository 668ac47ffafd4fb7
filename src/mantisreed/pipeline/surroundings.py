"""What recordings share on their way, and by what their jobs are known."""

import asyncio
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import msgspec

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.cards.rendering import digest_of_request
from mantisreed.engines.identity import job_key
from mantisreed.errors import InterruptedRunError
from mantisreed.jobs.dispatch import Dispatcher
from mantisreed.jobs.records import StemClaim
from mantisreed.pipeline.events import Stage
from mantisreed.pipeline.options import Expected, TranscriptionOptions
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.preparing.pieces import PreparedPiece
from mantisreed.sources.local import local_file
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript
from mantisreed.transcript.estimate import Span

if TYPE_CHECKING:
    from contextlib import AbstractAsyncContextManager

    from mantisreed.engines.links import LinkOffers
    from mantisreed.pipeline.incoming.storage_cache import StorageCache
    from mantisreed.sources.fetching import FetchHooks

Tell = Callable[[Source, Stage, str, float | None], None]
"""Called as a recording comes to another stage: with a note, and until when it waits."""


class SecondAsked(Protocol):
    """Who is asked about what is doubtful in the transcripts of a batch.

    Attributes:
        jobs: of stretches that were asked about, by the jobs of their recordings.
    """

    jobs: dict[str, str]

    @property
    def dispatcher(self) -> Dispatcher:
        """What takes pieces to the second engine."""
        ...

    def stop(self, reason: InterruptedRunError) -> None:
        """Send nothing more."""
        ...

    async def on(
        self,
        shared: "Surroundings",
        recording: Source,
        path: Path,
        transcript: Transcript,
        speech: Sequence[Span] | None,
    ) -> tuple[Transcript, tuple[str, ...]]:
        """The transcript with the better readings, and what the user should know."""
        ...


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What all recordings of a batch share.

    Attributes:
        options: what to do with them.
        outputs: where results go.
        dispatcher: what takes pieces to their replies.
        hidden: the workspace's hidden folder.
        workers: where long recordings are decoded; None decodes them in this process.
        links: where pieces are offered to engines that want a link.
        preparing: as many recordings are prepared at once.
        expected: what is known of recordings already, by their sources' keys.
        tell: called as recordings move along.
        count: called with each piece that is prepared, and again when it is answered.
        second: who is asked about what is doubtful; None for nobody.
        cache: of recordings in a storage; None for none.
    """

    options: TranscriptionOptions
    outputs: Outputs
    dispatcher: Dispatcher
    hidden: Path
    workers: DecodingWorkers | None
    links: "LinkOffers | None"
    preparing: asyncio.Semaphore
    expected: Mapping[str, Expected]
    tell: Tell
    count: Callable[[PreparedPiece, bool], None]
    second: "SecondAsked | None" = None
    cache: "StorageCache | None" = None

    def file_of(
        self, recording: Source, hooks: "FetchHooks | None"
    ) -> "AbstractAsyncContextManager[Path]":
        """A recording as a file; see `local_file`."""
        folder = self.hidden / "fetched"
        if self.cache is None:
            return local_file(recording, folder, hooks)
        return self.cache.file(recording, folder, hooks)

    async def stem_for(self, recording: Source) -> str:
        """The stem of a recording's outputs, where it is known only now what it is called.

        Raises:
            OutputError: the storage of the outputs cannot be asked.
            LedgerError: the ledger cannot be asked whose the stem is.
        """
        loop = asyncio.get_running_loop()

        def claim(name: str, owner: str) -> StemClaim:
            claiming = self.dispatcher.perform(lambda ledger: ledger.jobs.claim_stem(name, owner))
            claimed: StemClaim = asyncio.run_coroutine_threadsafe(claiming, loop).result()
            return claimed

        return await asyncio.to_thread(self.outputs.stem_for, recording, claim)


def job_of(options: TranscriptionOptions, recording: Source, digest: str) -> str:
    """The id of a recording's job: that of whoever wants it, where it is wanted several times."""
    if recording.wanted_by:
        return recording.wanted_by
    # Two cards may ask for the same of the same engine: each job keeps the name that it had.
    return digest_of_request([identity_of(options, digest), options.card.name])[:16]


def identity_of(options: TranscriptionOptions, digest: str) -> str:
    """What jobs have in common that ask for the same of the same recording."""
    wanted = msgspec.to_builtins(options.pieces)
    if not options.pieces.spans:
        del wanted["spans"]  # jobs from before there were any keep their ids
    return job_key(options.asked, digest, wanted)
