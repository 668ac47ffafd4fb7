"""Times as engines write them: counts of any unit, clock text, ISO 8601, moments."""

import math
import re
from collections.abc import Callable
from fractions import Fraction

from mantisreed.cards.moments import moment_from
from mantisreed.limits import LONGEST_TIME, is_modest_number
from mantisreed.units import parse_duration

_SCALES = {
    "s": Fraction(1),
    "seconds": Fraction(1),
    "ms": Fraction(1, 1000),
    "milliseconds": Fraction(1, 1000),
    "us": Fraction(1, 10**6),
    "microseconds": Fraction(1, 10**6),
    "ns": Fraction(1, 10**9),
    "nanoseconds": Fraction(1, 10**9),
    "min": Fraction(60),
    "minutes": Fraction(60),
    "h": Fraction(3600),
}
_WORDS = ("samples", "clock", "iso8601", "suffixed", "moment")
_QUANTITY = re.compile(r"([0-9]+(?:\.[0-9]+)?(?:/[0-9]+)?)\s*([a-z]+)")
_ISO_8601 = re.compile(r"([+-]?)P(?:(\d+)D)?T?(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:[.,]\d+)?)S)?")
_SUFFIXED = re.compile(r"([+-]?[0-9]*\.?[0-9]+(?:[eE][+-]?[0-9]+)?)\s*([a-z]+)")
_LONGEST_TEXT = 100  # characters of a time; longer ones are none, and slow to find out about
_SUFFIXES = {
    **_SCALES,
    "sec": Fraction(1),
    "secs": Fraction(1),
    "second": Fraction(1),
    "msec": Fraction(1, 1000),
}


class TimeUnit:
    """How a card says that times are written.

    A unit (`ms`), a number of one (`20 ms`, `1/8000 s`), seconds as a bare number, `samples` of
    what was sent, `clock` (`00:01:02.5`), `iso8601` (`PT1.5S`), `suffixed` (`1.5s`), or `moment` (a
    date and time, or seconds since 1970). In any unit a table whose keys are units (`{"minutes": 2,
    "millis": 250}`) is the sum of its parts.

    Attributes:
        source: as it is written on the card.
        is_moment: whether times are moments, so that the reply has to say when the recording began.
    """

    __slots__ = ("_scale", "is_moment", "source")

    def __init__(self, source: str | float) -> None:
        """Read it.

        Raises:
            ValueError: it is no unit.
        """
        self.source = source
        self.is_moment = source == "moment"
        if source in _WORDS:
            self._scale = None
        else:
            self._scale = _scale_of(source)

    @classmethod
    def from_toml(cls, value: object) -> "TimeUnit":
        """Read what stands on a card.

        Raises:
            ValueError: it is no unit.
        """
        if isinstance(value, bool) or not isinstance(value, (str, int, float)):
            raise ValueError(f"expected a unit of time such as 'ms' or '20 ms', found {value!r}")
        return cls(value)

    def seconds(self, found: object, sample_rate: int) -> float | None:
        """A time as seconds; None when it is none in this unit.

        Args:
            found: in the reply.
            sample_rate: of what was sent, in hertz.
        """
        seconds = self._any_seconds(found, sample_rate)
        if seconds is not None and abs(seconds) <= LONGEST_TIME:
            return seconds
        return None

    def _any_seconds(self, found: object, sample_rate: int) -> float | None:
        if isinstance(found, dict):
            return _from_parts(found)
        is_number = isinstance(found, (int, float)) and not isinstance(found, bool)
        is_text = isinstance(found, str) and len(found) <= _LONGEST_TEXT
        if not is_number and not is_text:
            return None
        assert isinstance(found, (int, float, str))
        if self._scale is not None or self.source == "samples":
            return self._scaled(found, sample_rate)
        if self.is_moment:
            return moment_from(found)
        if isinstance(found, str):
            return _IN_WORDS.get(str(self.source), _from_suffixed)(found)
        return None

    def _scaled(self, found: int | float | str, sample_rate: int) -> float | None:
        try:
            number = float(
                # One comma is a decimal one, as in most of Europe; several part thousands.
                found.replace(",", ".")
                if isinstance(found, str) and found.count(",") == 1
                else found
            )
        except (ValueError, OverflowError):
            return None
        if not math.isfinite(number):
            return None
        if self._scale is None:
            if sample_rate:
                return number / sample_rate
            return None
        # Not by the float of 1/1000: 1234 ms are to be 1.234 s to the last digit.
        return number * self._scale.numerator / self._scale.denominator

    def __str__(self) -> str:
        return str(self.source)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, TimeUnit) and other.source == self.source

    def __hash__(self) -> int:
        return hash(self.source)


