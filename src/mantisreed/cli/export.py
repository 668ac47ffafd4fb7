"""`mantisreed export`: any output again, from what is kept."""

import argparse

from mantisreed.cli.arguments import (
    add_config,
    add_formats,
    add_layout,
    add_overwrite,
    add_video,
    add_writing,
    described_changes,
    format_names,
    with_shots,
    workspace_if_any,
    write_options,
)
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

EXAMPLES = """\
examples:
  mantisreed export 3fa9 --to ttml,md --into subtitles
  mantisreed export talk.transcript.json --to srt --layout phone --stdout
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `export` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument(
        "wanted", nargs="+", metavar="JOB|TRANSCRIPT", help="a job's id, or a .transcript.json"
    )
    add_config(parser)
    add_formats(parser, "as in the settings")
    parser.add_argument(
        "--into", metavar="DIR", help="folder for outputs (default: where they were written before)"
    )
    add_overwrite(parser)
    parser.add_argument(
        "--stdout", action="store_true", help="to stdout, one format of one transcript"
    )
    add_video(parser)
    add_writing(parser)
    add_layout(parser)


def run(
    console: Console,
    *,
    wanted: "Sequence[str]",
    config: str | None = None,
    to: str | None = None,
    into: str | None = None,
    overwrite: bool = False,
    video: str | None = None,
    stdout: bool = False,
    **writing: "Any",
) -> int:
    """Write what is kept in other formats; costs nothing."""
    import sys
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.exports.formats import chosen_formats
    from mantisreed.files import printable
    from mantisreed.pipeline.exporting import export, find_transcript, printed
    from mantisreed.workspace import open_workspace

    are_files = all(Path(one).is_file() for one in wanted)
    if are_files:
        workspace = workspace_if_any(config)
    else:
        workspace = open_workspace(Path(config) if config else None)
    options = with_shots(write_options(workspace, **writing), video)
    if workspace:
        default = workspace.settings.to
    else:
        default = ("srt", "vtt")
    formats = chosen_formats(default if to is None else format_names(to) or ())
    if stdout:
        if len(formats) != 1 or len(wanted) != 1:
            raise InputError(
                "--stdout takes one transcript and one format", advice="--to srt, for instance"
            )
        found = find_transcript(workspace, wanted[0])
        sys.stdout.write(printed(found.script, formats[0], options))
        return 0
    if into:
        folder = Path(into)
    else:
        folder = None
    for one in export(workspace, wanted, formats, options, into=folder, overwrite=overwrite):
        for file in one.written.files:
            console.result(printable(file))
        for change in described_changes(one.written.changes):
            console.note(f"note: {one.name}: {change}")
    return 0
