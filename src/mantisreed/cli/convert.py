"""`mantisreed convert`: subtitles and transcripts from one format into another."""

import argparse

from mantisreed.cli.arguments import (
    add_config,
    add_layout,
    add_overwrite,
    add_writing,
    described_changes,
    duration,
    workspace_if_any,
    write_options,
)
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path
    from typing import Any

    from mantisreed.exports.formats import OutputFormat
    from mantisreed.exports.script import Script

EXAMPLES = """\
examples:
  mantisreed convert talk.srt talk.vtt --shift 2.5s
  mantisreed convert part1.srt part2.srt whole.ttml --offsets 0,47:10
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `convert` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument(
        "files", nargs="+", metavar="FILE", help="what is read, and last what is written; - is stdout"
    )
    parser.add_argument("--to", metavar="FORMAT", help="format to write (default: by the name's ending)")
    parser.add_argument("--shift", metavar="DURATION", help="later by this much; earlier with a minus: --shift=-2s")
    parser.add_argument("--stretch", metavar="N/M", help="all times by this factor, such as 25/23.976")
    parser.add_argument("--from", dest="since", metavar="TIME", help="only what begins after this")
    parser.add_argument("--until", metavar="TIME", help="only what ends before this")
    parser.add_argument(
        "--offsets",
        metavar="TIMES",
        help="where each of several files begins: 0,47:10 (default: where the one before ends)",
    )
    parser.add_argument("--recording", metavar="FILE", help="time a plain text by where somebody speaks in this")
    parser.add_argument("--lay-out", action="store_true", help="lay cues out anew by the rules")
    add_overwrite(parser, "the file that is written")
    add_config(parser)
    add_writing(parser)
    add_layout(parser)


def run(
    console: Console,
    *,
    files: "Sequence[str]",
    to: str | None = None,
    shift: str | None = None,
    stretch: str | None = None,
    since: str | None = None,
    until: str | None = None,
    offsets: str | None = None,
    recording: str | None = None,
    lay_out: bool = False,
    overwrite: bool = False,
    config: str | None = None,
    **writing: "Any",
) -> int:
    """Read, change, write; what was mended is told on stderr."""
    import sys
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.exports.changes import joined_scripts, one_after_the_other
    from mantisreed.exports.formats import chosen_formats, format_of
    from mantisreed.exports.wording import reworded
    from mantisreed.files import write_whole
    from mantisreed.pipeline.exporting import read_script
    from mantisreed.subtitles.rules import LayoutRules
    from mantisreed.units import clock

    if len(files) < 2:
        raise InputError(
            "one file to read and one to write are needed", advice="- writes to stdout, with --to FORMAT"
        )
    *sources, target = files
    form = chosen_formats([to])[0] if to else format_of(Path(target))
    if target != "-":
        _check_target(Path(target), [Path(source) for source in sources], form, overwrite=overwrite)
    scripts = [read_script(Path(file), None, Path(recording) if recording else None) for file in sources]
    moments = [_time(one, "--offsets") for one in offsets.split(",")] if offsets else one_after_the_other(scripts)
    if len(moments) != len(scripts):
        raise InputError(f"{len(scripts)} files are read, and {len(moments)} times are given", where="--offsets")
    script = joined_scripts(scripts, moments) if len(scripts) > 1 else scripts[0]
    if len(scripts) > 1 and not offsets:
        console.note(f"note: the files begin at {', '.join(map(clock, moments))}; --offsets changes that")
    script = _changed(script, shift, stretch, since, until)
    options = write_options(workspace_if_any(config), **writing)
    rules = {"layout", *LayoutRules.__struct_fields__} - {"speakers"}  # marking speakers moves no words
    if lay_out or any(writing.get(name) is not None for name in rules):
        script = _without_cues(script)
    script, changes = reworded(script, options.wording)
    content = form.write(script, options, Path(sources[0]).stem)
    for note in dict.fromkeys((*script.notes, *described_changes(changes))):
        console.note(f"note: {note}")
    if target == "-":
        sys.stdout.write(content.decode())
    else:
        write_whole(Path(target), content)
    return 0


def _check_target(target: "Path", sources: "Sequence[Path]", form: "OutputFormat", *, overwrite: bool) -> None:
    """See that nothing of the user's would be lost.

    Raises:
        OutputError: the file is there and is not to be overwritten, or is one of those that are read.
    """
    from mantisreed.errors import InputError, OutputError
    from mantisreed.exports.formats import format_of
    from mantisreed.files import printable

    if not target.exists():
        return
    if any(source.exists() and source.samefile(target) for source in sources):
        raise OutputError("is read, and would be written over", where=printable(target), advice="name another file")
    try:
        found = format_of(target)
    except InputError:
        found = form
    if found.name != form.name:
        raise OutputError(
            f"exists already and is {found.name}, but {form.name} would be written",
            where=printable(target),
            advice="the last file is the one that is written: name one that does not exist yet",
        )
    if not overwrite:
        raise OutputError("exists already", where=printable(target), advice="--overwrite overwrites it")


def _without_cues(script: "Script") -> "Script":
    """To be laid out anew."""
    from mantisreed.exports.script import Script

    lost = "marks of style and places of cues were left out"
    has_marks = any(cue.marks or cue.settings for cue in script.cues or ())
    notes = (*script.notes, lost) if has_marks else script.notes
    return Script(script.as_transcript(""), None, notes, script.language)


def _changed(
    script: "Script", shift: str | None, stretch: str | None, since: str | None, until: str | None
) -> "Script":
    """Cut, stretched, then shifted."""
    import math

    from mantisreed.exports.changes import part, retimed

    if since is not None or until is not None:
        end = math.inf if until is None else _time(until, "--until")
        script = part(script, 0.0 if since is None else _time(since, "--from"), end)
    factor = 1.0 if stretch is None else _factor(stretch)
    by = 0.0
    if shift is not None:
        size = duration(shift.strip().lstrip("+-"), "--shift") or 0.0
        by = -size if shift.strip().startswith("-") else size
    return script if factor == 1.0 and by == 0.0 else retimed(script, lambda seconds: seconds * factor + by)


def _time(text: str, option: str) -> float:
    return duration(text.strip(), option) or 0.0


def _factor(text: str) -> float:
    from mantisreed.errors import InputError

    above, _, below = text.partition("/")
    try:
        factor = float(above) / float(below or 1)
    except (ValueError, ZeroDivisionError):
        factor = 0.0
    if not 0.01 < factor < 100:
        raise InputError(f"a factor such as 25/23.976 is expected, not {text!r}", where="--stretch")
    return factor
