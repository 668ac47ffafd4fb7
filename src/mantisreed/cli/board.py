"""The board of `watch`: on a terminal, how many recordings are where, and what is under way;
elsewhere nothing.
"""

import time
from collections import Counter, deque
from pathlib import Path
from types import TracebackType
from typing import Self

from mantisreed.cli.console import Console
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources.recordings import Source
from mantisreed.units import short_duration

TYPE_CHECKING = False
if TYPE_CHECKING:
    import rich.console
    import rich.live


_STAGES = {
    "new": "new",
    "fetching": "preparing",
    "preparing": "preparing",
    "waiting": "sending",
    "sending": "sending",
    "working": "working",
    "following": "following up",
}
"""Where a recording is shown, by its stage."""

_COLUMNS = ("new", "preparing", "sending", "working", "following up", "done today", "failed today")
_SHOWN = 12  # recordings under way
_LATEST = 8  # lines of what has happened
_DAY = 86_400  # seconds


class Board:
    """Counts recordings by where they are, and draws it while the context lasts."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._live: rich.live.Live | None = None
        self._stages: dict[str | Path, tuple[str, str, float]] = {}
        self._ended: Counter[str] = Counter()
        self._day = self._today()
        self._latest: deque[str] = deque(maxlen=_LATEST)

    def __enter__(self) -> "Self":
        terminal = self._console.terminal()
        if terminal.is_terminal and not self._console.is_quiet:
            import rich.live

            self._live = rich.live.Live(
                get_renderable=self._drawn, console=terminal, refresh_per_second=4
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

    @property
    def is_drawn(self) -> bool:
        """Whether it can be seen."""
        return self._live is not None

    def come(self, source: "Source") -> None:
        """A recording has come."""
        self._stages[_which(source)] = "new", source.name, time.monotonic()

    def show(self, event: "Event") -> None:
        """A recording has come to another stage."""
        if event.stage in _STAGES and _which(event.recording) in self._stages:
            self._stages[_which(event.recording)] = (
                event.stage,
                event.recording.name,
                time.monotonic(),
            )

    def ended(self, outcome: "Outcome") -> None:
        """A recording is done, has failed, or waits."""
        which = _which(outcome.recording)
        if outcome.state == "waiting":
            self._stages[which] = "waiting", outcome.recording.name, time.monotonic()
            return
        self._stages.pop(which, None)
        self._begin_day()
        self._ended["failed today" if outcome.state == "failed" else "done today"] += 1

    def note(self, text: str) -> None:
        """Something has happened that is worth a line."""
        if self._live is None:
            self._console.note(text)
        else:
            self._latest.append(text)

    def counts(self) -> dict[str, int]:
        """How many recordings are where."""
        self._begin_day()
        # A copy: another thread may take one out meanwhile.
        under_way = Counter(_STAGES[stage] for stage, _, _ in list(self._stages.values()))
        return {name: under_way[name] + self._ended[name] for name in _COLUMNS}

    def _begin_day(self) -> None:
        if self._day != self._today():
            self._day = self._today()
            self._ended.clear()

    @staticmethod
    def _today() -> int:
        return int((time.time() - time.timezone) // _DAY)

    def _drawn(self) -> "rich.console.RenderableType":
        from rich.console import Group
        from rich.table import Table
        from rich.text import Text

        board = Table(box=None, padding=(0, 3, 0, 0), show_edge=False)
        counts = self.counts()
        for name in _COLUMNS:
            board.add_column(Text(name, style="dim"), justify="right")
        board.add_row(
            *(
                Text(
                    str(counts[name]),
                    style="bold red" if name == "failed today" and counts[name] else "bold",
                )
                for name in _COLUMNS
            )
        )
        under_way = Table.grid(padding=(0, 2))
        # What is new and not begun comes last; of the rest the one that takes longest first.
        rows = sorted(self._stages.values(), key=lambda row: (row[0] == "new", row[2]))
        for stage, name, since in rows[:_SHOWN]:
            line = Text(name, no_wrap=True, overflow="ellipsis")
            under_way.add_row(
                line, _STAGES[stage], Text(short_duration(time.monotonic() - since), style="dim")
            )
        if len(rows) > _SHOWN:
            under_way.add_row(Text(f"and {len(rows) - _SHOWN} more", style="dim"))
        latest = [
            Text(line, style="dim", no_wrap=True, overflow="ellipsis") for line in self._latest
        ]
        return Group(board, Text(), under_way, Text(), *latest)


def _which(source: "Source") -> "str | Path":
    return source.link or source.path
