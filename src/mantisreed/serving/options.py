"""The options of a job, as requests of the HTTP API give them."""

from collections.abc import Callable, Mapping
from contextlib import suppress
from decimal import Decimal
from typing import Annotated, Any

import msgspec

from mantisreed.exports.formats import TRANSCRIPT_FORMAT, chosen_formats
from mantisreed.options import API_OPTIONS
from mantisreed.pipeline.options import RunOptions
from mantisreed.pipeline.options_given import run_options
from mantisreed.serving.problems import Problem
from mantisreed.workspace import Workspace

_TYPES: dict[str, Any] = {
    "text": str,
    "duration": str,
    "texts": tuple[str, ...],
    "names": tuple[str, ...],
    "flag": bool,
    "number": float,
    "money": float,
    "count": Annotated[int, msgspec.Meta(ge=1)],
}
_Given = msgspec.defstruct(
    "_Given",
    [(option.name, _TYPES[option.kind] | None, None) for option in API_OPTIONS.values()],
    frozen=True,
)
_LISTS = frozenset(
    option.name for option in API_OPTIONS.values() if option.kind in ("texts", "names")
)
_NUMBERS: dict[str, Callable[[str], float]] = {"number": float, "money": float, "count": int}
_YES, _NO = ("1", "true", "yes", "on"), ("0", "false", "no", "off")


def is_list(name: str) -> bool:
    """Whether an option has several values, which a form may give one by one."""
    return name in _LISTS


def options_given(workspace: Workspace, given: Mapping[str, Any]) -> RunOptions:
    """What a job wants, whole; in forms and queries all values are texts.

    Args:
        workspace: with the settings that stand where an option is not given.
        given: a request's fields; those that are no options are left.

    Raises:
        Problem: a value is of the wrong type.
        InputError: an option makes no sense.
    """
    chosen = {name: _typed(name, given[name]) for name in API_OPTIONS.keys() & given.keys()}
    try:
        checked = msgspec.structs.asdict(msgspec.convert(chosen, _Given))
    except msgspec.ValidationError as error:
        raise Problem(400, f"an option makes no sense ({error})") from error
    named = checked.pop("to")
    if named is None:
        named = workspace.settings.to
    # The transcript itself is always written: all other formats can be had from it.
    formats = tuple(dict.fromkeys((TRANSCRIPT_FORMAT, *named)))
    chosen_formats(formats)
    options = run_options(workspace, checked, called=str)
    return msgspec.structs.replace(options, to=formats)


def _typed(name: str, value: Any) -> Any:
    """A value, or what its text says; what it does not say is told by the check of types."""
    kind = API_OPTIONS[name].kind
    if isinstance(value, int) and not isinstance(value, bool) and kind == "text":
        return str(value)  # a channel has a number, and is a text
    if not isinstance(value, str):
        return value
    if is_list(name):
        return [part.strip() for part in value.split(",") if part.strip()]
    if kind == "flag":
        if value.lower() not in _YES + _NO:
            raise Problem(400, f"{name} is true or false")
        return value.lower() in _YES
    if kind in _NUMBERS:
        with suppress(ValueError):  # the check of types below tells it
            return _NUMBERS[kind](value)
    return value


def with_limit(options: RunOptions, left: float) -> RunOptions:
    """Options that let a job cost no more than what is left."""
    limit = Decimal(str(round(left, 6)))
    if options.spend_limit is not None:
        limit = min(limit, options.spend_limit)
    return msgspec.structs.replace(options, spend_limit=limit)
