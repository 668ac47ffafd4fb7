"""The API: which request does what. What it is described as is made by the framework from what stands here."""

import asyncio
import re
from collections.abc import AsyncIterator, Callable
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import msgspec
from fastapi import FastAPI, Query, Request
from fastapi.exceptions import RequestValidationError
from fastapi.middleware.cors import CORSMiddleware
from fastapi.responses import FileResponse, Response, StreamingResponse
from prometheus_client import generate_latest
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mantisreed import __version__
from mantisreed.errors import InternalError, MantisreedError
from mantisreed.exports.formats import OUTPUT_FORMATS, TRANSCRIPT_FORMAT, OutputFormat, chosen_formats
from mantisreed.exports.script import Script
from mantisreed.guarded import LimitedBodies
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.plan import plan_recordings
from mantisreed.pipeline.reviewing import reviewed
from mantisreed.pipeline.transcribe import default_writing
from mantisreed.review.page import review_page
from mantisreed.serving.access import own, sees
from mantisreed.serving.intake import fingerprint
from mantisreed.serving.orders import HAS_TEXT, STATES, Order
from mantisreed.serving.problems import MEDIA_TYPE, Problem
from mantisreed.serving.service import Service
from mantisreed.serving.tokens import Token
from mantisreed.serving.views import described, described_pieces
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript, from_json
from mantisreed.units import parse_duration

_LONGEST_WAIT = 300.0  # seconds that a request may wait for its job
_LARGEST_TRANSCRIPT = 64 << 20  # bytes
_FORM = 1 << 20  # bytes of a form beside its recording
_PAGE = 50
_KEY = re.compile(r"[\x21-\x7e]{1,200}")

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


class ErrorOfJob(BaseModel):
    """Why a job failed or waits."""

    what: str
    advice: str | None = None


class CallOfJob(BaseModel):
    """The call when it has ended."""

    url: str
    profile: str
    state: str | None = None


class Job(BaseModel):
    """One recording that is, or was, transcribed."""

    id: str
    recording: str
    state: str = Field(json_schema_extra={"enum": list(STATES)})
    stage: str | None = Field(None, description="What is being done, or why it waits.")
    engine: str | None = None
    language: str | None = None
    created: str
    finished: str | None = None
    seconds: float | None = Field(None, description="Length of the recording.")
    words: int | None = None
    doubts: int | None = None
    cost: float | None = None
    currency: str | None = None
    error: ErrorOfJob | None = None
    call: CallOfJob | None = None
    links: dict[str, str]


class JobList(BaseModel):
    """Jobs, the newest first."""

    jobs: list[Job]
    count: int = Field(description="Of all that fit the filters.")
    next: str | None = Field(None, description="The address of the next page.")


class ProblemDocument(BaseModel):
    """RFC 9457."""

    type: str
    title: str
    status: int
    detail: str
    advice: str | None = None


_PROBLEM_CONTENT = {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemDocument"}}}
_PROBLEMS: dict[int | str, dict[str, Any]] = {
    "4XX": {"description": "why it is not done", "content": _PROBLEM_CONTENT},
    "5XX": {"description": "what failed", "content": _PROBLEM_CONTENT},
}

_OPTION_FIELDS: dict[str, Any] = {
    "engine": {"type": "string", "description": "An engine card, or NAME:PROFILE."},
    "language": {"type": "string", "description": "A BCP 47 tag."},
    "translate_to": {"type": "string"},
    "hints": {"type": "array", "items": {"type": "string"}},
    "to": {"type": "array", "items": {"type": "string"}, "description": "Formats that are written."},
    "channels": {"type": "string", "description": "mix, apart, or a number."},
    "piece_length": {"type": "string", "examples": ["10min"]},
    "layout": {"type": "string"},
    "second_opinion": {"type": "string", "description": "The engine that hears what is doubtful again."},
    "redact": {"type": "boolean"},
    "spend_limit": {"type": "number"},
    "afresh": {"type": "boolean"},
    "name": {"type": "string", "description": "What the recording is called."},
    "call": {"type": "string", "format": "uri", "description": "Called when the job has ended."},
    "profile": {"type": "string", "enum": ["live", "test"], "description": "With which key the call is signed."},
}
_BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "multipart/form-data": {
                "schema": {
                    "type": "object",
                    "required": ["recording"],
                    "properties": {"recording": {"type": "string", "format": "binary"}, **_OPTION_FIELDS},
                }
            },
            "application/json": {
                "schema": {
                    "type": "object",
                    "properties": {
                        "link": {"type": "string", "format": "uri"},
                        "path": {"type": "string", "description": "A file in a folder that the service allows."},
                        "upload": {"type": "string", "description": "The id of a complete upload."},
                        **_OPTION_FIELDS,
                    },
                }
            },
            "application/octet-stream": {"schema": {"type": "string", "format": "binary"}},
        },
    }
}


