"""`mantisreed watch`: recordings that appear in folders are transcribed by themselves."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from mantisreed.cli.board import Board
from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import problems_of_follow_ups
from mantisreed.errors import SpendLimitError
from mantisreed.files import printable
from mantisreed.pipeline.options_given import run_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.watching import WatchHooks, WatchOptions, watch
from mantisreed.sources.recordings import Source
from mantisreed.units import duration_given, short_duration
from mantisreed.workspace import open_workspace


def run(
    console: Console,
    *,
    places: Sequence[str],
    config: str | None = None,
    until_idle: str | None = None,
    settle: str | None = None,
    move_done: str | None = None,
    every: str | None = None,
    **given: Any,
) -> int:
    """Watch until asked to stop; a line for each recording.

    Returns:
        1 when some failed or a place cannot be read, 3 at the spend limit, else 0.
    """
    workspace = open_workspace(config)
    options = run_options(workspace, given)
    settled = duration_given(settle, "--settle")
    if move_done:
        target = Path(move_done)
    else:
        target = None
    often = duration_given(every, "--every")
    watching = WatchOptions(
        duration_given(until_idle, "--until-idle"),
        2.0 if settled is None else settled,
        target,
        every=60.0 if often is None else often,
    )
    count = {"done": 0, "failed": 0}
    over_limit: list[Outcome] = []

    def tell(outcome: Outcome) -> None:
        board.ended(outcome)
        _tell(console, outcome, board)
        if isinstance(outcome.error, SpendLimitError):
            over_limit.append(outcome)
        if outcome.state != "waiting":
            count[
                "failed" if outcome.state == "failed" or _has_failed_after(outcome) else "done"
            ] += 1

    def come(source: Source) -> None:
        board.come(source)
        if not board.is_drawn:
            console.note(f"{datetime.now():%H:%M:%S}  new  {source.label}")

    unreadable: set[str] = set()

    def tell_problem(place: str, why: str | None) -> None:
        if why is None:
            unreadable.discard(place)
            board.note(f"{place} can be read again")
        else:
            unreadable.add(place)
            board.note(f"mantisreed: {place}: {why}")

    console.note(f"watching {', '.join(map(printable, places))}; Ctrl-C ends it")
    with Board(console) as board:
        hooks = WatchHooks(tell, board.show, come, board.note, tell_problem)
        watch(places, workspace, options, watching, hooks)
    parts = [f"{count['done']} done", f"{count['failed']} failed"]
    if unreadable:
        parts.append(f"{len(unreadable)} not readable: {', '.join(sorted(unreadable))}")
    console.note(", ".join(parts))
    if over_limit:
        console.note("the spend limit is reached; the same command with a higher one goes on")
    if count["failed"] or unreadable:
        return 1
    if over_limit:
        return 3
    return 0


def _has_failed_after(outcome: Outcome) -> bool:
    return any(followed.state in ("failed", "unconfirmed") for followed in outcome.follow_ups)


def _tell(console: Console, outcome: Outcome, board: Board) -> None:

    parts = [datetime.now().strftime("%H:%M:%S"), outcome.state, outcome.recording.label]
    if transcript := outcome.transcript:
        parts.append(
            f"{short_duration(transcript.recording.duration)}, {len(transcript.words)} words"
        )
        parts.append(" ".join(printable(path) for path in outcome.files))
    if outcome.follow_ups:
        parts.append(
            f"then {', '.join(one.name for one in outcome.follow_ups if one.state == 'done')}"
        )
    if outcome.error:
        parts.append(str(outcome.error).removeprefix(f"{outcome.recording.label}: "))
    if board.is_drawn:
        board.note("  ".join(parts))
    else:
        console.result("  ".join(parts))
    for error in problems_of_follow_ups(outcome):
        console.problem(error)
