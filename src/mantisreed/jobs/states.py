"""The states of jobs and pieces, and which may follow which."""

from typing import Literal

from mantisreed.errors import MantisreedError

State = Literal["waiting", "sending", "working", "done", "failed", "cancelled", "in doubt"]

FOLLOWING: dict[str, frozenset[str]] = {
    "waiting": frozenset({"sending", "working", "done", "failed", "cancelled"}),
    "sending": frozenset({"working", "done", "failed", "waiting", "in doubt"}),
    "working": frozenset({"done", "failed", "cancelled", "waiting"}),
    "in doubt": frozenset({"sending", "working", "done", "failed", "cancelled"}),
    "failed": frozenset({"sending", "working", "waiting", "done", "cancelled"}),
    "cancelled": frozenset({"waiting", "sending", "working", "done"}),
    "done": frozenset({"waiting", "cancelled"}),
}
"""`waiting`: not sent, or to be sent again. `sending`: a request is on its way. `working`: the engine has taken it.
`in doubt`: it was on its way when the program ended, and the engine may have done it; it is sent again, unless the
engine can be asked. `cancelled`: not wanted any more; an answer that comes all the same is kept."""


class TransitionError(MantisreedError):
    """A state was to follow another that it cannot follow; nothing was changed."""


def check_transition(before: str, after: str) -> None:
    """See that a state may follow another one.

    Raises:
        TransitionError: it may not.
    """
    if before != after and after not in FOLLOWING[before]:
        raise TransitionError(f"a piece that is {before} cannot become {after}")
