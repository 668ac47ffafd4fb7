"""What can go wrong, told apart by what a person would do about it.

An error keeps what happened as attributes; the sentence a person reads is made from them at the
edge, by `cli/`.
"""

import os
import re
from collections.abc import Callable, Mapping

TYPE_CHECKING = False  # typing itself takes longer to import than all that --help needs
if TYPE_CHECKING:
    from typing import Any, Self

_guards: list[Callable[[str], str]] = []
# Whatever an address has besides its host and path may let somebody in.
_ADDRESS = re.compile(
    r"(?P<scheme>[A-Za-z][A-Za-z0-9+.-]*://)(?:[^/?#\s'\"<>@]*@)?(?P<rest>[^?#\s'\"<>]*)"
    r"(?:[?#](?:[^\s'\"<>]*[^\s'\"<>,.;:)\]])?)?"
)


def guard_messages(guard: Callable[[str], str]) -> None:
    """Let every text of an error go through a guard, such as the one that hides secrets."""
    _guards.append(guard)


def guarded(text: str) -> str:
    """A text as an error may carry it: no secret, and no address with its query or its user."""
    for guard in _guards:
        text = guard(text)
    return _ADDRESS.sub(r"\g<scheme>\g<rest>", text)


class MantisreedError(Exception):
    """The root of everything this package raises on purpose.

    Attributes:
        what: what went wrong, without a full stop.
        where: the file, table, key or address it went wrong at; None when there is none to name.
        advice: what to do next; None when nothing sensible can be said.
    """

    def __init__(self, what: str, *, where: str | None = None, advice: str | None = None) -> None:
        super().__init__(guarded(what))
        self.what = what
        self.where = where
        self.advice = advice

    def __setattr__(self, name: str, value: "Any") -> None:
        super().__setattr__(name, guarded(value) if isinstance(value, str) else value)

    def __str__(self) -> str:
        return f"{self.where}: {self.what}" if self.where else self.what

    def __copy__(self) -> "Self":
        # What an exception does by itself is to call its constructor with `args` alone.
        twin = type(self).__new__(type(self), *self.args)
        twin.__dict__.update(self.__dict__)
        return twin


def without_traces(error: BaseException) -> None:
    """Drop the traces of an error and of what caused it: they hold whatever their frames held."""
    waiting, seen = [error], set[int]()
    while waiting:
        one = waiting.pop()
        seen.add(id(one))
        one.__traceback__ = None
        causes = (one.__cause__, one.__context__)
        waiting += [other for other in causes if other is not None and id(other) not in seen]


def reason_of(error: BaseException) -> str:
    """What a library's error says, as a part of a sentence: one line, in lower case."""
    cause = getattr(error, "os_error", None)
    if isinstance(cause, OSError):  # an HTTP client's error about a connection
        return reason_of(cause)
    # Without the number and the path, which the message has already.
    said = getattr(error, "strerror", None) or str(error) or type(error).__name__
    first_line = said.strip().partition("\n")[0].strip()
    return first_line[:1].lower() + first_line[1:]


class InputError(MantisreedError):
    """Wrong usage, configuration or input: nothing was started."""


def require_type(value: object, kind: "Any", name: str, advice: str) -> None:
    """Return if a value that a Python caller gave is of this type, or one of a union of types.

    Raises:
        InputError: it is not; it says which argument.
    """
    if not isinstance(value, kind):
        raise InputError(
            f"it cannot be of the type {type(value).__name__}", where=name, advice=advice
        )


class NothingThereError(InputError):
    """A place can be read, and holds no recording: whoever watches it waits."""


class SettingsError(InputError):
    """`mantisreed.toml` holds something it must not, or lacks something it must have."""


class SecretError(InputError):
    """A secret that an engine card names cannot be read."""


class OutputError(InputError):
    """A file or folder cannot be written."""


class InternalError(MantisreedError):
    """Something happened that nobody has thought of: a fault in this program."""

    @classmethod
    def because(cls, error: BaseException, *, where: str | None = None) -> MantisreedError:
        """It was this exception; the traceback goes to the log. What the system refuses, such as a
        file on a full disk, is no fault of ours.
        """
        if isinstance(error, OSError):
            return refused_by_system(error, where=where)
        return cls(
            f"internal error: {type(error).__name__}: {reason_of(error)}",
            where=where,
            advice="this is a fault in mantisreed: report it with what --log-file FILE holds "
            "after the same command",
        )


