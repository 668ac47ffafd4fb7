"""Outputs made again from what is kept, and files of one format made into another; nothing is sent,
or paid.
"""

import sys
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from mantisreed.errors import InputError
from mantisreed.exports.formats import (
    OUTPUT_FORMATS,
    TRANSCRIPT_FORMAT,
    OutputFormat,
    format_of,
    format_of_text,
)
from mantisreed.exports.script import Script, WriteOptions, bare_transcript
from mantisreed.exports.texts import plain_paragraphs
from mantisreed.exports.wording import reworded
from mantisreed.files import printable
from mantisreed.folders import HIDDEN_FOLDER
from mantisreed.formats.decoding import decoded
from mantisreed.pipeline.outputs import Outputs, Written
from mantisreed.review.personal import hidden_script, hidden_transcript
from mantisreed.settings import SETTINGS_FILE
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript
from mantisreed.trust import Trust
from mantisreed.workbench.pairing import check_same_recording
from mantisreed.workspace import Workspace


@dataclass(frozen=True, slots=True)
class FoundTranscript:
    """A transcript to be exported: where its outputs go, and under which stem.

    Attributes:
        script, source: it, and the recording it is of.
        stem, folder: of its outputs.
        is_of_job: whether the ledger says where they go, and not the user.
    """

    script: Script
    source: Source
    stem: str
    folder: Path
    is_of_job: bool = False


@dataclass(frozen=True, slots=True)
class Exported:
    """What was written of one transcript."""

    name: str
    written: Written


def printed(script: Script, form: OutputFormat, options: WriteOptions, name: str = "") -> str:
    """A script in a format, as it would be in a file: without personal data, with other words where
    that is wanted.
    """
    script = hidden_script(script, options.redaction)
    # The transcript keeps what was said; other words are for readers.
    if form.name != TRANSCRIPT_FORMAT:
        script, _ = reworded(script, options.wording)
    return form.write(script, options, name).decode()


def find_transcript(workspace: Workspace | None, wanted: str) -> FoundTranscript:
    """A transcript document by its file, or a job's by any beginning of its id.

    Raises:
        InputError: there is neither, or the job is not complete.
    """
    path = Path(wanted)
    if path.is_file():
        stem = path.name.removesuffix(".json").removesuffix(".transcript")
        script = read_script(path, ReadOptions(OUTPUT_FORMATS[TRANSCRIPT_FORMAT]))
        return FoundTranscript(script, Source(path), stem, path.parent)
    if workspace is None:
        raise InputError("no such file, and no workspace with jobs", where=printable(wanted))
    from mantisreed.jobs.ledger import open_ledger  # only for jobs: these take long to import
    from mantisreed.pipeline.assembling import kept_replies, kept_transcript
    from mantisreed.pipeline.options import options_of_job, stored_options

    with closing(open_ledger(workspace)) as ledger:
        record = ledger.listing.job(wanted)
        stored = stored_options(record)
        options = options_of_job(workspace, record.engine, stored)
        kept = kept_replies(ledger, record)
    # What was hidden when the job was run stays hidden.
    transcript = hidden_transcript(
        kept_transcript(kept, options, workspace.hidden).transcript, stored.writing.redaction
    )
    source = stored.recording if stored.source else Source(Path(stored.name))
    return FoundTranscript(
        Script(transcript), source, stored.output_stem, stored.folder, is_of_job=True
    )


def find_script(workspace: Workspace | None, wanted: str) -> FoundTranscript:
    """The same, where a file may be of any format that has times.

    Raises:
        InputError: there is neither, it cannot be read, or the job is not complete.
    """
    path = Path(wanted)
    if not path.is_file() or format_of(path).name == TRANSCRIPT_FORMAT:
        return find_transcript(workspace, wanted)
    if path.name.endswith(format_of(path).suffix):
        stem = path.name[: -len(format_of(path).suffix)]
    else:
        stem = path.stem
    return FoundTranscript(read_script(path), Source(path), stem, path.parent)


def export(
    workspace: Workspace | None,
    wanted: Sequence[str],
    formats: Sequence[OutputFormat],
    options: WriteOptions,
    *,
    into: Path | None = None,
    overwrite: bool = False,
) -> list[Exported]:
    """Write transcripts in these formats.

    Args:
        workspace: for jobs by their ids; None where only files are named.
        wanted: files of transcripts, or beginnings of jobs' ids.
        formats: what is written.
        options: how.
        into: folder; None puts each where its transcript or its job's outputs are.
        overwrite: also files that were edited.

    Raises:
        InputError: one of them is not there or not complete; those before it are written.
    """
    exported = []
    for one in [wanted] if isinstance(wanted, str) else wanted:
        found = find_transcript(workspace, one)
        folder = into or found.folder
        # Where there is no workspace, the memory of what was written lies beside the outputs.
        hidden = workspace.hidden if workspace else _memory_in(folder)
        outputs = Outputs(folder, hidden, formats, options=options, overwrite=overwrite)
        written = outputs.write_script(
            found.stem, found.source, hidden_script(found.script, options.redaction)
        )
        exported.append(Exported(found.source.name, written))
    return exported


