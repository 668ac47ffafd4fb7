"""Folders that fill up: each recording in them once, as soon as it is complete.

File-system events wake the look into the folders where there are any; a look every few seconds
finds what comes over the network, or came while nobody was looking. A recording is complete when
nobody has written to it for a while.
"""

import logging
import os
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TypeAlias

import msgspec

from mantisreed.errors import InputError, MantisreedError, NothingThereError, reason_of
from mantisreed.files import (
    FileState,
    MovableFolder,
    bytes_digest,
    is_open_for_writing,
    printable,
)
from mantisreed.folders import opened, read
from mantisreed.sources.recordings import Selection, Source, is_recording, recordings_in
from mantisreed.state import make_folder

_log = logging.getLogger(__name__)

_OFTEN = 1.0  # seconds between two looks while something may be growing, or where no events come
_SELDOM = 30.0  # where events come; they may get lost when very many come at once
_REST = 20  # times as long as a look took, at least, until the next one
_MOST_CHANGED = 10_000  # files that events were about, until all are looked at
_LONGEST_LOOK = 10.0  # seconds that the end of a watch waits for a look that is under way
_MEMORY = "watched"


class _SeenFile(msgspec.Struct, frozen=True, array_like=True):
    """A recording that is done with: its place, and what the system said of it."""

    path: str
    size: int
    modified_ns: int


class WatchMemory:
    """Which recordings of watched folders are done with, also for the next process. One file that
    only grows.
    """

    def __init__(
        self, hidden: Path, folders: Iterable[Path], addresses: Iterable[str] = ()
    ) -> None:
        """Read it.

        Args:
            hidden: the workspace's hidden folder.
            folders, addresses: that are watched.

        Raises:
            OutputError: there is no place for it.
            InputError: it cannot be read.
        """
        self._home = MovableFolder(hidden.parent)
        places = [os.fsencode(self._home.path(folder)) for folder in folders]
        places += [address.encode() for address in addresses]
        name = bytes_digest(place + b"\0" for place in places).removeprefix("sha256:")[:16]
        make_folder(hidden / _MEMORY)
        self._file = hidden / _MEMORY / f"{name}.jsonl"
        self._known = {(entry.path, entry.size, entry.modified_ns) for entry in self._read()}

    def _read(self) -> Iterator[_SeenFile]:
        try:
            content = read(self._file)
        except FileNotFoundError:
            return
        except OSError as error:  # without it everything would be taken, and moved, once more
            raise InputError(
                f"cannot be read ({reason_of(error)})", where=printable(self._file)
            ) from error
        for line in content.splitlines():
            with suppress(msgspec.MsgspecError):  # the last line of a process that was killed
                yield msgspec.json.decode(line, type=_SeenFile)

    def knows(self, source: Source, state: FileState) -> bool:
        """Whether this recording, as it is now, is done with."""
        return self._key(source, state) in self._known

    def note(self, source: Source, state: FileState) -> None:
        """It is."""
        key = self._key(source, state)
        if key in self._known:
            return
        self._known.add(key)
        with os.fdopen(opened(self._file, os.O_WRONLY | os.O_APPEND | os.O_CREAT), "ab") as sink:
            sink.write(msgspec.json.encode(_SeenFile(*key)) + b"\n")

    def _key(self, source: Source, state: FileState) -> tuple[str, int, int]:
        where = source.entry or self._home.key(source.key)
        return where, state.size, state.modified_ns


OnProblem: TypeAlias = Callable[[str, str | None], None]
"""Told of a place that cannot be looked at, with the reason; with None when it can be again."""


class _Problems:
    """What cannot be looked at: each place is told once, at once, and again when it is well."""

    def __init__(self, on_problem: OnProblem) -> None:
        self._on_problem = on_problem
        self._known: dict[str, str] = {}
        self._seen: set[str] = set()

    def tell(self, place: str, why: str) -> None:
        """In this look a place could not be looked at."""
        self._seen.add(place)
        if self._known.get(place) != why:
            self._known[place] = why
            self._on_problem(place, why)

    def end_look(self) -> None:
        """What was not told in this look is well again."""
        for place in [place for place in self._known if place not in self._seen]:
            del self._known[place]
            self._on_problem(place, None)
        self._seen.clear()


