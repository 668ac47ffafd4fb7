"""Writing a transcript's files: one stem per recording, and nobody's edits lost."""

import hashlib
import os
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from copy import copy
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import TypeVar

import msgspec
from filelock import FileLock

from mantisreed.destinations.stored_outputs import StoredOutputs
from mantisreed.errors import OutputError, reason_of
from mantisreed.exports.formats import TRANSCRIPT_FORMAT, OutputFormat, chosen_formats
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.exports.wording import reworded
from mantisreed.files import (
    MovableFolder,
    bytes_digest,
    cannot_write,
    file_digest,
    printable,
    write_new,
    write_whole,
)
from mantisreed.folders import read, remove
from mantisreed.jobs.records import StemClaim
from mantisreed.sources.recordings import Source
from mantisreed.state import make_folder, place_of
from mantisreed.transcript.document import Transcript

T = TypeVar("T", bound=msgspec.Struct)

Claim = Callable[[str, str], StemClaim]
"""Takes a name for an owner."""

_MEMORY_FOLDER = "outputs"
_CLAIMS_FOLDER = "stems"
_CLAIMS_LOCK = "claims.lock"
_LONGEST_NAME = 255  # bytes of a file's name, on all usual file systems
_ROOM_FOR_ENDS = 40  # bytes: a number and the longest suffix
_MADE_BY_ANOTHER = "was edited or made by something else, and is kept"


@dataclass(frozen=True, slots=True)
class Written:
    """The files of one recording, and how often each word was changed in them."""

    files: tuple[Path, ...]
    changes: Mapping[str, int]


class _RememberedOutput(msgspec.Struct, frozen=True):
    """What is remembered of an output.

    Attributes:
        recording: where it lies, escaped.
        digest: of what was written, or was about to be.
        before: of what stood there until then, which counts as ours too: the program may have ended
            in between.
    """

    recording: str
    digest: str
    before: str = ""


def formats_to_write(names: Sequence[str]) -> tuple[OutputFormat, ...]:
    """The formats with these names; none where nothing is to be written.

    Raises:
        InputError: there is no such format.
    """
    if names:
        return chosen_formats(names)
    return ()


class _Claim(msgspec.Struct, frozen=True):
    """Which recording has a stem in a folder."""

    recording: str


