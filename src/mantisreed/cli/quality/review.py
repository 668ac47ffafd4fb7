"""`mantisreed review`: a page to hear, read and correct a transcript on."""

from dataclasses import dataclass
from pathlib import Path

from mantisreed.cli.console import Console
from mantisreed.errors import InputError, OutputError
from mantisreed.files import printable, write_whole
from mantisreed.pipeline.options_given import layout_rules, workspace_if_any
from mantisreed.review.page import review_page
from mantisreed.state import make_folder
from mantisreed.workbench.exporting import FoundTranscript, find_script
from mantisreed.workbench.reviewing import Content, reviewed, sound_for_page


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `review` is asked for; its arguments tell the same."""

    wanted: str
    recording: str | None = None
    config: str | None = None
    into: str | None = None
    layout: str | None = None
    without_sound: bool = False
    overwrite: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Write the page."""
    is_file = Path(asked.wanted).is_file()
    workspace = workspace_if_any(asked.config)
    found = find_script(workspace, asked.wanted)
    rules = layout_rules(workspace, {"layout": asked.layout})
    if asked.into is not None:
        folder = Path(asked.into)
    elif is_file:
        folder = Path(asked.wanted).parent
    else:
        folder = found.folder
    page = folder / f"{found.stem}.review.html"
    if page.exists() and not asked.overwrite:
        raise OutputError(
            "exists already", where=printable(page), advice="--overwrite overwrites it"
        )
    file = _recording_of(found, asked.recording)
    transcript = found.script.as_transcript(found.stem)
    content: Content = "never" if asked.without_sound else "always"
    sound = sound_for_page(file, content, track=transcript.recording.track_number)
    ready = reviewed(transcript, file, sound)
    make_folder(folder)
    write_whole(page, review_page(ready.transcript, ready.sound, rules, stem=found.stem).encode())
    console.notes(ready.notes)
    console.result(printable(page))
    return 0


def _recording_of(found: FoundTranscript, given: str | None) -> Path:
    """The recording that was named, or else the one that the job was made of.

    Raises:
        InputError: it is not there, or not on this machine.
    """
    if given is not None:
        path = Path(given)
        if not path.is_file():
            raise InputError("no such file", where=printable(path))
        return path
    source = found.source
    if not found.is_of_job:
        raise InputError(
            "a transcript does not say where its recording is",
            advice="name the recording behind it",
        )
    if source.link is not None or not source.path.is_file():
        raise InputError(
            f"the recording {source.name} is not where it was",
            advice="name the recording behind the job's id",
        )
    return source.path
