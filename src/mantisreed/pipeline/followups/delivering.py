"""How each action of a follow-up is done: a row for each struct of `destinations/actions.py`."""

import asyncio
import json
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mantisreed.destinations.actions import Action, Copy, Program, Rows, Webhook
from mantisreed.destinations.calls import send_call
from mantisreed.destinations.copies import copy_files
from mantisreed.destinations.parcels import Parcel
from mantisreed.destinations.programs import run_program
from mantisreed.destinations.rows import add_row
from mantisreed.pipeline.results import Result
from mantisreed.secrets import Secret, SecretSource

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport


@dataclass(frozen=True, slots=True)
class DeliveryPlace:
    """From where something is delivered.

    Attributes:
        folder: of the workspace.
        transport: what carries requests.
    """

    folder: Path
    transport: "Transport"

    def secret(self, source: SecretSource | None) -> Secret | None:
        """A secret; None where none is named."""
        if source is None:
            return None
        return source.read(self.folder)


async def _call(action: Webhook, parcel: Parcel, place: DeliveryPlace) -> Result:
    await send_call(action, parcel, place.secret(action.secret), place.transport)
    return Result("nothing")


async def _copy(action: Copy, parcel: Parcel, place: DeliveryPlace) -> Result:
    places = await asyncio.to_thread(copy_files, action, parcel, place.folder)
    return Result("nothing", {"places": places})


async def _rows(action: Rows, parcel: Parcel, place: DeliveryPlace) -> Result:
    password = place.secret(action.password)
    await asyncio.to_thread(add_row, action, parcel, place.folder, password)
    return Result("nothing")


async def _program(action: Program, parcel: Parcel, place: DeliveryPlace) -> Result:
    secrets = {name: source.read(place.folder) for name, source in action.secrets.items()}
    found = await run_program(action, parcel, secrets)
    if found is None:
        return Result("nothing")
    if isinstance(found, str):
        return Result("text", found, found.encode("utf-8", "replace"))
    return Result("data", found, json.dumps(found, ensure_ascii=False).encode("utf-8", "replace"))


DELIVERIES: Mapping[type[Action], Callable[[Any, Parcel, DeliveryPlace], Awaitable[Result]]] = {
    Webhook: _call,
    Copy: _copy,
    Rows: _rows,
    Program: _program,
}
"""Mails are not here: each recipient is a delivery of its own (`mailing.py`)."""
