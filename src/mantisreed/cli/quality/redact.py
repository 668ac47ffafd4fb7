"""`mantisreed redact`: personal data found, and hidden in transcripts and in sound."""

from collections import Counter
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
from mantisreed.units import clock, duration_given
from mantisreed.workbench.exporting import read_script
from mantisreed.workbench.pairing import check_same_recording
from mantisreed.workbench.redacting import (
    CoveredRecording,
    Covering,
    cover_recording,
    suffix_of_copy,
)

# Seconds beyond words whose times an engine told, and others.
_EXACT_MARGIN, _ESTIMATED_MARGIN = (
    0.1,
    0.4,
)


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
    if asked.recording is not None and asked.into is None:
        raise InputError(
            "the recording is copied, and nobody said where to", advice="--into DIR says it"
        )
    if asked.recording is None and asked.margin is not None:
        raise InputError("has no effect without a recording", where="--margin")
    path = Path(asked.transcript)
    document = read_script(path).as_transcript(path.stem)
    if asked.recording is not None:
        console.notes(check_same_recording(document, Path(asked.recording)))
    redaction = redaction_from(
        asked.redact_kinds,
        Path(asked.redact_names) if asked.redact_names else None,
        tuple(asked.redact_pattern),
    )
    if asked.strong_words == "mask" or asked.strong_words_file:
        redaction = _with_strong_words(redaction, document, asked.strong_words_file)
    places = places_in(document, redaction)
    files: list[Path] = []
    copied: CoveredRecording | None = None
    if asked.into is not None:
        if asked.margin:
            chosen = duration_given(asked.margin, "--margin")
        else:
            chosen = None
        wanted = _Copies(Path(asked.into), asked.to, asked.cover, chosen, asked.overwrite)
        files, copied = wanted.write(
            path, Path(asked.recording) if asked.recording else None, document, redaction, places
        )
    if asked.as_json:
        listed = [
            {"kind": one.kind, "start": one.start, "end": one.end, "text": one.text}
            for one in places
        ]
        described: dict[str, object] = {"transcript": printable(asked.transcript), "found": listed}
        if asked.into is not None:
            described = {
                "transcript": printable(asked.transcript),
                # What was hidden is not told again beside the copies.
                "found": [
                    {key: value for key, value in one.items() if key != "text"} for one in listed
                ],
                "files": [printable(str(file)) for file in files],
            }
        console.document(described)
        return 0
    _show(console, printable(asked.transcript), places, files, copied)
    return 0


def _with_strong_words(redaction: Redaction, document: Transcript, file: str | None) -> Redaction:
    listed = strong_words(document.language, Path(file) if file else None)
    return msgspec.structs.replace(redaction, strong_words=listed)


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
        if recording is not None:
            target = self._folder / f"{stem}{suffix_of_copy(recording)}"
        else:
            target = None
        if target is not None:
            check_copy(target, sources, overwrite=self._overwrite)
        clean = hidden_transcript(document, redaction)
        files = write_into(self._folder, stem, clean, self._to, sources, overwrite=self._overwrite)
        if recording is not None and target is not None:
            # Where times were estimated they may be off by some tenths of a second.
            if any(one.is_estimated for one in places):
                usual = _ESTIMATED_MARGIN
            else:
                usual = _EXACT_MARGIN
            if self._margin is None:
                margin = usual
            else:
                margin = self._margin
            spans = [(one.start, one.end) for one in places]
            wanted = Covering(spans, self._cover, margin, document.recording.track_number)  # type: ignore[arg-type]
            copied = cover_recording(recording, target, wanted)
            files.append(copied.file)
        return files, copied


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
    kinds = ", ".join(
        f"{count} {kind}" for kind, count in Counter(one.kind for one in places).most_common()
    )
    console.result(f"{name}: {f'{len(places)} found: {kinds}' if places else 'nothing found'}")
    if copied is not None:
        if copied.spans == 1:
            stretches = "1 stretch"
        else:
            stretches = f"{copied.spans} stretches"
        console.result(f"{stretches} of the recording covered, {copied.seconds:.1f} s")