def application(service: Service) -> FastAPI:
    """The web application of a service."""
    app = FastAPI(
        title="Mantisreed",
        version=__version__,
        description="Give a recording or a link, get text: jobs, their progress, outputs, costs.",
        docs_url=None,
        redoc_url=None,
        responses=_PROBLEMS,
    )
    _add_errors(app, service)
    _add_jobs(app, service)
    _add_outputs(app, service)
    _add_uploads(app, service)
    _add_rest(app, service)
    if service.links is not None:
        app.router.routes.append(service.links.route)
    if service.options.origins:
        app.add_middleware(
            CORSMiddleware,
            allow_origins=list(service.options.origins),
            allow_methods=["*"],
            allow_headers=["authorization", "content-type", "idempotency-key", "upload-offset", "upload-complete"],
            expose_headers=["location", "upload-offset", "upload-complete"],
        )
    app.add_middleware(_Headers, service=service)
    # A form is spooled before its size is known; what is beyond any limit is not even read.
    largest = (1 << 50) if service.options.max_bytes is None else service.options.max_bytes + _FORM
    app.add_middleware(LimitedBodies, largest=max(largest, _LARGEST_TRANSCRIPT))
    _add_schemas(app)
    return app


class _Headers:
    """Sets what keeps browsers from doing harm with answers, and counts them."""

    def __init__(self, app: ASGIApp, service: Service) -> None:
        self._application, self._service = app, service

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._application(scope, receive, send)
            return

        async def sent(message: Message) -> None:
            if message["type"] == "http.response.start":
                self._service.metrics.requests.labels(scope["method"], str(message["status"])).inc()
                names = {name for name, _ in message["headers"]}
                for name, value in _SECURITY:
                    if name not in names:
                        message["headers"].append((name, value))
            await send(message)

        await self._application(scope, receive, sent)


_SECURITY = (
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"x-frame-options", b"DENY"),
    (b"cache-control", b"no-store"),
    (b"content-security-policy", b"default-src 'none'; frame-ancestors 'none'"),
)


def _add_schemas(app: FastAPI) -> None:
    """The problem document is what all errors are, and no route returns it by itself."""
    make = app.openapi

    def described_api() -> dict[str, Any]:
        document = make()
        document.setdefault("components", {}).setdefault("schemas", {})["ProblemDocument"] = (
            ProblemDocument.model_json_schema()
        )
        return document

    app.openapi = described_api  # type: ignore[method-assign]


def _add_errors(app: FastAPI, service: Service) -> None:
    def problem(request: Request, error: Exception) -> Response:
        assert isinstance(error, Problem)
        return error.response()

    def known(request: Request, error: Exception) -> Response:
        assert isinstance(error, MantisreedError)
        return Problem.of(error).response()

    def of_framework(request: Request, error: Exception) -> Response:
        if isinstance(error, HTTPException):
            return Problem(error.status_code, str(error.detail), headers=error.headers).response()
        assert isinstance(error, RequestValidationError)
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        return Problem(400, f"{where}: {first['msg']}").response()

    def unexpected(request: Request, error: Exception) -> Response:
        return Problem.of(InternalError.because(error)).response()

    app.add_exception_handler(Problem, problem)
    app.add_exception_handler(MantisreedError, known)
    app.add_exception_handler(HTTPException, of_framework)
    app.add_exception_handler(RequestValidationError, of_framework)
    app.add_exception_handler(Exception, unexpected)


