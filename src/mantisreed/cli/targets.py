"""What commands write that name their files themselves: nothing of the user's is lost."""

from collections.abc import Sequence
from pathlib import Path

from mantisreed.errors import InputError, OutputError
from mantisreed.exports.formats import OutputFormat, chosen_formats, format_of
from mantisreed.exports.script import Script
from mantisreed.files import printable, write_whole
from mantisreed.pipeline.options_given import format_names
from mantisreed.transcript.document import Transcript


def write_into(
    folder: Path,
    stem: str,
    transcript: Transcript,
    to: str,
    sources: Sequence[Path],
    *,
    overwrite: bool,
) -> list[Path]:
    """Write a transcript into a folder in these formats; all targets are checked before the first
    is written.

    Raises:
        InputError: there is no such format.
        OutputError: a file is there and is not to be overwritten, or is one of those that are read.
    """
    targets = [
        (folder / f"{stem}{form.suffix}", form) for form in chosen_formats(format_names(to) or [])
    ]
    for target, form in targets:
        check_target(target, sources, form, overwrite=overwrite)
    folder.mkdir(parents=True, exist_ok=True)
    script = Script(transcript)
    for target, form in targets:
        write_whole(target, form.write(script, None, stem))
    return [target for target, _ in targets]


def check_target(
    target: Path, sources: Sequence[Path], form: OutputFormat, *, overwrite: bool
) -> None:
    """See that nothing of the user's would be lost.

    Raises:
        OutputError: the file is there and is not to be overwritten, or is one of those that are
            read.
    """
    if not target.exists():
        return
    _check_not_read(target, sources)
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
        raise OutputError(
            "exists already", where=printable(target), advice="--overwrite overwrites it"
        )


def check_copy(target: Path, sources: Sequence[Path], *, overwrite: bool) -> None:
    """The same for a copy of a recording, which has no format of ours.

    Raises:
        OutputError: the file is there and is not to be overwritten, or is one of those that are
            read.
    """
    if not target.exists():
        return
    _check_not_read(target, sources)
    if not overwrite:
        raise OutputError(
            "exists already", where=printable(target), advice="--overwrite overwrites it"
        )


def _check_not_read(target: Path, sources: Sequence[Path]) -> None:
    if any(source.exists() and source.samefile(target) for source in sources):
        raise OutputError(
            "is read, and would be written over",
            where=printable(target),
            advice="name another file",
        )
