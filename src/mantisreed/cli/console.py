"""Where a command's words go: results to stdout, everything else to stderr and the log."""

import sys

from mantisreed.errors import InputError, MantisreedError

TYPE_CHECKING = False
if TYPE_CHECKING:
    import rich.console
    import rich.table


class Console:
    """What a command may say."""

    def __init__(self, *, quiet: bool = False, verbose: bool = False, log_file: str | None = None) -> None:
        self.is_quiet = quiet
        self._verbose = verbose
        self._log_file = log_file

    def start_log(self) -> None:
        """Let the log flow to where the options say.

        Raises:
            InputError: the log file cannot be written.
        """
        if not (self._verbose or self._log_file):
            return
        import logging

        logger = logging.getLogger("mantisreed")
        logger.setLevel(logging.DEBUG)
        handlers: list[logging.Handler] = []
        if self._verbose:
            handlers.append(logging.StreamHandler())
            handlers[-1].setLevel(logging.INFO)
        if self._log_file:
            try:
                handlers.append(logging.FileHandler(self._log_file, encoding="utf-8", errors="backslashreplace"))
            except OSError as error:
                raise InputError("the log file cannot be written", where=self._log_file) from error
        for handler in handlers:
            handler.setFormatter(logging.Formatter("%(asctime)s %(name)s: %(message)s"))
            logger.addHandler(handler)

    def result(self, text: str) -> None:
        """A line of the result, to stdout."""
        print(text, flush=True)  # noqa: T201

    def note(self, text: str) -> None:
        """A line about how things go, to stderr unless the user wants quiet."""
        if not self.is_quiet:
            print(text, file=sys.stderr, flush=True)  # noqa: T201

    def problem(self, error: MantisreedError, about: str = "") -> None:
        """What went wrong, and on a second line what to do about it; `about` names the recording it happened to."""
        told = str(error)
        text = f"mantisreed: {told}" if not about or told.startswith(about) else f"mantisreed: {about}: {told}"
        if error.advice:
            text += f"\n  {error.advice}"
        print(text, file=sys.stderr, flush=True)  # noqa: T201
        self._log_trace(error)

    def bug(self, error: Exception) -> None:
        """Something happened that nobody thought of."""
        print(f"mantisreed: unexpected {type(error).__name__}: {error}", file=sys.stderr)  # noqa: T201
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

    def table(self, table: object) -> None:
        """A table made with rich, to stdout; wide enough for every row when stdout is not a terminal."""
        import rich.console

        wide = None if sys.stdout.isatty() else 400
        rich.console.Console(highlight=False, width=wide, soft_wrap=wide is not None).print(table)

    def _log_trace(self, error: Exception) -> None:
        if self._verbose or self._log_file:
            import logging

            logging.getLogger("mantisreed").debug("where it happened", exc_info=error)
            if not isinstance(error, MantisreedError):
                logging.getLogger("mantisreed").error("where it happened", exc_info=error)


def plain_table() -> "rich.table.Table":
    """A table without lines, as all commands show theirs; columns and rows are still to come."""
    from rich.table import Table

    return Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))


def described_error(error: MantisreedError) -> "dict[str, str | None]":
    """An error as `--json` has it."""
    return {"what": str(error), "advice": error.advice}
