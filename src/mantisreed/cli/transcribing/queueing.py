"""Giving recordings to the queue, in place of sending them."""

from collections.abc import Sequence

from mantisreed.errors import InputError
from mantisreed.pipeline.incoming.handing_on import HandOn
from mantisreed.pipeline.options import RunOptions
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources.recordings import Source
from mantisreed.working.enqueueing import checked_queue, enqueue
from mantisreed.workspace import Workspace

_HIGHEST_PRIORITY = 100  # and the lowest below zero; the queue has room for a million steps


def queueing(workspace: Workspace, options: RunOptions, priority: int | None) -> HandOn:
    """What queues recordings.

    Raises:
        InputError: there is no queue, or something cannot be queued.
    """
    if abs(priority or 0) > _HIGHEST_PRIORITY:
        raise InputError(
            f"expected a number from -{_HIGHEST_PRIORITY} to {_HIGHEST_PRIORITY}",
            where="--priority",
        )
    # Before the first recording comes, which may be hours later.
    checked_queue(workspace, options)

    def queued(sources: Sequence[Source]) -> list[Outcome]:
        return enqueue(list(sources), workspace, options, priority=priority or 0)

    return queued
