"""Progress on stderr: a live view on a terminal, plain lines elsewhere."""

import time
from pathlib import Path
from types import TracebackType
from typing import Self

from mantisreed.cli.console import Console
from mantisreed.jobs.budget import money_text
from mantisreed.pipeline.events import BatchProgress, Event
from mantisreed.units import short_duration

TYPE_CHECKING = False
if TYPE_CHECKING:
    import rich.live
    import rich.table


_SURE_SHARE = 0.02  # of the work that has to be done before the time left is told


class ProgressDisplay:
    """Shows events. On a terminal each recording under way has a line, below one that says how the
    whole stands.
    """

    def __init__(self, console: Console) -> None:
        self._console = console
        self._live: rich.live.Live | None = None
        self._under_way: dict[str | Path, tuple[Event, float]] = {}
        self._told: dict[str | Path, str] = {}
        self._batch: BatchProgress | None = None

    def __enter__(self) -> "Self":
        terminal = self._console.terminal()
        if terminal.is_terminal and not self._console.is_quiet:
            import rich.live

            self._live = rich.live.Live(
                get_renderable=self._lines, console=terminal, transient=True, refresh_per_second=4
            )
            self._live.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: "TracebackType | None",
    ) -> None:
        if self._live:
            self._live.stop()

    def show(self, event: "Event") -> None:
        """Show that a recording has come to another stage."""
        if event.stage in ("interrupted", "note"):
            self._console.note(event.note)
            return
        if event.stage == "hearing" and self._live is None and not self._console.is_verbose:
            return
        text = f"{event.recording.name}: {event.text()}"
        self._batch = event.batch or self._batch
        # A link may get another name on its way.
        which = event.recording.link or event.recording.path
        if self._live is None:
            if self._told.get(which) != text:
                self._console.note(text)
            self._told[which] = text
        elif event.stage in ("done", "failed"):
            self._under_way.pop(which, None)
            self._live.console.print(text, markup=False, highlight=False)
        else:
            began = self._under_way.get(which, (event, time.monotonic()))[1]
            self._under_way[which] = event, began

    def _lines(self) -> "rich.table.Table":
        """What is drawn, a few times a second."""
        from rich.table import Table
        from rich.text import Text

        now, here = time.time(), time.monotonic()
        table = Table.grid(padding=(0, 2))
        under_way = list(self._under_way.values())
        if self._batch is not None and self._batch.recordings > 1:
            waits = [event.until for event, _ in under_way if event.until is not None]
            table.add_row(Text(whole_line(self._batch, now, max(waits, default=0.0)), style="bold"))
        for event, began in under_way:
            line = Text(
                f"{event.recording.name}: {event.text(now)}", no_wrap=True, overflow="ellipsis"
            )
            table.add_row(line, Text(short_duration(here - began), style="dim"))
        return table


def whole_line(batch: "BatchProgress", now: float, until: float = 0.0) -> str:
    """How a batch stands, in one line.

    Args:
        batch: its counts.
        now: seconds since 1970.
        until: when the last of what waits goes on, in seconds since 1970.
    """
    parts = [
        f"{batch.recordings_done} of {batch.recordings} recordings",
        f"{batch.pieces_done} of {batch.pieces} pieces",
        f"{short_duration(batch.seconds_done)} of sound",
    ]
    if batch.sending or batch.out:
        parts.append(f"{batch.sending} on their way, {batch.out} at the engine")
    if batch.owed is not None:
        parts.append(money_text(batch.owed, batch.currency))
    if batch.share >= _SURE_SHARE:
        left = (now - batch.started) * (1 - batch.share) / batch.share
        parts.append(f"about {short_duration(max(left, until - now))} left")
    return " · ".join(parts)
