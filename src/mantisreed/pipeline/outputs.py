"""Writing a transcript's files: one stem per recording, and nobody's edits lost."""

import hashlib
import os
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import count
from pathlib import Path

import msgspec

from mantisreed.errors import OutputError
from mantisreed.exports.formats import TRANSCRIPT_FORMAT, OutputFormat
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.exports.wording import reworded
from mantisreed.files import bytes_digest, file_digest, make_folder, shown, write_whole
from mantisreed.pipeline.sources import Source
from mantisreed.transcript.document import Transcript


@dataclass(frozen=True, slots=True)
class Written:
    """The files of one recording, and how often each word was changed in them."""

    files: tuple[Path, ...]
    changes: Mapping[str, int]


class _Remembered(msgspec.Struct, frozen=True):
    """What is remembered of an output.

    Attributes:
        recording: where it lies, escaped.
        digest: of what was written, or was about to be.
        before: of what stood there until then, which counts as ours too: the program may have ended in between.
    """

    recording: str
    digest: str
    before: str = ""


class Outputs:
    """The outputs in one folder, with a memory of what was written there.

    The memory lies in the workspace's hidden folder, one small file for each output, so that several processes can
    use it at once.
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
            formats: what is written of each transcript.
            options: how they are written.
            overwrite: also files that were edited, or that something else made.

        Raises:
            OutputError: the folder cannot be made or written to.
        """
        make_folder(folder)
        make_folder(hidden)
        self._folder = folder
        self._memory = hidden / "outputs"
        make_folder(self._memory)
        self._formats = formats
        self.options = options or WriteOptions()
        self._overwrite = overwrite
        self._taken: dict[str, str] = {}

    @property
    def folder(self) -> Path:
        """Where outputs go."""
        return self._folder

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the formats that are written."""
        return tuple(form.name for form in self._formats)

    def stem_for(self, recording: Source) -> str:
        """A stem that no other recording's outputs have: that of the file, with a number where it is taken."""
        for candidate in _stems(recording.path.stem or recording.path.name):
            owner = self._taken.get(candidate.casefold())
            if owner == recording.key or (owner is None and not self._belongs_to_another(candidate, recording.key)):
                self._taken[candidate.casefold()] = recording.key
                return candidate
        raise AssertionError("unreachable")

    def check(self, stem: str) -> None:
        """See, before anything is paid for, that these outputs may be written.

        Raises:
            OutputError: one of the files was edited since it was written, or was not written by us.
        """
        for path in self.paths(stem):
            if not self._overwrite and path.exists() and not self._is_ours(path):
                raise OutputError(
                    "was edited or made by something else, and is kept",
                    where=shown(path),
                    advice="move it away, or overwrite it with --overwrite",
                )

    def paths(self, stem: str) -> list[Path]:
        """Where the outputs with this stem are."""
        return [self._folder / f"{stem}{form.suffix}" for form in self._formats]

    def write(self, stem: str, recording: Source, transcript: Transcript) -> Written:
        """Write all formats, words changed in all but the transcript itself; each file appears whole or not at all.

        Raises:
            OutputError: a file cannot be written, or was edited meanwhile.
        """
        return self.write_script(stem, recording, Script(transcript))

    def write_script(self, stem: str, recording: Source, script: Script) -> Written:
        """The same of a script."""
        self.check(stem)
        is_changing = any(form.name != TRANSCRIPT_FORMAT for form in self._formats)
        changed, changes = reworded(script, self.options.wording) if is_changing else (script, Counter[str]())
        for path, form in zip(self.paths(stem), self._formats, strict=True):
            written = script if form.name == TRANSCRIPT_FORMAT else changed
            content = form.write(written, self.options, recording.name)
            before = file_digest(path) if path.exists() else ""
            remembered = _Remembered(recording.key, bytes_digest([content]), before)
            write_whole(self._memory_of(path), msgspec.json.encode(remembered))
            write_whole(path, content)
        return Written(tuple(self.paths(stem)), changes)

    def _belongs_to_another(self, stem: str, key: str) -> bool:
        remembered = (self._remembered(path) for path in self.paths(stem) if path.exists())
        return any(written is not None and written.recording != key for written in remembered)

    def _is_ours(self, path: Path) -> bool:
        written = self._remembered(path)
        return written is not None and file_digest(path) in (written.digest, written.before)

    def _remembered(self, path: Path) -> _Remembered | None:
        try:
            return msgspec.json.decode(self._memory_of(path).read_bytes(), type=_Remembered)
        except (OSError, msgspec.MsgspecError):
            return None

    def _memory_of(self, path: Path) -> Path:
        return self._memory / f"{hashlib.sha256(os.fsencode(path.resolve())).hexdigest()[:32]}.json"


def _stems(wanted: str) -> Iterator[str]:
    yield wanted
    for number in count(2):
        yield f"{wanted}-{number}"
