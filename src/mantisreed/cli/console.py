"""Where a command's words go: results to stdout, everything else to stderr and the log."""

import os
import re
import sys
from itertools import chain, repeat
from operator import add

from mantisreed.errors import InputError, MantisreedError

TYPE_CHECKING = False
if TYPE_CHECKING:
    import logging
    from collections.abc import Iterable, Sequence
    from typing import Any

    import rich.console
    import rich.table


class Console:
    """What a command may say."""

    def __init__(
        self, *, quiet: bool = False, verbose: bool = False, log_file: str | None = None
    ) -> None:
        self.is_quiet = quiet
        self.is_verbose = verbose
        self._log_file = log_file

    def start_log(self) -> None:
        """Let the log flow to where the options say.

        Raises:
            InputError: cannot write the log file.
        """
        if not (self.is_verbose or self._log_file):
            return
        import logging

        logger = logging.getLogger("mantisreed")
        logger.setLevel(logging.DEBUG)
        handlers: list[logging.Handler] = []
        if self.is_verbose:
            handlers.append(logging.StreamHandler())
            handlers[-1].setLevel(logging.INFO)
        if self._log_file:
            from logging.handlers import RotatingFileHandler  # for programs that run for weeks

            try:
                handlers.append(
                    RotatingFileHandler(
                        self._log_file,
                        maxBytes=_LARGEST_LOG,
                        backupCount=_OLD_LOGS,
                        encoding="utf-8",
                        errors="backslashreplace",
                    )
                )
            except OSError as error:
                raise InputError("cannot write the log file", where=self._log_file) from error
        for handler in handlers:
            handler.setFormatter(_formatter())
            logger.addHandler(handler)

    def result(self, text: str) -> None:
        """A line of the result, to stdout."""
        # At once: somebody may read it through a pipe while we work.
        print(_shown(text), flush=True)  # noqa: T201

    def note(self, text: str) -> None:
        """A line about how things go, to stderr unless the user wants quiet."""
        if not self.is_quiet:
            print(_shown(text), file=sys.stderr, flush=True)  # noqa: T201

    def notes(self, texts: "Iterable[str]") -> None:
        """What the user should know, a line each, marked as notes."""
        for text in texts:
            self.note(f"note: {text}")

    def problem(self, error: MantisreedError, about: str = "") -> None:
        """What went wrong, and on a second line what to do about it; `about` names the recording it
        happened to.
        """
        told = str(error)
        if not about or told.startswith(about):
            text = f"mantisreed: {told}"
        else:
            text = f"mantisreed: {about}: {told}"
        if error.advice:
            text += f"\n  {error.advice}"
        print(_shown(text), file=sys.stderr, flush=True)  # noqa: T201
        self._log_trace(error)

    def bug(self, error: Exception) -> None:
        """Something happened that nobody thought of."""
        print(_shown(f"mantisreed: unexpected {type(error).__name__}: {error}"), file=sys.stderr)  # noqa: T201
        print("  this is a fault in mantisreed; -v or --log-file FILE shows where", file=sys.stderr)  # noqa: T201
        self._log_trace(error)

    def terminal(self) -> "rich.console.Console":
        """The error stream, for drawing on when it is a terminal."""
        import rich.console

        return rich.console.Console(stderr=True, highlight=False)

    def document(self, document: object) -> None:
        """A JSON document, on one line of the result."""
        import msgspec

        self.result(msgspec.json.encode(document).decode())

    def table(self, table: "rich.table.Table") -> None:
        """A table made with rich, to stdout; wide enough for every row when stdout is not a
        terminal.

        Drawing ten thousand rows takes the library ten seconds; from a certain number on they are
        only laid out.
        """
        if table.row_count > _MOST_DRAWN:
            self._long_table(table)
            return
        import rich.console

        if sys.stdout.isatty():
            wide = None
            _keep_narrow_columns(table)
        else:
            # Wide enough that nothing is folded where a program reads it.
            wide = 400
        rich.console.Console(highlight=False, width=wide, soft_wrap=wide is not None).print(table)

    def rows(self, headings: "Sequence[str]", rows: "Sequence[Sequence[str]]") -> None:
        """A table of plain texts, to stdout.

        Args:
            headings: of the columns; `>` before one sets its column to the right.
            rows: as many texts each.
        """
        if len(rows) <= _MOST_DRAWN:
            from rich.text import Text

            table = _headed_table(headings)
            for column in table.columns:
                column.overflow = "fold"
            for row in rows:
                last = Text(row[-1], no_wrap=True, overflow="ellipsis")
                table.add_row(*map(Text, row[:-1]), last)
            self.table(table)
            return
        names, is_right = _parted(headings)
        columns = list(zip(names, *rows, strict=True))
        self._print_columns(columns, is_right)

    def pages(
        self, headings: "Sequence[str]", pages: "Iterable[Sequence[Sequence[str]]]", count: int
    ) -> None:
        """A table of plain texts whose rows come in pages; a long one is printed as they come. Of
        the last column a narrow terminal shows the ends: they tell paths apart.

        Args:
            headings: as in `rows`.
            pages: of rows.
            count: of all rows.
        """
        if count <= _MOST_DRAWN:
            rows = list(chain.from_iterable(pages))
            room = _room_for_last(headings, rows) if sys.stdout.isatty() else None
            table = _headed_table(headings)
            for row in rows:
                table.add_row(*row[:-1], _end_of(row[-1], room))
            self.table(table)
            return
        names, is_right = _parted(headings)
        first: list[Sequence[str]] = [names]
        widths = [0] * len(headings)
        for page in pages:
            widths = self._print_columns(
                list(zip(*first, *page, strict=True)), is_right, least=widths
            )
            first = []

    def listed_document(
        self, name: str, pages: "Iterable[Iterable[object]]", rest: "dict[str, Any]"
    ) -> None:
        """A JSON document on one line with a long list, which comes in pages; and the rest of
        it.
        """
        import msgspec

        print(f'{{"{name}":[', end="")  # noqa: T201
        is_first = True
        for page in pages:
            items = msgspec.json.encode(list(page)).decode()[1:-1]
            print("" if is_first else ",", _shown(items), sep="", end="")  # noqa: T201
            is_first = False
        print(f"],{_shown(msgspec.json.encode(rest).decode()[1:])}", flush=True)  # noqa: T201

    @staticmethod
    def _print_columns(
        columns: "Sequence[Sequence[str]]",
        is_right: "Sequence[bool]",
        least: "Sequence[int] | None" = None,
    ) -> "list[int]":
        """Columns beside each other, quickly, and not narrower than some; gives their widths."""
        from rich.cells import cell_len

        shown: list[Iterable[str]] = []
        widths = []
        for number, (cells, right) in enumerate(zip(columns[:-1], is_right, strict=False)):
            before = least[number] if least else 0
            # Measuring cells is slow, and nearly all columns are ASCII.
            if "".join(cells).isascii():
                width = max(before, *map(len, cells))
                lay = str.rjust if right else str.ljust
                shown.append(map(lay, cells, repeat(width)))
            else:
                lengths = list(map(cell_len, cells))
                width = max(before, *lengths)
                blanks = [" " * (width - length) for length in lengths]
                shown.append(map(add, blanks, cells) if right else map(add, cells, blanks))
            widths.append(width)
        lines = map(str.rstrip, map("  ".join, zip(*shown, columns[-1], strict=True)))
        print(_shown("\n".join(lines)))  # noqa: T201
        return [*widths, 0]

    def _long_table(self, table: "rich.table.Table") -> None:
        columns = [list(map(str, (column.header, *column.cells))) for column in table.columns]
        self._print_columns(columns, [column.justify == "right" for column in table.columns])

    def _log_trace(self, error: Exception) -> None:
        if self.is_verbose or self._log_file:
            import logging

            logging.getLogger("mantisreed").debug("where it happened", exc_info=error)
            if not isinstance(error, MantisreedError):
                logging.getLogger("mantisreed").error("where it happened", exc_info=error)


