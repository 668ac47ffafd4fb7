"""Write the pages of the manual that are looked up, and the man page, from the code.

    python tools/reference.py [--check]

`docs/commands*.md` and `docs/mantisreed.1` come from the arguments of the commands, and
`docs/formats.md` from the table of formats. `docs/http-api.md` comes from the description of the
service. With `--check` nothing is written, and the exit code is 1 where a page is old.
"""

import argparse
import os
import re
import sys
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

os.environ["COLUMNS"] = "100"  # help is folded for a terminal, and this one is as good as any

from mantisreed.cli import main as program
from mantisreed.cli.helping import GROUPS
from mantisreed.exports.formats import FORMATS
from mantisreed.exports.losses import WITHOUT_PLACES
from mantisreed.jobs.life import MEANINGS
from mantisreed.version import __version__

DOCS = Path(__file__).resolve().parent.parent / "docs"
_MADE = "<!-- made by tools/reference.py -->"
_EXIT_CODES = (
    (program.DONE, "everything is done"),
    (program.SOME_FAILED, "at least one recording or follow-up failed or is incomplete"),
    (program.WRONG_USE, "wrong option, setting or input"),
    (program.NOT_FINISHED, "some recordings wait, for example at the spend limit; run it again"),
    (program.INTERRUPTED, "interrupted (Ctrl-C); run the same command again"),
)
_VARIABLES = (
    ("MANTISREED_TRUST", "a folder whose settings are trusted, for machines without a terminal"),
    ("XDG_CONFIG_HOME", "where the user's own settings and trust are kept"),
    ("XDG_CACHE_HOME", "where things are kept that can be made again"),
    ("HTTP_PROXY, HTTPS_PROXY, NO_PROXY", "proxies for engines that are not on this machine"),
    ("NO_COLOR, COLUMNS", "how the terminal is written to"),
)


def pages() -> dict[str, str]:
    """The content of each file, by its name."""
    parsers = commands()
    return {
        **command_pages(parsers),
        "mantisreed.1": man_page(parsers),
        "formats.md": formats_page(),
        "http-api.md": api_page(),
    }


def commands() -> dict[str, argparse.ArgumentParser]:
    """The parser of each command, in the order of the program's help."""
    whole = program._parser(list(program.COMMANDS))
    found = next(one for one in whole._actions if isinstance(one, argparse._SubParsersAction))
    return {name: found.choices[name] for _, names in GROUPS for name in names}


def command_pages(parsers: Mapping[str, argparse.ArgumentParser]) -> dict[str, str]:
    """A page for each group of commands, one for the options that several commands share, and one
    that leads to them.
    """
    shared = {**_transcribing(parsers), **_shared_tables(parsers)}
    pages = {
        f"commands-{_slug(heading)}.md": _group_page(
            heading, {name: parsers[name] for name in names}, shared
        )
        for heading, names in GROUPS
    }
    pages["commands-options.md"] = _options_page(shared)
    pages["commands.md"] = _overview(parsers)
    return pages


def _slug(heading: str) -> str:
    """The first word of a heading, as a part of a file's name."""
    return heading.split()[0].lower()


def _overview(parsers: Mapping[str, argparse.ArgumentParser]) -> str:
    lines = [
        "# Commands",
        "",
        "Look up every command. `mantisreed COMMAND --help` prints its options; "
        "[options of several commands](commands-options.md) has those that many take.",
        "",
        _MADE,
    ]
    for heading, names in GROUPS:
        page = f"commands-{_slug(heading)}.md"
        lines += ["", f"## {heading}", "", "| command | |", "|---|---|"]
        lines += [
            f"| [`{name}`]({page}#{name}) | {_cell(str(parsers[name].description))} |"
            for name in names
        ]
    lines += ["", "## States of jobs", "", "| state | means | what to do |", "|---|---|---|"]
    lines += [
        f"| `{state}` | {_cell(told.means)} | {_cell(told.next)} |"
        for state, told in MEANINGS.items()
    ]
    lines += ["", "## Exit codes", "", "| code | means |", "|---|---|"]
    lines += [f"| {code} | {meaning} |" for code, meaning in _EXIT_CODES]
    lines += ["", "## Environment", "", "| variable | what it says |", "|---|---|"]
    lines += [f"| `{name}` | {meaning} |" for name, meaning in _VARIABLES]
    return "\n".join(lines) + "\n"


