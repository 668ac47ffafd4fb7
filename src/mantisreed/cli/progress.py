"""Progress on stderr: a live view on a terminal, plain lines elsewhere."""

from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from types import TracebackType
    from typing import Self

    import rich.progress

    from mantisreed.pipeline.run import Event
    from mantisreed.pipeline.sources import Source


class Progress:
    """Shows events. On a terminal each recording under way has a line, which goes when it is finished."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._live: rich.progress.Progress | None = None
        self._lines: dict[Source, rich.progress.TaskID] = {}

    def __enter__(self) -> "Self":
        terminal = self._console.terminal()
        if terminal.is_terminal and not self._console.is_quiet:
            import rich.progress

            self._live = rich.progress.Progress(
                rich.progress.SpinnerColumn(),
                rich.progress.TextColumn("{task.description}", markup=False),
                rich.progress.TimeElapsedColumn(),
                console=terminal,
                transient=True,
            )
            self._live.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: "TracebackType | None"
    ) -> None:
        if self._live:
            self._live.stop()

    def show(self, event: "Event") -> None:
        """Show that a recording has come to another stage."""
        text = f"{event.recording.name}: {event.stage}" + (f" ({event.note})" if event.note else "")
        if self._live is None:
            self._console.note(text)
            return
        line = self._lines.pop(event.recording, None)
        if event.stage in ("done", "failed"):
            if line is not None:
                self._live.remove_task(line)
            self._live.console.print(text, markup=False, highlight=False)
            return
        if line is None:
            line = self._live.add_task(text, total=None)
        self._live.update(line, description=text)
        self._lines[event.recording] = line
