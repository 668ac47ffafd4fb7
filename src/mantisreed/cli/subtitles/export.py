"""`mantisreed export`: any output again, from what is kept."""

import sys
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import described_changes
from mantisreed.errors import InputError
from mantisreed.exports.formats import chosen_formats
from mantisreed.files import printable
from mantisreed.pipeline.options_given import (
    format_names,
    with_shots,
    workspace_if_any,
    write_options,
)
from mantisreed.workbench.exporting import export, find_transcript, printed
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `export` is asked for; its arguments tell the same."""

    wanted: Sequence[str]
    config: str | None = None
    to: str | None = None
    into: str | None = None
    overwrite: bool = False
    video: str | None = None
    stdout: bool = False
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Write what is kept in other formats; costs nothing."""
    are_files = all(Path(one).is_file() for one in asked.wanted)
    if are_files:
        workspace = workspace_if_any(asked.config)
    else:
        workspace = open_workspace(asked.config)
    options = with_shots(write_options(workspace, asked.options), asked.video)
    if workspace:
        default = workspace.settings.to
    else:
        default = ("srt", "vtt")
    formats = chosen_formats(default if asked.to is None else format_names(asked.to) or ())
    if asked.stdout:
        if len(formats) != 1 or len(asked.wanted) != 1:
            raise InputError(
                "--stdout takes one transcript and one format",
                advice="--to srt, for instance",
            )
        found = find_transcript(workspace, asked.wanted[0])
        sys.stdout.write(printed(found.script, formats[0], options))
        return 0
    if asked.into:
        folder = Path(asked.into)
    else:
        folder = None
    for one in export(
        workspace, asked.wanted, formats, options, into=folder, overwrite=asked.overwrite
    ):
        for file in one.written.files:
            console.result(printable(file))
        for change in described_changes(one.written.changes):
            console.note(f"note: {one.name}: {change}")
    return 0
