"""A whole card as TOML, and changing a line of it."""

import tomllib
from collections.abc import Mapping
from pathlib import Path

from mantisreed.cards.requests import HttpRequest, RequestBuilder, RequestContext, values_of_card
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import Piece, RequestOptions, attachment_of, piece_values
from mantisreed.secrets import Secret
from mantisreed.standin.engines.brook import card
from mantisreed.standin.hearing import Listener
from mantisreed.workspace import Workspace, open_workspace


class _Tongues(Listener):
    """A listener that only says what languages it knows."""

    def __init__(self) -> None:
        self.tongues = ["de", "en"]


BROOK = card("http://127.0.0.1:9", _Tongues())


def workspace_of(folder: Path, toml: str) -> Workspace:
    file = folder / "mantisreed.toml"
    file.write_text(toml, encoding="utf-8")
    return open_workspace(file)


def brook_card(folder: Path, old: str = "", new: str = "") -> EngineCard:
    assert old in BROOK
    toml = BROOK.replace(old, new, 1) if old else BROOK
    assert tomllib.loads(toml)
    return workspace_of(folder, toml).engine("brook")


def request_of(
    card: EngineCard,
    piece: Piece,
    options: RequestOptions | None = None,
    secrets: Mapping[str, Secret] | None = None,
    name: str = "send",
) -> HttpRequest:
    """The request of one step, as it would be sent."""
    known = piece_values(card, piece, options or RequestOptions("en"))
    known |= {key: secret.reveal() for key, secret in (secrets or {}).items()}
    known |= values_of_card(card, known)
    context = RequestContext(known, secrets or {}, attachment_of(piece))
    return RequestBuilder(card).request(name, dict(card.sequence)[name], context)
