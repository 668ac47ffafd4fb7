"""Taking a request for a job: once, however often it is sent with the same idempotency key."""

import asyncio
import re

from starlette.requests import Request

from mantisreed.serving.orders import KeyUsedError, Order
from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving.intake import Received, fingerprint
from mantisreed.serving.routes.answers import form_of
from mantisreed.serving.service import Service
from mantisreed.serving.tokens import Token

_KEY = re.compile(r"[\x21-\x7e]{1,200}")


async def submitted(service: Service, request: Request, token: Token) -> tuple[Order, float]:
    """The job of a request, new or that of an earlier request with the same idempotency key; and
    how long it waits.

    Raises:
        Problem: the request makes no sense, or is not allowed.
    """
    key = request.headers.get("idempotency-key")
    if key is not None and not _KEY.fullmatch(key):
        raise Problem(400, "an idempotency key has 1 to 200 printable ASCII characters")
    if service.is_stopping:
        raise Problem(503, "the service is stopping", retry_after=10)
    if key is None:
        received = await service.intake.received(request, token)
        return await _accepted(service, request, received, token), received.wait
    if (token.name, key) in service.keys_in_use:
        raise Problem(409, "a request with this idempotency key is under way", retry_after=1)
    service.keys_in_use.add((token.name, key))
    try:
        before = service.book.with_key(token.name, key)
        received = await service.intake.received(request, token, before)
        order, digest = received.order, await asyncio.to_thread(fingerprint, received.order)
        if before is None:
            order.key, order.digest = key, digest
            try:
                return await _accepted(service, request, received, token), received.wait
            except KeyUsedError as used:
                before = used.order
        else:
            await service.forget(order)  # its recording has come twice
        if before.digest != digest:
            raise Problem(422, "this idempotency key was used for another request")
        return before, received.wait
    finally:
        service.keys_in_use.discard((token.name, key))


async def _accepted(service: Service, request: Request, received: Received, token: Token) -> Order:
    """The order, accepted; of one that is not, nothing is left but the upload that it was to be
    made of.
    """
    try:
        if received.wait:
            form_of(request)
        order = await service.accept(received.order)
    except Exception:
        await service.forget(received.order)
        raise
    if received.upload is not None:
        await service.intake.uploads.drop(received.upload)
    return order
