"""One way to speak to every engine: hand in a piece, ask until the reply is there."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from mantisreed.engines.placeholders import Value
from mantisreed.engines.request import Piece, RequestOptions


@dataclass(frozen=True, slots=True)
class EngineResponse:
    """The engine's reply to one piece, to the byte. `body` is None when it says that nothing was heard."""

    body: bytes | None = field(repr=False)


@dataclass(frozen=True, slots=True)
class Ticket:
    """A job that the engine has taken.

    Attributes:
        values: what its later steps need; they are texts and numbers only.
        mark: what tells it from the engine's other jobs; None when nothing does.
    """

    values: Mapping[str, Value] = field(repr=False)
    mark: str | None = None


class EngineClient(Protocol):
    """What speaks to one engine."""

    async def submit(self, piece: Piece, request_options: RequestOptions) -> EngineResponse | Ticket:
        """Send a piece.

        Raises:
            EngineError: of the kind that says what to do about it.
        """
        ...

    async def ask(self, ticket: Ticket) -> EngineResponse | None:
        """The reply to a job, or None while it is under way.

        Raises:
            JobFailedError: the engine says that the job failed.
            JobLostError: the engine does not know the job.
            EngineError: the question itself failed.
        """
        ...

    def read_again(self, step: str, answer: bytes, values: Mapping[str, Any]) -> Ticket:
        """The ticket in a kept answer that could not be read when it came.

        Args:
            step: of the card, that it answers.
            answer: to the byte.
            values: as they were kept with it.

        Raises:
            UnreadableReplyError: it still cannot be read.
        """
        ...

    async def look_up(self, piece: Piece, request_options: RequestOptions) -> Ticket | None:
        """The job that a piece has become, which may have been sent before; None when there is none, or no knowing.

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
