"""`mantisreed convert`: subtitles and transcripts from one format into another."""

import math
import sys
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import described_changes
from mantisreed.cli.targets import check_target
from mantisreed.errors import InputError
from mantisreed.exports.changes import joined_scripts, one_after_the_other, part, retimed
from mantisreed.exports.formats import OutputFormat, chosen_formats, format_of
from mantisreed.exports.losses import WITHOUT_PLACES, losses
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.exports.wording import reworded
from mantisreed.files import printable, write_whole
from mantisreed.pipeline.options_given import (
    format_names,
    with_shots,
    workspace_if_any,
    write_options,
)
from mantisreed.review.personal import hidden_script
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.units import clock, duration_given
from mantisreed.workbench.exporting import ReadOptions, read_script


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `convert` is asked for; its arguments tell the same."""

    files: Sequence[str]
    to: str | None = None
    into: str | None = None
    join: bool = False
    offsets: str | None = None
    read_as: str | None = None
    encoding: str | None = None
    shift: str | None = None
    stretch: str | None = None
    since: str | None = None
    until: str | None = None
    recording: str | None = None
    lay_out: bool = False
    overwrite: bool = False
    video: str | None = None
    config: str | None = None
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Read, change, write; what was repaired or left out is told on stderr."""
    if asked.read_as:
        form = chosen_formats([asked.read_as])[0]
    else:
        form = None
    reading = ReadOptions(form, asked.encoding, Path(asked.recording) if asked.recording else None)
    options = with_shots(write_options(workspace_if_any(asked.config), asked.options), asked.video)
    change = _Change(
        asked.shift,
        asked.stretch,
        asked.since,
        asked.until,
        _is_laid_out(asked.lay_out, asked.options),
    )
    change.check()
    _check_files(asked.files, asked.to, asked.into, join=asked.join, offsets=asked.offsets)
    if asked.into is not None:
        forms = chosen_formats(format_names(asked.to) or [])
        sources = list(map(Path, asked.files))
        targets = _targets(sources, Path(asked.into), forms)
        for source, of_source in zip(sources, targets, strict=True):
            for target, one in of_source:
                check_target(target, sources, one, overwrite=asked.overwrite)
            script = _told(console, change.applied(read_script(source, reading)), options, source)
            _tell_losses(console, script, [one for _, one in of_source], source)
            for target, one in of_source:
                _write(target, one.write(script, options, source.stem))
        return 0
    *names, last = asked.files
    if asked.to:
        forms = chosen_formats([asked.to])
    else:
        forms = (format_of(Path(last)),)
    if last != "-":
        check_target(Path(last), list(map(Path, names)), forms[0], overwrite=asked.overwrite)
    scripts = [read_script(Path(name), reading) for name in names]
    if asked.join:
        script = _joined(console, scripts, asked.offsets)
    else:
        script = scripts[0]
    script = _told(console, change.applied(script), options, Path(names[0]))
    _tell_losses(console, script, forms, Path(names[0]))
    _write(Path(last), forms[0].write(script, options, Path(names[0]).stem))
    return 0


def _check_files(
    files: Sequence[str],
    to: str | None,
    into: str | None,
    *,
    join: bool,
    offsets: str | None,
) -> None:
    """See that it is clear what is read and what is written.

    Raises:
        InputError: it is not.
    """
    if into is not None and not to:
        raise InputError("there is no format", where="--into", advice="say which, such as --to vtt")
    if into is not None and join:
        raise InputError("joined files make one file, not a folder", where="--join")
    if into is None and len(files) < 2:
        raise InputError(
            "name one file to read and one to write",
            advice="- writes to standard output, with --to FORMAT; --into DIR writes into a folder",
        )
    if into is None and len(files) > 2 and not join:
        raise InputError(
            f"{len(files)} files are named, and one is read and one written",
            advice="--join joins all but the last into the last; --into DIR --to FORMAT converts "
            "each",
        )
    if offsets and not join:
        raise InputError(
            "only joined files have offsets",
            where="--offsets",
            advice="add --join",
        )


def _targets(
    sources: Sequence[Path], folder: Path, forms: Sequence[OutputFormat]
) -> list[list[tuple[Path, OutputFormat]]]:
    """What is written of each source; no two are written under the same name.

    Raises:
        InputError: two would be.
    """
    targets = [
        [(folder / f"{_stem(source)}{form.suffix}", form) for form in forms] for source in sources
    ]
    seen: dict[Path, Path] = {}
    for source, of_source in zip(sources, targets, strict=True):
        for target, _ in of_source:
            if target in seen:
                names = f"{printable(seen[target])} and {printable(source)}"
                raise InputError(
                    f"{names} would both be written as {printable(target.name)}",
                    where="--into",
                )
            seen[target] = source
    return targets