def _json(document: object, status: int = 200, **headers: str) -> Response:
    return Response(msgspec.json.encode(document), status, headers, "application/json")


def _order(service: Service, token: Token, job: str) -> Order:
    """A job that the token may see; one that it may not is as good as none.

    Raises:
        Problem: there is none.
    """
    order = service.book.get(job)
    if order is None or not sees(token, order):
        raise Problem(404, f"there is no job {job[:60]!r}")
    return order


def _wait_of(request: Request) -> float:
    """Seconds to wait for the job.

    Raises:
        Problem: it is no duration, or longer than a request may wait.
    """
    given = request.query_params.get("wait")
    if given is None:
        return 0.0
    try:
        seconds = parse_duration(given)
    except ValueError as error:
        raise Problem(400, f"wait={given[:40]} is no duration", advice="such as wait=30s") from error
    if seconds > _LONGEST_WAIT:
        raise Problem(400, f"a request waits for {_LONGEST_WAIT:.0f} s at most", advice="follow the job's events")
    return seconds


def _add_jobs(app: FastAPI, service: Service) -> None:
    @app.post("/jobs", status_code=202, response_model=Job, openapi_extra=_BODY, tags=["jobs"])
    async def submit(
        request: Request,
        wait: Annotated[str | None, Query(description="Wait for the text for so long, such as 30s.")] = None,
    ) -> Response:
        """Send a recording; answered at once with the job, or with `wait` by its text in the form of `Accept`."""
        token = service.access.token(request, "submit")
        seconds = _wait_of(request)
        if seconds:
            _form_of(request)  # what cannot be had is told before anything is sent
        order = await _submitted(service, request, token)
        if seconds and await service.ended(order, seconds):
            if order.state in HAS_TEXT:
                return await _output(service, order, _form_of(request))
            if order.state == "failed":
                raise Problem(502, order.error or "the job failed", advice=order.advice)
        return _json(described(order), 202, Location=f"/jobs/{order.id}")

    @app.get("/jobs", response_model=JobList, tags=["jobs"])
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
        token = service.access.token(request, "read")
        states = {one.strip() for one in state.split(",")} if state else None
        if states is not None and (unknown := states - set(STATES)):
            raise Problem(400, f"{min(unknown)!r} is no state", advice=f"states are {', '.join(STATES)}")
        found = [
            order
            for order in own(token, service.book)
            if (states is None or order.state in states)
            and (recording is None or recording.casefold() in order.name.casefold())
            and (engine is None or order.options.engine == engine)
        ]
        page = [order for order in found if before is None or order.id < before][:limit]
        is_last = not page or page[-1].id == found[-1].id
        following = None if is_last else str(request.url.include_query_params(before=page[-1].id).query)
        listed: dict[str, Any] = {"jobs": [described(order) for order in page], "count": len(found)}
        listed["next"] = None if following is None else f"/jobs?{following}"
        return _json(listed)

    @app.get("/jobs/{job}", response_model=Job, tags=["jobs"])
    async def one(request: Request, job: str) -> Response:
        """One job, with its pieces, attempts and follow-ups."""
        order = _order(service, service.access.token(request, "read"), job)
        more: dict[str, Any] = {}
        if order.job is not None and service.desk is not None:
            known = order.job
            more = await service.desk.writer.perform(
                lambda ledger: described_pieces(
                    ledger.listing.job(known), ledger.listing.pieces(known), list(ledger.follow_ups.of_job(known))
                )
            )
        return _json(described(order) | {"details": more})

    @app.get("/jobs/{job}/events", tags=["events"], response_class=StreamingResponse)
    async def events_of(request: Request, job: str) -> StreamingResponse:
        """What happens with one job, as server-sent events; the stream ends when the job has."""
        order = _order(service, service.access.token(request, "read"), job)
        return _stream(service, lambda one: one.id == order.id, [order], ends_with_job=True)

    @app.get("/events", tags=["events"], response_class=StreamingResponse)
    async def events(request: Request) -> StreamingResponse:
        """What happens with all jobs, as server-sent events."""
        token = service.access.token(request, "read")
        return _stream(service, lambda order: sees(token, order), [], ends_with_job=False)

    @app.post("/jobs/{job}/cancel", response_model=Job, tags=["jobs"])
    async def cancel(request: Request, job: str) -> Response:
        """Send nothing more of a job."""
        order = _order(service, service.access.token(request, "submit"), job)
        if order.has_ended:
            raise Problem(409, f"the job is {order.state} already")
        assert service.desk is not None
        await service.desk.cancel(order)
        return _json(described(order))

    @app.post("/jobs/{job}/retry", status_code=202, response_model=Job, tags=["jobs"])
    async def retry(request: Request, job: str) -> Response:
        """Try a job again; what was answered is not paid for again."""
        order = _order(service, service.access.token(request, "submit"), job)
        if order.state not in ("failed", "cancelled", "incomplete", "doubtful"):
            raise Problem(409, f"the job is {order.state}, and there is nothing to try again")
        assert service.desk is not None
        service.desk.again(order)
        return _json(described(order), 202, Location=f"/jobs/{order.id}")

    @app.delete("/jobs/{job}", status_code=204, tags=["jobs"], response_class=Response)
    async def forget(request: Request, job: str) -> Response:
        """Forget a job that has ended, with the recording that was uploaded for it; outputs stay."""
        order = _order(service, service.access.token(request, "submit"), job)
        if not order.has_ended:
            raise Problem(409, "the job has not ended", advice="cancel it first")
        await asyncio.to_thread(service.forget, order)
        return Response(status_code=204)


