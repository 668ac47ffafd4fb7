"""Whether two workers mean the same engine by a name."""

import hashlib

import msgspec

from mantisreed.workspace import Workspace


def digests_of_cards(workspace: Workspace) -> dict[str, str]:
    """What tells the engine cards of a workspace from others of their names, without secrets."""
    return {name: _digest(card) for name, card in workspace.engines.items()}


def _digest(card: object) -> str:
    written = msgspec.json.encode(
        card, enc_hook=lambda value: getattr(value, "source", type(value).__name__)
    )
    return hashlib.sha256(written).hexdigest()[:16]