def _group_page(
    heading: str, parsers: Mapping[str, argparse.ArgumentParser], shared: "_Tables"
) -> str:
    lines = [
        f"# Commands: {heading.lower()}",
        "",
        "Look up the commands of one group. [All commands](commands.md) has the others.",
        "",
        _MADE,
    ]
    for name, parser in parsers.items():
        lines += ["", f"## {name}", "", f"{parser.description}.", *_tables(parser, shared)]
        for inner, action in _inner(parser):
            lines += ["", f"### {name} {inner}", "", f"{action.description}."]
            lines += _tables(action, shared)
        lines += ["", "```sh", *_examples(parser), "```"]
    return "\n".join(lines) + "\n"


def _options_page(shared: "_Tables") -> str:
    lines = [
        "# Options of several commands",
        "",
        "Look up the options that several commands share. [All commands](commands.md) says which "
        "command has which.",
        "",
        _MADE,
    ]
    for (title, rows), names in shared.items():
        lines += ["", f"## {title}", "", f"Of {', '.join(f'`{name}`' for name in names)}."]
        lines += _table(title, rows)
    return "\n".join(lines) + "\n"


def _transcribing(parsers: Mapping[str, argparse.ArgumentParser]) -> "_Tables":
    """What all commands that transcribe take, as one table."""
    lists = [dict(_arguments(parsers[name]))["options"] for name in _TRANSCRIBING]
    rows = tuple(row for row in lists[0] if all(row in others for others in lists[1:]))
    return {("transcribing", rows): list(_TRANSCRIBING)}


def _shared_tables(parsers: Mapping[str, argparse.ArgumentParser]) -> "_Tables":
    """Tables of options that are the same for several commands, with these. Where there are two of
    one title, only the longer one: each has one place.
    """
    found: _Tables = {}
    for name, parser in parsers.items():
        for title, rows in _arguments(parser):
            if title not in _OWN_TABLES:
                found.setdefault((title, tuple(rows)), []).append(name)
    most: dict[str, int] = {}
    for (title, table), names in found.items():
        if len(names) > 1:
            most[title] = max(most.get(title, 0), len(table))
    return {
        (title, table): names
        for (title, table), names in found.items()
        if len(names) > 1 and len(table) == most[title]
    }


def _inner(parser: argparse.ArgumentParser) -> Iterator[tuple[str, argparse.ArgumentParser]]:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            yield from action.choices.items()


def _examples(parser: argparse.ArgumentParser) -> list[str]:
    text = str(parser.epilog or "").partition("examples:")[2]
    return [line.strip() for line in text.splitlines() if line.strip().startswith("mantisreed")]


_Tables = dict[tuple[str, tuple[tuple[str, str], ...]], list[str]]
"""The commands that have a table of options, by its title and its rows."""

_TRANSCRIBING = ("run", "watch", "submit")
"""Commands that take the same options for what they do with a recording."""

_OWN_TABLES = frozenset(("positional arguments", "options"))
"""Titles of the tables that tell what a command itself does."""

_GENERAL = ("--help", "--quiet", "--verbose", "--log-file", "--trust")
"""Options of every command, which are told once."""


def _arguments(
    parser: argparse.ArgumentParser,
) -> Iterator[tuple[str, list[tuple[str, str]]]]:
    """The groups of a command's arguments, with what is written and what it does."""
    formatter = parser._get_formatter()
    for group in parser._action_groups:
        rows: list[tuple[str, str]] = []
        for action in group._group_actions:
            is_general = any(option in _GENERAL for option in action.option_strings)
            is_inner = isinstance(action, argparse._SubParsersAction)
            if action.help is argparse.SUPPRESS or is_general or is_inner:
                continue
            written = formatter._format_action_invocation(action)
            rows.append((written, formatter._expand_help(action) if action.help else ""))
        if rows:
            yield str(group.title), rows


def _tables(parser: argparse.ArgumentParser, shared: "_Tables") -> list[str]:
    lines: list[str] = []
    links: list[str] = []
    for title, rows in _arguments(parser):
        left = rows
        for name, those in shared:
            if title in (name, "options") and set(those) <= set(left):
                links.append(f"[{name}](commands-options.md#{name.replace(' ', '-')})")
                left = [row for row in left if row not in those]
        if left:
            lines += _table(title, left)
    if links:
        lines += ["", f"Also the options of {', '.join(links)}."]
    return lines


def _table(title: str, rows: Iterable[tuple[str, str]]) -> list[str]:
    lines = ["", f"| {title} | |", "|---|---|"]
    lines += [f"| `{_cell(written)}` | {_cell(help_text)} |" for written, help_text in rows]
    return lines


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|")