async def _submitted(service: Service, request: Request, token: Token) -> Order:
    """The job of a request: a new one, or that of an earlier request with the same idempotency key."""
    key = request.headers.get("idempotency-key")
    if key is not None and not _KEY.fullmatch(key):
        raise Problem(400, "an idempotency key has 1 to 200 printable ASCII characters")
    if service.is_stopping:
        raise Problem(503, "the service is stopping", retry_after=10)
    if key is None:
        return await _accepted(service, await service.intake.order(request, token), token, None)
    if (token.name, key) in service.keys_in_use:
        raise Problem(409, "a request with this idempotency key is under way", retry_after=1)
    service.keys_in_use.add((token.name, key))
    try:
        before = service.book.with_key(token.name, key)
        order = await service.intake.order(request, token)
        if before is not None:
            await asyncio.to_thread(service.forget, order)  # its recording has come twice
            if before.digest != fingerprint(order):
                raise Problem(422, "this idempotency key was used for another request")
            return before
        return await _accepted(service, order, token, key)
    finally:
        service.keys_in_use.discard((token.name, key))


async def _accepted(service: Service, order: Order, token: Token, key: str | None) -> Order:
    """The order, accepted; of one that is not, nothing is left."""
    try:
        return service.accept(order, token, key)
    except Exception:
        await asyncio.to_thread(service.forget, order)
        raise


def _stream(
    service: Service, wants: Callable[[Order], bool], first: list[Order], *, ends_with_job: bool
) -> StreamingResponse:
    async def told() -> AsyncIterator[bytes]:
        async for event in service.feed.stream(wants, first, ends_with_job=ends_with_job):
            yield event

    return StreamingResponse(told(), media_type="text/event-stream", headers={"X-Accel-Buffering": "no"})


def _form_of(request: Request) -> OutputFormat:
    """The format that `Accept` asks for; plain text where anything will do.

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
        except ValueError:
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


async def _output(service: Service, order: Order, form: OutputFormat) -> Response:
    """A job's text in a format."""
    transcript = await asyncio.to_thread(_transcript_of, order)
    writing = default_writing(service.workspace)
    if order.options.layout is not None:
        writing = msgspec.structs.replace(writing, rules=service.workspace.layout(order.options.layout))
    content = await asyncio.to_thread(form.write, Script(transcript), writing, order.name)
    kind = _TYPES.get(form.name, "text/plain")
    charset = "; charset=utf-8" if kind.startswith("text/") else ""
    headers = {"Location": f"/jobs/{order.id}", "Content-Type": f"{kind}{charset}"}
    return Response(content, 200, headers)


