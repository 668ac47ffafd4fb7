"""The program: finds the command, runs it, and turns what went wrong into two lines and an exit
code.

Only what `--help` needs is imported here; a command's own imports wait until it runs.
"""

import argparse
import gc
import os
import sys
from importlib import import_module

from mantisreed.cli.console import Console, terminal_width
from mantisreed.cli.helping import add_help, commands_listed, meant
from mantisreed.errors import InputError, MantisreedError, refused_by_system
from mantisreed.version import __version__

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Sequence
    from types import ModuleType
    from typing import Any, NoReturn

DONE, SOME_FAILED, WRONG_USE, NOT_FINISHED, INTERRUPTED = 0, 1, 2, 3, 130
"""Exit codes."""

COMMANDS = {
    "run": ("transcribing", "Send recordings to an engine; write transcripts and subtitles"),
    "watch": ("transcribing", "Watch folders; transcribe new recordings"),
    "inspect": ("transcribing", "Show the properties of recordings, with advice; send nothing"),
    "plan": ("transcribing", "Show the pieces and the cost of a run; send nothing"),
    "submit": ("transcribing", "Submit recordings without waiting; print their job IDs"),
    "work": ("transcribing", "Take recordings from the queue, on any number of machines"),
    "collect": ("transcribing", "Fetch finished jobs and write their outputs"),
    "export": ("subtitles", "Write transcripts in any format again from kept replies, at no cost"),
    "convert": (
        "subtitles",
        "Convert subtitles and transcripts to another format; shift, cut, join them",
    ),
    "sync": ("subtitles", "Lay subtitles on their recording again: shifted, drifted or cut"),
    "check": ("subtitles", "List violations of the layout rules in subtitles, and fix them"),
    "doubts": ("quality", "List doubtful passages of a transcript, and why"),
    "score": ("quality", "Compare transcripts with a reference: word and character error rates"),
    "compare": ("quality", "Send recordings to several engines and compare the transcripts"),
    "vote": ("quality", "Make one transcript out of several of the same recording"),
    "amend": (
        "quality",
        "Lay a corrected text over its transcript; keep the times of all other words",
    ),
    "review": ("quality", "Write a page to hear, read and correct a transcript on"),
    "redact": ("quality", "Find personal data in a transcript; hide it in text and in sound"),
    "jobs": ("jobs", "List jobs and their states; show one job with its attempts"),
    "retry": ("transcribing", "Resume or retry jobs; finished pieces are never paid for twice"),
    "cancel": ("jobs", "Cancel jobs, also at the engine where it can"),
    "forget": ("jobs", "Remove the kept replies of jobs"),
    "costs": ("jobs", "Sum the charges by engine and day or month"),
    "serve": ("setup", "Serve an HTTP API and a board; or listen to engines that call back"),
    "tokens": ("setup", "Create, list and revoke tokens of the HTTP service"),
    "engines": ("setup", "List, show, check and try engine cards; learn one from a sample"),
    "services": ("setup", "List text services: translators, judges, digests, voices"),
    "trust": ("setup", "Trust the settings in a folder, with their keys and addresses"),
    "init": ("setup", "Write a first settings file with a card for your engine"),
    "doctor": ("setup", "Check versions, settings, trust, secrets, engines, ledger and disk"),
    "docs": ("setup", "Print a page of the manual"),
    "completion": ("setup", "Print the completion code of a shell: commands, engines, job IDs"),
    "demo": ("setup", "Try everything on made-up recordings, without network or account"),
    "standin": ("setup", "Serve simulated engines and services on this machine, to test against"),
}
"""Command, the folder where it lives, and what it is for. The folder's `arguments` module has its
`add_COMMAND`, and its module of the command's own name has its `run`.
"""


class _Parser(argparse.ArgumentParser):
    """Says what is wrong in two lines, without the whole usage."""

    def error(self, message: str) -> "NoReturn":
        prog = self.prog
        words = message.split()
        if message.startswith("unrecognized arguments:"):
            # Only the whole program's parser says so; the help is that of the command.
            command = next((one for one in sys.argv[1:] if one in COMMANDS), None)
            known = self.options_of(command) if command else ()
            prog = f"{prog} {command}" if command else prog
            options = (word for word in words[2:] if word.startswith("-"))
            option = next(options, None)
            message = f"one argument too many: {words[2]!r}"
            if option is not None:
                message = f"unknown option {option!r}{meant(option, known)}"
        elif "invalid choice:" in message and "COMMAND" in message:
            given = message.partition("invalid choice: ")[2].partition("'")[2].partition("'")[0]
            message = f"unknown command {given!r}{meant(given, COMMANDS)}"
        advice = f"see {prog} --help"
        if any(given.startswith("-") and os.path.lexists(given) for given in sys.argv[1:]):
            advice = "put -- before names of files that begin with a dash"
        self.exit(WRONG_USE, f"{prog}: {message}\n  {advice}\n")

    def options_of(self, command: str) -> "list[str]":
        """The options of a command that is asked for."""
        for action in self._actions:
            if isinstance(action, argparse._SubParsersAction):
                return list(action.choices[command]._option_string_actions)
        return []


