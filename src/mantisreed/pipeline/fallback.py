"""Several engines for one run: the next one takes what the one before has failed on for good."""

from collections.abc import Callable, MutableMapping
from dataclasses import dataclass, replace

from mantisreed.errors import EngineError, InputError
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources.recordings import Facts


def engines_named(given: str | None, *, wait: bool = True) -> tuple[str | None, ...]:
    """The names in `brook,heron`, in order; None for the engine of the settings.

    Raises:
        InputError: a name is missing or stands there twice, or nobody waits for the first one.
    """
    if given is None:
        return (None,)
    names = tuple(name.strip() for name in given.split(","))
    if not all(names) or len(set(names)) < len(names):
        raise InputError(
            f"{given!r} names no engine, or one twice",
            where="--engine",
            advice="name engines with commas between them, such as brook,heron",
        )
    if len(names) > 1 and not wait:
        raise InputError(
            "a second engine takes over when the first has failed, which nobody waits for here",
            where="--engine",
            advice="name one engine, or use `mantisreed run`",
        )
    return names


def may_be_handed_on(outcome: Outcome, engine: str) -> bool:
    """Whether an engine may take over: another one has failed for good, and the recording is not
    to blame.
    """
    error = outcome.error
    if outcome.state != "failed" or not isinstance(error, EngineError):
        return False
    # A recording that cannot be read fails with any engine.
    return error.engine not in ("", engine)


@dataclass(frozen=True, slots=True)
class HandingOn:
    """Takes the outcomes of one engine's turn.

    Attributes:
        outcomes: of all turns; a later one replaces what an earlier one has failed on.
        on_outcome: told each that is final.
        is_last: whether no other engine follows.
    """

    outcomes: MutableMapping[tuple[str, Facts], Outcome]
    on_outcome: Callable[[Outcome], None]
    is_last: bool

    def told(self, outcome: Outcome) -> None:
        """Pass an outcome on, unless another engine may still take over."""
        # Nobody is told of a failure that another engine may mend.
        if self.is_last or not may_be_handed_on(outcome, ""):
            self.on_outcome(outcome)

    def take(self, outcome: Outcome) -> None:
        """Keep an outcome, with what the engine before had to say."""
        key = outcome.recording.key, outcome.recording.facts
        before = self.outcomes.get(key)
        if before is not None and before.error is not None:
            remark = f"{before.error}; another engine took over"
            outcome = replace(outcome, remarks=(*outcome.remarks, remark))
        self.outcomes[key] = outcome
