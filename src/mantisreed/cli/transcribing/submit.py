"""`mantisreed submit`: send recordings and go; `collect` takes what comes of it. With `--queue`
workers send them.
"""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_outcomes, show_problems
from mantisreed.cli.transcribing.run import sent
from mantisreed.errors import InputError
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.units import count_of


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `submit` is asked for; its arguments tell the same."""

    sources: Sequence[str]
    as_json: bool = False
    queue: bool = False
    priority: int | None = None
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Send, or queue; a job's id on each line of stdout.

    Returns:
        0 when all was taken, 3 when some of it waits for an engine, else 1.
    """
    if asked.priority is not None and not asked.queue:
        raise InputError("has no effect without --queue", where="--priority")
    if asked.queue:
        outcomes = _queued(console, asked)
        under_way = {"working", "waiting"}
    else:
        outcomes = sent(console, asked.sources, wait=False, **asked.options)
        under_way = {"working"}
    if asked.as_json:
        show_outcomes(console, outcomes, as_json=True)
    else:
        _show_jobs(console, outcomes, queued=asked.queue)
    if asked.queue:
        _tell_queued(console, outcomes)
    elif any(outcome.state == "working" for outcome in outcomes):
        console.note("`mantisreed collect` takes finished jobs, with --wait all")
    return exit_code(outcome for outcome in outcomes if outcome.state not in under_way)


def _show_jobs(console: Console, outcomes: Sequence[Outcome], *, queued: bool) -> None:
    for outcome in outcomes:
        if outcome.job:
            console.result(outcome.job.id)
    # Those that wait for a worker are told after them.
    ended = [one for one in outcomes if not (queued and one.state == "waiting")]
    if ended or not outcomes:
        show_problems(console, ended)


def _queued(console: Console, asked: Arguments) -> list[Outcome]:
    """Put recordings into the queue.

    Raises:
        InputError: there is none, or something cannot be queued.
    """
    from mantisreed.cli.transcribing.queueing import queueing
    from mantisreed.pipeline.options_given import run_options
    from mantisreed.sources.finding import find_recordings
    from mantisreed.workspace import open_workspace

    if "-" in asked.sources:
        raise InputError("standard input cannot be queued: save it to a file first", where="-")
    given = dict(asked.options)
    workspace = open_workspace(given.pop("config", None))
    options = run_options(workspace, given)
    hand_on = queueing(workspace, options, asked.priority)
    found = find_recordings(
        asked.sources, options.selection, on_note=lambda note: console.notes([note])
    )
    return list(hand_on(found))


def _tell_queued(console: Console, outcomes: Sequence[Outcome]) -> None:
    counts = Counter(outcome.state for outcome in outcomes)
    parts = [f"{count_of(counts['waiting'], 'recording')} queued; `mantisreed work` takes them"]
    if counts["working"]:
        parts.append(f"{counts['working']} under way")
    if counts["done"]:
        parts.append(f"{counts['done']} done before")
    console.note(", ".join(parts))
