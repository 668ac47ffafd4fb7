"""What all routes share: the service of a request, the job that it names, and the form of the
answer.
"""

import asyncio
import hashlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path

import msgspec
from starlette.requests import Request
from starlette.responses import Response

from mantisreed.exports.formats import OUTPUT_FORMATS, TRANSCRIPT_FORMAT, OutputFormat, media_types
from mantisreed.exports.script import Script
from mantisreed.pipeline.options import default_writing
from mantisreed.serving.access import sees
from mantisreed.serving.orders import HAS_TEXT, Order
from mantisreed.serving.problems import Problem
from mantisreed.serving.routes.views import described
from mantisreed.serving.service import Service
from mantisreed.serving.tokens import Scope, Token
from mantisreed.transcript.document import Transcript, from_json

# Pages of ours hold all that they need, and speak to the service alone.
PAGE_HEADERS = {
    "Content-Type": "text/html; charset=utf-8",
    "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; "
    "script-src 'unsafe-inline'; "
    "media-src blob: data: 'self'; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; "
    "form-action 'none'",
}


def service_of(request: Request) -> Service:
    """The service that a request is to."""
    service = request.app.state.service
    assert isinstance(service, Service)
    return service


def prefix_of(request: Request) -> str:
    """The path under which whoever asks reaches the service."""
    prefix = request.scope.get("root_path", "")
    assert isinstance(prefix, str)
    return prefix


def let_in(request: Request, scope: Scope) -> tuple[Service, Token]:
    """The service, and the token of whoever may do this.

    Raises:
        Problem: they may not.
    """
    service = service_of(request)
    return service, service.access.token(request, scope)


def order_of(request: Request, job: str, scope: Scope) -> tuple[Service, Token, Order]:
    """The service, the token, and a job that the token may see; one that it may not is as good as
    none.

    Raises:
        Problem: there is none, or this may not be done with it.
    """
    service, token = let_in(request, scope)
    order = service.book.get(job)
    if order is None or not sees(token, order):
        raise Problem(404, f"there is no job {job[:60]!r}")
    return service, token, order


def job_answer(request: Request, order: Order, status: int = 200) -> Response:
    """A job, and where it is found where it was just accepted."""
    document = described(order, prefix_of(request))
    headers = {"Location": document["links"]["self"]} if status == 202 else {}
    return json_answer(document, status, **headers)


def json_answer(document: object, status: int = 200, **headers: str) -> Response:
    """A JSON document."""
    return Response(msgspec.json.encode(document), status, headers, "application/json")


def form_of(request: Request) -> OutputFormat:
    """The format that `Accept` asks for (RFC 9110, 12.5.1); plain text where anything will do.

    Raises:
        Problem: none of those that it names.
    """
    given = request.headers.get("accept", "*/*")
    wanted = []
    for number, part in enumerate(given.split(",")):
        kind, *parameters = (one.strip() for one in part.split(";"))
        quality = next((one[2:] for one in parameters if one.startswith("q=")), "1")
        try:
            # By weight, then in the order in which they are named.
            wanted.append((-float(quality), number, kind.lower()))
        except ValueError:  # a range of types without a sensible weight
            continue
    types = media_types()
    for weight, _, kind in sorted(wanted):
        if weight == 0:
            continue
        if kind in ("*/*", "text/*"):
            return OUTPUT_FORMATS["txt"]
        if kind == "application/*":
            return OUTPUT_FORMATS["json"]
        if kind in types:
            return OUTPUT_FORMATS[types[kind]]
    raise Problem(406, f"{given[:100]} cannot be had", advice=f"types are {', '.join(types)}")


@asynccontextmanager
async def order_to_change(
    request: Request, job: str
) -> AsyncIterator[tuple[Service, Token, Order]]:
    """The same for whoever changes the job: of several requests at once, one after the other.

    Raises:
        Problem: there is no such job, or this may not be done with it.
    """
    service, _, order = order_of(request, job, "submit")
    async with service.turn(order.id):
        # Whoever was before may have removed it.
        yield order_of(request, job, "submit")


async def text_answer(
    request: Request, service: Service, order: Order, form: OutputFormat
) -> Response:
    """A job's text in a format; nothing but its version, where the client has it already.

    Raises:
        Problem: there is none, or it is gone.
    """
    document = await document_of(service, order)
    writing = order.options.writing or default_writing(service.workspace)
    kind = form.media_type
    charset = "; charset=utf-8" if kind.startswith("text/") else ""
    headers = {
        "Location": f"{prefix_of(request)}/jobs/{order.id}",
        "Content-Type": f"{kind}{charset}",
        # Other formats are made of the transcript, and not the same to the byte in each version of
        # this program.
        "ETag": document.tag if form.name == TRANSCRIPT_FORMAT else f"W/{document.tag}",
        "Cache-Control": "no-cache",
        "Vary": "Accept, Authorization",
    }
    if names_version(request.headers.get("if-none-match"), document.tag, is_weak=True):
        return Response(status_code=304, headers=headers)
    content = await asyncio.to_thread(form.write, Script(document.transcript), writing, order.name)
    return Response(content, 200, headers)


@dataclass(frozen=True, slots=True)
class TranscriptDocument:
    """A transcript as it is on disk.

    Attributes:
        transcript: what is in it.
        tag: tells this version from all others (RFC 9110, 8.8.3).
    """

    transcript: Transcript
    tag: str


def names_version(given: str | None, tag: str, *, is_weak: bool = False) -> bool:
    """Whether `If-Match` or `If-None-Match` names a version (RFC 9110, 13.1).

    Args:
        given: the header; None where there is none.
        tag: of the version.
        is_weak: whether weak tags count.
    """
    tags = [one.strip() for one in (given or "").split(",")]
    return "*" in tags or tag in tags or (is_weak and f"W/{tag}" in tags)


async def document_of(service: Service, order: Order) -> TranscriptDocument:
    """The transcript of a job, with its version.

    Raises:
        Problem: there is none, or it is gone.
        MantisreedError: another machine has written it, and it cannot be had here.
    """
    await service.bring(order)
    return await asyncio.to_thread(_document_on_disk, order)


def _document_on_disk(order: Order) -> TranscriptDocument:
    # It may be written and not noted yet; then it is told as it is noted.
    if order.state not in HAS_TEXT or order.transcript is None:
        raise Problem(
            409, f"the job is {order.state}, and has no text", advice="follow its events, or wait"
        )
    try:
        content = Path(order.transcript).read_bytes()
        return TranscriptDocument(
            from_json(content), f'"{hashlib.sha256(content).hexdigest()[:32]}"'
        )
    except OSError as error:
        raise Problem(410, "the transcript is not where it was written any more") from error