def _memory_in(folder: Path) -> Path:
    """Where it is remembered what was written into a folder that is no workspace.

    Raises:
        TrustError: somebody else has made it.
    """
    hidden = folder / HIDDEN_FOLDER
    Trust(folder / SETTINGS_FILE).require_state(hidden)
    return hidden


@dataclass(frozen=True, slots=True)
class ReadOptions:
    """How a file is read.

    Attributes:
        form: its format; None goes by its name, and of standard input by its text.
        encoding: of its text; None finds out.
        recording: by whose speech a text without times is timed.
    """

    form: OutputFormat | None = None
    encoding: str | None = None
    recording: Path | None = None


def read_script(file: Path, reading: ReadOptions | None = None) -> Script:
    """What a file of any format holds; a plain text is timed by where somebody speaks in its
    recording.

    Args:
        file: `-` for standard input.
        reading: how; None finds everything out.

    Raises:
        InputError: it cannot be read, holds no cue, or is a plain text without a recording.
        RecordingError: the recording cannot be read.
    """
    reading = reading or ReadOptions()
    content = _content_of(file)
    is_input = str(file) == "-"
    form = reading.form or (
        format_of_text(content, reading.encoding) if is_input else format_of(file)
    )
    try:
        if form.read_text is None and reading.recording is not None:
            return timed_by_speech(decoded(content, reading.encoding)[0], reading.recording)
        if reading.recording is not None:
            raise InputError(
                f"a file of the format {form.name} has times of its own, and --recording is for "
                "those that have none",
                advice="`mantisreed sync` lays times on a recording",
            )
        return form.read(content, reading.encoding)
    except InputError as error:
        error.where = error.where or printable(file)
        raise


def read_paragraphs(file: Path) -> list[str]:
    """The lines of a plain text that hold something.

    Raises:
        InputError: it cannot be read.
    """
    return list(plain_paragraphs(decoded(_content_of(file))[0]))


def _content_of(file: Path) -> bytes:
    """All of a file, or of standard input where it is `-`.

    Raises:
        InputError: it cannot be read.
    """
    try:
        if str(file) == "-":
            return sys.stdin.buffer.read()
        return file.read_bytes()
    except OSError as error:
        raise InputError(
            f"cannot be read ({(error.strerror or str(error)).lower()})", where=printable(file)
        ) from error


def timed_by_speech(text: str, recording: Path) -> Script:
    """A plain text laid over the speech of its recording.

    Raises:
        RecordingError: the recording cannot be read.
    """
    from mantisreed.transcript.estimate import words_over_speech  # only for such texts

    speech, duration = speech_of(recording)
    said = " ".join(plain_paragraphs(text))
    passages = words_over_speech(said, speech, duration) if said else ()
    notes = ("times are estimated by the recording's speech",)
    return Script(
        bare_transcript(
            passages, name=printable(recording.name), duration=round(duration, 3), notes=notes
        )
    )


def speech_of(
    recording: Path, *, track: int | None = None
) -> tuple[tuple[tuple[float, float], ...], float]:
    """Where somebody speaks in a recording, and how long it is, in seconds.

    Args:
        recording: a file.
        track: which track of sound, from 1; None takes the default one, or the first with speech.

    Raises:
        RecordingError: the recording cannot be read, or has no such track.
    """
    from mantisreed.audio.decode import SAMPLE_RATE  # only for sound
    from mantisreed.audio.speech import speech_map
    from mantisreed.audio.tracks import track_to_take
    from mantisreed.audio.workers import DecodingWorkers, SoundStream

    with DecodingWorkers() as workers:

        def stream(number: int) -> SoundStream:
            return workers.stream(recording, sample_rate=SAMPLE_RATE, channels=1, track=number)

        taken = track
        # The track that a run would take.
        if taken is None:
            taken = track_to_take(workers.contents(recording), stream).number
        sound = stream(taken)
        speech = tuple((one.start, one.end) for one in speech_map(sound))
    return speech, sound.seconds


def speech_of_transcript(
    transcript: Transcript, recording: Path
) -> tuple[tuple[tuple[float, float], ...], tuple[str, ...]]:
    """Where somebody speaks in the recording of a transcript, and what the user should be told.

    Raises:
        RecordingError: the recording cannot be read.
        InputError: it is another recording than that of the transcript.
    """
    speech, duration = speech_of(recording, track=transcript.recording.track_number)
    return speech, check_same_recording(transcript, recording, duration)
