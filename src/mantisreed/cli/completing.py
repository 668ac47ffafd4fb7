"""Completing words in a shell: options, engines, layouts, formats, jobs and pages. It runs at each
press of a key, so that only what a word needs is read.
"""

import argparse
import os
import tomllib
from collections.abc import Callable, Iterable, Iterator
from contextlib import closing, suppress
from pathlib import Path

import argcomplete
from argcomplete.shell_integration import shellcode

from mantisreed.errors import MantisreedError
from mantisreed.settings import SETTINGS_FILE, user_settings_file

VARIABLE = "_ARGCOMPLETE"
"""The shell sets it when it asks for completions."""

_LINE = "COMP_LINE"
_MOST_JOBS = 100  # the newest; who looks for an older one lists them


def words_so_far() -> list[str]:
    """The words of the line that is being completed."""
    return os.environ.get(_LINE, "").split()


def complete(parser: argparse.ArgumentParser) -> None:
    """Answer the shell and end, with the arguments of the command that the line names."""
    for action in _actions(parser):
        chosen = _completer_for(action)
        if chosen is not None:
            action.completer = chosen  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser, always_complete_options="long")


def shell_code(shell: str) -> str:
    """What a shell has to read once to complete the program's words."""
    return str(shellcode(["mantisreed"], shell=shell))


_Completer = Callable[..., Iterable[str]]


def _actions(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        yield action
        if isinstance(action, argparse._SubParsersAction):
            for inner in dict.fromkeys(action.choices.values()):
                yield from _actions(inner)


def _completer_for(action: argparse.Action) -> _Completer | None:
    """What completes the value of an argument; None for files and for free text."""
    options = action.option_strings
    if (
        "--engine" in options
        or "--engines" in options
        or (action.metavar == "NAME" and not options)
    ):
        return _listed(_engines)
    if "--layout" in options:
        return _listed(_layouts)
    if "--to" in options:
        return _listed(_formats)
    if action.metavar == "ID" and not options:
        return _listed(_jobs)
    if action.metavar == "TOPIC":
        return _listed(_pages)
    return None


def _listed(names: Callable[[], Iterable[str]]) -> _Completer:
    """Completes the last of several names with commas between."""

    def completed(prefix: str, **_: object) -> list[str]:
        # Of names with commas between, the last one is completed.
        before, comma, _last = prefix.rpartition(",")
        with suppress(OSError, ValueError, MantisreedError):  # the command itself will tell it
            return [f"{before}{comma}{name}" for name in names()]
        return []

    return completed


def _documents() -> Iterator[dict[str, object]]:
    """The settings files that count here, as they stand."""
    here = Path.cwd()
    own = (folder / SETTINGS_FILE for folder in (here, *here.parents))
    for file in (next((one for one in own if one.is_file()), None), user_settings_file()):
        if file is not None and file.is_file():
            # Not opened as a workspace: that would take longer than anybody waits for a completion.
            yield tomllib.loads(file.read_text(encoding="utf-8"))


def _engines() -> Iterator[str]:
    for document in _documents():
        engines = document.get("engine")
        for name, table in engines.items() if isinstance(engines, dict) else ():
            yield name
            yield from (f"{name}:{profile}" for profile in table.get("profile", ()))


def _layouts() -> Iterator[str]:
    from mantisreed.subtitles.rules import LAYOUTS

    yield from LAYOUTS
    for document in _documents():
        own = document.get("layout")
        yield from own if isinstance(own, dict) else ()


def _formats() -> Iterable[str]:
    from mantisreed.exports.formats import OUTPUT_FORMATS

    return OUTPUT_FORMATS


def _jobs() -> Iterator[str]:
    from mantisreed.jobs.ledger import open_ledger
    from mantisreed.workspace import open_workspace

    with closing(open_ledger(open_workspace(None))) as ledger:
        for record in ledger.listing.jobs(limit=_MOST_JOBS):
            yield record.id


def _pages() -> Iterator[str]:
    from mantisreed.cli.setup.docs import pages

    yield from pages()