_LARGEST_LOG, _OLD_LOGS = 20_000_000, 5  # bytes of a log file, and how many before it are kept
_USUAL_WIDTH = 80  # columns, where nobody says how many there are
_BETWEEN = 2  # columns between two columns of a table
_LEAST_ROOM = 20  # columns of the terminal; a path of which less is seen says nothing
_NARROW = 17  # columns; a time of day and a day have no more
_MOST_DRAWN = 500  # rows
_RAW = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")


def _shown(text: str) -> str:
    """A text as it may leave the process: without secrets, and without what would steer a terminal.

    What is no secret may have come from anybody: an engine, a file's name, a file.
    """
    # Not imported: where nobody has, there are no secrets.
    known = sys.modules.get("mantisreed.secrets")
    if known is not None:
        text = known.redacted(text)
    return _RAW.sub(lambda found: found[0].encode("unicode_escape", "surrogatepass").decode(), text)


def _formatter() -> "logging.Formatter":
    import logging

    class Door(logging.Formatter):
        def format(self, record: logging.LogRecord) -> str:
            return _shown(super().format(record))

    return Door("%(asctime)s %(name)s: %(message)s")


def plain_table() -> "rich.table.Table":
    """A table without lines, as all commands show theirs; columns and rows are still to come."""
    from rich.table import Table
    from rich.text import Text

    class PlainTable(Table):
        """What is a text may come from anybody, and is never markup; what has a style is a
        `Text`.
        """

        def add_column(self, header: "Any" = "", *arguments: "Any", **named: "Any") -> None:
            super().add_column(_plain(header), *arguments, **named)

        def add_row(self, *cells: "Any", **named: "Any") -> None:
            super().add_row(*map(_plain, cells), **named)

    def _plain(cell: "Any") -> "Any":
        if isinstance(cell, str):
            return Text(_shown(cell))
        return cell

    return PlainTable(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))