class FolderWatch:
    """Looks into folders on a thread of its own, from `start` to `stop`."""

    def __init__(
        self,
        folders: Sequence[Path],
        selection: Selection,
        memory: WatchMemory,
        on_found: Callable[[Source, FileState], None],
        *,
        settle: float = 2.0,
        left_out: Path | None = None,
        on_problem: OnProblem = lambda place, why: None,
    ) -> None:
        """Look nowhere yet.

        Args:
            folders: to watch, with all folders in them.
            selection: which files are taken.
            memory: which are done with.
            on_found: called, on the thread, with each recording that is complete and what the
                system says of it, once for each state of its file.
            settle: seconds for which nobody must have written to a file.
            left_out: a folder that is not looked into, such as one that recordings are moved to.
            on_problem: called, on the thread, with each place that cannot be looked into and why,
                and with None when it can be again.
        """
        self._folders, self._selection, self._memory = folders, selection, memory
        self._on_found, self._settle = on_found, settle
        self._left_out = left_out.resolve() if left_out is not None else None
        self._growing: dict[Path, tuple[FileState, float]] = {}
        self._given: dict[Path, FileState] = {}
        self._problems = _Problems(on_problem)
        self._wake, self._is_over, self._has_looked = threading.Event(), False, False
        self._thread = threading.Thread(target=self._watch, name="watching", daemon=True)
        self._observer = _Observer(folders, self._wake)

    @property
    def is_waiting_for_files(self) -> bool:
        """Whether nobody knows yet what is there, or some file was seen that may not be
        complete.
        """
        return not self._has_looked or bool(self._growing)

    def start(self) -> None:
        """Look from now on."""
        self._observer.start()
        self._thread.start()

    def stop(self) -> None:
        """Look no more; what was not given out by now is not."""
        self._is_over = True
        self._wake.set()
        self._observer.stop()
        self._thread.join()

    def _watch(self) -> None:
        next_look = 0.0
        while not self._is_over:
            self._wake.clear()
            changed, has_lost_some = self._observer.taken()
            began = time.monotonic()
            if began >= next_look or has_lost_some:
                self._look_safely()
                self._has_looked = True
                # However many files there are, looking through all of them takes a twentieth of the
                # time at most.
                took = time.monotonic() - began
                next_look = time.monotonic() + max(self._every(), _REST * took)
            else:
                self._weigh_changed(changed)
            self._wake.wait(min(max(0.0, next_look - time.monotonic()), self._soon()))

    def _every(self) -> float:
        """Seconds between two looks into all folders."""
        if self._observer.is_complete:
            return _SELDOM
        return self._soon()

    def _soon(self) -> float:
        """Seconds until files that may be growing are looked at again."""
        may_come_unseen = self._growing or not self._observer.is_complete
        if may_come_unseen:
            return min(_OFTEN, max(0.05, self._settle / 2))
        return _SELDOM

    def _look_safely(self) -> None:
        try:
            self._look()
        except OSError as error:  # a network share that is away for a while
            self._problems.tell(", ".join(map(printable, self._folders)), reason_of(error))

    def _weigh_changed(self, changed: set[Path]) -> None:
        """Give out what is complete now, of files that events were about and those that may be
        growing.
        """
        now = time.monotonic()
        for path in changed | self._growing.keys():
            folder = next((one for one in self._folders if path.is_relative_to(one)), None)
            if folder is None or not path.is_file():
                self._growing.pop(path, None)
                self._given.pop(path, None)
                continue
            below = path.relative_to(folder)
            is_hidden = any(part.startswith(".") for part in below.parts)
            is_wanted = is_recording(path.name) and not is_hidden and self._selection.takes(below)
            if is_wanted and not self._is_left_out(path) and path.stat().st_size:
                self._weigh(Source(path), now)

    def _is_left_out(self, path: Path) -> bool:
        return self._left_out is not None and path.resolve().is_relative_to(self._left_out)

    def _look(self) -> None:
        """Give out what is complete now, of all files."""
        now, seen = time.monotonic(), set()
        for folder in self._folders:
            if not folder.is_dir():
                self._problems.tell(printable(folder), "this is no folder, and cannot be watched")
                continue
            for source in recordings_in(folder, self._selection):
                if source.problem is not None:
                    self._problems.tell(source.label, source.problem)
                    continue
                path = source.path
                if self._is_left_out(path):
                    continue
                seen.add(path)
                self._weigh(source, now)
        self._problems.end_look()
        for known in (self._growing, self._given):
            for path in [path for path in known if path not in seen]:
                del known[path]  # moved or removed: memory does not grow with what has been

    def _weigh(self, source: Source, now: float) -> None:
        path = source.path
        try:
            state = FileState.of(path)
        except OSError:
            return
        if self._given.get(path) == state:
            return
        if self._memory.knows(source, state):
            self._given[path] = state
            return
        before = self._growing.get(path)
        if before is None or before[0] != state:
            # What was not touched for longer than that before we came is complete already.
            age = time.time() - state.modified_ns / 1e9
            if before is not None or age < self._settle:
                self._growing[path] = state, now
                return
        elif now - before[1] < self._settle:
            return
        if is_open_for_writing(path):
            # A writer that pauses for longer than files take to settle is not done with it.
            self._growing[path] = state, now
            return
        self._growing.pop(path, None)
        self._given[path] = state
        self._on_found(source, state)


