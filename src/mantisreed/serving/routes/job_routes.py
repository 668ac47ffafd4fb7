"""Routes of jobs: sending, listing, following, cancelling, trying again, forgetting."""

from collections.abc import AsyncIterator, Callable
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response, StreamingResponse

from mantisreed.errors import InputError
from mantisreed.jobs.life import states_given
from mantisreed.serving.access import own, sees
from mantisreed.serving.orders import HAS_TEXT, Order
from mantisreed.serving.problems import Problem, status_of_kind
from mantisreed.serving.receiving.fields import wait_of
from mantisreed.serving.routes.answers import (
    form_of,
    job_answer,
    json_answer,
    let_in,
    order_of,
    order_to_change,
    prefix_of,
    text_answer,
)
from mantisreed.serving.routes.description import ACCEPTED, GONE, STREAM, SUBMISSION, TEXT
from mantisreed.serving.routes.shapes import DetailedJob, Job, JobList
from mantisreed.serving.routes.submitting import submitted
from mantisreed.serving.routes.views import described, described_pieces
from mantisreed.serving.service import Service
from mantisreed.serving.tokens import Token

_PAGE = 50  # jobs, where a request names no limit
_TRIED_AGAIN = frozenset(("failed", "cancelled", "incomplete", "suspect", "follow-up failed"))

router = APIRouter()


@router.post(
    "/jobs",
    status_code=202,
    response_model=Job,
    openapi_extra=SUBMISSION,
    tags=["jobs"],
    responses={**TEXT, **ACCEPTED},
)
async def submit(
    request: Request,
    wait: Annotated[
        str | None, Query(description="Wait for the text for so long, such as 30s.")
    ] = None,
) -> Response:
    """Send a recording; answered at once with the job, or with `wait` by its text in the form of
    `Accept`.
    """
    service, token = let_in(request, "submit")
    if wait_of(wait):
        form_of(request)  # what cannot be had is told before anything is read
    order, seconds = await submitted(service, request, token)
    if seconds and await service.ended(order, seconds):
        if order.state in HAS_TEXT:
            return await text_answer(request, service, order, form_of(request))
        if order.state == "failed":
            raise Problem(
                status_of_kind(order.kind), order.error or "the job failed", advice=order.advice
            )
    return job_answer(request, order, 202)


@router.get("/jobs", response_model=JobList, tags=["jobs"])
async def jobs(
    request: Request,
    state: Annotated[str | None, Query(description="States, with commas between.")] = None,
    recording: Annotated[str | None, Query(description="A part of its name.")] = None,
    engine: str | None = None,
    before: Annotated[
        str | None, Query(description="Only jobs that were sent before the one with this id.")
    ] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = _PAGE,
) -> Response:
    """Jobs, the newest first, a page at a time."""
    service, token = let_in(request, "read")
    try:
        states = states_given(state or None, "state")
    except InputError as error:
        raise Problem(400, str(error), advice=error.advice) from error
    part = (recording or "").casefold()

    def is_wanted(order: Order) -> bool:
        return (
            (states is None or order.state in states)
            and part in order.name.casefold()
            and engine in (None, order.options.engine)
        )

    found = list(filter(is_wanted, own(token, service.book)))
    # By ids, which sort by time: a job that comes meanwhile moves no page.
    page = [order for order in found if before is None or order.id < before][:limit]
    is_last = not page or page[-1].id == found[-1].id
    following = None if is_last else str(request.url.include_query_params(before=page[-1].id).query)
    prefix = prefix_of(request)
    listed: dict[str, Any] = {
        "jobs": [described(order, prefix) for order in page],
        "count": len(found),
    }
    listed["next"] = None if following is None else f"{prefix}/jobs?{following}"
    return json_answer(listed)


@router.get("/jobs/{job}", response_model=DetailedJob, tags=["jobs"])
async def one(request: Request, job: str) -> Response:
    """One job, with its pieces, attempts and follow-ups."""
    service, _, order = order_of(request, job, "read")
    assert service.desk is not None
    more = await service.writer.perform(
        lambda ledger: described_pieces(
            ledger.listing.job(order.id),
            ledger.listing.pieces(order.id),
            list(ledger.follow_ups.of_job(order.id)),
        )
    )
    return json_answer(described(order, prefix_of(request)) | {"details": more})


@router.get(
    "/jobs/{job}/events", tags=["events"], response_class=StreamingResponse, responses=STREAM
)
async def events_of(request: Request, job: str) -> StreamingResponse:
    """What happens with one job, as server-sent events; the stream ends when the job has."""
    service, token, order = order_of(request, job, "read")
    return _stream(
        request, service, token, lambda one: one.id == order.id, [order], ends_with_job=True
    )


@router.get("/events", tags=["events"], response_class=StreamingResponse, responses=STREAM)
async def events(request: Request) -> StreamingResponse:
    """What happens with all jobs, as server-sent events."""
    service, token = let_in(request, "read")
    return _stream(
        request, service, token, lambda order: sees(token, order), [], ends_with_job=False
    )


def _stream(
    request: Request,
    service: Service,
    token: Token,
    wants: Callable[[Order], bool],
    first: list[Order],
    *,
    ends_with_job: bool,
) -> StreamingResponse:
    def is_welcome() -> bool:
        return service.access.knows(token)

    async def told() -> AsyncIterator[bytes]:
        stream = service.feed.stream(
            wants,
            first,
            ends_with_job=ends_with_job,
            is_welcome=is_welcome,
            prefix=prefix_of(request),
        )
        async for event in stream:
            yield event

    return StreamingResponse(
        # Without this header, proxies of one kind gather events before they pass them on.
        told(),
        media_type="text/event-stream",
        headers={"X-Accel-Buffering": "no"},
    )


@router.post("/jobs/{job}/cancel", response_model=Job, tags=["jobs"])
async def cancel(request: Request, job: str) -> Response:
    """Send nothing more of a job."""
    async with order_to_change(request, job) as (service, _, order):
        if order.has_ended:
            raise Problem(409, f"the job is {order.state} already")
        assert service.desk is not None
        await service.desk.cancel(order)
    return job_answer(request, order)


@router.post(
    "/jobs/{job}/retry", status_code=202, response_model=Job, tags=["jobs"], responses=ACCEPTED
)
async def retry(request: Request, job: str) -> Response:
    """Try a job again; what was answered is not paid for again."""
    async with order_to_change(request, job) as (service, _, order):
        if order.state not in _TRIED_AGAIN:
            raise Problem(409, f"the job is {order.state}, and there is nothing to try again")
        await service.admit(order)
        assert service.desk is not None
        await service.desk.again(order)
    return job_answer(request, order, 202)


@router.delete(
    "/jobs/{job}", status_code=204, tags=["jobs"], response_class=Response, responses=GONE
)
async def forget(request: Request, job: str) -> Response:
    """Forget a job that has ended, with the recording that was uploaded for it; outputs stay."""
    async with order_to_change(request, job) as (service, _, order):
        if not order.has_ended:
            raise Problem(409, "the job has not ended", advice="cancel it first")
        if service.desk is not None and order.id in service.desk.on_their_way():
            raise Problem(
                409,
                "a request that was running at the cancellation is still running",
                retry_after=2,
            )
        await service.forget(order)
    service.feed.tell(order, is_gone=True)
    return Response(status_code=204)
