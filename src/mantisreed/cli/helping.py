"""Help in short pages: the options that matter and the names of the groups, one group, or all; and
what a mistyped name may have meant.
"""

import argparse
import sys
import textwrap

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence
    from typing import Any

_SENDING = (
    *("--engine", "--language", "--to", "--into", "--hint", "--channels", "--spend-limit"),
    *("--overwrite", "--afresh", "--json"),
)
MAIN_OPTIONS = {
    "run": _SENDING,
    "submit": _SENDING,
    "watch": (*_SENDING[:7], "--move-done", "--until-idle", "--settle-time"),
    "convert": (
        *("--to", "--into", "--shift", "--stretch", "--from", "--until", "--join", "--encoding"),
        *("--recording", "--overwrite"),
    ),
    "export": (
        *("--to", "--into", "--stdout", "--layout", "--line-length", "--max-cps"),
        *("--strong-words", "--replace", "--redact", "--overwrite"),
    ),
    "check": ("--fix", "--language", "--recording", "--layout", "--plot", "--json"),
    "compare": ("--engines", "--reference", "--spend-limit", "--language", "--plot", "--json"),
}
"""The ten options that matter of commands with more than a page of them."""

GROUPS = (
    ("Transcribe", ("run", "watch", "submit", "collect", "work", "plan", "inspect")),
    ("Jobs", ("jobs", "retry", "cancel", "forget", "costs")),
    ("Subtitles and texts", ("export", "convert", "check", "sync")),
    ("Quality", ("doubts", "score", "compare", "vote", "amend", "review", "redact")),
    ("Engines and settings", ("init", "engines", "services", "trust", "doctor")),
    ("Service", ("serve", "tokens")),
    ("Try and read", ("demo", "standin", "docs", "completion")),
)
"""The commands, as `mantisreed --help` lists them."""

_REST = ("options", "positional arguments")


def add_help(parser: argparse.ArgumentParser, command: str) -> None:
    """The options that print help: the short page with `-h` where the command has one."""
    if command not in MAIN_OPTIONS:
        parser.add_argument("-h", "--help", action="help", help="Show this help and exit")
        return
    parser.add_argument(
        "-h",
        "--help",
        action=_Help,
        nargs=0,
        const=MAIN_OPTIONS[command],
        help="Show the options that matter most and exit",
    )
    parser.add_argument(
        "--help-all", action=_Help, nargs=0, const=None, help="Show all options and exit"
    )
    parser.add_argument(
        "--help-group",
        action=_Help,
        metavar="NAME",
        help="Show the options of one group, such as layout, and exit",
    )


class _Help(argparse.Action):
    """Prints one of the pages of help and exits."""

    def __init__(self, option_strings: "Sequence[str]", dest: str, **given: "Any") -> None:
        super().__init__(option_strings, argparse.SUPPRESS, default=argparse.SUPPRESS, **given)

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        namespace: argparse.Namespace,
        values: "Any",
        option_string: str | None = None,
    ) -> None:
        if self.metavar is not None:
            page = _group_page(parser, str(values))
        elif self.const is not None:
            page = _short_page(parser, self.const)
        else:
            page = parser.format_help().rstrip()
        sys.stdout.write(f"{page}\n")
        parser.exit()


def _short_page(parser: argparse.ArgumentParser, names: "Sequence[str]") -> str:
    """Arguments, the options of these names, and the groups in which the others are."""
    formatter = parser._get_formatter()
    placed = [action for action in parser._actions if not action.option_strings]
    formatter.add_usage(f"{parser.prog} [OPTION ...] {_written(placed)}", [], [])
    formatter.add_text(parser.description)
    formatter.start_section("arguments")
    formatter.add_arguments(placed)
    formatter.end_section()
    wanted = set(names)
    main = [action for action in parser._actions if not wanted.isdisjoint(action.option_strings)]
    formatter.start_section("main options")
    formatter.add_arguments(main)
    formatter.end_section()
    return "\n".join(
        (
            formatter.format_help().rstrip(),
            "",
            f"more options: {parser.prog} --help-all, or --help-group with one of these:",
            textwrap.fill(
                ", ".join(_groups_of(parser)),
                formatter._width,
                initial_indent="  ",
                subsequent_indent="  ",
            ),
            "",
            str(parser.epilog).rstrip(),
        )
    )


def _written(placed: "Iterable[argparse.Action]") -> str:
    """Positional arguments as a usage has them."""
    parts = []
    for action in placed:
        name = str(action.metavar or action.dest)
        parts.append(f"{name} [{name} ...]" if action.nargs == "+" else name)
    return " ".join(parts)


def _groups_of(parser: argparse.ArgumentParser) -> "list[str]":
    """The names of the groups that have options."""
    return [
        str(group.title)
        for group in parser._action_groups
        if group.title not in _REST and any(one.option_strings for one in group._group_actions)
    ]


def _group_page(parser: argparse.ArgumentParser, wanted: str) -> str:
    """One group of options; its name may be any word of its title."""
    groups = {str(group.title): group for group in parser._action_groups}
    # A part of the name is enough.
    title = next((name for name in _groups_of(parser) if wanted.lower() in name.lower()), None)
    if title is None:
        known = ", ".join(_groups_of(parser))
        parser.error(f"no group of options is called {wanted!r}: there are {known}")
    formatter = parser._get_formatter()
    formatter.start_section(title)
    formatter.add_arguments(groups[title]._group_actions)
    formatter.end_section()
    return formatter.format_help().rstrip()


def commands_listed(summaries: "dict[str, str]") -> str:
    """All commands by what they are for, with a line for each."""
    width = max(map(len, summaries)) + 2
    lines = []
    for title, names in GROUPS:
        lines += ["", f"{title}:"]
        lines += [f"  {name.ljust(width)}{summaries[name]}" for name in names]
    return "\n".join(lines)


def meant(given: str, known: "Iterable[str]") -> str:
    """`; did you mean X?` for a mistyped name, or nothing."""
    import difflib

    close = difflib.get_close_matches(given, list(known), n=1)
    return f"; did you mean {close[0]}?" if close else ""
