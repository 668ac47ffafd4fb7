"""`mantisreed review`: a page to hear, read and correct a transcript on."""

import argparse

from mantisreed.cli.arguments import add_config, add_overwrite
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from pathlib import Path

    from mantisreed.pipeline.exporting import Found
    from mantisreed.pipeline.reviewing import Content

EXAMPLES = """\
examples:
  mantisreed review talk.transcript.json talk.mp3
  mantisreed review 3fa9 --into pages
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `review` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument(
        "wanted",
        metavar="JOB|TRANSCRIPT",
        help="a job's id, or a transcript or subtitles of any format",
    )
    parser.add_argument(
        "recording",
        nargs="?",
        metavar="RECORDING",
        help="the recording (default: that of the job, where it was)",
    )
    add_config(parser)
    parser.add_argument(
        "--into", metavar="DIR", help="folder for the page (default: beside the transcript)"
    )
    parser.add_argument(
        "--layout", metavar="NAME", help="layout rules of the cues (default: as in the settings)"
    )
    parser.add_argument(
        "--without-sound",
        action="store_true",
        help="leave the sound out; whoever opens the page chooses the file",
    )
    add_overwrite(parser, "a page that is there")


def run(
    console: Console,
    *,
    wanted: str,
    recording: str | None = None,
    config: str | None = None,
    into: str | None = None,
    layout: str | None = None,
    without_sound: bool = False,
    overwrite: bool = False,
) -> int:
    """Write the page."""
    from pathlib import Path

    from mantisreed.cli.arguments import layout_rules, workspace_if_any
    from mantisreed.errors import OutputError
    from mantisreed.files import printable, write_whole
    from mantisreed.pipeline.exporting import find_script
    from mantisreed.pipeline.reviewing import reviewed, sound_for_page
    from mantisreed.review.page import review_page
    from mantisreed.state import make_folder

    is_file = Path(wanted).is_file()
    workspace = workspace_if_any(config)
    found = find_script(workspace, wanted)
    rules = layout_rules(workspace, layout)
    if into is not None:
        folder = Path(into)
    elif is_file:
        folder = Path(wanted).parent
    else:
        folder = found.folder
    page = folder / f"{found.stem}.review.html"
    if page.exists() and not overwrite:
        raise OutputError(
            "exists already", where=printable(page), advice="--overwrite overwrites it"
        )
    file = _recording_of(found, recording)
    transcript = found.script.as_transcript(found.stem)
    content: Content = "never" if without_sound else "always"
    sound = sound_for_page(file, content, track=transcript.recording.track_number)
    ready = reviewed(transcript, file, sound)
    make_folder(folder)
    write_whole(page, review_page(ready.transcript, ready.sound, rules, stem=found.stem).encode())
    console.notes(ready.notes)
    console.result(printable(page))
    return 0


def _recording_of(found: "Found", given: str | None) -> "Path":
    """The recording that was named, or else the one that the job was made of.

    Raises:
        InputError: it is not there, or not on this machine.
    """
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.files import printable

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
