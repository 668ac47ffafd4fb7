"""What requests cost, by an engine's card."""

import math
from collections.abc import Sequence
from decimal import Decimal

from mantisreed.engines.card import EngineCard


def billed_seconds(card: EngineCard, lengths: Sequence[float]) -> float:
    """Seconds that the engine charges for requests of these lengths: each rounded up to its billing step."""
    step = float(card.price.billing_step) if card.price else 1.0
    return sum(math.ceil(round(length / step, 6)) * step for length in lengths)


def cost_of(card: EngineCard, billed: float) -> Decimal | None:
    """What so many billed seconds cost, in the card's currency; None when the card names no price."""
    return card.price.per_minute * Decimal(str(round(billed, 3))) / 60 if card.price else None