def _stem(source: Path) -> str:
    """A name without the ending of its format."""
    if source.name == "-":
        return "standard-input"
    try:
        suffix = format_of(source).suffix
    except InputError:
        return source.stem
    # `talk.timed.txt` is called talk.
    if source.name.lower().endswith(suffix):
        return source.name[: -len(suffix)]
    return source.stem


def _is_laid_out(lay_out: bool, writing: dict[str, Any]) -> bool:
    """Whether cues are laid out anew: where it is asked for, or a rule is named that moves
    words.
    """
    # Marking speakers moves no words.
    rules = {"layout", *LayoutRules.__struct_fields__} - {"speakers"}
    return lay_out or any(writing.get(name) is not None for name in rules)


def _joined(console: Console, scripts: Sequence[Script], offsets: str | None) -> Script:
    """The scripts one after the other."""
    if offsets:
        moments = [_time(one, "--offsets") for one in offsets.split(",")]
    else:
        moments = one_after_the_other(scripts)
    if len(moments) != len(scripts):
        raise InputError(
            f"{len(scripts)} files are read, and {len(moments)} times are given",
            where="--offsets",
        )
    # Where nobody said it, it is guessed, and told.
    if not offsets and len(scripts) > 1:
        console.note(
            f"note: the files begin at {', '.join(map(clock, moments))}; --offsets changes that",
        )
    return joined_scripts(scripts, moments)


def _told(console: Console, script: Script, options: WriteOptions, source: Path) -> Script:
    """The script with its words changed as the options say; what was changed or repaired is
    told.
    """
    script, changes = reworded(hidden_script(script, options.redaction), options.wording)
    for note in dict.fromkeys((*script.notes, *described_changes(changes))):
        console.note(f"note: {printable(str(source))}: {note}")
    return script


def _tell_losses(
    console: Console, script: Script, forms: Sequence[OutputFormat], source: Path
) -> None:
    """Say what the formats cannot hold of what was read."""
    for form in forms:
        for note in losses(script.cues or (), script.head, form.says):
            if len(forms) > 1:
                of_form = f"in {form.name}, "
            else:
                of_form = ""
            console.note(f"note: {printable(str(source))}: {of_form}{note}")


def _write(target: Path, content: bytes) -> None:
    if str(target) != "-":
        target.parent.mkdir(parents=True, exist_ok=True)
        write_whole(target, content)
        return
    # The file's own bytes, whatever the terminal's encoding is; what stands in for it in tests may
    # have none.
    raw = getattr(sys.stdout, "buffer", None)
    if raw is None:
        sys.stdout.write(content.decode())
    else:
        raw.write(content)
        raw.flush()


def _without_cues(script: Script) -> Script:
    """To be laid out anew."""
    notes = (*script.notes, *losses(script.cues or (), (), WITHOUT_PLACES))
    return Script(script.as_transcript(""), None, notes, script.language)


@dataclass(frozen=True, slots=True)
class _Change:
    """How times and cues are changed, as it was said."""

    shift: str | None
    stretch: str | None
    since: str | None
    until: str | None
    is_laid_out: bool

    @property
    def span(self) -> tuple[float, float]:
        """What is kept, in seconds."""
        if self.since is None:
            start = 0.0
        else:
            start = _time(self.since, "--from")
        return start, math.inf if self.until is None else _time(self.until, "--until")

    def check(self) -> None:
        """See that a part is left.

        Raises:
            InputError: none is.
        """
        start, end = self.span
        if end <= start:
            raise InputError(
                "--from is not before --until, and nothing would be left", where="--until"
            )

    def applied(self, script: Script) -> Script:
        """The script cut, stretched, then shifted; without cues where they are laid out anew."""
        if self.since is not None or self.until is not None:
            # First, as the moments are those of the file that is read.
            script = part(script, *self.span)
        if self.stretch is None:
            factor = 1.0
        else:
            factor = _factor(self.stretch)
        by = 0.0
        if self.shift is not None:
            size = duration_given(self.shift.strip().lstrip("+-"), "--shift") or 0.0
            if self.shift.strip().startswith("-"):
                by = -size
            else:
                by = size
        if factor != 1.0 or by != 0.0:
            script = retimed(script, lambda seconds: seconds * factor + by)
        if self.is_laid_out:
            return _without_cues(script)
        return script


def _time(text: str, option: str) -> float:
    return duration_given(text.strip(), option) or 0.0


def _factor(text: str) -> float:
    above, _, below = text.partition("/")
    try:
        factor = float(above) / float(below or 1)
    except (ValueError, ZeroDivisionError):
        factor = 0.0
    if not 0.01 < factor < 100:
        raise InputError(f"expected a factor such as 25/23.976, not {text!r}", where="--stretch")
    return factor
