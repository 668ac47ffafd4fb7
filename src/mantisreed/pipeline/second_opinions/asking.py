"""Asking another engine, or the same one again, about what is doubtful in a transcript."""

import asyncio
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import msgspec

from mantisreed.errors import InterruptedRunError, MantisreedError
from mantisreed.exports.formats import TRANSCRIPT_FORMAT, chosen_formats
from mantisreed.files import file_digest, printable
from mantisreed.jobs.dispatch import Dispatcher
from mantisreed.pipeline.options import TranscriptionOptions
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.recording import RecordingTask
from mantisreed.pipeline.second_opinions.kept import (
    Opinion,
    folder_of_opinions,
    keep_opinion,
    kept_opinion,
    with_opinion,
)
from mantisreed.pipeline.surroundings import Surroundings, job_of
from mantisreed.review.opinions import clips_of
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript

Span = tuple[float, float]


class SecondOpinions:
    """Asks about the doubtful stretches of a batch's transcripts.

    What is sent for a recording is a job of its own in the ledger: its pieces are the stretches, so
    that none of them is paid for twice, and what it costs counts towards the limit of the batch.
    """

    def __init__(self, options: TranscriptionOptions, dispatcher: Dispatcher, hidden: Path) -> None:
        """Ask nothing yet.

        Args:
            options: of the second engine.
            dispatcher: what takes pieces to it.
            hidden: the workspace's hidden folder.

        Raises:
            OutputError: there is no room for what it says.
        """
        self._options, self._dispatcher, self._hidden = options, dispatcher, hidden
        self._outputs = Outputs(
            folder_of_opinions(hidden), hidden, chosen_formats([TRANSCRIPT_FORMAT])
        )
        self._tasks: list[RecordingTask] = []
        self.jobs: dict[
            str, str
        ] = {}  # of stretches that were asked about, by the jobs of their recordings

    @property
    def dispatcher(self) -> Dispatcher:
        """What takes pieces to the second engine."""
        return self._dispatcher

    def stop(self, reason: InterruptedRunError) -> None:
        """Send nothing more."""
        self._dispatcher.stop(reason)
        for task in self._tasks:
            task.stop()

    async def on(
        self,
        shared: Surroundings,
        recording: Source,
        path: Path,
        transcript: Transcript,
        speech: Sequence[Span] | None,
    ) -> tuple[Transcript, tuple[str, ...]]:
        """The transcript with the better readings, and what the user should know.

        Whatever goes wrong leaves the transcript as it is, and is told: the first engine's work is
        done.

        Args:
            shared: of the batch.
            recording: where it came from.
            path: where its sound is now.
            transcript: of it, with its doubts.
            speech: where somebody speaks in it; None where nobody knows.
        """
        clips = clips_of(transcript, speech or (), transcript.recording.duration)
        if not clips:
            return transcript, ()
        spans = tuple((clip.start, clip.end) for clip in clips)
        if self._options.wanted.afresh:
            before = None
        else:
            before = kept_opinion(self._hidden, transcript.job)
        name = self._options.card.name
        if before is None or before.clips != spans or before.second.engine != name:
            try:
                second = await self._asked(shared, recording, path, transcript, spans)
            except MantisreedError as error:
                return transcript, (f"{recording.name}: no second opinion by {name}: {error}",)
            if second is None:
                return transcript, (
                    f"{recording.name}: no second opinion by {name}: it is still at work",
                )
            before = Opinion(spans, second)
            await asyncio.to_thread(keep_opinion, self._hidden, transcript.job, before)
        self.jobs[transcript.job] = before.second.job
        opined = await asyncio.to_thread(with_opinion, transcript, before, speech)
        seconds = sum(clip.length for clip in clips)
        replaced = len(opined.replacements)
        if len(clips) == 1:
            stretches = "1 doubtful stretch"
        else:
            stretches = f"{len(clips)} doubtful stretches"
        readings = "1 reading was" if replaced == 1 else f"{replaced} readings were"
        told = f"{name} heard {stretches} again, {seconds:.0f} s; {readings} taken"
        return opined, (f"{recording.name}: {told}",)

    async def _asked(
        self,
        shared: Surroundings,
        recording: Source,
        path: Path,
        transcript: Transcript,
        spans: tuple[Span, ...],
    ) -> Transcript | None:
        """What the second engine hears in some stretches.

        Raises:
            MantisreedError: why it says nothing.
        """
        options = self._options
        pieces = msgspec.structs.replace(
            options.pieces, spans=spans, piece_length=None, overlap=None, untouched=False
        )
        options = replace(options, wanted=msgspec.structs.replace(options.wanted, pieces=pieces))
        if recording.wanted_by:
            recording = replace(recording, wanted_by=f"{recording.wanted_by}-second")
        digest = await asyncio.to_thread(file_digest, path)
        self.jobs[transcript.job] = job_of(options, recording, digest)
        here = replace(
            shared,
            options=options,
            outputs=self._outputs,
            dispatcher=self._dispatcher,
            second=None,
            links=None,
        )
        # A link has been fetched already; what is sent are stretches of the file.
        if recording.link is not None:
            source = replace(recording, path=path, link=None)
        else:
            source = recording
        task = RecordingTask(source, f"{transcript.job}-{printable(options.card.name)}", 0.0, here)
        self._tasks.append(task)
        try:
            outcome = await task.outcome()
        finally:
            self._tasks.remove(task)
        return outcome.transcript
