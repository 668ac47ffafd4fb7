"""Files that grow while somebody speaks: subtitles and text, phrase by phrase, in order."""

import os
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Protocol, TypeVar

import msgspec

from mantisreed.files import cannot_write, write_whole
from mantisreed.folders import opened, read, remove
from mantisreed.formats.srt import write_srt
from mantisreed.formats.vtt_writing import write_webvtt
from mantisreed.pipeline.outputs import Outputs, Written
from mantisreed.sources.recordings import Source
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.layout import lay_out
from mantisreed.transcript.document import Passage, Transcript

T = TypeVar("T", bound="Numbered")

FOLDER = "live"
"""Where streams lie in a workspace's hidden folder, a folder for each."""

PHRASES_FILE = "phrases.jsonl"
"""What was said, a line for each phrase, until the stream has ended."""

_GROWING = ("srt", "vtt", "txt")
_LONGEST_WAIT = 8  # phrases that are held back for one before them


def forget_phrase(hidden: Path, recording: Path) -> None:
    """Remove a phrase of a stream: its sound, its transcripts, and its line among the others."""
    folder = recording.parent
    if folder.parent != hidden / FOLDER:
        return  # it is no phrase
    remove(recording)
    for file in (folder / "transcripts").glob(f"{recording.stem}.*"):
        remove(file)
    lines = folder / PHRASES_FILE
    if recording.stem.isdecimal() and lines.exists():
        number = int(recording.stem)
        kept = [line for line in read(lines).splitlines(keepends=True) if not _is(line, number)]
        write_whole(lines, b"".join(kept))


def _is(line: bytes, number: int) -> bool:
    try:
        return msgspec.json.decode(line, type=dict[str, object]).get("number") == number
    except msgspec.MsgspecError:  # torn by a full disk: whose it was, nobody knows
        return True


class Numbered(Protocol):
    """A phrase that is done with."""

    @property
    def number(self) -> int:
        """Its number, from 1."""

    @property
    def passages(self) -> tuple[Passage, ...]:
        """What was said in it."""

    @property
    def language(self) -> str | None:
        """The tag of its language."""


class GrowingOutputs:
    """The outputs of a stream.

    Attributes:
        file: where phrases are kept until the end, as lines of JSON.
    """

    def __init__(self, outputs: Outputs, stem: str, file: Path) -> None:
        """Write nothing yet."""
        self._outputs, self._stem, self.file = outputs, stem, file
        self._held: dict[int, Numbered] = {}
        self._unwritten: list[Numbered] = []
        self._next = 1
        self._cues = 0
        self._last = 0.0

    def add(self, phrase: Numbered) -> None:
        """Keep a phrase, and write it to the files that grow once those before it are there.

        Raises:
            OutputError: it cannot be written.
        """
        self._held[phrase.number] = phrase
        try:
            with os.fdopen(opened(self.file, os.O_WRONLY | os.O_APPEND | os.O_CREAT), "ab") as sink:
                sink.write(msgspec.json.encode(phrase) + b"\n")
        except OSError as error:
            self._unwritten.append(phrase)  # a full disk may have room again at the end
            raise cannot_write(self.file, error) from error
        while self._held:
            if self._next not in self._held:
                if len(self._held) < _LONGEST_WAIT:
                    return
                self._next = min(self._held)
            self._append(self._held.pop(self._next))
            self._next += 1

    def kept(self, kind: type[T]) -> Iterator[T]:
        """All phrases, in the order in which they were done."""
        if self.file.exists():
            with os.fdopen(opened(self.file, os.O_RDONLY), "rb") as lines:
                for line in lines:
                    # Torn by a full disk: it is in memory as well.
                    with suppress(msgspec.MsgspecError):  # see above
                        yield msgspec.json.decode(line, type=kind)
        for phrase in self._unwritten:
            assert isinstance(phrase, kind)
            yield phrase

    def write_whole(self, source: Source, transcript: Transcript) -> Written:
        """Write all outputs anew, as of any recording; what has grown is ours.

        Raises:
            OutputError: one cannot be written.
        """
        return self._outputs.overwriting().write(self._stem, source, transcript)

    def _append(self, phrase: Numbered) -> None:
        if not phrase.passages:
            return
        # The cue before stands on the disk already, and may stay a little longer than the pause
        # took.
        cues = [
            replace(cue, start=min(max(cue.start, self._last), cue.end))
            for cue in lay_out(
                phrase.passages, self._outputs.options.rules, language=phrase.language
            )
        ]
        for name, path in zip(self._outputs.names, self._outputs.paths(self._stem), strict=True):
            if name in _GROWING:
                text = self._text(name, phrase.passages, cues, is_first=not path.exists())
                try:
                    with path.open("a", encoding="utf-8", errors="replace") as sink:
                        sink.write(text)
                except OSError as error:
                    raise cannot_write(path, error) from error
        self._cues += len(cues)
        self._last = cues[-1].end if cues else self._last

    def _text(
        self, name: str, passages: tuple[Passage, ...], cues: list[Cue], *, is_first: bool
    ) -> str:
        if name == "txt":
            return "".join(f"{passage.text}\n" for passage in passages)
        if name == "srt":
            return write_srt(cues, first=self._cues + 1)
        whole = write_webvtt(cues)
        if is_first:
            return whole
        return whole.partition("\n")[2]
