"""Values on engine cards that are more than text and numbers."""

import math
import re


class ConfidenceScale:
    """On which scale confidences are: `fraction` (0 to 1), `percent`, `log` (natural logarithm),
    `negative log`, or the two ends of another one, such as `[0, 1000]`.

    Attributes:
        source: as it is written on the card.
    """

    __slots__ = ("_ends", "source")

    def __init__(self, source: object = "fraction") -> None:
        """Read it.

        Raises:
            ValueError: it is no scale.
        """
        self.source = source
        self._ends = (0.0, 1.0)
        if source in ("fraction", "log", "negative log"):
            return
        if source == "percent":
            self._ends = (0.0, 100.0)
            return
        ends = list(source) if isinstance(source, (list, tuple)) else []
        if len(ends) != 2 or not all(map(_is_finite, ends)) or ends[0] == ends[1]:
            raise ValueError(
                "expected fraction, percent, log, negative log, or the two ends of the scale, such "
                f"as [0, 1000], found {source!r}"
            )
        self._ends = (float(ends[0]), float(ends[1]))

    @classmethod
    def from_toml(cls, value: object) -> "ConfidenceScale":
        """As the constructor."""
        return cls(value)

    def share(self, number: float) -> float:
        """A confidence as a share of 1; what is not on the scale lies outside of 0 to 1."""
        if self.source == "log":
            return math.exp(min(number, 1.0))
        if self.source == "negative log":
            return math.exp(min(-number, 1.0))
        low, high = self._ends
        return (number - low) / (high - low)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ConfidenceScale) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))


def _is_finite(value: object) -> bool:
    is_number = isinstance(value, (int, float)) and not isinstance(value, bool)
    return is_number and math.isfinite(value)  # type: ignore[arg-type]


class Pattern:
    """A regular expression, compiled when the card is read."""

    __slots__ = ("compiled", "source")

    def __init__(self, source: str) -> None:
        """Compile it.

        Raises:
            ValueError: it is none.
        """
        self.source = source
        try:
            self.compiled = re.compile(source)
        except re.error as error:
            raise ValueError(f"{source!r} is not a regular expression ({error})") from error

    @classmethod
    def from_toml(cls, value: object) -> "Pattern":
        """Compile what stands on a card.

        Raises:
            ValueError: it is no regular expression.
        """
        if not isinstance(value, str):
            raise ValueError(f"expected a regular expression, found {value!r}")
        return cls(value)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Pattern) and other.source == self.source

    def __hash__(self) -> int:
        return hash(self.source)
