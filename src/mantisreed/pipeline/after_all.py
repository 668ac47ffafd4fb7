"""Follow-ups of one recording, outside of a batch."""

from contextlib import AsyncExitStack
from dataclasses import replace

from mantisreed.jobs.writer import LedgerWriter
from mantisreed.pipeline.follow_ups import FollowUps
from mantisreed.pipeline.options import TranscriptionOptions, follow_ups_of
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.results import finished_recording
from mantisreed.pipeline.transcribe import LateTransport, ledger_of
from mantisreed.workspace import Workspace


async def followed_alone(
    workspace: Workspace, options: TranscriptionOptions, outputs: Outputs, outcome: Outcome, stem: str
) -> Outcome:
    """The outcome with those of its follow-ups.

    Args:
        workspace: with the settings.
        options: what was asked for.
        outputs: where it was written.
        outcome: of the recording.
        stem: of its outputs.
    """
    async with AsyncExitStack() as stack:
        transport = await stack.enter_async_context(LateTransport())
        writer = LedgerWriter(lambda: ledger_of(workspace))
        stack.callback(writer.close)
        rules = follow_ups_of(workspace, options.translations, outputs.names, is_followed=options.is_followed)
        follow_ups = FollowUps(workspace, rules, outputs, transport, writer.perform)
        job = outcome.transcript.job if outcome.transcript else None
        finished = finished_recording(outcome, stem, outputs.names, job, None)
        ended = [*await follow_ups.after(finished), *await follow_ups.at_the_end()]
    return replace(outcome, follow_ups=tuple(ended))
