"""What all routes share: the service of a request, the job that it names, and the form of the
answer.
"""

import asyncio
from pathlib import Path
from typing import Any

import msgspec
from starlette.requests import Request
from starlette.responses import Response

from mantisreed.exports.formats import OUTPUT_FORMATS, OutputFormat
from mantisreed.exports.script import Script
from mantisreed.serving.access import sees
from mantisreed.serving.desk import writing_of
from mantisreed.serving.orders import HAS_TEXT, Order
from mantisreed.serving.problems import Problem
from mantisreed.serving.service import Service
from mantisreed.serving.tokens import Scope, Token
from mantisreed.transcript.document import Transcript, from_json

# What can be asked for by `Accept`, the best first where anything will do.
_BY_TYPE = {
    "text/plain": "txt",
    "application/json": "json",
    "application/x-subrip": "srt",
    "text/vtt": "vtt",
    "application/ttml+xml": "ttml",
    "text/markdown": "md",
    "text/html": "html",
    "text/csv": "csv",
}
_TYPES = {form: kind for kind, form in _BY_TYPE.items()} | {"ebuttd": "application/ttml+xml"}

TEXT_RESPONSES: dict[int | str, dict[str, Any]] = {
    200: {
        "description": "The text.",
        "content": {kind: {"schema": {"type": "string"}} for kind in _BY_TYPE},
    }
}
"""For the description: in which forms a text is had."""

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
            wanted.append((-float(quality), number, kind.lower()))
        except ValueError:  # a range of types without a sensible weight
            continue
    for weight, _, kind in sorted(wanted):
        if weight == 0:
            continue
        if kind in ("*/*", "text/*"):
            return OUTPUT_FORMATS["txt"]
        if kind == "application/*":
            return OUTPUT_FORMATS["json"]
        if kind in _BY_TYPE:
            return OUTPUT_FORMATS[_BY_TYPE[kind]]
    raise Problem(406, f"{given[:100]} cannot be had", advice=f"types are {', '.join(_BY_TYPE)}")


async def text_answer(service: Service, order: Order, form: OutputFormat) -> Response:
    """A job's text in a format.

    Raises:
        Problem: there is none, or it is gone.
    """
    transcript = await asyncio.to_thread(transcript_of, order)
    writing = writing_of(service.workspace, order.options)
    content = await asyncio.to_thread(form.write, Script(transcript), writing, order.name)
    kind = _TYPES.get(form.name, "text/plain")
    charset = "; charset=utf-8" if kind.startswith("text/") else ""
    headers = {"Location": f"/jobs/{order.id}", "Content-Type": f"{kind}{charset}"}
    return Response(content, 200, headers)


def transcript_of(order: Order) -> Transcript:
    """The transcript of a job.

    Raises:
        Problem: there is none, or it is gone.
    """
    if order.state not in HAS_TEXT or order.transcript is None:
        raise Problem(
            409, f"the job is {order.state}, and has no text", advice="follow its events, or wait"
        )
    try:
        return from_json(Path(order.transcript).read_bytes())
    except OSError as error:
        raise Problem(410, "the transcript is not where it was written any more") from error