def main(arguments: "Sequence[str] | None" = None) -> int:
    """Run the command line; gives the exit code."""
    # Loading libraries makes hundreds of thousands of objects that stay; looking through them again
    # and again for garbage took a tenth of the time to start.
    gc.set_threshold(50_000, 20, 50)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    given = list(sys.argv[1:] if arguments is None else arguments)
    if "_ARGCOMPLETE" in os.environ:  # a shell asks, at each press of a key
        from mantisreed.cli.completing import complete, words_so_far

        complete(_parser(words_so_far()))
    # A parser of its own for each of some forty commands took most of the time of `--help`.
    parser = _parser(given, [name for name in COMMANDS if name in given])
    values = vars(parser.parse_args(given))
    command = values.pop("command")
    console = Console(
        quiet=values.pop("quiet"), verbose=values.pop("verbose"), log_file=values.pop("log_file")
    )
    is_trusting = values.pop("trust")
    try:
        console.start_log()
        code = _run(console, command, values, is_trusting=is_trusting)
        sys.stdout.flush()
    except (Exception, KeyboardInterrupt) as error:
        code = _told(console, error)
    return code


def _told(console: Console, error: Exception | KeyboardInterrupt) -> int:
    """Tell what went wrong; gives the exit code. The one place where errors become codes."""
    if isinstance(error, KeyboardInterrupt):
        console.note("interrupted; all answers are safe, and the same command resumes")
        return INTERRUPTED
    if isinstance(error, BrokenPipeError):
        # Whoever read our output has gone; point stdout elsewhere so that the interpreter's own
        # flush is silent.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    elif isinstance(error, MantisreedError):
        console.problem(error)
    elif isinstance(error, OSError):
        console.problem(refused_by_system(error))
    else:
        console.bug(error)
    return WRONG_USE if isinstance(error, InputError) else SOME_FAILED


def _run(console: Console, command: str, values: "dict[str, Any]", *, is_trusting: bool) -> int:
    """What the command gives; where settings are not trusted and somebody is there to be asked,
    after asking.
    """
    module = import_module(f"mantisreed.cli.{COMMANDS[command][0]}.{command}")
    if is_trusting or "mantisreed.trust" in sys.modules:
        from mantisreed.trust import give_for_now

        give_for_now(is_given=is_trusting)
    try:
        code: int = module.run(console, _asked(module, values))
    except InputError as error:
        from mantisreed.cli.setup.trust import asked
        from mantisreed.trust import TrustError

        # It is raised before anything is done, so that the command can begin again.
        if not (isinstance(error, TrustError) and asked(console, error)):
            raise
        return _run(console, command, values, is_trusting=is_trusting)
    return code


def _asked(module: "ModuleType", values: "dict[str, Any]") -> "Any":
    """The values of arguments as a command wants them: its own by name, and the options that
    several commands share together.
    """
    own = module.Arguments.__dataclass_fields__
    chosen = {name: value for name, value in values.items() if name in own}
    shared = {name: value for name, value in values.items() if name not in own}
    if shared:
        chosen["options"] = shared
    return module.Arguments(**chosen)


def _parser(given: "Sequence[str]", names: "Collection[str]" = tuple(COMMANDS)) -> _Parser:
    """The parser, which knows commands by their names; those that are asked for get their own
    arguments.
    """
    parser = _Parser(
        prog="mantisreed",
        description="Recordings in, timestamped transcripts and subtitles out, by whichever "
        "engine you have.\n"
        + commands_listed({name: summary for name, (_, summary) in COMMANDS.items()}),
        epilog="examples:\n  mantisreed demo\n  mantisreed run interviews/ --engine brook "
        "--language en --to srt,vtt\n\n`mantisreed COMMAND --help` shows the options of a command.",
        usage="%(prog)s [-h] [--version] COMMAND ...",
        formatter_class=_help_formatter,
    )
    parser.add_argument("--version", action="version", version=f"mantisreed {__version__}")
    commands = parser.add_subparsers(
        dest="command", metavar="COMMAND", required=True, help=argparse.SUPPRESS, prog="mantisreed"
    )
    for name in names:
        folder, summary = COMMANDS[name]
        command = commands.add_parser(
            name, description=summary, formatter_class=_help_formatter, add_help=False
        )
        add_help(command, name)
        if name in given:
            arguments = import_module(f"mantisreed.cli.{folder}.arguments")
            inner = getattr(arguments, f"add_{name}")(command)
            _add_common_arguments(command)
            for action in inner or ():
                _add_common_arguments(action, default=argparse.SUPPRESS)
    return parser


_HELP_COLUMN = 26  # where texts begin; `--channels mix|apart|N` fits before it


def _help_formatter(prog: str) -> argparse.HelpFormatter:
    """As wide as the terminal."""
    width = terminal_width()
    return argparse.RawDescriptionHelpFormatter(
        prog, width=max(40, width - 2), max_help_position=_HELP_COLUMN
    )


def _add_common_arguments(
    parser: "argparse.ArgumentParser | argparse._ArgumentGroup", default: "str | None" = None
) -> None:
    """What every command takes; the actions of a command leave what is not given to the command
    itself.
    """
    is_off: str | bool = False
    if default is not None:
        is_off = default
    parser = parser.add_argument_group("general") if default is None else parser
    parser.add_argument(
        "-q", "--quiet", action="store_true", default=is_off, help="Only errors on stderr"
    )
    parser.add_argument(
        "-v", "--verbose", action="store_true", default=is_off, help="Say more on stderr"
    )
    parser.add_argument(
        "--log-file",
        metavar="FILE",
        default=default,
        help="Write everything that happens to FILE as well",
    )
    parser.add_argument(
        "--trust",
        action="store_true",
        default=is_off,
        help="Trust the settings this once (see `mantisreed trust`)",
    )
