"""Errors as problem documents (RFC 9457), in the words of the command line."""

from collections.abc import Mapping

import msgspec
from starlette.responses import Response

from mantisreed import errors
from mantisreed.errors import (
    EngineError,
    InputError,
    MantisreedError,
    OutputError,
    PostponedError,
    RecordingError,
    SpendLimitError,
)

MEDIA_TYPE = "application/problem+json"

_TITLES = {
    400: "the request makes no sense",
    401: "no token, or one that is not known",
    403: "not allowed",
    404: "there is no such thing",
    405: "this cannot be done here",
    406: "nothing that is there can be had in that form",
    408: "the request took too long",
    409: "it is not in a state for that",
    411: "its length is needed",
    413: "too large",
    415: "not a form that can be taken",
    422: "it cannot be used",
    429: "too many requests",
    500: "internal error",
    502: "the engine failed",
    503: "not now",
    507: "it cannot be written",
}


class Problem(Exception):  # noqa: N818 - it is a document, and the word of the standard
    """Why a request is not done."""

    def __init__(
        self,
        status: int,
        detail: str,
        *,
        advice: str | None = None,
        retry_after: float | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(detail)
        self.status, self.detail, self.advice = status, detail, advice
        self.headers = dict(headers or {})
        if retry_after is not None:
            self.headers["Retry-After"] = str(max(1, round(retry_after)))

    @classmethod
    def of(cls, error: MantisreedError) -> "Problem":
        """The problem that an error of the pipeline is."""
        return cls(_status_of(type(error)), str(error), advice=error.advice)

    def response(self) -> Response:
        """As it is sent."""
        document = {
            "type": "about:blank",
            "title": title_of(self.status),
            "status": self.status,
            "detail": self.detail,
        }
        if self.advice:
            document["advice"] = self.advice
        return Response(msgspec.json.encode(document), self.status, self.headers, MEDIA_TYPE)


def title_of(status: int) -> str:
    """What a status means, in a few words."""
    return _TITLES.get(status, "the request failed")


def status_of_kind(kind: str | None) -> int:
    """The status of a job that failed, by which kind of error it was: what `Order.kind` says."""
    found = getattr(errors, f"{kind}Error", None)
    return (
        _status_of(found) if isinstance(found, type) and issubclass(found, MantisreedError) else 502
    )


def _status_of(error: type[MantisreedError]) -> int:
    kinds: tuple[tuple[type[MantisreedError], int], ...] = (
        (SpendLimitError, 403),
        (PostponedError, 503),
        (RecordingError, 422),
        (OutputError, 507),
        (EngineError, 502),
        (InputError, 422),
    )
    return next((status for kind, status in kinds if issubclass(error, kind)), 500)
