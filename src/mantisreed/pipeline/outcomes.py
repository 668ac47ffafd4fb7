"""What became of a recording."""

import logging
from collections.abc import Awaitable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from mantisreed.errors import (
    InternalError,
    MantisreedError,
    PostponedError,
    RecordingError,
    without_traces,
)
from mantisreed.jobs.life import JobOutcome
from mantisreed.pipeline.outputs import Written
from mantisreed.pipeline.results import FinishedRecording, FollowUpOutcome
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript

if TYPE_CHECKING:
    from mantisreed.jobs.records import JobRecord

_log = logging.getLogger(__name__)

State = Literal["done", "no speech", "incomplete", "suspect", "working", "waiting", "failed"]


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one recording.

    Attributes:
        recording: where it came from.
        state: `incomplete` when the recording itself breaks off, and what there was of it is
            transcribed; `suspect` when a reply is not quite as the card says, so that the
            transcript may be wrong; `working` when it was sent and not waited for; `waiting` when
            something else has to happen first.
        transcript: None when there is none (yet).
        files: what was written.
        changes: how often each word was changed in them.
        error: why it failed or waits, or what is incomplete.
        job: as the ledger has it; None when it did not come so far.
        second: the job of what a second engine was asked about it in this run; None where there was
            nothing to ask.
        remarks: what else the user should know.
        follow_ups: how those ended that are done with its transcript.
    """

    recording: Source
    state: State
    transcript: Transcript | None = None
    files: tuple[Path, ...] = ()
    changes: Mapping[str, int] = field(default_factory=dict)
    error: MantisreedError | None = None
    job: "JobRecord | None" = None
    second: "JobRecord | None" = None
    remarks: tuple[str, ...] = ()
    follow_ups: tuple[FollowUpOutcome, ...] = ()

    def __post_init__(self) -> None:
        """Let go of the sound that the way to the error held: outcomes are kept until the end."""
        # Traces hold frames, and these the sound of a piece: ten thousand outcomes would keep it
        # all.
        if self.error is not None:
            without_traces(self.error)

    @property
    def doubts(self) -> int:
        """How many stretches of the transcript somebody should listen to."""
        if self.transcript is None:
            return 0
        return len(self.transcript.doubts_worth_hearing)

    @property
    def cost(self) -> Decimal | None:
        """What its job has cost, with the second opinion where that is paid in the same money."""
        if self.job is None or self.job.cost is None:
            return None
        second = self.second
        # Sums of two currencies are none.
        if second is None or second.cost is None or second.currency != self.job.currency:
            return self.job.cost
        return self.job.cost + second.cost


def outcome_of(
    recording: Source,
    transcript: Transcript,
    damage: Sequence[str],
    doubts: Sequence[str],
    written: Written,
) -> Outcome:
    """The outcome of a recording whose transcript is written.

    Args:
        recording: where it came from.
        transcript: of it.
        damage: what is wrong with the recording.
        doubts: what in the replies is not as the card says.
        written: the outputs.
    """
    # What is missing is told before what is doubtful.
    if damage:
        advice = "what there is of it is transcribed"
        error = RecordingError(damage[0], where=recording.label, advice=advice)
        return Outcome(recording, "incomplete", transcript, written.files, written.changes, error)
    if doubts:
        if len(doubts) > 1:
            more = f" (and {len(doubts) - 1} more, see the transcript's notes)"
        else:
            more = ""
        advice = (
            "mend the reply table of its card and run the same command, which reads the kept "
            "reply and costs nothing"
        )
        doubt = MantisreedError(
            f"the reply is not as its card says: {doubts[0]}{more}", advice=advice
        )
        return Outcome(recording, "suspect", transcript, written.files, written.changes, doubt)
    state: State = "done" if transcript.passages else "no speech"
    return Outcome(recording, state, transcript, written.files, written.changes)


def job_outcome(outcome: Outcome) -> JobOutcome:
    """How a job has ended whose transcript is written."""
    ends: dict[State, JobOutcome] = {
        "no speech": "no speech",
        "incomplete": "incomplete",
        "suspect": "suspect",
    }
    return ends.get(outcome.state, "done")


def finished_recording(
    outcome: Outcome, stem: str, formats: Sequence[str], job: str | None, cost: Decimal | None
) -> FinishedRecording:
    """What follow-ups are told of an outcome.

    Args:
        outcome: of the recording.
        stem: of its outputs.
        formats: names of theirs, in order.
        job: the id of its job.
        cost: of the job.
    """
    return FinishedRecording(
        outcome.recording,
        outcome.state,
        job,
        stem,
        outcome.transcript,
        tuple(zip(formats, outcome.files, strict=False)),
        None if outcome.error is None else str(outcome.error),
        cost,
    )


async def told_outcome(recording: Source, work: Awaitable[Outcome], label: str) -> Outcome:
    """What became of a recording or a job. Whatever goes wrong with it ends here, in its outcome:
    no failure stops the others.

    Args:
        recording: whose outcome it is.
        work: that gives the outcome, or fails.
        label: what it is called in the log.
    """
    try:
        return await work
    except PostponedError as error:
        return Outcome(recording, "waiting", error=error)
    except MantisreedError as error:
        _log.info("%s failed: %s", label, error)
        return Outcome(recording, "failed", error=error)
    except Exception as error:
        _log.exception("%s failed by an internal error", label)
        internal = InternalError.because(error, where=label)
        return Outcome(recording, "failed", error=internal)
