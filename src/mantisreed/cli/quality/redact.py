"""`mantisreed redact`: personal data found, and hidden in transcripts and in sound."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from mantisreed.cli.console import Console
from mantisreed.cli.targets import check_copy, write_into
from mantisreed.errors import InputError
from mantisreed.exports.redaction import Redaction, redaction_from
from mantisreed.exports.word_lists import strong_words
from mantisreed.files import printable
from mantisreed.review.personal import PersonalPlace, hidden_name, hidden_transcript, places_in
from mantisreed.transcript.document import Transcript
from mantisreed.units import clock, count_of, counts_of, duration_given
from mantisreed.workbench.exporting import read_script
from mantisreed.workbench.pairing import check_same_recording
from mantisreed.workbench.redacting import (
    CoveredRecording,
    Covering,
    cover_recording,
    suffix_of_copy,
)

# Seconds beyond words whose times an engine told, and others.
_EXACT_MARGIN, _ESTIMATED_MARGIN = 0.1, 0.4


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `redact` is asked for; its arguments tell the same."""

    transcript: str
    recording: str | None = None
    into: str | None = None
    to: str = "json,srt"
    redact_kinds: str = "all"
    redact_names: str | None = None
    redact_pattern: Sequence[str] = ()
    strong_words: str = "keep"
    strong_words_file: str | None = None
    cover: str = "tone"
    margin: str | None = None
    as_json: bool = False
    overwrite: bool = False


def run(console: Console, asked: Arguments) -> int:
    """List what is found, or write copies without it."""
    _check_recording(asked)
    path = Path(asked.transcript)
    document = read_script(path).as_transcript(path.stem)
    if asked.recording is not None:
        console.notes(check_same_recording(document, Path(asked.recording)))
    redaction = _redaction(asked, document)
    places = places_in(document, redaction)
    files: list[Path] = []
    copied: CoveredRecording | None = None
    if asked.into is not None:
        chosen = duration_given(asked.margin, "--margin") if asked.margin else None
        wanted = _Copies(Path(asked.into), asked.to, asked.cover, chosen, asked.overwrite)
        recording = Path(asked.recording) if asked.recording else None
        files, copied = wanted.write(path, recording, document, redaction, places)
    if asked.as_json:
        console.document(_described(asked, places, files))
    else:
        _show(console, printable(asked.transcript), places, files, copied)
    return 0


def _check_recording(asked: Arguments) -> None:
    if asked.recording is not None and asked.into is None:
        raise InputError(
            "the recording is copied, and nobody said where to", advice="--into DIR says it"
        )
    if asked.recording is None and asked.margin is not None:
        raise InputError("has no effect without a recording", where="--margin")


def _redaction(asked: Arguments, document: Transcript) -> Redaction:
    names = Path(asked.redact_names) if asked.redact_names else None
    redaction = redaction_from(asked.redact_kinds, names, tuple(asked.redact_pattern))
    if asked.strong_words != "mask" and not asked.strong_words_file:
        return redaction
    own = Path(asked.strong_words_file) if asked.strong_words_file else None
    listed = strong_words(document.language, own)
    return msgspec.structs.replace(redaction, strong_words=listed)


def _described(
    asked: Arguments, places: Sequence[PersonalPlace], files: Sequence[Path]
) -> dict[str, object]:
    found = []
    for one in places:
        described: dict[str, object] = {"kind": one.kind, "start": one.start, "end": one.end}
        if asked.into is None:
            # What was hidden is not told again beside the copies.
            described["text"] = one.text
        found.append(described)
    document: dict[str, object] = {"transcript": printable(asked.transcript), "found": found}
    if asked.into is not None:
        document["files"] = [printable(str(file)) for file in files]
    return document


class _Copies:
    """Where copies go, and how they are made."""

    def __init__(
        self, folder: Path, to: str, cover: str, margin: float | None, overwrite: bool
    ) -> None:
        self._folder, self._to, self._cover, self._margin = folder, to, cover, margin
        self._overwrite = overwrite

    def write(
        self,
        source: Path,
        recording: Path | None,
        document: Transcript,
        redaction: Redaction,
        places: Sequence[PersonalPlace],
    ) -> tuple[list[Path], CoveredRecording | None]:
        """The files that were written, and what was covered in the sound."""
        # No copy is written over what it is made of.
        sources = [source] + ([recording] if recording is not None else [])
        # A name may stand in the name of the file too.
        stem = hidden_name((recording or source).name.split(".")[0], redaction)
        copied = None
        target = None
        if recording is not None:
            target = self._folder / f"{stem}{suffix_of_copy(recording)}"
            check_copy(target, sources, overwrite=self._overwrite)
        clean = hidden_transcript(document, redaction)
        files = write_into(self._folder, stem, clean, self._to, sources, overwrite=self._overwrite)
        if recording is not None and target is not None:
            spans = [(one.start, one.end) for one in places]
            margin = self._margin_around(places)
            wanted = Covering(spans, self._cover, margin, document.recording.track_number)  # type: ignore[arg-type]
            copied = cover_recording(recording, target, wanted)
            files.append(copied.file)
        return files, copied

    def _margin_around(self, places: Sequence[PersonalPlace]) -> float:
        if self._margin is not None:
            return self._margin
        # Where times were estimated they may be off by some tenths of a second.
        if any(one.is_estimated for one in places):
            return _ESTIMATED_MARGIN
        return _EXACT_MARGIN


def _show(
    console: Console,
    name: str,
    places: Sequence[PersonalPlace],
    files: Sequence[Path],
    copied: CoveredRecording | None,
) -> None:
    for file in files:
        console.result(printable(str(file)))
    if places:
        texts = ["" if files else one.text for one in places]
        rows = [(clock(one.start), one.kind, text) for one, text in zip(places, texts, strict=True)]
        console.rows(("start", "kind", "" if files else "text"), rows)
    kinds = counts_of(one.kind for one in places)
    console.result(f"{name}: {f'{len(places)} found: {kinds}' if places else 'nothing found'}")
    if copied is not None:
        stretches = count_of(copied.spans, "stretch", "stretches")
        console.result(f"{stretches} of the recording covered, {copied.seconds:.1f} s")
