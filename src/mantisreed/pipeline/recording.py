"""One recording's way: prepared, sent piece by piece, read, put together, written."""

import asyncio
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mantisreed.audio.containers import probe
from mantisreed.audio.speech import pauses_and_speech
from mantisreed.audio.workers import LocalStream
from mantisreed.engines.identity import SoundIdentity, request_key
from mantisreed.engines.request import Piece, wants_link
from mantisreed.errors import (
    BadRequestError,
    InternalError,
    InterruptedRunError,
    MantisreedError,
    OutputError,
    PostponedError,
    RecordingError,
    TooBigError,
    reason_of,
)
from mantisreed.files import FileState, file_digest
from mantisreed.jobs.gate import Progress
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.life import JobEvent, JobOutcome
from mantisreed.jobs.work import Work
from mantisreed.pipeline.assembling import PieceResult, transcript_of
from mantisreed.pipeline.events import Stage
from mantisreed.pipeline.options import Made, options_to_store
from mantisreed.pipeline.outcomes import Outcome, job_outcome, outcome_of
from mantisreed.pipeline.outputs import Written
from mantisreed.pipeline.preparing.cut_limits import CutLimits
from mantisreed.pipeline.preparing.pieces import Preparation, PreparedPiece
from mantisreed.pipeline.second_opinions.kept import with_kept_opinion
from mantisreed.pipeline.surroundings import Surroundings, identity_of, job_of
from mantisreed.pipeline.unreadable import UnreadableReplies
from mantisreed.review.personal import hidden_transcript
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import RecordingFacts, Transcript
from mantisreed.units import short_size

if TYPE_CHECKING:
    from mantisreed.engines.client import EngineResponse
    from mantisreed.engines.reading.reply import ParsedReply
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.sources.fetching import FetchHooks

_MEASURING_RATE = 8_000  # samples a second; nobody hears them
_ROUNDED = 0.5  # seconds that a recording may be longer than allowed: headers are rounded


@dataclass(slots=True)
class _Opened:
    """The job of a recording, once it is noted in the ledger.

    Attributes:
        job: its id.
        digest: of the recording.
        cuts: by which it was cut before; None where it is new, or nothing of it was sent.
    """

    job: str
    digest: str
    cuts: CutLimits | None