def _transcript_of(order: Order) -> Transcript:
    """The transcript of a job.

    Raises:
        Problem: there is none, or it is gone.
    """
    if order.state not in HAS_TEXT or order.transcript is None:
        raise Problem(409, f"the job is {order.state}, and has no text", advice="follow its events, or wait")
    try:
        return from_json(Path(order.transcript).read_bytes())
    except OSError as error:
        raise Problem(410, "the transcript is not where it was written any more") from error


def _add_outputs(app: FastAPI, service: Service) -> None:
    @app.get("/jobs/{job}/text", tags=["outputs"], response_class=Response)
    async def text(request: Request, job: str) -> Response:
        """The text, in the form of `Accept`: plain, JSON, SRT, WebVTT, TTML, Markdown, HTML, CSV."""
        order = _order(service, service.access.token(request, "read"), job)
        return await _output(service, order, _form_of(request))

    @app.get("/jobs/{job}/outputs/{form}", tags=["outputs"], response_class=Response)
    async def output(request: Request, job: str, form: str) -> Response:
        """The text in a format, by its name."""
        order = _order(service, service.access.token(request, "read"), job)
        return await _output(service, order, chosen_formats([form])[0])

    @app.get("/jobs/{job}/sound", tags=["review"], response_class=FileResponse)
    async def sound(request: Request, job: str) -> Response:
        """The recording, for the review page."""
        order = _order(service, service.access.token(request, "read"), job)
        if not order.path or not Path(order.path).is_file():
            raise Problem(404, "the recording is not on this machine")
        return FileResponse(order.path)

    @app.post("/jobs/{job}/review", tags=["review"])
    async def open_review(request: Request, job: str) -> Response:
        """An address that opens the review page in a browser for some hours."""
        token = service.access.token(request, "read")
        order = _order(service, token, job)
        return _json({"url": f"/jobs/{order.id}/review?ticket={service.access.ticket(order, token)}"})

    @app.get("/jobs/{job}/review", tags=["review"], response_class=Response)
    async def review(request: Request, job: str) -> Response:
        """The review page: hear, read, correct, save."""
        order = _order(service, service.access.token(request, "read"), job)
        page = await asyncio.to_thread(_review_page, service, order, request.query_params.get("ticket"))
        return Response(page, headers={"Content-Type": "text/html; charset=utf-8", **_PAGE_HEADERS})

    @app.put("/jobs/{job}/transcript", tags=["review"])
    async def save(request: Request, job: str) -> Response:
        """Take a corrected transcript, and write all outputs of the job anew."""
        order = _order(service, service.access.token(request, "submit"), job)
        body = bytearray()
        async for block in request.stream():
            body += block
            if len(body) > _LARGEST_TRANSCRIPT:
                raise Problem(413, f"a transcript has at most {_LARGEST_TRANSCRIPT} bytes")
        files = await asyncio.to_thread(_saved, service, order, from_json(bytes(body)))
        return _json({"files": [file.name for file in files]})


_PAGE_HEADERS = {
    "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; "
    "media-src blob: data: 'self'; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'"
}


def _review_page(service: Service, order: Order, ticket: str | None) -> str:
    transcript = _transcript_of(order)
    if not order.path or not Path(order.path).is_file():
        raise Problem(404, "the recording is not on this machine", advice="`mantisreed review` with a copy of it")
    ready = reviewed(transcript, Path(order.path), is_embedded=False)
    query = f"?ticket={ticket}" if ticket else ""
    played = replace(ready.sound, url=f"/jobs/{order.id}/sound{query}")
    rules = service.workspace.layout(order.options.layout)
    save_url = f"/jobs/{order.id}/transcript{query}"
    stem = Path(order.transcript or order.name).name.removesuffix(".transcript.json")
    return review_page(ready.transcript, played, rules, stem=stem, save_url=save_url)


