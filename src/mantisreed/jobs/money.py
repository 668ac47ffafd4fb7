"""What requests cost, by an engine's card, and not spending more than was allowed."""

import math
from collections.abc import Sequence
from decimal import Decimal
from typing import TYPE_CHECKING

from mantisreed.errors import SpendLimitError

if TYPE_CHECKING:
    from mantisreed.engines.card import EngineCard


def billed_seconds(card: "EngineCard", lengths: Sequence[float]) -> float:
    """Seconds that the engine charges for requests of these lengths: each rounded up to its billing step."""
    step = float(card.price.billing_step) if card.price else 1.0
    return sum(math.ceil(round(length / step, 6)) * step for length in lengths)


def cost_of(card: "EngineCard", billed: float) -> Decimal | None:
    """What so many billed seconds cost, in the card's currency; None when the card names no price."""
    return card.price.per_minute * Decimal(str(round(billed, 3))) / 60 if card.price else None


def money_text(amount: Decimal | None, currency: str | None) -> str:
    """For people, with four places: fractions of the smallest coin are usual here."""
    return "unknown cost" if amount is None else f"{amount:.4f} {currency or ''}".rstrip()


class Budget:
    """What may be spent, and what is owed already."""

    def __init__(self, limit: Decimal | None = None, currency: str = "") -> None:
        """No limit when `limit` is None; then it only sums up."""
        self._limit, self._currency = limit, currency
        self.owed = Decimal(0)

    def take(self, price: Decimal | None) -> None:
        """What is sent now is owed from now on.

        Raises:
            SpendLimitError: it would be more than allowed; nothing was taken.
        """
        after = self.owed + (price or 0)
        if self._limit is not None and after > self._limit:
            raise SpendLimitError(
                f"the next request would bring what is owed to {money_text(after, self._currency)}, "
                f"over the limit of {money_text(self._limit, self._currency)}",
                advice="the same command with a higher --spend-limit goes on where it was",
            )
        self.owed = after

    def give_back(self, price: Decimal | None) -> None:
        """What was taken is not owed after all."""
        self.owed -= price or 0
