"""Carrying a request to an engine and bringing the answer back."""

import io
import os
import ssl
from collections.abc import Callable
from types import TracebackType
from typing import Protocol, Self
from urllib.parse import urlsplit

import aiohttp

from mantisreed.engines.answers import HttpAnswer
from mantisreed.engines.request import HttpRequest
from mantisreed.engines.secrets import without_secrets
from mantisreed.errors import UnreachableError, UnreadableReplyError
from mantisreed.units import short_size

LARGEST_REPLY = 256 * 1024 * 1024
"""Bytes of a reply at most; hours of words with times are a few MB."""

_CONNECT_LIMIT = 20.0
_LARGE_BODY = 1 << 20  # bytes
_KEPT = 1 << 20  # bytes of a reply that does not end


class Transport(Protocol):
    """Anything that can carry a request. Tests use `ScriptedTransport`."""

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """Send the request and read the whole answer; redirects are not followed.

        Raises:
            UnreachableError: no connection, or no whole answer in time.
            UnreadableReplyError: the answer is larger than any reply; its beginning is kept.
        """
        ...


class HttpTransport:
    """One pool of connections, for all engines. Used as an asynchronous context manager."""

    def __init__(self, largest_reply: int = LARGEST_REPLY) -> None:
        """`largest_reply` is in bytes."""
        self._largest_reply = largest_reply
        self._direct: aiohttp.ClientSession
        self._proxied: aiohttp.ClientSession

    async def __aenter__(self) -> Self:
        # Proxies of the environment are for the world outside, not for an engine on this machine.
        # How many requests are on their way at once is the card's business, not the pool's.
        self._direct = aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0))
        self._proxied = aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0), trust_env=True)
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self._direct.close()
        await self._proxied.close()

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        host = urlsplit(request.url).hostname or ""
        session = self._direct if host in ("localhost", "127.0.0.1", "::1") else self._proxied
        body = bytearray()
        try:
            async with session.request(
                request.method,
                request.url,
                headers=request.headers,
                params=request.query,
                data=_form(request) if request.form else _streamed(request.content),
                allow_redirects=False,
                timeout=aiohttp.ClientTimeout(total=request.time_limit, sock_connect=_CONNECT_LIMIT),
            ) as response:
                async for block in response.content.iter_chunked(1 << 18):
                    body += block
                    if len(body) > self._largest_reply:
                        raise _endless(request, body, f"is larger than {short_size(self._largest_reply)}")
                return HttpAnswer(response.status, dict(response.headers), bytes(body))
        except TimeoutError as error:
            what = "the answer did not end" if body else "there was no answer"
            late = UnreachableError(
                f"{what} within {request.time_limit:g} s ({_origin(request)})",
                engine=request.engine,
                advice=f"try again later, or raise {request.step}.time_limit in its card",
            )
            late.was_sent = not isinstance(error, aiohttp.ConnectionTimeoutError)
            raise late from error
        except aiohttp.InvalidURL as error:
            shown_url = without_secrets(request.url, request.secrets)
            raise UnreachableError(f"{shown_url!r} is not an address", engine=request.engine) from error
        except (aiohttp.ClientError, OSError) as error:
            cut = UnreachableError(
                f"cannot reach {_origin(request)} ({_reason(error)})",
                engine=request.engine,
                advice="is the engine running, and are address and region in its card right?",
            )
            cut.was_sent = not isinstance(error, aiohttp.ClientConnectorError)
            raise cut from error


class ScriptedTransport:
    """Answers from a function instead of a network, and keeps what it was asked."""

    def __init__(self, answer: Callable[[HttpRequest], HttpAnswer]) -> None:
        self._answer = answer
        self.asked: list[HttpRequest] = []

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        self.asked.append(request)
        return self._answer(request)


def _streamed(content: "bytes | str | None") -> "bytes | str | io.BytesIO | None":
    """A body as it is sent: a large one in blocks, so that other requests go on meanwhile."""
    is_large = isinstance(content, bytes) and len(content) > _LARGE_BODY
    return io.BytesIO(content) if is_large else content  # type: ignore[arg-type]


def _form(request: HttpRequest) -> aiohttp.FormData:
    data = aiohttp.FormData(quote_fields=False, default_to_multipart=True)
    for field in request.form:
        data.add_field(field.name, _streamed(field.content), filename=field.filename, content_type=field.content_type)
    return data


def _endless(request: HttpRequest, body: bytearray, what: str) -> UnreadableReplyError:
    """What is raised for a reply that is given up; its beginning is kept."""
    error = UnreadableReplyError(f"the reply {what}", engine=request.engine)
    error.body, error.is_whole = bytes(body[:_KEPT]), False
    return error


def _origin(request: HttpRequest) -> str:
    parts = urlsplit(request.url)
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}"


def _reason(error: Exception) -> str:
    if isinstance(error, aiohttp.ClientConnectorDNSError):
        return "no such host"
    if isinstance(error, (aiohttp.ClientConnectorCertificateError, ssl.SSLError, aiohttp.ClientSSLError)):
        return "its certificate is not trusted"
    if isinstance(error, aiohttp.ClientConnectorError):
        number = error.os_error.errno
        return os.strerror(number).lower() if number else str(error.os_error)
    if isinstance(error, aiohttp.ServerDisconnectedError):
        return "it closed the connection without an answer"
    return (str(error) or type(error).__name__).lower()
