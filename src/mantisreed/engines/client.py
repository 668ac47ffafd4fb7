"""One way to speak to every engine: hand in a piece, ask until the reply is there."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Protocol

from mantisreed.engines.request import Piece, RequestOptions


@dataclass(frozen=True, slots=True)
class ReportedBill:
    """What an engine says that it charges for a request; None for what it does not say.

    Attributes:
        seconds: of audio.
        cost: money.
    """

    seconds: float | None = None
    cost: Decimal | None = None


@dataclass(frozen=True, slots=True)
class EngineResponse:
    """The engine's reply to one piece.

    Attributes:
        body: to the byte; None when it says that nothing was heard.
        bill: what the engine says that it charges.
        cleanup: what tidying up at the engine needs; None when there is nothing to tidy up.
    """

    body: bytes | None = field(repr=False)
    bill: ReportedBill | None = None
    cleanup: Mapping[str, Any] | None = field(default=None, repr=False)


@dataclass(frozen=True, slots=True)
class Ticket:
    """A job that the engine has taken.

    Attributes:
        values: what its later steps need; JSON, without secrets.
        mark: what tells it from the engine's other jobs; None when nothing does.
    """

    values: Mapping[str, Any] = field(repr=False)
    mark: str | None = None


@dataclass(frozen=True, slots=True)
class StillWorking:
    """The job is under way.

    Attributes:
        ticket: what asking for it needs from now on; None when that is the same as before.
        retry_after: seconds after which the engine wants to be asked again; None when it does not
            say.
    """

    ticket: Ticket | None = None
    retry_after: float | None = None


class EngineClient(Protocol):
    """What speaks to one engine."""

    async def make_ready(self) -> None:
        """Load what it needs; done before anything is sent, and again without harm.

        Raises:
            InputError: it cannot be loaded.
        """
        ...

    async def submit(
        self, piece: Piece, request_options: RequestOptions
    ) -> EngineResponse | Ticket:
        """Send a piece.

        Raises:
            InputError: what it needs cannot be loaded.
            EngineError: of the kind that says what to do about it.
        """
        ...

    async def ask(self, ticket: Ticket) -> EngineResponse | StillWorking:
        """The reply to a job, or how it stands.

        Raises:
            JobFailedError: the engine says that the job failed.
            JobLostError: the engine does not know the job.
            EngineError: the question itself failed.
        """
        ...

    async def clean_up(self, response: EngineResponse) -> None:
        """Tidy up at the engine after a reply that is kept. What fails is only logged."""
        ...

    def read_again(
        self, step: str, answer: bytes, values: Mapping[str, Any]
    ) -> EngineResponse | Ticket:
        """The reply, or the ticket, in a kept answer that could not be read when it came.

        Args:
            step: of the card, that it answers.
            answer: to the byte.
            values: as they were kept with it.

        Raises:
            UnreadableReplyError: it still cannot be read.
        """
        ...

    async def look_up(self, piece: Piece, request_options: RequestOptions) -> Ticket | None:
        """The job that a piece has become, which may have been sent before; None when there is
        none, or no knowing.

        Raises:
            EngineError: the question itself failed.
        """
        ...

    async def cancel(self, ticket: Ticket) -> bool:
        """Call off a job; False when the engine has no way to.

        Raises:
            EngineError: the engine did not do it.
        """
        ...
