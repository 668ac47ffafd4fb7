"""`mantisreed amend`: a corrected text laid over its transcript."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mantisreed.cli.console import Console
from mantisreed.cli.targets import write_into
from mantisreed.exports.formats import OUTPUT_FORMATS, TRANSCRIPT_FORMAT, format_of
from mantisreed.files import printable
from mantisreed.review.amending import Changes, Paragraph, amended
from mantisreed.subtitles.overlaps import DASH
from mantisreed.subtitles.voices import single_voices
from mantisreed.transcript.document import Transcript
from mantisreed.units import count_of
from mantisreed.workbench.exporting import (
    ReadOptions,
    read_paragraphs,
    read_script,
    speech_of_transcript,
)


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `amend` is asked for; its arguments tell the same."""

    transcript: str
    corrected: str
    into: str
    to: str = "json,srt,vtt"
    learn_glossary: str | None = None
    recording: str | None = None
    as_json: bool = False
    overwrite: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Lay the text over, write the outputs anew, say what was changed."""
    source = Path(asked.transcript)
    script = read_script(source, ReadOptions(OUTPUT_FORMATS[TRANSCRIPT_FORMAT]))
    document = script.as_transcript(source.stem)
    paragraphs, are_cues = _paragraphs(Path(asked.corrected), document)
    speech: Sequence[tuple[float, float]] = ()
    if asked.recording is not None:
        speech, notes = speech_of_transcript(document, Path(asked.recording))
        console.notes(notes)
    anew, changes = amended(document, paragraphs, keeps_passages=are_cues, speech=speech)
    stem = source.name.removesuffix(".json").removesuffix(".transcript")
    targets = write_into(
        Path(asked.into),
        stem,
        anew,
        asked.to,
        [source, Path(asked.corrected)],
        overwrite=asked.overwrite,
    )
    if not asked.as_json:
        for target in targets:
            console.result(printable(str(target)))
    if asked.learn_glossary is not None:
        _learn(console, changes, Path(asked.learn_glossary))
    if asked.as_json:
        console.document(_described(changes, [printable(str(target)) for target in targets]))
    else:
        console.result(_told(changes))
    return 0


def _paragraphs(file: Path, transcript: Transcript) -> tuple[list[Paragraph], bool]:
    """The corrected text in pieces, and whether these are cues, which say nothing of passages.

    Raises:
        InputError: it cannot be read.
    """
    form = format_of(file)
    if form.name != "txt":
        script = read_script(file)
        if script.cues is None:
            return [Paragraph(passage.text, passage.speaker) for passage in script.passages], False
        lines = []
        for cue in single_voices(script.cues):
            # A dash says that somebody speaks, and is no word.
            lines.extend([(line.removeprefix(DASH), cue.speaker) for line in cue.lines])
        return [Paragraph(line, speaker) for line, speaker in lines], True
    return [_with_speaker(line, transcript) for line in read_paragraphs(file)], False


def _with_speaker(line: str, transcript: Transcript) -> Paragraph:
    """A line of plain text; where the transcript has speakers, a name before it is one."""
    name, colon, said = line.partition(": ")
    # A sentence may hold a colon; a name is short, and the transcript has speakers.
    is_name = bool(colon) and 0 < len(name) <= _LONGEST_NAME and bool(transcript.speakers)
    if is_name:
        return Paragraph(said, name)
    return Paragraph(line)


_LONGEST_NAME = 40  # characters, as `timed` texts have them


def _told(changes: Changes) -> str:
    parts = [
        f"{count_of(changes.changed, 'word')} changed",
        f"{count_of(changes.inserted, 'word')} inserted",
        f"{count_of(changes.deleted, 'word')} deleted",
        f"{count_of(changes.kept, 'word')} kept with their times",
    ]
    if changes.speakers:
        parts.append(f"{count_of(changes.speakers, 'word')} given to another speaker")
    return ", ".join(parts)


def _described(changes: Changes, files: Sequence[str]) -> dict[str, object]:
    return {
        "kept": changes.kept,
        "changed": changes.changed,
        "inserted": changes.inserted,
        "deleted": changes.deleted,
        "given_to_another_speaker": changes.speakers,
        "corrections": [
            {"was": was, "is": now, "count": count}
            for (was, now), count in changes.pairs.most_common()
        ],
        "files": list(files),
    }


def _learn(console: Console, changes: Changes, glossary: Path) -> None:
    """Ask for each correction whether it goes into a glossary, as `--replace` takes it."""
    if glossary.exists():
        known = glossary.read_text(encoding="utf-8")
    else:
        known = ""
    kept = []
    for (was, now), count in changes.pairs.most_common():
        # Punctuation is not what was misheard.
        entry = f"{was.strip('.,;:!?')} -> {now.strip('.,;:!?')}"
        if entry in known:
            continue
        console.note(f"{entry} ({count} {'time' if count == 1 else 'times'}); keep it? [y/N]")
        try:
            answer = input()
        except EOFError:
            break
        if answer.strip().lower() in ("y", "yes"):
            kept.append(entry)
    if kept:
        with glossary.open("a", encoding="utf-8") as file:
            file.write("".join(f"{entry}\n" for entry in kept))
