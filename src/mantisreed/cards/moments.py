"""Moments as services write them: ISO 8601, HTTP dates, seconds or milliseconds since 1970."""

import math
import re
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

_EPOCH_MILLISECONDS = 1e11  # the year 5138 in seconds, 1973 in milliseconds
_LONGEST = 100  # characters; what is longer is no moment, and takes long to find out about
# Nanoseconds: Python reads microseconds.
_LONG_FRACTION = re.compile(r"(\.\d{6})\d+")


def moment_from(value: object) -> float | None:
    """Seconds since 1970; None when the value is no moment. A time without a zone is taken for
    UTC.
    """
    if isinstance(value, bool) or not isinstance(value, (int, float, str)):
        return None
    if isinstance(value, str) and len(value) > _LONGEST:
        return None
    try:
        return _from_number(float(value))
    except OverflowError:
        return None
    except ValueError:
        return _from_text(str(value).strip())


def _from_number(number: float) -> float | None:
    if not math.isfinite(number):
        return None
    if abs(number) >= _EPOCH_MILLISECONDS:
        return number / 1000
    return number


def _from_text(text: str) -> float | None:
    try:
        parsed = datetime.fromisoformat(_LONG_FRACTION.sub(r"\1", text))
    except ValueError:
        try:
            parsed = parsedate_to_datetime(text)
        except (ValueError, TypeError, IndexError):
            return None
    try:
        # Services count in UTC where they say nothing.
        return (parsed if parsed.tzinfo else parsed.replace(tzinfo=UTC)).timestamp()
    except (OverflowError, ValueError):
        return None