def man_page(parsers: Mapping[str, argparse.ArgumentParser]) -> str:
    """The man page, in the macros of man(7)."""
    lines = [
        f'.TH MANTISREED 1 "" "mantisreed {__version__}" "User Commands"',
        ".SH NAME",
        "mantisreed \\- recordings in, timestamped transcripts and subtitles out",
        ".SH SYNOPSIS",
        ".B mantisreed",
        "COMMAND [OPTION ...]",
        ".SH DESCRIPTION",
        "Sends recordings to the speech-to-text engine that a card in mantisreed.toml describes,",
        "and writes transcripts and subtitles.",
        ".SH COMMANDS",
    ]
    for name, parser in parsers.items():
        lines += [f'.SS "mantisreed {name}"', _roff(f"{parser.description}.")]
        for inner, action in (("", parser), *_inner(parser)):
            if inner:
                lines += [
                    ".PP",
                    f".B {_roff(f'{name} {inner}')}",
                    ".br",
                    _roff(f"{action.description}."),
                ]
            for _, rows in _arguments(action):
                for written, help_text in rows:
                    lines += [".TP", f".B {_roff(written)}", _roff(_cell_text(help_text))]
    lines += [".SH EXIT STATUS"]
    for code, meaning in _EXIT_CODES:
        lines += [".TP", f".B {code}", _roff(meaning)]
    lines += [".SH ENVIRONMENT"]
    for name, meaning in _VARIABLES:
        lines += [".TP", f".B {_roff(name)}", _roff(meaning)]
    lines += [".SH SEE ALSO", "mantisreed docs prints the pages of the manual."]
    return "\n".join(lines) + "\n"


def _cell_text(text: str) -> str:
    return " ".join(text.split())


def _roff(text: str) -> str:
    """A text with what the macros would read otherwise escaped."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return re.sub(r"^([.'])", r"\\&\1", escaped)


def formats_page() -> str:
    lines = [
        "# Formats",
        "",
        "Look up the formats of `--to`. The last column lists the facts that a format keeps "
        "besides the text.",
        "",
        _MADE,
        "",
        "| format | file | media type | read again | keeps besides the text |",
        "|---|---|---|---|---|",
    ]
    for form in FORMATS:
        suffixes = ", ".join(f"`{suffix}`" for suffix in (form.suffix, *form.other_suffixes))
        says = "nothing"
        if form.says != WITHOUT_PLACES:
            says = ", ".join(sorted(form.says))
        is_read = "yes" if form.read_text is not None else "no"
        lines.append(
            f"| `{form.name}` | {suffixes} | `{form.media_type}` | {is_read} | {_cell(says)} |"
        )
    return "\n".join(lines) + "\n"


def api_page() -> str:
    """The operations of the service, as it describes itself."""
    document = description()
    lines = [
        "# HTTP API",
        "",
        "Look up the requests of the service. `GET /openapi.json` describes every field for "
        "programs. [serve.md](serve.md) begins with an example.",
        "",
        _MADE,
        "",
        "| request | does | answers |",
        "|---|---|---|",
    ]
    for path, item in document["paths"].items():
        for verb, operation in item.items():
            codes = ", ".join(code for code in operation["responses"] if code < "400")
            said = operation.get("summary") or operation.get("description", "")
            text = operation.get("description") or said
            lines.append(f"| `{verb.upper()} {path}` | {_cell(text)} | {codes} |")
    lines += ["", "Errors are `application/problem+json` (RFC 9457)."]
    for path, item in document["paths"].items():
        for verb, operation in item.items():
            parameters = operation.get("parameters") or []
            if not parameters:
                continue
            lines += [
                "",
                f"## {verb.upper()} {path}",
                "",
                "| parameter | in | says |",
                "|---|---|---|",
            ]
            for one in parameters:
                says = _cell(one.get("description") or one["schema"].get("description", ""))
                lines.append(f"| `{one['name']}` | {one['in']} | {says} |")
    return "\n".join(lines) + "\n"


def description() -> dict[str, Any]:
    """What the service says of itself."""
    from mantisreed.serving.app import application
    from mantisreed.serving.service import ServeOptions, Service
    from mantisreed.workspace import open_workspace

    with tempfile.TemporaryDirectory() as folder:
        settings = Path(folder) / "mantisreed.toml"
        settings.touch()
        service = Service(open_workspace(settings), ServeOptions())
        return dict(application(service).openapi())


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument(
        "--check", action="store_true", help="only see whether they are as they are"
    )
    is_checking = parser.parse_args().check
    old = []
    for name, content in pages().items():
        file = DOCS / name
        if not file.exists() or file.read_text(encoding="utf-8") != content:
            old.append(name)
            if not is_checking:
                file.write_text(content, encoding="utf-8")
    print(f"{'old' if is_checking else 'written'}: {', '.join(old) or 'nothing'}")
    return int(is_checking and bool(old))


if __name__ == "__main__":
    sys.exit(main())
