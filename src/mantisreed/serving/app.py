"""The API as an application: routes, errors, headers. What it is described as is made by the
framework from them.
"""

from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.middleware.cors import CORSMiddleware
from fastapi.responses import Response
from starlette.exceptions import HTTPException
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mantisreed import __version__
from mantisreed.errors import InternalError, MantisreedError
from mantisreed.guarded import LimitedBodies
from mantisreed.serving import job_routes, other_routes, output_routes, upload_routes
from mantisreed.serving.problems import Problem
from mantisreed.serving.service import Service
from mantisreed.serving.shapes import PROBLEMS, ProblemDocument

_FORM = 1 << 20  # bytes of a form beside its recording
_METHODS = frozenset(("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"))


def application(service: Service) -> FastAPI:
    """The web application of a service."""
    app = FastAPI(
        title="Mantisreed",
        version=__version__,
        description="Give a recording or a link, get text: jobs, their progress, outputs, costs.",
        docs_url=None,
        redoc_url=None,
        responses=PROBLEMS,
    )
    app.state.service = service
    _add_errors(app)
    for routes in (job_routes, output_routes, upload_routes, other_routes):
        app.include_router(routes.router)
    if service.links is not None:
        app.router.routes.append(service.links.route)
    if service.options.origins:
        app.add_middleware(
            CORSMiddleware,
            allow_origins=list(service.options.origins),
            allow_methods=["*"],
            allow_headers=[
                "authorization",
                "content-type",
                "idempotency-key",
                "upload-offset",
                "upload-complete",
            ],
            expose_headers=["location", "upload-offset", "upload-complete"],
        )
    app.add_middleware(_Headers, service=service)
    # What is beyond any limit is not even read.
    largest = (1 << 50) if service.options.max_bytes is None else service.options.max_bytes + _FORM
    app.add_middleware(LimitedBodies, largest=max(largest, output_routes.LARGEST_TRANSCRIPT))
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
                # Anybody can make methods up, and each would be counted by itself for ever.
                method = scope["method"] if scope["method"] in _METHODS else "other"
                self._service.metrics.requests.labels(method, str(message["status"])).inc()
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
    """What no route says by itself: the problem document, which all errors are, and tokens, where
    there are any.
    """
    make = app.openapi

    def described_api() -> dict[str, Any]:
        document = make()
        document.setdefault("components", {}).setdefault("schemas", {})["ProblemDocument"] = (
            ProblemDocument.model_json_schema()
        )
        document["components"]["securitySchemes"] = {"token": {"type": "http", "scheme": "bearer"}}
        document["security"] = [{"token": []}, {}]
        return document

    app.openapi = described_api  # type: ignore[method-assign]


def _add_errors(app: FastAPI) -> None:
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
