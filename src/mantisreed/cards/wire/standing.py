"""Where an exchange stands between two requests, and what it comes to."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from mantisreed.cards.templates import Value


@dataclass(frozen=True, slots=True)
class Standing:
    """Where an exchange stands, between two requests.

    Attributes:
        step: the name of the next step; None when only tidying up is left.
        values: what its steps need, without secrets; JSON.
        taken: names of those that an answer gave.
        bases: the URLs that links among them are resolved against.
        noted: what was noted on the way.
    """

    step: str | None
    values: Mapping[str, Value] = field(repr=False)
    taken: tuple[str, ...] = ()
    bases: Mapping[str, str] = field(default_factory=dict, repr=False)
    noted: Mapping[str, Value] = field(default_factory=dict)

    def as_json(self) -> dict[str, Any]:
        """The same as tables and lists; what is empty is left out."""
        tables = {
            "values": dict(self.values),
            "taken": list(self.taken),
            "bases": dict(self.bases),
            "noted": dict(self.noted),
        }
        return {"step": self.step, **{name: table for name, table in tables.items() if table}}

    @classmethod
    def from_json(cls, kept: Mapping[str, Any]) -> "Standing":
        """What was kept."""
        return cls(
            kept.get("step"),
            kept.get("values") or {},
            tuple(kept.get("taken") or ()),
            kept.get("bases") or {},
            kept.get("noted") or {},
        )


@dataclass(frozen=True, slots=True)
class Waiting:
    """A job is under way.

    Attributes:
        standing: where to go on; None when it is where it was.
        retry_after: seconds after which the service wants to be asked again; None when it does not
            say.
    """

    standing: Standing | None = None
    retry_after: float | None = None


@dataclass(frozen=True, slots=True)
class FinishedExchange:
    """The reply.

    Attributes:
        body: to the byte; None when the service says that nothing was heard.
        noted: what was noted on the way.
        cleanup: what tidying up needs; None when there is nothing to tidy up.
        status: of HTTP.
    """

    body: bytes | None = field(repr=False)
    noted: Mapping[str, Value] = field(default_factory=dict)
    cleanup: Standing | None = None
    status: int = 200