def refused_by_system(error: OSError, *, where: str | None = None) -> OutputError:
    """The error for what the system refuses wherever nobody has thought of it."""
    named = f" of {os.fsdecode(error.filename)!r}" if error.filename else ""
    return OutputError(
        f"the system refuses it{named} ({reason_of(error)})",
        where=where,
        advice="see to it, and give the same command; --log-file FILE shows where it was",
    )


class RecordingError(MantisreedError):
    """One recording cannot be read as sound. Others are not affected."""


class EngineError(MantisreedError):
    """An engine did not give a reply that can be used. Each kind below wants another reaction.

    Attributes:
        engine: the name of the engine card.
        status: the HTTP status of the answer; None when there was no answer.
        answer: the beginning of what the engine said, with secrets hidden; empty when it said
            nothing.
        retry_after: seconds that the engine asks us to wait; None when it does not say.
        before_work: whether it came before the engine had anything to do, so that it cannot cost.
    """

    retry_after: float | None = None
    before_work: bool = False

    def __init__(
        self,
        what: str,
        *,
        engine: str,
        status: int | None = None,
        answer: str = "",
        advice: str | None = None,
    ) -> None:
        super().__init__(what, where=engine, advice=advice)
        self.engine = engine
        self.status = status
        self.answer = answer


class UnreachableError(EngineError):
    """No connection, or no answer in time.

    Attributes:
        was_sent: whether the request may have reached the engine, so that it may have been done and
            charged for.
        is_late: whether no answer came in time.
    """

    was_sent = False
    is_late = False


class IncompleteReplyError(UnreachableError):
    """An answer came, and it is not all of it: it breaks off, or lacks what its card says that a
    complete one has. The next try may bring a whole one.

    Attributes:
        body: what came, to be kept for somebody to look at.
    """

    was_sent = True
    body: bytes | None = None


class PostponedError(MantisreedError):
    """Nothing more is done for now; what was sent is noted, and the same command goes on where it
    was.

    Attributes:
        until: when it makes sense to go on, in seconds since 1970; None when that is not known.
    """

    def __init__(
        self,
        what: str,
        *,
        where: str | None = None,
        advice: str | None = None,
        until: float | None = None,
    ) -> None:
        super().__init__(what, where=where, advice=advice)
        self.until = until

    @classmethod
    def because(cls, reason: "MantisreedError", until: float | None = None) -> "PostponedError":
        """It waits for what another error says."""
        return cls(reason.what, where=reason.where, advice=reason.advice, until=until)


class SpendLimitError(PostponedError):
    """Sending more would pass what may be spent."""


class InterruptedRunError(PostponedError):
    """The user wants to stop."""

    def __init__(self) -> None:
        super().__init__("interrupted", advice="the same command goes on where it was")


class RefusedError(EngineError):
    """The engine does not let this key, account or region in."""


class SlowDownError(EngineError):
    """Too many requests for now."""


class TooBigError(EngineError):
    """The piece is over what the engine takes in one request, by bytes or by length."""


class TooSlowError(TooBigError):
    """The engine did not answer in time, twice: shorter pieces may go through."""


class FormatRefusedError(EngineError):
    """The engine cannot read the audio as it was encoded."""


class BadRequestError(EngineError):
    """The engine does not understand the request: the card is wrong, or an option is."""


class EngineBrokeError(EngineError):
    """The engine says that the fault is its own."""


class UnreadableReplyError(EngineError):
    """An answer came, but it is not what the card says it would be.

    Attributes:
        body: the answer itself, to be kept; None when there is none to keep.
        is_whole: whether `body` is all of it.
        step: which step of the card it answers.
        values: what reading it again would need: what earlier steps took.
        may_be_charged: whether the engine may be at work all the same; not before the step that
            starts it.
    """

    body: bytes | None = None
    is_whole: bool = True
    step: str = ""
    values: "Mapping[str, object] | None" = None
    may_be_charged: bool = True


class AnothersIdError(UnreadableReplyError):
    """The engine gave an id that another of its jobs has: asking by it is of no use, sending again
    is.
    """


class JobFailedError(EngineError):
    """The engine took the job and says that it failed."""


class JobLostError(EngineError):
    """A job that the engine took did not come to an end in time.

    Attributes:
        is_forgotten: the engine does not know it any more, so that it can only be sent again.
    """

    is_forgotten = False