def _headed_table(headings: "Sequence[str]") -> "rich.table.Table":
    """A table with its headings and no rows yet."""
    table = plain_table()
    for name, is_right in zip(*_parted(headings), strict=True):
        table.add_column(name, justify="right" if is_right else "left")
    return table


def _parted(headings: "Sequence[str]") -> "tuple[list[str], list[bool]]":
    """The headings without the `>` before them, and which had one."""
    names = [heading.lstrip(">") for heading in headings]
    return names, [heading.startswith(">") for heading in headings]


def terminal_width() -> int:
    """The columns of the terminal. `shutil`, which tells them too, imports four compressors, and
    takes milliseconds.
    """
    columns = os.environ.get("COLUMNS", "")
    if columns.isdigit():
        return int(columns)
    try:
        return os.get_terminal_size(1).columns
    except OSError:
        return _USUAL_WIDTH


def _room_for_last(headings: "Sequence[str]", rows: "Sequence[Sequence[str]]") -> int:
    """How many columns of the terminal the others leave for the last column of a table."""
    from rich.cells import cell_len

    names, _ = _parted(headings)
    others = list(zip(names, *rows, strict=True))[:-1]
    taken = sum(max(map(cell_len, column)) + _BETWEEN for column in others)
    return max(_LEAST_ROOM, terminal_width() - taken)


def _end_of(text: str, room: int | None) -> str:
    """As much of the end of a text as there is room for; None for all of it."""
    from rich.cells import cell_len

    if room is None or cell_len(text) <= room:
        return text
    # One by one, as some characters take two columns.
    while cell_len(text) > room - 1:
        text = text[1:]
    return f"…{text}"


def _keep_narrow_columns(table: "rich.table.Table") -> None:
    """Times, names and numbers stay whole in a narrow terminal: the long texts beside them give
    way.
    """
    from rich.cells import cell_len

    for column in table.columns:
        widest = max(map(cell_len, map(str, column.cells)), default=0)
        if widest <= _NARROW:
            column.no_wrap = True


def described_error(error: MantisreedError) -> "dict[str, str | None]":
    """An error as `--json` has it."""
    return {"what": str(error), "advice": error.advice}