def _scale_of(source: str | float) -> Fraction:
    if not isinstance(source, str):
        if not (math.isfinite(source) and source > 0):
            raise ValueError(f"expected seconds for each unit, found {source!r}")
        # 0.02 as a float is not quite a fiftieth.
        return Fraction(source).limit_denominator(10**9)
    if source in _SCALES:
        return _SCALES[source]
    matched = _QUANTITY.fullmatch(source.strip())
    if matched is None or matched[2] not in _SCALES:
        known = ", ".join(("s", "ms", "us", "ns", *_WORDS))
        raise ValueError(
            f"expected a unit of time ({known}) or so much of one, as '20 ms', found {source!r}"
        )
    try:
        scale = _fraction(matched[1]) * _SCALES[matched[2]]
    except ZeroDivisionError:
        scale = Fraction(0)
    if scale <= 0:
        raise ValueError(f"expected more than no time, found {source!r}")
    return scale


def _fraction(text: str) -> Fraction:
    above, _, below = text.partition("/")
    return Fraction(above) / Fraction(below or "1")


SECONDS = TimeUnit("s")
"""What times are in unless a card says otherwise."""


def _from_clock(text: str) -> float | None:
    sign = -1.0 if text.startswith("-") else 1.0
    try:
        return sign * parse_duration(text.strip().lstrip("+-"))
    except ValueError:
        return None


def _from_suffixed(text: str) -> float | None:
    matched = _SUFFIXED.fullmatch(text.strip().lower())
    if matched is None or matched[2] not in _SUFFIXES:
        return None
    scale = _SUFFIXES[matched[2]]
    return float(matched[1]) * scale.numerator / scale.denominator


_PARTS = {
    **{name: Fraction(1) for name in ("s", "sec", "secs", "second", "seconds")},
    **{name: Fraction(1, 1000) for name in ("ms", "millis", "millisecond", "milliseconds")},
    **{name: Fraction(1, 10**6) for name in ("us", "micros", "microsecond", "microseconds")},
    **{name: Fraction(1, 10**9) for name in ("ns", "nanos", "nanosecond", "nanoseconds")},
    **{name: Fraction(60) for name in ("m", "min", "mins", "minute", "minutes")},
    **{name: Fraction(3600) for name in ("h", "hour", "hours")},
}


def _from_parts(found: dict[str, object]) -> float | None:
    """A time in parts, such as `{"minutes": 2, "millis": 250}`; one that is 0 may be left out."""
    total = Fraction(0)
    for name, value in found.items():
        scale = _PARTS.get(name.lower())
        if scale is None or isinstance(value, bool) or not isinstance(value, (int, float, str)):
            return None
        if not isinstance(value, int) or abs(value) < LONGEST_TIME * 10**9:
            said = str(value).strip()
        else:
            # A number of a thousand digits takes long to read, and is no time.
            said = ""
        if not is_modest_number(said):
            return None
        total += scale * Fraction(said)
    return float(total)


def _from_iso_8601(text: str) -> float | None:
    """A duration such as PT1M2.5S (ISO 8601-1, 5.5.2.2), without years and months."""
    matched = _ISO_8601.fullmatch(text)
    # `P` alone says nothing.
    if matched is None or not any(matched.groups()[1:]):
        return None
    days, hours, minutes, seconds = (
        float((part or "0").replace(",", ".")) for part in matched.groups()[1:]
    )
    total = ((days * 24 + hours) * 60 + minutes) * 60 + seconds
    if matched[1] == "-":
        return -total
    return total


_IN_WORDS: dict[str, Callable[[str], float | None]] = {
    "clock": _from_clock,
    "iso8601": lambda text: _from_iso_8601(text.strip()),
}
"""What reads a time that is a text, by what the card calls it; others have a unit behind them."""
