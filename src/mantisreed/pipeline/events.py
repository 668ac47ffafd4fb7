"""What a batch tells while it is under way."""

from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from mantisreed.sources.recordings import Source

Stage = Literal[
    "fetching",
    "preparing",
    "waiting",
    "sending",
    "hearing",
    "working",
    "following",
    "done",
    "failed",
    "interrupted",
    "note",
]


@dataclass(frozen=True, slots=True)
class BatchProgress:
    """How a whole batch stands.

    Attributes:
        recordings, recordings_done: how many there are, and how many have ended in some way.
        pieces, pieces_done: those that are known so far, and those answered.
        seconds_done: of sound, in the pieces that are answered.
        sending: requests on their way.
        out: pieces that the engine has as jobs.
        owed: what was spent, with what is out, in the card's currency; None when it names no price.
        currency: of `owed`.
        started: seconds since 1970.
        share: of the whole work that is done, 0 to 1, by the recordings' sizes.
    """

    recordings: int
    started: float
    recordings_done: int = 0
    pieces: int = 0
    pieces_done: int = 0
    seconds_done: float = 0.0
    sending: int = 0
    out: int = 0
    owed: Decimal | None = None
    currency: str = ""
    share: float = 0.0


@dataclass(frozen=True, slots=True)
class Event:
    """A recording has come to another stage.

    Attributes:
        recording: which one.
        stage: the new one; `interrupted` and `note` are about no recording, and only their note
            counts.
        note: why, where there is something to say.
        batch: how the whole batch stands; None where it is not counted.
        until: when it goes on, in seconds since 1970; None where nobody knows.
        now: seconds since 1970.
    """

    recording: Source
    stage: Stage
    note: str = ""
    batch: BatchProgress | None = None
    until: float | None = None
    now: float | None = None

    def text(self, now: float | None = None) -> str:
        """For a line; with the seconds that are left at the time `now`, None for that of the
        event.
        """
        note = self.note
        if self.until is not None:
            moment = self.now if now is None else now
            note = f"{note} in {max(0.0, self.until - (moment or 0.0)):.0f} s"
        if note:
            return f"{self.stage} ({note})"
        return self.stage