class AddressWatch:
    """Looks at feeds and storages again and again, on a thread of its own, from `start` to
    `stop`.
    """

    def __init__(
        self,
        addresses: Sequence[str],
        selection: Selection,
        memory: WatchMemory,
        on_found: Callable[[Source, FileState], None],
        *,
        every: float = 60.0,
        on_problem: OnProblem = lambda place, why: None,
    ) -> None:
        """Look nowhere yet.

        Args:
            addresses: of feeds and storages.
            selection: which recordings are taken.
            memory: which are done with.
            on_found: called, on the thread, with each recording and what is known of its state,
                once for each state.
            every: seconds between two looks.
            on_problem: as for `FolderWatch`.
        """
        self._addresses, self._selection, self._memory = addresses, selection, memory
        self._on_found, self._every = on_found, every
        self._problems = _Problems(on_problem)
        self._given: dict[str, FileState] = {}
        self._seen: dict[str, FileState] = {}
        self._over = threading.Event()
        self._looked = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="looking", daemon=True)

    @property
    def is_waiting_for_files(self) -> bool:
        """Whether nobody knows yet what is there, or some file was seen that may not be
        complete.
        """
        return bool(self._addresses) and (not self._looked.is_set() or bool(self._seen))

    def start(self) -> None:
        """Look from now on."""
        if self._addresses:
            self._thread.start()

    def stop(self) -> None:
        """Look no more."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join(_LONGEST_LOOK)

    def _watch(self) -> None:
        # It imports this package's other modules.
        from mantisreed.sources.finding import (
            find_recordings,
        )

        while not self._over.is_set():
            for address in self._addresses:
                place = Source(Path(), address).label
                try:
                    for source in find_recordings([address], self._selection):
                        self._weigh(source)
                except NothingThereError as error:  # empty so far
                    _log.info("%s", error)
                except MantisreedError as error:  # away for a while, or never there
                    self._problems.tell(place, error.what)
                except Exception as error:
                    _log.exception("%s cannot be looked at", place)
                    self._problems.tell(place, reason_of(error))
            self._problems.end_look()
            self._looked.set()
            self._over.wait(_OFTEN if self._seen else self._every)

    def _weigh(self, source: Source) -> None:
        if source.problem is not None:
            return
        if source.is_web:
            # What a feed names is complete; an episode that is another one has another id.
            state, is_whole = FileState(0, 0, 0, 0), True
        else:
            from mantisreed.sources.storage import is_written_whole, stored_state

            assert source.link is not None
            state, is_whole = stored_state(source.link), is_written_whole(source.link)
        key = source.entry or source.key
        if self._given.get(key) == state:
            return
        if not self._memory.knows(source, state):
            # Where files are written bit by bit, one is complete when it is the same at the next
            # look.
            if not is_whole and self._seen.get(key) != state:
                self._seen[key] = state
                return
            self._on_found(source, state)
        self._seen.pop(key, None)
        self._given[key] = state


class _Observer:
    """File-system events, by watchdog; where there are none to be had, nobody is woken."""

    def __init__(self, folders: Sequence[Path], wake: threading.Event) -> None:
        self._folders, self._wake = folders, wake
        self._observer: object | None = None
        self._lock = threading.Lock()
        self._changed: set[Path] = set()
        self._has_lost_some = False
        self.is_complete = False  # whether events come from all folders

    def taken(self) -> tuple[set[Path], bool]:
        """The files that events were about since the last time; and whether there may be others."""
        with self._lock:
            taken = self._changed, self._has_lost_some
            self._changed, self._has_lost_some = set(), False
        return taken

    def _note(self, path: str | bytes, *, is_directory: bool) -> None:
        with self._lock:
            # A folder that was moved here brings files of which there are no events.
            if is_directory or len(self._changed) >= _MOST_CHANGED:
                self._has_lost_some = True
            else:
                self._changed.add(Path(os.fsdecode(path)))
        self._wake.set()

    def start(self) -> None:
        """Wake from now on."""
        from watchdog.events import FileSystemEvent, FileSystemEventHandler
        from watchdog.observers import Observer

        note = self._note

        class Waking(FileSystemEventHandler):
            def on_any_event(self, event: FileSystemEvent) -> None:
                if event.event_type not in ("opened", "closed_no_write"):
                    is_new_folder = event.is_directory and event.event_type in ("created", "moved")
                    if is_new_folder or not event.is_directory:
                        note(event.dest_path or event.src_path, is_directory=event.is_directory)

        observer = Observer()
        there = [folder for folder in self._folders if folder.is_dir()]
        try:
            for folder in there:
                observer.schedule(Waking(), str(folder), recursive=True)
            observer.start()
        except OSError as error:  # no more watches to be had, or a file system without events
            _log.info("no file-system events (%s); the folders are looked into every second", error)
            return
        self._observer = observer
        self.is_complete = len(there) == len(self._folders)

    def stop(self) -> None:
        """Wake no more."""
        if self._observer is not None:
            self._observer.stop()  # type: ignore[attr-defined]
            self._observer.join()  # type: ignore[attr-defined]
