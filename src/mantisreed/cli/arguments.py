"""Arguments that several commands take, so that they read the same everywhere; those of a
transcription come from `mantisreed.options`.
"""

import argparse

from mantisreed import options
from mantisreed.options import Option

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable
    from typing import Any


def at_least(least: int) -> "Callable[[str], int]":
    """What reads a whole number that is not smaller, for argparse."""

    def number(given: str) -> int:
        # `int` also takes `1_000` and blanks.
        if not given.lstrip("+-").isdecimal() or int(given) < least:
            raise argparse.ArgumentTypeError(
                f"expected a whole number of {least} or more, not {given!r}"
            )
        return int(given)

    return number


def new_file(given: str) -> str:
    """The name of a file that is to be written, for argparse: seen to be possible before anything
    is done.
    """
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.files import check_new_file

    try:
        check_new_file(Path(given))
    except InputError as error:
        raise argparse.ArgumentTypeError(str(error)) from error
    return given


def new_picture(given: str) -> str:
    """The same for a picture, which needs more than other files do."""
    from mantisreed.extras import is_installed, missing

    if not is_installed("matplotlib"):
        error = missing("plot", "what draws pictures")
        raise argparse.ArgumentTypeError(f"{error.what}: {error.advice}")
    if not given.lower().endswith(".png"):
        raise argparse.ArgumentTypeError(
            f"pictures are PNG files: let the name {given!r} end in .png"
        )
    return new_file(given)


def share(given: str) -> float:
    """A number from 0 to 1, for argparse."""
    try:
        number = float(given)
    except ValueError:
        number = -1.0
    # False for NaN too.
    if not 0.0 <= number <= 1.0:
        raise argparse.ArgumentTypeError(f"expected a number from 0 to 1, not {given!r}")
    return number


def add_options(
    parser: argparse.ArgumentParser, rows: "Iterable[Option]", title: str | None = None
) -> None:
    """Options of the table, in a group of their own where it has a title."""
    group = parser if title is None else parser.add_argument_group(title)
    for option in rows:
        told = option.help
        if option.default is not None:
            told = f"{told} (default: {option.default})"
        group.add_argument(option.flag, dest=option.name, help=told, **_by_kind(option))


def _by_kind(option: Option) -> "dict[str, Any]":
    """How argparse takes a value of the option's kind. Durations, money and lists of names stay
    texts, as they come over HTTP.
    """
    if option.kind == "flag":
        return {"action": "store_true"}
    if option.choices:
        return {"choices": option.choices}
    if option.kind == "names" or option.name == "engine":
        return {"metavar": option.metavar, "action": _Joined}
    kinds: dict[str, dict[str, Any]] = {
        "texts": {"action": "append"},
        "number": {"type": float},
        "count": {"type": at_least(1)},
    }
    return {"metavar": option.metavar, **kinds.get(option.kind, {})}


class _Joined(argparse.Action):
    """Names with commas between, given at once or one after the other."""

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        namespace: argparse.Namespace,
        values: "Any",
        option_string: str | None = None,
    ) -> None:
        before = getattr(namespace, self.dest)
        joined = values if before is None else f"{before},{values}"
        setattr(namespace, self.dest, joined)


def add_json(parser: argparse.ArgumentParser, told: str) -> None:
    """Results for programs; `told` says which."""
    parser.add_argument("--json", action="store_true", dest="as_json", help=told)


def add_plot(parser: argparse.ArgumentParser, told: str) -> None:
    """A figure; `told` says of what."""
    parser.add_argument("--plot", type=new_picture, metavar="FILE.png", help=told)


def add_sources(parser: argparse.ArgumentParser) -> None:
    """The recordings, and which of them."""
    parser.add_argument(
        "sources",
        nargs="+",
        metavar="SOURCE",
        help="Recording, folder, table, feed, address; - for stdin",
    )
    rows = (*options.TRACK, *options.FOLDERS, *options.TABLES, *options.FEEDS)
    add_options(parser, rows, "sources")


def add_config(parser: argparse.ArgumentParser, default: str | None = None) -> None:
    """The settings file."""
    parser.add_argument(
        "--config",
        metavar="FILE",
        default=default,
        help="Settings file (default: mantisreed.toml here or above)",
    )


def add_engine(parser: argparse.ArgumentParser) -> None:
    """The settings file and the engine."""
    add_config(parser)
    add_options(parser, options.ENGINE)


def add_pieces(parser: argparse.ArgumentParser) -> None:
    """How recordings are cut and what of them is sent."""
    add_options(parser, options.PIECES, "pieces")


def add_sending(parser: argparse.ArgumentParser) -> None:
    """What is asked of an engine, where the outputs go, and what it may cost."""
    add_engine(parser)
    add_options(parser, options.REQUEST)
    add_options(parser, options.TRANSLATIONS, "translations")
    add_options(parser, options.FORMATS)
    add_writing(parser)
    add_layout(parser)
    add_options(parser, (*options.OUTPUT, *options.SPENDING))


def add_overwrite(parser: argparse.ArgumentParser, what: str = "outputs that were edited") -> None:
    """Whether files that are there already may be written over."""
    parser.add_argument("--overwrite", action="store_true", help=f"Overwrite {what}")


def add_formats(parser: argparse.ArgumentParser) -> None:
    """The output formats."""
    add_options(parser, options.FORMATS)


def add_layout(parser: argparse.ArgumentParser) -> None:
    """How cues are laid out."""
    add_options(parser, options.LAYOUT, "layout")


def add_writing(parser: argparse.ArgumentParser) -> None:
    """Which words are written, and how."""
    add_options(parser, options.ROWS)
    add_options(parser, options.WORDING, "wording")
    add_options(parser, options.REDACTION, "personal data")


def add_video(parser: argparse.ArgumentParser) -> None:
    """The picture that cues are laid on."""
    parser.add_argument(
        "--video",
        metavar="FILE",
        help="Find the shot changes in this, and let cues begin and end with them",
    )


def add_report(parser: argparse.ArgumentParser) -> None:
    """How results are given out."""
    add_json(parser, "Results as JSON on stdout")
    parser.add_argument(
        "--report",
        type=new_file,
        metavar="FILE.csv",
        help="Write a row for each recording to FILE.csv as well",
    )


def add_job_ids(parser: argparse.ArgumentParser, default: str) -> None:
    """Jobs by their ids; `default` says which are meant without."""
    parser.add_argument(
        "jobs",
        nargs="*",
        metavar="ID",
        help=f"A job, by any beginning of its id (default: {default})",
    )
