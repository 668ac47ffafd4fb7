"""Routes of the service itself: plans, engines, costs, health, metrics, the board, calls of
engines.
"""

import asyncio
from decimal import Decimal
from pathlib import Path
from typing import Annotated

import msgspec
from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from prometheus_client import generate_latest

from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.serving.problems import Problem
from mantisreed.serving.routes.answers import (
    PAGE_HEADERS,
    json_answer,
    let_in,
    prefix_of,
    service_of,
)
from mantisreed.serving.routes.description import COUNTS, PLAN
from mantisreed.serving.routes.shapes import Costs, Engines, Plan, StateOfService, Work
from mantisreed.sources.recordings import Source
from mantisreed.workbench.plan import plan_recordings

router = APIRouter()


@router.post("/plan", tags=["money"], response_model=Plan, openapi_extra=PLAN)
async def plan(request: Request) -> Response:
    """What a job would send and cost; nothing is sent, and nothing is kept."""
    service, token = let_in(request, "submit")
    order = (await service.intake.received(request, token)).order
    try:
        if order.link is not None:
            raise Problem(
                400, "a link is not fetched for a plan", advice="give the recording itself"
            )
        assert service.desk is not None
        wanted = order.options
        if wanted.engine is None:
            wanted = msgspec.structs.replace(wanted, engine=service.options.engine)
        options = service.desk.checked(wanted)
        # As a file of its own, so that the plan is that of a run from the command line.
        source = Source(Path(order.path))
        (planned,) = await asyncio.to_thread(plan_recordings, service.workspace, options, [source])
    finally:
        await service.forget(order)
    # Behind the forgetting, so that nothing is left of a recording that cannot be read.
    if planned.error is not None:
        raise Problem.of(planned.error)
    price = options.card.price
    return json_answer(
        {
            "engine": options.card.name,
            "seconds": round(planned.duration, 3),
            "speech_seconds": round(planned.speech, 3),
            "billed_seconds": planned.billed,
            "cost": _number(planned.cost),
            "currency": price.currency if price else None,
            "pieces": [
                {"start": one.start, "end": one.end, "bytes": one.size} for one in planned.pieces
            ],
            "notes": list(planned.notes),
        }
    )


@router.get("/engines", tags=["engines"], response_model=Engines)
async def engines(request: Request) -> Response:
    """Engines, what they take, and what they cost; and what the token's jobs may cost together."""
    service, token = let_in(request, "read")
    listed = [
        {
            "name": name,
            "about": card.about,
            "languages": list(card.accepts.languages),
            "max_bytes": None if card.accepts.max_bytes is None else int(card.accepts.max_bytes),
            "price_per_minute": _number(card.price.per_minute if card.price else None),
            "currency": card.price.currency if card.price else None,
        }
        for name, card in service.workspace.engines.items()
    ]
    return json_answer(
        {
            "engines": listed,
            "default": service.options.engine or service.workspace.settings.engine,
            "formats": list(OUTPUT_FORMATS),
            "spend_limit": token.limits.spend,
        }
    )


@router.get("/costs", tags=["money"], response_model=Costs)
async def costs(
    request: Request, by: Annotated[str, Query(pattern="^(day|month)$")] = "day"
) -> Response:
    """What was paid, by day or month and engine."""
    service, _ = let_in(request, "admin")
    assert service.desk is not None
    spent = await service.writer.perform(lambda ledger: ledger.listing.spending(by))
    rows = [
        {
            by: one.when,
            "engine": one.engine,
            "billed_seconds": one.seconds,
            "cost": _number(one.cost),
            "currency": one.currency,
            "reported_seconds": one.reported_seconds,
            "reported_cost": _number(one.reported_cost),
        }
        for one in spent
    ]
    return json_answer({"costs": rows})


@router.get("/work", tags=["health"], response_model=Work)
async def work(request: Request) -> Response:
    """Workers on the queue, their machines, and how much of it is left."""
    service, _ = let_in(request, "admin")
    found = await service.under_way()
    workers = [
        {"machine": one.host, "version": one.program, "recordings": one.jobs}
        for one in found.workers
    ]
    return json_answer({"workers": workers, **found.figures()})


@router.get("/health", tags=["health"], response_model=StateOfService)
async def health() -> Response:
    """Whether the service runs."""
    return json_answer({"state": "running"})


@router.get("/ready", tags=["health"], response_model=StateOfService)
async def ready(request: Request) -> Response:
    """Whether the service takes jobs."""
    if not await asyncio.to_thread(service_of(request).is_ready):
        raise Problem(503, "the ledger cannot be used, or the service is stopping", retry_after=10)
    return json_answer({"state": "ready"})


@router.get("/metrics", tags=["health"], response_class=Response, responses=COUNTS)
async def metrics(request: Request) -> Response:
    """What is counted, in the open text format."""
    service, _ = let_in(request, "admin")
    service.metrics.queue.set(service.desk.waiting if service.desk is not None else 0)
    service.metrics.listeners.set(len(service.feed))
    service.metrics.note_work(await service.under_way())
    return Response(
        generate_latest(service.metrics.registry), media_type="text/plain; version=0.0.4"
    )


@router.get("/", include_in_schema=False, response_class=Response)
async def board(request: Request) -> Response:
    """The board."""
    from mantisreed.serving.board import board_page

    return Response(board_page(prefix_of(request)), headers=PAGE_HEADERS)


@router.get("/openapi.json", include_in_schema=False)
async def description(request: Request) -> Response:
    """The description of all this, for programs."""
    document = request.app.openapi()
    return json_answer({**document, "servers": [{"url": prefix_of(request) or "/"}]})


@router.post("/calls/{call}", include_in_schema=False, response_class=Response)
async def called(request: Request, call: str) -> Response:
    """An engine calls back."""
    callbacks = service_of(request).callbacks
    if callbacks is None:
        raise Problem(404, "no engine calls back here")
    request.path_params["token"] = call
    return await callbacks.called(request)


def _number(amount: Decimal | float | None) -> float | None:
    if amount is None:
        return None
    return float(amount)
