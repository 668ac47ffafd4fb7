"""`watch`, for Python: recordings that appear in folders go to an engine by themselves, for as long
as it runs.
"""

import asyncio
import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.errors import InputError, RefusedError, SpendLimitError, UnreachableError, reason_of
from mantisreed.files import FileState, is_open_for_writing, printable
from mantisreed.jobs.budget import Budget
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.followups.checking import check_follow_ups
from mantisreed.pipeline.incoming.handing_on import HandingRunner, HandOn
from mantisreed.pipeline.open_files import fitted
from mantisreed.pipeline.options import RunOptions, TranscriptionOptions, transcription_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.runner import Runner, rest
from mantisreed.pipeline.transcribe import (
    RunHooks,
    check_links,
    outputs_of_run,
)
from mantisreed.running import interruptible, run_interruptibly
from mantisreed.sources.recordings import Selection, Source
from mantisreed.sources.watching import AddressWatch, FolderWatch, OnProblem, WatchMemory
from mantisreed.state import make_folder
from mantisreed.workspace import Workspace

_FINISHED = frozenset(("done", "no speech", "incomplete", "suspect"))
_AGAIN = 60.0  # seconds until what waits is tried again, where nobody says when
_LOOK = 0.1  # seconds between two looks at whether it is idle


@dataclass(frozen=True, slots=True)
class WatchOptions:
    """How folders are watched.

    Attributes:
        until_idle: seconds after which to end when nothing has come and nothing is under way; None
            goes on for ever.
        settle_time: seconds for which nobody must have written to a file.
        move_done: where recordings go that are done; None leaves them. What is incomplete, or
            somebody goes on writing to, is never moved.
        again: seconds until what waits for an engine is tried again, where nobody says when.
        poll_interval: seconds between two looks at feeds and storages.
        hand_on: gives recordings to others in place of sending them; what they have is done with.
    """

    until_idle: float | None = None
    settle_time: float = 2.0
    move_done: Path | None = None
    again: float = _AGAIN
    poll_interval: float = 60.0
    hand_on: HandOn | None = None


@dataclass(slots=True)
class WatchHooks:
    """Who is told what.

    Attributes:
        on_outcome: called with what became of each recording.
        on_event: called as recordings move along.
        on_found: called with each recording that has come.
        on_note: called with what else there is to say.
        on_problem: called with each place that cannot be read and why, and with None when it can be
            again.
    """

    on_outcome: Callable[[Outcome], None] = lambda outcome: None
    on_event: Callable[[Event], None] = lambda event: None
    on_found: Callable[[Source], None] = lambda source: None
    on_note: Callable[[str], None] = lambda note: None
    on_problem: OnProblem = lambda place, why: None


def _parted(places: Sequence[str | Path]) -> tuple[list[Path], list[str]]:
    """Folders, and addresses of storage.

    Raises:
        InputError: there is nothing to watch.
    """
    folders = [Path(place) for place in places if not _is_address(place)]
    addresses = [str(place) for place in places if _is_address(place)]
    if not addresses and not any(folder.is_dir() for folder in folders):
        where = ", ".join(map(printable, folders))
        raise InputError("this is no folder, and cannot be watched", where=where)
    return folders, addresses


def watch(
    places: str | Path | Sequence[str | Path],
    workspace: Workspace,
    options: RunOptions | None = None,
    watching: WatchOptions | None = None,
    hooks: WatchHooks | None = None,
) -> None:
    """Send each recording that is, or appears, in these folders, feeds and storages, once; until it
    is asked to stop.

    What cannot be read is told at once, and looked at again and again; the rest goes on.

    A spend limit is for what this call spends; when it is reached, the watch ends.

    The first interruption (Ctrl-C, SIGTERM) takes nothing new and lets what is on its way come in.

    Raises:
        InputError: none of the places is there, or an option, the card or a secret is wrong;
            nothing was sent.
    """
    wanted = options or RunOptions()
    watching, hooks = watching or WatchOptions(), hooks or WatchHooks()
    if isinstance(places, (str, Path)):
        places = [places]
    checked = transcription_options(workspace, wanted)
    checked = replace(checked, card=fitted(checked.card)[0])
    folders, addresses = _parted(places)
    check_links(workspace, checked.card, list(map(Source, folders)))
    check_follow_ups(workspace, wanted)
    outputs = outputs_of_run(workspace, wanted)
    if watching.move_done is not None:
        if watching.hand_on is not None:
            raise InputError(
                "recordings that others work on are not moved: leave it out", where="--move-done"
            )
        _check_target(watching.move_done, folders)
        make_folder(watching.move_done)
    keeper = _Keeper(workspace, checked, outputs, watching, hooks, folders, addresses)
    run_interruptibly(keeper.keep(wanted.selection or Selection()))


