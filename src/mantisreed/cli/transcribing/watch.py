"""`mantisreed watch`: recordings that appear in folders are transcribed by themselves."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from mantisreed.cli.board import Board
from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import problems_of_follow_ups
from mantisreed.cli.transcribing.queueing import queueing
from mantisreed.errors import InputError, SpendLimitError
from mantisreed.files import printable
from mantisreed.pipeline.incoming.watching import WatchHooks, WatchOptions, watch
from mantisreed.pipeline.options_given import run_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources.recordings import Source
from mantisreed.units import duration_given, short_duration
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `watch` is asked for; its arguments tell the same."""

    places: Sequence[str]
    config: str | None = None
    until_idle: str | None = None
    settle_time: str | None = None
    move_done: str | None = None
    poll_interval: str | None = None
    queue: bool = False
    priority: int | None = None
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Watch until asked to stop; a line for each recording.

    Returns:
        1 when some failed or a place cannot be read, 3 at the spend limit, else 0.
    """
    workspace = open_workspace(asked.config)
    options = run_options(workspace, asked.options)
    watching = _watching(asked)
    if asked.queue:
        hand_on = queueing(workspace, options, asked.priority)
        watching = replace(watching, hand_on=hand_on)
    elif asked.priority is not None:
        raise InputError("has no effect without --queue", where="--priority")
    console.note(f"watching {', '.join(map(printable, asked.places))}; Ctrl-C ends it")
    with Board(console) as board:
        teller = Teller(console, board, is_queueing=asked.queue)
        hooks = WatchHooks(teller.tell, board.show, teller.come, board.note, teller.tell_problem)
        watch(asked.places, workspace, options, watching, hooks)
    parts = [f"{teller.done} done", f"{teller.failed} failed"]
    if asked.queue:
        parts.insert(0, f"{teller.queued} queued")
    if teller.unreadable:
        named = ", ".join(sorted(teller.unreadable))
        parts.append(f"{len(teller.unreadable)} not readable: {named}")
    console.note(", ".join(parts))
    if teller.is_over_limit:
        console.note("the spend limit is reached; the same command with a higher one goes on")
    if teller.failed or teller.unreadable:
        return 1
    return 3 if teller.is_over_limit else 0


def _watching(asked: Arguments) -> WatchOptions:
    """How places are watched.

    Raises:
        InputError: a duration is none.
    """
    usual = WatchOptions()
    settled = duration_given(asked.settle_time, "--settle-time")
    often = duration_given(asked.poll_interval, "--poll-interval")
    return WatchOptions(
        until_idle=duration_given(asked.until_idle, "--until-idle"),
        settle_time=usual.settle_time if settled is None else settled,
        move_done=Path(asked.move_done) if asked.move_done else None,
        poll_interval=usual.poll_interval if often is None else often,
    )


@dataclass
class Teller:
    """Tells what happens, and counts it.

    Attributes:
        console, board: where it is told.
        done, failed, queued: recordings.
        is_queueing: whether others work on what waits.
        is_over_limit: whether the spend limit has stopped one.
        unreadable: places that cannot be read at the moment.
    """

    console: Console
    board: Board
    done: int = 0
    failed: int = 0
    queued: int = 0
    is_over_limit: bool = False
    is_queueing: bool = False
    unreadable: set[str] = field(default_factory=set)

    def tell(self, outcome: Outcome) -> None:
        """What became of a recording."""
        if self.is_queueing and outcome.state == "waiting":
            self.queued += 1
            _say(self.console, f"{_now()}  queued  {outcome.recording.label}", self.board)
            return
        self.board.ended(outcome)
        _tell(self.console, outcome, self.board)
        if isinstance(outcome.error, SpendLimitError):
            self.is_over_limit = True
        if outcome.state == "waiting":
            return
        if outcome.state == "failed" or _has_failed_after(outcome):
            self.failed += 1
        else:
            self.done += 1

    def come(self, source: Source) -> None:
        """A recording has appeared."""
        self.board.come(source)
        if not self.board.is_drawn:
            self.console.note(f"{_now()}  new  {source.label}")

    def tell_problem(self, place: str, why: str | None) -> None:
        """A place cannot be read; None for why it can again."""
        if why is None:
            self.unreadable.discard(place)
            self.board.note(f"{place} can be read again")
        else:
            self.unreadable.add(place)
            self.board.note(f"mantisreed: {place}: {why}")


def _has_failed_after(outcome: Outcome) -> bool:
    return any(followed.state in ("failed", "unconfirmed") for followed in outcome.follow_ups)


def _tell(console: Console, outcome: Outcome, board: Board) -> None:
    parts = [_now(), outcome.state, outcome.recording.label]
    if transcript := outcome.transcript:
        parts.append(
            f"{short_duration(transcript.recording.duration)}, {len(transcript.words)} words"
        )
        parts.append(" ".join(map(printable, outcome.files)))
    if outcome.follow_ups:
        parts.append(
            f"then {', '.join(one.name for one in outcome.follow_ups if one.state == 'done')}"
        )
    if outcome.error:
        parts.append(str(outcome.error).removeprefix(f"{outcome.recording.label}: "))
    _say(console, "  ".join(parts), board)
    for error in problems_of_follow_ups(outcome):
        console.problem(error)


def _say(console: Console, text: str, board: Board) -> None:
    if board.is_drawn:
        board.note(text)
    else:
        console.result(text)


def _now() -> str:
    return datetime.now().strftime("%H:%M:%S")
