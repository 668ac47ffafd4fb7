"""`mantisreed run --stdout`: texts to stdout in place of files."""

import sys
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

import msgspec

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_problems, write_report
from mantisreed.cli.transcribing.run_arguments import Arguments
from mantisreed.cli.transcribing.sending import transcribed
from mantisreed.errors import InputError
from mantisreed.exports.formats import OutputFormat, chosen_formats
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.pipeline.options_given import format_names, run_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.unkept import memory_folder
from mantisreed.sources.finding import find_recordings
from mantisreed.sources.recordings import Source
from mantisreed.sources.streams import DEFAULT_NAME, drop_input, kept_input
from mantisreed.workbench.exporting import printed
from mantisreed.workspace import open_workspace

_IN_A_ROW = ("txt", "timed", "md")
"""Formats that several transcripts can stand in one behind the other."""


def run_to_stdout(console: Console, asked: Arguments) -> int:
    """Run, and print what came out; everything else goes to stderr."""
    options = asked.options
    workspace = open_workspace(options.get("config"))
    formats = chosen_formats(format_names(options.get("to")) or ["txt"])
    if len(formats) != 1:
        raise InputError("prints one format", where="--stdout", advice="--to srt, for instance")
    if options.get("into") is not None:
        raise InputError("has no effect with --stdout", where="--into")
    with ExitStack() as stack:
        hidden = None if asked.no_keep else workspace.hidden
        recordings = _recordings(console, stack, asked, hidden)
        if len(recordings) > 1 and formats[0].name not in _IN_A_ROW:
            raise InputError(
                f"{formats[0].name} is printed of one recording, and there are {len(recordings)}",
                where="--stdout",
                advice="--to txt prints any number of them; without --stdout each has its files",
            )
        wanted = run_options(workspace, options)
        # With an empty list of formats nothing is written.
        wanted = msgspec.structs.replace(wanted, to=(), keep=not asked.no_keep)
        outcomes = transcribed(console, recordings, workspace, wanted)
    if asked.report is not None:
        write_report(asked.report, outcomes)
    _print(outcomes, formats[0], wanted.complete(workspace).writing or WriteOptions())
    show_problems(console, outcomes)
    return exit_code(outcomes)


def _recordings(
    console: Console, stack: ExitStack, asked: Arguments, hidden: Path | None
) -> list[Source]:
    """The recordings, with that from standard input, which lies in a file until the end: in memory
    where there is no other place.
    """
    found: list[Source] = []
    if "-" in asked.sources:
        if sys.stdin.isatty():
            raise InputError("standard input is a terminal: pipe a recording into it", where="-")
        # With --no-keep nothing is put on the disk.
        place = hidden or stack.enter_context(memory_folder())
        found.append(kept_input(sys.stdin.buffer, place, asked.name or DEFAULT_NAME))
        stack.callback(drop_input, found[0])
    others = [source for source in asked.sources if source != "-"]
    return [*found, *find_recordings(others, on_note=lambda note: console.notes([note]))]


def _print(outcomes: Sequence[Outcome], form: OutputFormat, writing: WriteOptions) -> None:
    texts = [
        printed(Script(outcome.transcript), form, writing, outcome.recording.name)
        for outcome in outcomes
        if outcome.transcript is not None
    ]
    # As the format has it: the console would mend control characters.
    sys.stdout.write("\n".join(texts))
    sys.stdout.flush()
