"""Durations, byte sizes and clock times, read from text and written as text."""

import re
import time
from collections import Counter
from collections.abc import Iterable
from datetime import UTC, datetime
from decimal import Decimal, InvalidOperation

from mantisreed.errors import InputError

_DURATION_UNITS = {
    "ms": Decimal("0.001"),
    "s": Decimal(1),
    "min": Decimal(60),
    "h": Decimal(3600),
}
_SIZE_UNITS = {
    "B": 1,
    "kB": 1000,
    "KB": 1000,
    "MB": 1000**2,
    "GB": 1000**3,
    "KiB": 1024,
    "MiB": 1024**2,
    "GiB": 1024**3,
}
_DATE = re.compile(r"\d{4}-\d\d-\d\d")
_QUANTITY = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*([A-Za-z]*)")


def parse_duration(text: str) -> float:
    """Seconds from "90", "90 s", "1.5 h", "250ms", "10 min" or clock text such as "1:02:03.5".

    Raises:
        ValueError: the text is none of these.
    """
    stripped = text.strip()
    if ":" in stripped:
        return _parse_clock(stripped)
    number, unit = _split_quantity(stripped)
    factor = _DURATION_UNITS.get(unit or "s")
    if factor is None:
        raise ValueError(f"expected a duration such as 90 s, 10 min or 1:30:00, not {text!r}")
    return float(number * factor)


def parse_size(text: str) -> int:
    """Bytes from "25 MB", "16 MiB", "512 KiB" or a bare number. MB is 1000 x 1000, MiB is 1024 x
    1024.

    Raises:
        ValueError: the text is none of these.
    """
    number, unit = _split_quantity(text.strip())
    factor = _SIZE_UNITS.get(unit or "B")
    if factor is None:
        raise ValueError(f"expected a size such as 16 MiB or 25 MB, not {text!r}")
    return int(number * factor)


def clock(seconds: float, *, separator: str = ".") -> str:
    """`hh:mm:ss.mmm`, the hours with at least two digits; rounds half up to the millisecond.

    Negative times are written as zero.
    """
    milliseconds = max(0, int(seconds * 1000 + 0.5))
    rest, milliseconds = divmod(milliseconds, 1000)
    minutes, secs = divmod(rest, 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours:02d}:{minutes:02d}:{secs:02d}{separator}{milliseconds:03d}"


def short_duration(seconds: float) -> str:
    """A length for people: `0:20`, `12:03`, `1:02:03`; under ten seconds with a tenth, `4.2 s`."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    minutes, secs = divmod(int(seconds + 0.5), 60)
    hours, minutes = divmod(minutes, 60)
    if hours:
        return f"{hours}:{minutes:02d}:{secs:02d}"
    return f"{minutes}:{secs:02d}"


def count_of(number: int, noun: str, plural: str | None = None) -> str:
    """A count that agrees with its noun: `1 piece`, `2 pieces`.

    Args:
        number: how many.
        noun: of one.
        plural: of several, where an `s` is not enough.
    """
    return f"{number} {noun if number == 1 else plural or noun + 's'}"


def counts_of(kinds: Iterable[str]) -> str:
    """How many there are of each kind, the most frequent first: `3 seam, 1 silence`."""
    return ", ".join(f"{count} {kind}" for kind, count in Counter(kinds).most_common())


def short_size(count: int) -> str:
    """A byte count for people, in powers of 1024: `812 B`, `3.4 MiB`."""
    size = float(count)
    for unit in ("B", "KiB", "MiB", "GiB"):
        if size < 1024 or unit == "GiB":
            return f"{count} B" if unit == "B" else f"{size:.1f} {unit}"
        size /= 1024
    raise AssertionError("unreachable")


def _split_quantity(text: str) -> tuple[Decimal, str]:
    match = _QUANTITY.fullmatch(text)
    if match is None:
        raise ValueError(f"expected a number with a unit, not {text!r}")
    return Decimal(match[1]), match[2]


def _parse_clock(text: str) -> float:
    if not re.fullmatch(r"(?:[0-9]+:)?[0-9]{1,2}:[0-9]{2}(?:[.,][0-9]+)?", text):
        raise ValueError(f"expected clock text such as 1:30:00 or 02:15.250, not {text!r}")
    seconds = Decimal(0)
    for part in text.replace(",", ".").split(":"):
        seconds = seconds * 60 + Decimal(part)
    return float(seconds)


def iso_moment(seconds: float) -> str:
    """A moment, in seconds since 1970, as ISO 8601 has it: UTC, to the millisecond."""
    from datetime import UTC, datetime

    return (
        datetime.fromtimestamp(seconds, UTC)
        .isoformat(timespec="milliseconds")
        .replace("+00:00", "Z")
    )


def moment_given(given: str | None, option: str) -> float | None:
    """Seconds since 1970 of a date such as 2026-11-03 (midnight, UTC), or of an age such as 90min,
    12h or 7d; None where nothing is given.

    Raises:
        InputError: it is neither.
    """
    if given is None:
        return None
    text = given.strip()
    days = text.removesuffix("d").strip()
    try:
        if days != text:
            return _ago(86_400 * float(days))
        if _DATE.fullmatch(text):
            return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()
        return _ago(parse_duration(text))
    except (ValueError, OverflowError) as error:
        raise InputError(
            f"expected a date such as 2026-11-03 or an age such as 90min, 12h or 7d, not {given!r}",
            where=option,
        ) from error


def _ago(seconds: float) -> float:
    """The moment so long ago.

    Raises:
        ValueError: it is no number, or before all clocks.
    """
    moment = time.time() - seconds
    if not 0 <= moment <= time.time():
        raise ValueError("not an age")
    return moment


def size_given(size: str | None, option: str) -> int | None:
    """The bytes that an option says; None where it says nothing.

    Raises:
        InputError: it is no size.
    """
    if size is None:
        return None
    try:
        return parse_size(size)
    except ValueError as error:
        raise InputError(f"expected a size such as 500 MB, not {size!r}", where=option) from error


def money_given(given: str | float | None, where: str) -> Decimal | None:
    """An amount of money; None where nothing is given.

    Args:
        given: as it is written, or as JSON has it.
        where: the option, for messages.

    Raises:
        InputError: it is none.
    """
    if given is None:
        return None
    try:
        amount = Decimal(str(given))
    except InvalidOperation:
        amount = Decimal("NaN")
    if not amount.is_finite() or amount < 0:
        raise InputError(f"expected an amount such as 2.50, not {given!r}", where=where)
    return amount


def duration_given(given: str | None, where: str) -> float | None:
    """Seconds; None where nothing is given.

    Args:
        given: as it is written, such as `10min`.
        where: the option, for messages.

    Raises:
        InputError: it is no duration.
    """
    try:
        return None if given is None else parse_duration(given)
    except ValueError as error:
        raise InputError(str(error), where=where) from error
