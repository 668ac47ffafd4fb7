"""`mantisreed export`: any output again, from what is kept."""

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import described_changes
from mantisreed.errors import InputError
from mantisreed.exports.formats import chosen_formats
from mantisreed.files import printable
from mantisreed.pipeline.exporting import export, find_transcript, printed
from mantisreed.pipeline.options_given import (
    format_names,
    with_shots,
    workspace_if_any,
    write_options,
)
from mantisreed.workspace import open_workspace


def run(
    console: Console,
    *,
    wanted: Sequence[str],
    config: str | None = None,
    to: str | None = None,
    into: str | None = None,
    overwrite: bool = False,
    video: str | None = None,
    stdout: bool = False,
    **writing: Any,
) -> int:
    """Write what is kept in other formats; costs nothing."""
    are_files = all(Path(one).is_file() for one in wanted)
    if are_files:
        workspace = workspace_if_any(config)
    else:
        workspace = open_workspace(config)
    options = with_shots(write_options(workspace, writing), video)
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