def _saved(service: Service, order: Order, corrected: Transcript) -> tuple[Path, ...]:
    """Write a corrected transcript over the job's outputs.

    Raises:
        Problem: it is of another recording.
    """
    before = _transcript_of(order)
    if corrected.recording.digest != before.recording.digest:
        raise Problem(422, "this is the transcript of another recording")
    assert order.transcript is not None
    document = Path(order.transcript)
    stem = document.name.removesuffix(".transcript.json")
    names = [
        form
        for form in OUTPUT_FORMATS
        if f"{stem}{OUTPUT_FORMATS[form].suffix}" in {Path(f).name for f in order.files}
    ]
    writing = default_writing(service.workspace)
    formats = chosen_formats(names or [TRANSCRIPT_FORMAT])
    outputs = Outputs(document.parent, service.workspace.hidden, formats, options=writing, overwrite=True)
    source = Source(Path(order.path)) if order.path else Source(Path(order.name), order.link)
    written = outputs.write(stem, source, corrected)
    service.book.change(order, words=len(corrected.words), doubts=len(corrected.doubts_worth_hearing))
    return written.files


def _add_uploads(app: FastAPI, service: Service) -> None:
    uploads = service.intake.uploads

    def number(request: Request, name: str) -> int | None:
        given = request.headers.get(name)
        if given is None:
            return None
        if not given.isascii() or not given.isdecimal() or len(given) > 15:
            raise Problem(400, f"{name} is a number of bytes")
        return int(given)

    def is_last(request: Request) -> bool:
        return request.headers.get("upload-complete", "?1") != "?0"

    def state(upload_id: str, offset: int, is_complete: bool, status: int) -> Response:
        headers = {"Upload-Offset": str(offset), "Upload-Complete": "?1" if is_complete else "?0"}
        headers["Location"] = f"/uploads/{upload_id}"
        return Response(status_code=status, headers=headers)

    @app.post("/uploads", status_code=201, tags=["uploads"], response_class=Response)
    async def begin(request: Request, name: str | None = None) -> Response:
        """Begin an upload that can be gone on with, by as much of it as comes (`Upload-Complete: ?0`: a part)."""
        token = service.access.token(request, "submit")
        most = service.intake.most_bytes(token)
        length = number(request, "upload-length")
        if most is not None and (length or 0) > most:
            raise Problem(413, f"the recording is over {most} bytes")
        upload = uploads.begin(token.name, name, length)
        offset = await uploads.take(upload, 0, request.stream(), most, is_last=is_last(request))
        return state(upload.id, offset, upload.is_complete, 201)

    @app.head("/uploads/{upload}", status_code=204, tags=["uploads"], response_class=Response)
    async def offset_of(request: Request, upload: str) -> Response:
        """How much of an upload has come."""
        found = uploads.get(upload, service.access.token(request, "submit").name)
        return state(found.id, uploads.offset(found), found.is_complete, 204)

    @app.patch("/uploads/{upload}", status_code=204, tags=["uploads"], response_class=Response)
    async def go_on(request: Request, upload: str) -> Response:
        """Go on with an upload where it ended (`Upload-Offset`)."""
        token = service.access.token(request, "submit")
        found = uploads.get(upload, token.name)
        offset = number(request, "upload-offset")
        if offset is None:
            raise Problem(400, "Upload-Offset says where it goes on")
        most = service.intake.most_bytes(token)
        offset = await uploads.take(found, offset, request.stream(), most, is_last=is_last(request))
        return state(found.id, offset, found.is_complete, 204)

    @app.delete("/uploads/{upload}", status_code=204, tags=["uploads"], response_class=Response)
    async def drop(request: Request, upload: str) -> Response:
        """Give an upload up."""
        uploads.drop(uploads.get(upload, service.access.token(request, "submit").name))
        return Response(status_code=204)


