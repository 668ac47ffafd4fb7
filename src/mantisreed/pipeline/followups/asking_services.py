"""What text services say of themselves."""

import asyncio
from dataclasses import dataclass

from mantisreed.errors import MantisreedError
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.running import run_interruptibly
from mantisreed.services.card import TextServiceCard
from mantisreed.services.client import TextServiceClient
from mantisreed.workspace import Workspace


@dataclass(frozen=True, slots=True)
class ServiceFacts:
    """A text service.

    Attributes:
        card: its card.
        reads, writes: tags of languages; empty for any.
        error: why it could not be asked for them.
    """

    card: TextServiceCard
    reads: list[str]
    writes: list[str]
    error: MantisreedError | None = None


def service_facts(workspace: Workspace, *, is_offline: bool = False) -> list[ServiceFacts]:
    """All text services of a workspace; those whose cards say how are asked for their languages.

    Args:
        workspace: with the cards.
        is_offline: ask nobody.

    Raises:
        TrustError: the settings are not trusted with what a service that is asked uses.
    """
    asked = [
        card
        for card in workspace.services.values()
        if card.languages is not None and not is_offline
    ]
    for card in asked:
        workspace.require_trust_in_service(card.name)

    async def facts(card: TextServiceCard, transport: LateTransport) -> ServiceFacts:
        listed = (
            list(card.accepts.languages),
            list(card.accepts.targets) or list(card.accepts.languages),
        )
        # What its card lists is all that is known.
        if card not in asked:
            return ServiceFacts(card, *listed)
        try:
            secrets = {name: source.read(workspace.folder) for name, source in card.secrets.items()}
            return ServiceFacts(
                card, *await TextServiceClient(card, secrets, transport).languages()
            )
        except MantisreedError as error:
            return ServiceFacts(card, *listed, error)

    async def work() -> list[ServiceFacts]:
        async with LateTransport() as transport:
            return list(
                await asyncio.gather(
                    *(facts(card, transport) for card in workspace.services.values())
                )
            )

    return run_interruptibly(work())
