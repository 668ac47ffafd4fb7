"""`mantisreed export`: any output again, from what is kept."""

import argparse

from mantisreed.cli.arguments import (
    LAYOUT_ARGUMENTS,
    add_config,
    add_formats,
    add_layout,
    add_writing,
    format_names,
    show_changes,
    wording_of,
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
    parser.add_argument("wanted", nargs="+", metavar="JOB|TRANSCRIPT", help="a job's id, or a .transcript.json")
    add_config(parser)
    add_formats(parser, "as in the settings")
    parser.add_argument("--into", metavar="DIR", help="folder for outputs (default: where they were written before)")
    parser.add_argument("--replace-edited", action="store_true", help="overwrite outputs that were edited")
    parser.add_argument("--stdout", action="store_true", help="to stdout, one format of one transcript")
    add_writing(parser)
    add_layout(parser)


def run(
    console: Console,
    *,
    wanted: "Sequence[str]",
    config: str | None = None,
    to: str | None = None,
    into: str | None = None,
    replace_edited: bool = False,
    stdout: bool = False,
    words: str | None = None,
    rows: str | None = None,
    **others: "Any",
) -> int:
    """Write what is kept in other formats; costs nothing."""
    import sys
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.exports.formats import chosen_formats
    from mantisreed.exports.wording import reworded
    from mantisreed.files import shown
    from mantisreed.pipeline.exporting import export, find_transcript
    from mantisreed.workspace import open_workspace

    are_files = all(Path(one).is_file() for one in wanted)
    workspace = workspace_if_any(config) if are_files else open_workspace(Path(config) if config else None)
    layout = {name: others.pop(name) for name in LAYOUT_ARGUMENTS}
    options = write_options(workspace, words=words, rows=rows, **layout)
    default = workspace.settings.to if workspace else ("srt", "vtt")
    formats = chosen_formats(default if to is None else format_names(to) or ())
    if stdout:
        if len(formats) != 1 or len(wanted) != 1:
            raise InputError("--stdout takes one transcript and one format", advice="--to srt, for instance")
        script = find_transcript(workspace, wanted[0]).script
        changed, _ = reworded(script, wording_of(script.tongue, **others))
        sys.stdout.write(formats[0].write(changed, options).decode())
        return 0
    language = None if workspace is None else workspace.settings.language
    for one in export(
        workspace,
        wanted,
        formats,
        options,
        wording=wording_of(language, **others),
        into=Path(into) if into else None,
        replace=replace_edited,
    ):
        for file in one.files:
            console.result(shown(file))
        show_changes(console, one.changes, f"{one.name}: ")
    return 0
