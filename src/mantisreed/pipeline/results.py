"""A recording that has come to its end, and what its follow-ups gave."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from mantisreed.cards.rendering import digest_of_request
from mantisreed.errors import MantisreedError
from mantisreed.jobs.follow_ups import FollowUpState
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript


@dataclass(slots=True)
class Tally:
    """What was sent to text services.

    Attributes:
        characters, words: that were not answered before.
        cost: of these; None where a service names no price.
        currency: of the cost.
    """

    characters: int = 0
    words: int = 0
    cost: Decimal | None = None
    currency: str | None = None

    def add(self, texts: Sequence[str], cost: Decimal | None, currency: str | None) -> None:
        """Count one question."""
        self.characters += sum(map(len, texts))
        self.words += sum(len(text.split()) for text in texts)
        if cost is not None:
            self.cost = (self.cost or Decimal(0)) + cost
            self.currency = currency


def text_of(transcript: Transcript) -> str:
    """The text of a transcript, a paragraph for each passage."""
    return "\n\n".join(passage.text for passage in transcript.passages)


@dataclass(frozen=True, slots=True)
class FinishedRecording:
    """A recording that has come to its end.

    Attributes:
        source: where it came from.
        state: `done`, `no speech`, `incomplete`, `suspect` or `failed`.
        job: the id of its job; None where it did not come so far.
        stem: of its outputs; empty where there are none.
        transcript: None where there is none.
        files: its outputs, with their formats.
        error: why it failed.
        cost: of the job; None where nobody knows.
    """

    source: Source
    state: str
    job: str | None
    stem: str = ""
    transcript: Transcript | None = None
    files: tuple[tuple[str, Path], ...] = ()
    error: str | None = None
    cost: Decimal | None = None

    @property
    def known_by(self) -> str:
        """The job's id, or what stands for it where there is no job."""
        return self.job or digest_of_request(["recording", self.source.key])[:16]


@dataclass(frozen=True, slots=True)
class Result:
    """What a follow-up gave.

    Attributes:
        kind: `text`, `data`, `transcript`, `sound`, or `nothing` for what only goes somewhere.
        value: a text, a table, a transcript; None for the others.
        body: the same in bytes, as it is kept.
        files: what was written.
    """

    kind: str
    value: Any = None
    body: bytes | None = None
    files: tuple[Path, ...] = ()

    @property
    def fact(self) -> Any:
        """What templates and paths see of it."""
        if isinstance(self.value, Transcript):
            return text_of(self.value)
        if self.kind == "sound":
            return list(map(str, self.files))
        return self.value


@dataclass(frozen=True, slots=True)
class FollowUpOutcome:
    """How a follow-up of a recording ended.

    Attributes:
        name: of its table.
        state: as in the ledger; `skipped` where its condition does not hold.
        error: why it failed or waits.
        result: what it gave.
        tally: what text services were sent for it now.
    """

    name: str
    state: FollowUpState
    error: MantisreedError | None = None
    result: Result | None = None
    tally: Tally = field(default_factory=Tally)