@dataclass(slots=True)
class _Keeper:
    """Finds recordings as they come, gives them to a runner, and notes what is done with."""

    workspace: Workspace
    options: TranscriptionOptions
    outputs: Outputs
    watching: WatchOptions
    hooks: WatchHooks
    folders: Sequence[Path]
    addresses: Sequence[str]
    _states: dict[str, FileState] = field(default_factory=dict)
    _under_way: int = 0
    _last: float = 0.0
    _memory: WatchMemory = field(init=False)
    _runner: Runner | HandingRunner = field(init=False)

    async def keep(self, selection: Selection) -> None:
        loop = asyncio.get_running_loop()
        memory = WatchMemory(self.workspace.hidden, self.folders, self.addresses)

        def come(source: Source, state: FileState) -> None:
            loop.call_soon_threadsafe(self._come, source, state)

        def tell_problem(place: str, why: str | None) -> None:
            loop.call_soon_threadsafe(self.hooks.on_problem, place, why)

        watch = FolderWatch(
            self.folders,
            selection,
            memory,
            come,
            settle=self.watching.settle_time,
            left_out=self.watching.move_done,
            on_problem=tell_problem,
        )
        looks = AddressWatch(
            self.addresses,
            selection,
            memory,
            come,
            every=self.watching.poll_interval,
            on_problem=tell_problem,
        )
        self._last, self._memory = time.monotonic(), memory
        with DecodingWorkers() as workers:
            self._runner = self._taking(workers)
            watch.start()
            looks.start()
            ending = asyncio.create_task(self._end_when_idle(watch, looks))
            try:
                with interruptible(self._runner.interrupt):
                    await self._runner.run(self._rest)
            finally:
                ending.cancel()
                await asyncio.to_thread(watch.stop)
                await asyncio.to_thread(looks.stop)

    def _taking(self, workers: DecodingWorkers) -> Runner | HandingRunner:
        """What takes the recordings that come."""
        if self.watching.hand_on is not None:
            on_problem = self.hooks.on_note
            return HandingRunner(self.watching.hand_on, self._handed_on, on_problem)
        price = self.options.card.price
        return Runner(
            self.workspace,
            self.options,
            self.outputs,
            RunHooks(workers=workers, on_event=self.hooks.on_event),
            kinds=list(map(Source, self.folders)),  # what comes is never a link
            has_to_wait=self._ended,
            # For all that is watched, however often a round has to begin anew.
            budget=Budget(self.options.wanted.spend_limit, price.currency if price else ""),
        )

    def _handed_on(self, outcome: Outcome) -> None:
        """Note that others have a recording, or that they cannot."""
        self._last = time.monotonic()
        self._under_way -= 1
        state = self._states.pop(outcome.recording.key, None)
        if outcome.state != "failed" and state is not None:
            self._memory.note(outcome.recording, state)
        self.hooks.on_outcome(outcome)

    def _come(self, source: Source, state: FileState) -> None:
        if self._runner.is_over:
            return  # it came a moment too late, and the next watch finds it
        self._under_way += 1
        self._states[source.key] = state
        self.hooks.on_found(source)
        self._last = time.monotonic()
        self._runner.give(source)

    def _ended(self, outcome: Outcome) -> bool:
        """Note what became of a recording; whether it has to wait."""
        source = outcome.recording
        self._last = time.monotonic()
        # Still under way: an idle watch must not end while something waits for its engine.
        if outcome.state == "waiting" or _is_no_fault_of_its_own(outcome):
            if not self._runner.is_over:
                self.hooks.on_outcome(outcome)
            if isinstance(outcome.error, SpendLimitError):
                self._runner.is_over = True  # no waiting lets it spend more
            return True
        self._under_way -= 1
        # As it was when it came: what was written over it meanwhile is another recording.
        state = self._states.pop(source.key, None)
        if outcome.state in _FINISHED:
            if state is not None:
                self._memory.note(source, state)
            if self._may_be_moved(outcome, state):
                self._move(source)
        self.hooks.on_outcome(outcome)
        return False

    def _may_be_moved(self, outcome: Outcome, state: FileState | None) -> bool:
        """Whether a recording is done with: all of it was there, and nobody has written to it
        since.
        """
        source = outcome.recording
        if (
            self.watching.move_done is None
            or source.link is not None
            or outcome.state == "incomplete"
        ):
            return False
        try:
            return FileState.of(source.path) == state and not is_open_for_writing(source.path)
        except OSError:
            return False  # somebody else has moved or removed it

    def _move(self, source: Source) -> None:
        folder = self.watching.move_done
        assert folder is not None
        target, number = folder / source.path.name, 1
        while target.exists():
            number += 1
            target = folder / f"{source.path.stem}-{number}{source.path.suffix}"
        try:
            shutil.move(source.path, target)  # it may be on another file system
        except OSError as error:
            self.hooks.on_note(f"{source.label} could not be moved ({reason_of(error)})")

    async def _rest(self) -> bool:
        """Let an engine that was left alone rest; whether what waits for it is tried again."""
        runner = self._runner
        if runner.is_over:
            return False
        again = self.watching.again
        self.hooks.on_note(f"{len(runner.waiting)} wait; tried again in {again:.0f} s")
        await rest(again, lambda: runner.is_over)
        return not runner.is_over

    async def _end_when_idle(self, *watches: FolderWatch | AddressWatch) -> None:
        limit = self.watching.until_idle
        while limit is not None:
            await asyncio.sleep(min(_LOOK, limit / 2))
            if self._under_way or any(watch.is_waiting_for_files for watch in watches):
                # A file that is complete leaves its watch a moment before it arrives here; whoever
                # looks in between must not find a long idle time.
                self._last = time.monotonic()
            elif time.monotonic() - self._last >= limit:
                self._runner.end()
                return


def _is_address(place: str | Path) -> bool:
    return isinstance(place, str) and "://" in place and not place.lower().startswith("file:")


def _is_no_fault_of_its_own(outcome: Outcome) -> bool:
    """Whether a recording failed because the engine lets nobody in, or is away: whoever watches
    waits for that.
    """
    error = outcome.error
    return isinstance(error, RefusedError) or (
        isinstance(error, UnreachableError) and not error.was_sent
    )


def _check_target(move_done: Path, folders: Sequence[Path]) -> None:
    """See that recordings are not moved to where they are looked for.

    Raises:
        InputError: they would be.
    """
    if any(move_done.resolve() == folder.resolve() for folder in folders):
        raise InputError("recordings would be moved to where they are", where=printable(move_done))