class Outputs:
    """The outputs in one folder, with a memory of what was written there.

    The memory lies in the workspace's hidden folder, one small file for each output, so that
    several processes can use it at once.
    """

    def __init__(
        self,
        folder: Path,
        hidden: Path,
        formats: Sequence[OutputFormat],
        *,
        options: WriteOptions | None = None,
        overwrite: bool = False,
    ) -> None:
        """Make the folder.

        Args:
            folder: where outputs go.
            hidden: the workspace's hidden folder.
            formats: what is written of each transcript; nothing where there are none.
            options: how they are written.
            overwrite: also files that were edited, or that something else made.

        Attributes:
            place: whose files the folder's path leads to, as `place_of` gives it.

        Raises:
            OutputError: the folder cannot be made or written to.
        """
        self._folder = folder
        self._stored = StoredOutputs.behind(folder)
        self._home = MovableFolder(hidden.parent)
        self._memory = hidden / _MEMORY_FOLDER
        self._claims = self._memory / _CLAIMS_FOLDER
        # Nothing to write needs no folder.
        for needed in (*([folder] if formats else []), hidden, self._memory, self._claims):
            make_folder(needed)
        self._folders: dict[Path, Path] = {}
        self._formats = formats
        self.place = place_of(hidden)
        self.options = options or WriteOptions()
        self._overwrite = overwrite
        self._owned: set[str] = set()
        # Claims are read, weighed and written while nobody else does.
        self._lock = FileLock(self._memory / _CLAIMS_LOCK, thread_local=False)

    @property
    def folder(self) -> Path:
        """Where outputs go."""
        return self._folder

    @property
    def address(self) -> str:
        """Where they go in a storage; empty where they stay in the folder."""
        if self._stored is None:
            return ""
        return self._stored.address

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the formats that are written."""
        return tuple(form.name for form in self._formats)

    def stem_for(self, recording: Source, claim: "Claim | None" = None) -> str:
        """A stem that no other recording's outputs have: that of the file, with a number where it
        is taken.

        It is this recording's from now on, also for other processes.

        Args:
            recording: whose outputs they are.
            claim: takes a stem in a storage for all machines that write there, by its address and
                the recording's key; None where no others do.

        Raises:
            OutputError: the storage cannot be asked.
        """
        for candidate in _stems(recording.path.stem or recording.path.name):
            # Not while we have the lock: the claim may wait for those who wait for it.
            if claim is not None and not self._claim_stored(candidate, recording.key, claim):
                continue
            with self._lock:
                if self._claim(candidate, recording.key):
                    return candidate
        raise AssertionError("unreachable")

    def _claim_stored(self, stem: str, key: str, claim: "Claim") -> bool:
        """Take a stem in the storage; False when another recording has it, or files that this
        machine knows nothing of have this name.
        """
        if self._stored is None:
            return True
        claimed = claim(self._stored.place(stem.casefold()), key)
        # Also what another machine wrote for this job: it is one of those that work on it.
        if claimed == "ours":
            self.own(stem)
        if claimed != "new" or self._claimed_by(stem) == self._home.key(key):
            return claimed != "taken"
        return not any(self._stored.holds(path.name) for path in self.paths(stem))

    def own(self, stem: str) -> None:
        """Know that files of this stem in the storage are ours, though another machine has written
        them.
        """
        self._owned.add(stem)

    def with_formats(self, formats: Sequence[OutputFormat]) -> "Outputs":
        """The same folder with the same memory, for other formats."""
        other = copy(self)
        other._formats = formats
        return other

    def overwriting(self) -> "Outputs":
        """The same, but for files that are there already: they are written over."""
        other = copy(self)
        other._overwrite = True
        return other

    def stem_called(self, wanted: str, key: str) -> str:
        """The same for something that belongs to a recording, such as its translation.

        Args:
            wanted: the stem that it should have.
            key: what tells it from anything else.
        """
        with self._lock:
            for candidate in _stems(wanted):
                if self._claim(candidate, key):
                    return candidate
        raise AssertionError("unreachable")

    def has_written(self, path: Path) -> bool:
        """Whether a file is there that was written by this program, and not edited since."""
        return path.is_file() and self._is_ours(path)

    def remove(self, path: Path) -> bool:
        """Remove a file that was written by this program and not edited since, and the memory of
        it; whether it is gone.

        Raises:
            OutputError: it cannot be removed.
        """
        if not self.has_written(path):
            return False
        if self._stored is not None:
            self._stored.remove(path.name)
        try:
            remove(path, is_output=True)
            remove(self._memory_of(path))
        except OSError as error:
            raise OutputError(
                f"cannot be removed ({reason_of(error)})", where=printable(path)
            ) from error
        return True

    def write_file(self, name: str, content: bytes, recording: Source) -> Path:
        """Write one more file about a recording; it appears whole or not at all.

        Raises:
            OutputError: it cannot be written, or somebody edited it since, or made it.
        """
        path = self._folder / name
        if path.exists() and not self._overwrite and not (path.is_file() and self._is_ours(path)):
            raise _made_by_another(path)
        self._publish(path, content, recording.key)
        return path

    def check(self, stem: str) -> None:
        """See, before anything is paid for, that these outputs may be written.

        Raises:
            OutputError: one of the files was edited since it was written, or was not written by us.
        """
        for path in self.paths(stem):
            if path.exists() and not path.is_file():
                raise OutputError(
                    "is not a file, and cannot be written over", where=printable(path)
                )
            if not self._overwrite and path.exists() and not self._is_ours(path):
                raise _made_by_another(path)
            if not self._is_owned(stem):
                self._check_stored(path)

    def _is_owned(self, stem: str) -> bool:
        """Whether a stem, or the one that it belongs to, as `talk.de` to `talk`, is ours."""
        # `talk.de` belongs to `talk`: a translation of it.
        ends = [at for at, character in enumerate(stem) if character == "."]
        return any(stem[:end] in self._owned for end in (*ends, len(stem)))

    def _check_stored(self, path: Path) -> None:
        """See that a file of a storage is not somebody else's.

        Raises:
            OutputError: it may be; or the storage cannot be asked.
        """
        stored = self._stored
        if stored is None or self._overwrite or path.exists() or not stored.holds(path.name):
            return
        raise OutputError(
            _MADE_BY_ANOTHER,
            where=printable(stored.place(path.name)),
            advice="move it away, or overwrite it with --overwrite",
        )

    def paths(self, stem: str) -> list[Path]:
        """Where the outputs with this stem are."""
        return [self._folder / f"{stem}{form.suffix}" for form in self._formats]

    def write(self, stem: str, recording: Source, transcript: Transcript) -> Written:
        """Write all formats, words changed in all but the transcript itself; each file appears
        whole or not at all.

        Raises:
            OutputError: a file cannot be written, or was edited meanwhile.
        """
        return self.write_script(stem, recording, Script(transcript))

    def write_script(self, stem: str, recording: Source, script: Script) -> Written:
        """The same of a script."""
        self.check(stem)
        is_changing = any(form.name != TRANSCRIPT_FORMAT for form in self._formats)
        if is_changing:
            changed, changes = reworded(script, self.options.wording)
        else:
            changed, changes = (script, Counter[str]())
        key = recording.key
        for path, form in zip(self.paths(stem), self._formats, strict=True):
            written = script if form.name == TRANSCRIPT_FORMAT else changed
            self._publish(path, form.write(written, self.options, recording.name), key)
        return Written(tuple(self.paths(stem)), changes)

    def fetch(self, stem: str, recording: Source, *, is_changed: bool = False) -> None:
        """Have here what another machine has written into the storage.

        Args:
            stem: of the outputs.
            recording: whose they are.
            is_changed: whether they were written anew since they were fetched; else nothing that is
                here already is looked at.

        Raises:
            OutputError: the storage cannot be read, or the local copy cannot be written.
        """
        if self._stored is None:
            return
        for path in self.paths(stem):
            is_wanted = is_changed or not path.exists()
            content = self._stored.get(path.name) if is_wanted else None
            if content is not None:
                self._write(path, content, recording.key)

    def _publish(self, path: Path, content: bytes, recording: str) -> None:
        """Write one file, here and where it goes."""
        self._write(path, content, recording)
        if self._stored is not None:
            # The local file comes first: if this fails, the next try finds it and writes both.
            self._stored.put(path.name, content)

    def _write(self, path: Path, content: bytes, recording: str) -> None:
        """Write one file here, after noting that it is ours."""
        try:
            # So that a file that was half replaced when the power went is still known as ours.
            before = file_digest(path) if path.exists() else ""
        except OSError as error:
            raise OutputError(
                f"cannot be read ({reason_of(error)})", where=printable(path)
            ) from error
        if not path.parent.is_dir():  # somebody removed it since we made it
            make_folder(path.parent)
        # Before the file itself: a file without a memory would be somebody else's.
        remembered = _RememberedOutput(self._home.key(recording), bytes_digest([content]), before)
        write_whole(self._memory_of(path), msgspec.json.encode(remembered))
        self._put(path, content, remembered, is_there=bool(before))

    def _put(
        self, path: Path, content: bytes, remembered: _RememberedOutput, *, is_there: bool
    ) -> None:
        # What is there was seen to be ours.
        if is_there or self._overwrite:
            write_whole(path, content)
            return
        try:
            write_new(path, content)
        except FileExistsError:
            # It has come since we looked. Another process may have written the very same
            # transcript.
            if file_digest(path) != remembered.digest:
                raise _made_by_another(path) from None

    def _claim(self, stem: str, recording: str) -> bool:
        """Take a stem for a recording; False when another recording's outputs have it."""
        recording = self._home.key(recording)
        # Claims by stems: two recordings that come at once must not both see a free name.
        owner = self._claimed_by(stem)
        is_anothers = owner is not None and owner != recording
        if is_anothers or self._belongs_to_another(stem, recording):
            return False
        if owner is None:
            claim = self._claim_of(stem)
            # Not put on disk at once: what a power cut takes back is claimed again, and twenty
            # thousand take seconds.
            try:
                claim.write_bytes(msgspec.json.encode(_Claim(recording)))
            except OSError as error:
                raise cannot_write(claim, error) from error
        return True

    def _claim_of(self, stem: str) -> Path:
        """The file that says whose a stem is."""
        # Some file systems do not tell capitals apart.
        return self._claims / self._file_about(self._folder / stem.casefold())

    def _claimed_by(self, stem: str) -> str | None:
        """The recording, escaped, that has a stem; None where it is free."""
        claim = _decoded(self._claim_of(stem), _Claim)
        return None if claim is None else claim.recording

    def _belongs_to_another(self, stem: str, key: str) -> bool:
        remembered = (self._remembered(path) for path in self.paths(stem) if path.exists())
        return any(written is not None and written.recording != key for written in remembered)

    def _is_ours(self, path: Path) -> bool:
        written = self._remembered(path)
        return written is not None and file_digest(path) in (written.digest, written.before)

    def _remembered(self, path: Path) -> _RememberedOutput | None:
        return _decoded(self._memory_of(path), _RememberedOutput)

    def _memory_of(self, path: Path) -> Path:
        return self._memory / self._file_about(path)

    def _file_about(self, path: Path) -> str:
        """The name of the file that remembers a path."""
        # Once for each folder, as it takes a look at each one on the way.
        folder = self._folders.get(path.parent)
        if folder is None:
            folder = self._folders[path.parent] = self._home.path(path.parent)
        where = os.fsencode(folder / path.name)
        return f"{hashlib.sha256(where).hexdigest()[:32]}.json"


def _made_by_another(path: Path) -> OutputError:
    return OutputError(
        _MADE_BY_ANOTHER,
        where=printable(path),
        advice="move it away, or overwrite it with --overwrite",
    )


def _decoded(path: Path, kind: type[T]) -> T | None:
    try:
        return msgspec.json.decode(read(path), type=kind)
    except (OSError, msgspec.MsgspecError):
        return None


def _stems(wanted: str) -> Iterator[str]:
    encoded = os.fsencode(wanted)
    if len(encoded) > _LONGEST_NAME - _ROOM_FOR_ENDS:
        # What is cut off may be all that tells two names apart; their digests do as well.
        end = f"-{hashlib.sha256(encoded).hexdigest()[:8]}"
        kept = encoded[: _LONGEST_NAME - _ROOM_FOR_ENDS - len(end)]
        wanted = kept.decode("utf-8", "ignore") + end
    yield wanted
    for number in count(2):
        yield f"{wanted}-{number}"