def _add_rest(app: FastAPI, service: Service) -> None:
    @app.post("/plan", tags=["money"], openapi_extra=_BODY)
    async def plan(request: Request) -> Response:
        """What a job would send and cost; nothing is sent, and nothing is kept."""
        token = service.access.token(request, "submit")
        order = await service.intake.order(request, token)
        try:
            if order.link is not None:
                raise Problem(400, "a link is not fetched for a plan", advice="give the recording itself")
            assert service.desk is not None
            wanted = order.options
            if wanted.engine is None:
                wanted = msgspec.structs.replace(wanted, engine=service.options.engine)
            options = service.desk.checked(wanted)
            (planned,) = await asyncio.to_thread(
                plan_recordings, service.workspace, options, [Source(Path(order.path))]
            )
        finally:
            await asyncio.to_thread(service.forget, order)
        if planned.error is not None:
            raise Problem.of(planned.error)
        price = options.card.price
        return _json(
            {
                "engine": options.card.name,
                "seconds": round(planned.duration, 3),
                "speech_seconds": round(planned.speech, 3),
                "billed_seconds": planned.billed,
                "cost": None if planned.cost is None else float(planned.cost),
                "currency": price.currency if price else None,
                "pieces": [{"start": one.start, "end": one.end, "bytes": one.size} for one in planned.pieces],
                "notes": list(planned.notes),
            }
        )

    @app.get("/engines", tags=["engines"])
    async def engines(request: Request) -> Response:
        """Engines, what they take, and what they cost; and what the token's jobs may cost together."""
        token = service.access.token(request, "read")
        return _json(
            {
                "engines": [
                    {
                        "name": name,
                        "about": card.about,
                        "languages": list(card.accepts.languages),
                        "max_bytes": None if card.accepts.max_bytes is None else int(card.accepts.max_bytes),
                        "price_per_minute": float(card.price.per_minute) if card.price else None,
                        "currency": card.price.currency if card.price else None,
                    }
                    for name, card in service.workspace.engines.items()
                ],
                "default": service.options.engine or service.workspace.settings.engine,
                "formats": list(OUTPUT_FORMATS),
                "spend_limit": token.limits.spend,
            }
        )

    @app.get("/costs", tags=["money"])
    async def costs(request: Request, by: Annotated[str, Query(pattern="^(day|month)$")] = "day") -> Response:
        """What was paid, by day or month and engine."""
        service.access.token(request, "admin")
        assert service.desk is not None
        spent = await service.desk.writer.perform(lambda ledger: ledger.listing.spending(by))
        rows = [
            {
                by: one.when,
                "engine": one.engine,
                "seconds": one.seconds,
                "cost": _number(one.cost),
                "currency": one.currency,
            }
            for one in spent
        ]
        return _json({"costs": rows})

    @app.get("/health", tags=["health"])
    async def health() -> Response:
        """Whether the service runs."""
        return _json({"state": "running"})

    @app.get("/ready", tags=["health"])
    async def ready() -> Response:
        """Whether the service takes jobs."""
        if not await asyncio.to_thread(service.is_ready):
            raise Problem(503, "the ledger cannot be used, or the service is stopping", retry_after=10)
        return _json({"state": "ready"})

    @app.get("/metrics", tags=["health"], response_class=Response)
    async def metrics(request: Request) -> Response:
        """What is counted, in the open text format."""
        service.access.token(request, "admin")
        service.metrics.queue.set(service.desk.waiting if service.desk is not None else 0)
        service.metrics.listeners.set(len(service.feed))
        return Response(generate_latest(service.metrics.registry), media_type="text/plain; version=0.0.4")

    @app.get("/", include_in_schema=False, response_class=Response)
    async def board() -> Response:
        """The board."""
        from mantisreed.serving.board import board_page

        return Response(board_page(), headers={"Content-Type": "text/html; charset=utf-8", **_PAGE_HEADERS})

    @app.post("/calls/{call}", include_in_schema=False, response_class=Response)
    async def called(request: Request, call: str) -> Response:
        """An engine calls back."""
        if service.callbacks is None:
            raise Problem(404, "no engine calls back here")
        request.path_params["token"] = call
        return await service.callbacks.called(request)


def _number(amount: Any) -> float | None:
    return None if amount is None else float(amount)
