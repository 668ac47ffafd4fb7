"""Fields and headers of requests for a job."""

from collections.abc import AsyncIterator

from starlette.requests import Request

from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving.forms import FormPiece
from mantisreed.units import parse_duration

LARGEST_JSON = 1 << 20  # bytes

_LONGEST_WAIT = 300.0  # seconds that a request may wait for its job


def content_length(request: Request) -> int | None:
    """Bytes of the body, as its sender says; the server sees that no more are read."""
    given = request.headers.get("content-length", "")
    return int(given) if given.isascii() and given.isdecimal() else None


def wait_of(given: str | None) -> float:
    """Seconds to wait for the job.

    Raises:
        Problem: it is no duration, or longer than a request may wait.
    """
    if given is None:
        return 0.0
    try:
        seconds = parse_duration(given)
    except ValueError as error:
        raise Problem(
            400, f"wait={given[:40]} is no duration", advice="such as wait=30s"
        ) from error
    if seconds > _LONGEST_WAIT:
        raise Problem(
            400,
            f"a request waits for {_LONGEST_WAIT:.0f} s at most",
            advice="follow the job's events",
        )
    return seconds


async def limited(request: Request, most: int) -> bytes:
    """The body of a request.

    Raises:
        Problem: it has more bytes than that.
    """
    body = bytearray()
    async for block in request.stream():
        body += block
        if len(body) > most:
            raise Problem(413, f"a JSON body has at most {most} bytes")
    return bytes(body)


async def rest_of_field(pieces: AsyncIterator[FormPiece], piece: FormPiece) -> AsyncIterator[bytes]:
    """The content of a field that has begun."""
    yield piece.content
    while not piece.is_last:
        piece = await anext(pieces)
        yield piece.content


async def field_content(pieces: AsyncIterator[FormPiece], piece: FormPiece) -> bytes:
    """The content of a field of a form that has begun.

    Raises:
        Problem: it is too long.
    """
    content = bytearray()
    async for block in rest_of_field(pieces, piece):
        content += block
        if len(content) > LARGEST_JSON:
            raise Problem(413, f"the field {piece.name[:60]!r} has more than {LARGEST_JSON} bytes")
    return bytes(content)


_ENDINGS = {
    "audio/mpeg": ".mp3",
    "audio/flac": ".flac",
    "audio/x-flac": ".flac",
    "audio/ogg": ".ogg",
    "audio/opus": ".opus",
    "audio/webm": ".webm",
    "audio/mp4": ".m4a",
    "video/mp4": ".mp4",
    "audio/wav": ".wav",
    "audio/x-wav": ".wav",
}


def ending(kind: str) -> str:
    """The ending of names of files of a media type; empty where it is not known."""
    return _ENDINGS.get(kind, "")
