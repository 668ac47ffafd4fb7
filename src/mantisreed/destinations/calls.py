"""HTTP calls with results, signed after Standard Webhooks.

https://github.com/standard-webhooks/standard-webhooks: the receiver knows a call that came before
by `webhook-id`.
"""

import base64
import binascii
import hashlib
import hmac
import json
import mimetypes
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from mantisreed.cards.requests import HttpRequest
from mantisreed.destinations.actions import Webhook
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.errors import InputError, MantisreedError
from mantisreed.secrets import Secret
from mantisreed.urls import split_url

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport

_PASSING = frozenset((408, 425, 429))


def call_for(call: Webhook, parcel: Parcel, secret: Secret | None, moment: int) -> HttpRequest:
    """The request.

    Raises:
        InputError: there is no such file, or the secret is none.
    """
    if call.send == "json":
        content_type, body = (
            "application/json",
            json.dumps(parcel.facts, ensure_ascii=False, default=str).encode(),
        )
    else:
        (file, *_) = parcel.chosen((call.send,))
        content_type, body = (
            mimetypes.guess_type(file.name)[0] or "application/octet-stream",
            file.content,
        )
    known_by = f"msg_{hashlib.sha256(parcel.key.encode()).hexdigest()[:32]}"
    headers = [("content-type", content_type), *signed_headers(secret, known_by, moment, body)]
    headers += [(name, parcel.filled(template)) for name, template in call.headers.items()]
    return HttpRequest(
        "call", "call", "POST", call.to, tuple(headers), timeout=float(call.timeout), body=body
    )


def signed_headers(
    secret: Secret | None, known_by: str, moment: int, body: bytes
) -> list[tuple[str, str]]:
    """By what the receiver knows a call, and that it is ours; without a secret it is not signed.

    Raises:
        InputError: the secret is not base64.
    """
    headers = [("webhook-id", known_by), ("webhook-timestamp", str(moment))]
    if secret is not None:
        headers.append(("webhook-signature", signature(secret, known_by, moment, body)))
    return headers


def signature(secret: Secret, known_by: str, moment: int, body: bytes) -> str:
    """`v1,` and the signature in base64.

    Raises:
        InputError: the secret is not base64.
    """
    try:
        key = base64.b64decode(secret.reveal().removeprefix("whsec_"), validate=True)
    except (binascii.Error, ValueError) as error:
        raise InputError("the signing secret is not `whsec_` and base64") from error
    signed = hmac.digest(key, f"{known_by}.{moment}.".encode() + body, "sha256")
    return f"v1,{base64.b64encode(signed).decode()}"


async def send_call(
    call: Webhook,
    parcel: Parcel,
    secret: Secret | None,
    transport: "Transport",
    clock: Callable[[], float] = time.time,
) -> None:
    """Make the call. Whoever is called twice knows it by its id, so that trying again does no harm.

    Raises:
        DeliveryError: it was not taken.
    """
    where = split_url(call.to).hostname or call.to
    request = call_for(call, parcel, secret, int(clock()))
    try:
        answer = await transport.exchange(request)
    except InputError:
        raise
    except MantisreedError as error:
        raise DeliveryError(
            f"cannot be reached ({error.what})", where=where, may_pass=True
        ) from error
    if not 200 <= answer.status < 300:
        passes = answer.status >= 500 or answer.status in _PASSING
        raise DeliveryError(f"it answers HTTP {answer.status}", where=where, may_pass=passes)
