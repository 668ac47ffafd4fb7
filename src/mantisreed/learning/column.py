"""A column of a sample: what stands in the same place of all items."""

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from mantisreed.engines.reading.times import TimeUnit

SAMPLE_RATE = 16_000  # of most engines; times in samples are told from others by it

TEXTS = ("clock", "iso8601", "suffixed")

EPOCH = 1e9  # seconds since 1970, in 2001; no recording is as long


@dataclass(frozen=True)
class Column:
    """The values of one field in all items of a list.

    Attributes:
        name: the path from an item to it.
        values: one for each item; None where an item lacks it.
    """

    name: str
    values: Sequence[Any]

    @cached_property
    def present(self) -> list[Any]:
        """Those that are there."""
        return [value for value in self.values if value is not None]

    @property
    def last_name(self) -> str:
        """The last part of its name."""
        return self.name.rpartition(".")[2].strip('"@')

    def hints(self, pattern: re.Pattern[str]) -> bool:
        """Whether its name says so."""
        return bool(pattern.search(self.last_name))

    @cached_property
    def numbers(self) -> list[float] | None:
        """Its values as numbers, in order; None when they are none."""
        found = []
        for value in self.present:
            if isinstance(value, bool) or not isinstance(value, (int, float, str)):
                return None
            try:
                found.append(float(value))
            except (ValueError, OverflowError):
                return None
        if found and all(map(math.isfinite, found)):
            return found
        return None

    def seconds(self, unit: str) -> list[float] | None:
        """Its values as seconds; None when they are no times in this unit."""
        read = TimeUnit(unit)
        if unit in TEXTS and not all(isinstance(value, str) for value in self.present):
            return None
        # `12.5` would be read as a clock of seconds, which is a plain number.
        if unit == "clock" and not all(":" in value for value in self.present):
            return None
        found = [read.seconds(value, SAMPLE_RATE) for value in self.present]
        seconds = [second for second in found if second is not None]
        if len(seconds) < len(found) or not found:
            return None
        # A small number is a time in the recording.
        if unit == "moment" and min(seconds) < EPOCH:
            return None
        return seconds

    @property
    def is_whole(self) -> bool:
        """Whether there are whole numbers only."""
        return self.numbers is not None and all(number.is_integer() for number in self.numbers)

    @property
    def is_everywhere(self) -> bool:
        """Whether nearly all items have it."""
        # Some items are pauses or marks, which have neither text nor times.
        return len(self.present) >= 0.6 * len(self.values) and bool(self.present)

    @property
    def example(self) -> str:
        """Some of its values, for people."""
        shown = [value for value in self.present if not isinstance(value, (dict, list))][:3]
        return ", ".join(str(value)[:24] for value in shown)


@dataclass(frozen=True, slots=True)
class Judged:
    """A column, or several, in a role.

    Attributes:
        keys: what the card says: its keys and paths.
        score: how sure it is, from 0 to 1.
        unit: of times; the scale of a confidence.
        example: values, for people.
    """

    keys: dict[str, str]
    score: float
    unit: str = ""
    example: str = ""

    @property
    def columns(self) -> set[str]:
        """The paths in it."""
        return set(self.keys.values())
