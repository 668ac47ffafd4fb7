"""The API as an application: routes, errors, headers. What it is described as is made by the
framework from them.
"""

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.middleware.cors import CORSMiddleware
from fastapi.responses import Response
from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.routing import BaseRoute
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mantisreed.errors import InternalError, MantisreedError
from mantisreed.guarded import LimitedBodies
from mantisreed.serving.access import shown_token
from mantisreed.serving.problems import Problem
from mantisreed.serving.proxies import BehindProxies
from mantisreed.serving.routes import job_routes, other_routes, output_routes, upload_routes
from mantisreed.serving.routes.description import PROBLEMS, completed
from mantisreed.serving.routes.methods import Heads, allowed_at
from mantisreed.serving.service import Service
from mantisreed.version import __version__

_FORM = 1 << 20  # bytes of a form beside its recording
_METHODS = frozenset(("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"))


def application(service: Service) -> FastAPI:
    """The web application of a service."""
    app = FastAPI(
        title="Mantisreed",
        version=__version__,
        description="Give a recording or a link, get text: jobs, their progress, outputs, costs.",
        openapi_url=None,  # it has a route like all others
        responses=PROBLEMS,
    )
    app.state.service = service
    known: list[BaseRoute] = []
    for routes in (job_routes, output_routes, upload_routes, other_routes):
        app.include_router(routes.router)
        known += routes.router.routes
    _add_errors(app, known)
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
                "if-match",
                "if-none-match",
            ],
            expose_headers=["location", "upload-offset", "upload-complete", "etag", "retry-after"],
        )
    app.add_middleware(Heads, routes=known)
    app.add_middleware(_Headers, service=service)
    # What is beyond any limit is not even read.
    largest = (1 << 50) if service.options.max_bytes is None else service.options.max_bytes + _FORM
    app.add_middleware(LimitedBodies, largest=max(largest, output_routes.LARGEST_TRANSCRIPT))
    options = service.options
    app.add_middleware(BehindProxies, proxies=options.proxies, prefix=options.root_path)
    make = app.openapi
    app.openapi = lambda: completed(make())  # type: ignore[method-assign]
    return app


class _Headers:
    """Sets what keeps browsers from doing harm with answers, and counts them."""

    def __init__(self, app: ASGIApp, service: Service) -> None:
        self._application, self._service = app, service

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._application(scope, receive, send)
            return

        await self._service.tokens.freshen(shown_token(Headers(scope=scope)))

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


def _add_errors(app: FastAPI, routes: list[BaseRoute]) -> None:
    def problem(request: Request, error: Exception) -> Response:
        assert isinstance(error, Problem)
        return error.response()

    def known(request: Request, error: Exception) -> Response:
        assert isinstance(error, MantisreedError)
        return Problem.of(error).response()

    def of_framework(request: Request, error: Exception) -> Response:
        if isinstance(error, HTTPException):
            headers = dict(error.headers or {})
            if error.status_code == 405:
                headers["Allow"] = allowed_at(routes, request.scope)
                if request.method == "OPTIONS":
                    return Response(status_code=204, headers=headers)
            return Problem(error.status_code, str(error.detail), headers=headers).response()
        assert isinstance(error, RequestValidationError)
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        return Problem(400, f"{where}: {first['msg']}").response()

    def unexpected(request: Request, error: Exception) -> Response:
        return Problem.of(InternalError.because(error)).response()

    app.add_exception_handler(Problem, problem)
    app.add_exception_handler(MantisreedError, known)
    app.add_exception_handler(HTTPException, of_framework)
    app.add_exception_handler(RequestValidationError, of_framework)
    app.add_exception_handler(Exception, unexpected)