@dataclass(slots=True)
class RecordingTask:
    """One recording on its way.

    Attributes:
        recording: where it comes from.
        stem: of its outputs; None until it is known, as only whoever offers a link says what is
            behind it.
        weight: its share of the whole work.
        job: the id of its job, once it is known.
        digest: of the recording, once it is known.
    """

    recording: Source
    stem: str | None
    weight: float
    shared: Surroundings
    job: str | None = None
    digest: str | None = None
    _state: FileState | None = None
    _is_given_up: bool = False
    _is_stopping: bool = False
    _is_known: bool = False
    _on_their_way: "set[asyncio.Task[object] | None]" = field(default_factory=set)

    def stop(self) -> None:
        """The user wants to stop: nothing more of it is to be sent."""
        self._is_stopping = True

    async def outcome(self) -> Outcome:
        """What becomes of it.

        Raises:
            MantisreedError: why it fails, or waits; the ledger says so too.
        """
        recording, shared = self.recording, self.shared
        # Before anything is paid for.
        if recording.problem is None and self.stem is not None:
            shared.outputs.check(self.stem)
        if recording.link:
            self._tell("fetching")
        async with shared.file_of(recording, self._fetch_hooks()) as path:
            self._tell("preparing")
            try:
                if self.stem is None:
                    self.stem = await shared.stem_for(self.recording)
                    shared.outputs.check(self.stem)
                self._state = await asyncio.to_thread(_state_of, path)
                if recording.most_seconds is not None:
                    await asyncio.to_thread(self._check_length, path, recording.most_seconds)
                made, results = await self._worked_through(path)
            except RecordingError as error:
                error.where = recording.label
                raise
            if any(one.reading is None for one in results):
                return Outcome(recording, "working")
            return await self._written(path, made, results)

    def _check_length(self, path: Path, most: float) -> None:
        """See, before anything of it is sent, that a recording is not longer than it may be: first
        by its header, which is quick, then by its sound, as a header may say anything.

        Raises:
            RecordingError: it is.
        """
        workers = self.shared.workers
        duration = (probe(path) if workers is None else workers.contents(path)).duration
        if duration is not None and duration > most:
            raise RecordingError(f"it lasts {duration:.0f} s, and {most:.0f} s is the limit")
        open_stream = LocalStream if workers is None else workers.stream
        track = self.shared.options.pieces.track
        stream = open_stream(path, sample_rate=_MEASURING_RATE, channels=1, track=track)
        for _ in stream:
            if stream.seconds > most + _ROUNDED:
                raise RecordingError(
                    f"it lasts more than {most:.0f} s, which are allowed, whatever its header says"
                )

    def _fetch_hooks(self) -> "FetchHooks | None":
        if not self.recording.link:
            return None
        from mantisreed.sources.fetching import FetchHooks

        def take_name(name: str) -> None:
            self.recording = replace(self.recording, path=Path(name))

        return FetchHooks(lambda note: self._tell("fetching", note), take_name)

    async def _written(self, path: Path, made: Made, results: list[PieceResult]) -> Outcome:
        """Write the outputs; only then the job is done."""
        assert self.digest is not None and self.job is not None and self.stem is not None
        about = dict(self.recording.about) or msgspec.UNSET
        facts = RecordingFacts(self.recording.name, self.digest, round(made.duration, 3), about)
        assembled = await asyncio.to_thread(
            transcript_of, self.shared.options, facts, self.job, made, results
        )
        transcript = assembled.transcript
        remarks: tuple[str, ...] = ()
        if (second := self.shared.second) is not None:
            about_it = self.shared, self.recording, path, transcript, made.speech
            transcript, remarks = await second.on(*about_it)
        try:
            transcript, written = await asyncio.to_thread(self._put_down, transcript, made)
        except OutputError as error:
            # All replies are kept: `collect` or the same command write them once there is room.
            await self._note("postponed", f"its outputs could not be written: {error}")
            raise
        outcome = outcome_of(self.recording, transcript, made.damage, assembled.doubts, written)
        await self._note("written", outcome=job_outcome(outcome))
        return replace(outcome, remarks=remarks)

    def _put_down(self, transcript: Transcript, made: Made) -> tuple[Transcript, Written]:
        """Write the outputs; gives the transcript as it is in them."""
        shared = self.shared
        assert self.stem is not None
        if shared.second is None:
            transcript = with_kept_opinion(shared.hidden, transcript, made.speech)
        transcript = hidden_transcript(transcript, shared.outputs.options.redaction)
        return transcript, shared.outputs.write(self.stem, self.recording, transcript)

    async def _worked_through(self, path: Path) -> tuple[Made, list[PieceResult]]:
        """What the recording was made into, and the results of all its pieces; the ledger says how
        the job stands.
        """
        opening = asyncio.ensure_future(self._open(path))
        try:
            prepared = await asyncio.to_thread(self._preparation, path, None)
            prepared, results = await self._results(path, prepared, opening)
            await opening
        except MantisreedError as error:
            event: JobEvent = "postponed" if isinstance(error, PostponedError) else "failed"
            await self._note_end(opening, event, str(error))
            raise
        except Exception as error:
            with suppress(MantisreedError):  # what failed is raised, and matters more
                await self._note_end(opening, "failed", str(InternalError.because(error)))
            raise
        finally:
            opening.cancel()
        made = Made(
            tuple(one.request for one in results),
            prepared.duration,
            tuple(prepared.damage),
            tuple(prepared.notes),
            pauses_and_speech(prepared.speech),
            prepared.other_track,
        )
        await self._note_made(made, is_out=any(one.reading is None for one in results))
        return made, results

    async def _open(self, path: Path) -> _Opened:
        """Note the job in the ledger.

        Raises:
            RecordingError: it is not the recording that it should be.
        """
        shared, recording = self.shared, self.recording
        if self.digest is None:
            self.digest = await asyncio.to_thread(file_digest, path)
        digest = self.digest
        expected = shared.expected.get(recording.key)
        if expected is not None and expected.digest not in ("", digest):
            raise RecordingError(
                "the recording was changed since it was sent",
                advice="`mantisreed run` sends it as it is now",
            )
        options = shared.options
        identity = identity_of(options, digest)
        self.job = job = job_of(options, recording, digest)
        assert self.stem is not None
        stored = options_to_store(options, recording, self.stem, shared.outputs)
        opened = JobToOpen(
            job,
            recording.label,
            digest,
            options.card.name,
            options.card.price.currency if options.card.price else None,
            msgspec.json.encode(stored).decode(),
            identity,
        )

        def note(ledger: "Ledger") -> str | None:
            ledger.jobs.open(opened)
            budget = shared.dispatcher.budget
            if budget.has_limit:
                # What it has cost before counts, by whatever way it was sent.
                budget.watch({job}, ledger.listing.costly_attempts({job}))
            return ledger.jobs.cuts(identity)

        cuts = await shared.dispatcher.perform(note)
        self._is_known = cuts is not None
        if not self._is_known:
            shared.dispatcher.expect_sending()
        return _Opened(job, digest, msgspec.json.decode(cuts, type=CutLimits) if cuts else None)

    async def _note(
        self, event: JobEvent, reason: str | None = None, outcome: JobOutcome | None = None
    ) -> None:
        job = self.job
        if job is not None:
            await self.shared.dispatcher.perform(
                lambda ledger: ledger.jobs.note(job, event, reason, outcome), is_owed=True
            )

    async def _note_end(
        self, opening: "asyncio.Future[_Opened]", event: JobEvent, reason: str
    ) -> None:
        """Note why a job does not go on, if it was opened.

        One that is being opened is in the ledger a moment later, whoever waits for it: without a
        note it would be `sending` there for ever.
        """
        await asyncio.wait([opening])
        if not opening.cancelled() and opening.exception() is None:
            await self._note(event, reason)

    async def _note_made(self, made: Made, *, is_out: bool) -> None:
        job, encoded = self.job, msgspec.json.encode(made).decode()
        assert job is not None
        await self.shared.dispatcher.perform(
            lambda ledger: ledger.jobs.note_made(job, encoded, made.duration, is_out=is_out),
            is_owed=True,
        )

    def _preparation(self, path: Path, limits: CutLimits | None) -> Preparation:
        options = self.shared.options
        pieces = options.pieces
        if self.recording.is_web and wants_link(options.card):
            pieces = msgspec.structs.replace(pieces, untouched=True)
        return Preparation(path, options.card, pieces, self.shared.workers, limits=limits)

    async def _results(
        self, path: Path, prepared: Preparation, opening: "asyncio.Future[_Opened]"
    ) -> tuple[Preparation, list[PieceResult]]:
        """The results of all pieces, in order; pieces are prepared as there is room for them."""
        self._is_given_up = False
        # One piece more than can be sent is prepared; more would only take memory.
        room = asyncio.Semaphore(self.shared.options.card.concurrent_pieces + 1)
        tasks: list[asyncio.Task[list[PieceResult]]] = []

        async def one(piece: PreparedPiece, number: int) -> list[PieceResult]:
            self.shared.count(piece, False)
            try:
                # Whatever was read up to now is of the recording whose digest is noted.
                await asyncio.to_thread(self._check_unchanged, path)
                results = await self._result_of(prepared, piece, number)
                self.shared.count(piece, True)
                return results
            finally:
                self._on_their_way.discard(asyncio.current_task())
                room.release()

        try:
            while True:
                await room.acquire()
                piece = await self._next_piece(prepared)
                if not tasks:
                    # The first piece was prepared while the recording's digest was computed.
                    opened = await asyncio.shield(opening)
                    if opened.cuts is not None and opened.cuts != prepared.limits:
                        await asyncio.to_thread(prepared.close)
                        prepared = await asyncio.to_thread(self._preparation, path, opened.cuts)
                        piece = await self._next_piece(prepared)
                    await self._keep_cuts(opened, prepared.limits)
                if piece is None or any(task.done() and task.exception() for task in tasks):
                    break
                if self._is_stopping:
                    raise InterruptedRunError
                tasks.append(asyncio.create_task(one(piece, len(tasks) + 1)))
            results = list(chain.from_iterable(await asyncio.gather(*tasks)))
            return prepared, results
        finally:
            await self._let_go(tasks)
            # Once all is prepared no thread is at work on it, and none has to be waited for.
            if not prepared.is_finished:
                await asyncio.to_thread(prepared.close)

    async def _next_piece(self, prepared: Preparation) -> PreparedPiece | None:
        async with self.shared.preparing:
            return await asyncio.to_thread(next, prepared, None)

    async def _keep_cuts(self, opened: _Opened, limits: CutLimits) -> None:
        if opened.cuts != limits:
            encoded = msgspec.json.encode(limits).decode()
            await self.shared.dispatcher.perform(
                lambda ledger: ledger.jobs.keep_cuts(opened.job, encoded)
            )

    def _check_unchanged(self, path: Path) -> None:
        """See that the sound is of the recording whose digest is noted.

        Raises:
            RecordingError: somebody wrote to the file, or put another one in its place, while it
                was read.
        """
        if _state_of(path) != self._state:
            raise RecordingError(
                "the recording was changed while it was read",
                advice="run the command again when it is complete",
            )

    async def _let_go(self, tasks: "Sequence[asyncio.Task[list[PieceResult]]]") -> None:
        """Send nothing more of a recording. What is on its way has been paid for: it is waited for
        and noted.
        """
        self._is_given_up = True
        if not self._is_stopping:
            for task in tasks:
                if task not in self._on_their_way:
                    task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    async def _result_of(
        self, prepared: Preparation, part: PreparedPiece, number: int
    ) -> list[PieceResult]:
        """The result of one piece; when the engine says that it is too big, those of smaller
        ones.
        """
        work = self._work(prepared, part)
        which = "" if prepared.is_whole else f"piece {number}, "
        try:
            reading = await self._reading(work, which)
            return [PieceResult(work.key, work.start, work.end, work.channel, reading)]
        except TooBigError:
            smaller = await asyncio.to_thread(list, prepared.recut(part))
            results = [await self._result_of(prepared, one, number) for one in smaller]
            return list(chain.from_iterable(results))

    def _work(self, prepared: Preparation, part: PreparedPiece) -> Work:
        piece, options = part.piece, self.shared.options
        if prepared.is_untouched and self.recording.is_web:
            piece = replace(piece, link=self.recording.link)
        name = Path(self.recording.name)
        piece = replace(
            piece, recording={**prepared.tags, "file_name": name.name, "stem": name.stem}
        )
        assert self.digest is not None and self.job is not None
        sound = SoundIdentity(
            self.digest,
            prepared.other_track,
            part.channel,
            part.span.start,
            part.span.end,
            piece.form.name,
            piece.form.bit_rate,
            piece.sample_rate,
        )
        key = request_key(options.card, options.request_options, piece, sound)
        return Work(
            self.job, key, part.span.start, part.span.end, part.channel, piece, self._is_known
        )

    async def _reading(self, work: Work, which: str) -> "ParsedReply | None":
        """What the engine heard in a piece; None when it is only to be sent and the reply is not
        there.
        """
        card, piece = self.shared.options.card, work.piece
        link = self._offered(piece)
        try:
            sent = replace(work, piece=replace(piece, link=link)) if link else work
            response = await self._response(sent, self._progress(piece, which))
        finally:
            if link and self.shared.links:
                self.shared.links.withdraw(link)
        if response is None:
            return None
        unreadable = UnreadableReplies(self.shared.hidden)
        # Minutes of text without times take a while to lay over the speech.
        return await asyncio.to_thread(
            unreadable.reading_of, card, response, piece, self.shared.options.secrets
        )

    async def _response(self, work: Work, progress: Progress) -> "EngineResponse | None":
        dispatcher = self.shared.dispatcher
        if self.shared.options.wanted.wait:
            return await dispatcher.reply(work, progress)
        return await dispatcher.submit(work, progress)

    def _progress(self, piece: Piece, which: str) -> Progress:
        """Tells how a piece moves along, and stops it before it is sent when another one has
        failed.
        """
        size = f"{which}{short_size(len(piece.audio))} {piece.form.name}"

        def progress(stage: str, note: str, until: float | None = None) -> None:
            # From here on it may be paid for, and is waited for.
            if stage in ("claiming", "sending", "hearing"):
                self._on_their_way.add(asyncio.current_task())
            else:
                self._on_their_way.discard(asyncio.current_task())
                if self._is_given_up and not self._is_stopping:
                    raise PostponedError("another piece of the recording failed")
            if stage != "claiming" and (note or stage != "waiting"):
                self._tell(stage, size if stage == "sending" else note, until)  # type: ignore[arg-type]

        return progress

    def _offered(self, piece: Piece) -> str | None:
        """The address at which a piece is offered, for an engine that fetches it; None where there
        is no need.
        """
        card, links = self.shared.options.card, self.shared.links
        if not wants_link(card) or piece.link is not None:
            return None
        if links is None:
            advice = 'set [recording_urls] public = "https://..." in the settings'
            what = "it wants a link to each piece, and we have none"
            raise BadRequestError(what, engine=card.name, advice=advice)
        return links.offer(
            piece.audio, piece.form.content_type_at(piece.sample_rate), piece.form.extension
        )

    def _tell(self, stage: Stage, note: str = "", until: float | None = None) -> None:
        self.shared.tell(self.recording, stage, note, until)


def _state_of(path: Path) -> FileState:
    try:
        if not path.is_file():
            raise RecordingError(
                "this is not a file: pipes, sockets and devices are no files"
                if path.exists()
                else "no such file"
            )
        return FileState.of(path)
    except OSError as error:
        raise RecordingError(f"cannot be read ({reason_of(error)})") from error
