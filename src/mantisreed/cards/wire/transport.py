"""Carrying a request to a service and bringing the answer back."""

import asyncio
import io
import os
import ssl
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from dataclasses import replace
from types import TracebackType
from typing import Any, Protocol, Self

import aiohttp
from yarl import URL

from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.websocket import Conversation
from mantisreed.errors import UnreachableError, UnreadableReplyError
from mantisreed.hosts import InternetResolver, is_written_private
from mantisreed.limits import LARGEST_MESSAGE, LARGEST_REPLY
from mantisreed.secrets import without_secrets
from mantisreed.units import short_size
from mantisreed.urls import UrlError, origin_of, resolved, split_url

_CONNECT_LIMIT = 20.0  # seconds; a connection that takes longer is not there
_LARGE_BODY = 1 << 20  # bytes
_KEPT = 1 << 20  # bytes of a reply that does not end
_REDIRECTS = (301, 302, 303, 307, 308)  # RFC 9110, 15.4
_MOST_REDIRECTS = 5  # as in browsers a few more; a circle is none


class Transport(Protocol):
    """Anything that can carry a request. Tests use `ScriptedTransport`."""

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """Send the request and read the whole answer.

        Raises:
            UnreachableError: no connection, or no whole answer in time.
            UnreadableReplyError: the answer is larger than any reply; its beginning is kept.
        """
        ...

    async def converse(self, request: HttpRequest, conversation: Conversation) -> HttpAnswer:
        """Hold a conversation over a WebSocket; its final messages are the answer, or the message
        that was an error.

        Raises:
            UnreachableError: no connection, or it ended before the conversation did.
            UnreadableReplyError: the messages are more than any reply.
        """
        ...


class HttpTransport:
    """One pool of connections, for all engines. Used as an asynchronous context manager."""

    def __init__(self, largest_reply: int = LARGEST_REPLY, *, takes_private: bool = True) -> None:
        """Connect to nobody yet.

        Args:
            largest_reply: bytes.
            takes_private: whether hosts may be near this machine. Where strangers name them they
                may not, and a proxy, which would look hosts up by itself, is not asked then.
        """
        self._largest_reply, self._takes_private = largest_reply, takes_private
        self._digests: dict[Any, aiohttp.DigestAuthMiddleware] = {}
        self._direct: aiohttp.ClientSession
        self._proxied: aiohttp.ClientSession

    async def __aenter__(self) -> Self:
        # Proxies of the environment are for the world outside, not for an engine on this machine.
        self._direct = _session(trust_env=False, takes_private=self._takes_private)
        self._proxied = _session(trust_env=self._takes_private, takes_private=self._takes_private)
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self._direct.close()
        await self._proxied.close()

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        answer = await self._exchanged(request)
        if not request.follow_redirects:
            return answer
        for _ in range(_MOST_REDIRECTS):
            followed = _redirected(request, answer)
            if followed is None:
                return answer
            request = followed
            answer = await self._exchanged(request)
        raise _not_reached(request, f"it redirects more than {_MOST_REDIRECTS} times")

    async def _exchanged(self, request: HttpRequest) -> HttpAnswer:
        if not self._takes_private and is_written_private(split_url(request.url).hostname or ""):
            raise _not_reached(request, "it is not on the internet but near this machine")
        body = bytearray()
        async with (
            _told_apart(request, body),
            self._session_for(request).request(
                request.method,
                URL(request.url, encoded=True),
                headers=request.headers,
                # What may have to be sent again cannot be a stream that is read once.
                data=request.body if request.digest else _streamed(request.body),
                middlewares=self._proofs(request),
                allow_redirects=False,
                timeout=aiohttp.ClientTimeout(total=request.timeout, sock_connect=_CONNECT_LIMIT),
            ) as response,
        ):
            async for block in response.content.iter_chunked(1 << 18):
                body += block
                if request.on_block is not None:
                    request.on_block(block)
                if len(body) > self._largest_reply:
                    raise _endless(request, bytes(body), self._largest_reply)
            return HttpAnswer(
                response.status, list(response.headers.items()), bytes(body), request.url
            )

    def _proofs(self, request: HttpRequest) -> tuple[aiohttp.ClientMiddlewareType, ...] | None:
        """What proves who we are when a server asks; it remembers what the server has told it."""
        if request.digest is None:
            return None
        origin = origin_of(request.url)
        known = self._digests.get((origin, request.digest))
        if known is None:
            known = aiohttp.DigestAuthMiddleware(*request.digest)
            self._digests[origin, request.digest] = known
        return (known,)

    async def converse(self, request: HttpRequest, conversation: Conversation) -> HttpAnswer:
        """See `Transport`."""
        limit = request.timeout + conversation.sending_time
        try:
            async with asyncio.timeout(limit):
                return await self._conversed(request, conversation)
        except TimeoutError as error:
            late = UnreachableError(
                f"the conversation did not end within {limit:g} s ({_origin(request)})",
                engine=request.engine,
                advice=f"try again later, or raise {request.step}.timeout in its card",
            )
            late.was_sent = True
            raise late from error

    async def _conversed(self, request: HttpRequest, conversation: Conversation) -> HttpAnswer:
        begun = bytearray()
        async with _told_apart(request, begun):
            try:
                socket = await self._session_for(request).ws_connect(
                    URL(request.url, encoded=True),
                    headers=request.headers,
                    protocols=[conversation.subprotocol] if conversation.subprotocol else [],
                    max_msg_size=LARGEST_MESSAGE,
                    timeout=aiohttp.ClientWSTimeout(ws_close=_CONNECT_LIMIT),
                )
            except aiohttp.WSServerHandshakeError as error:
                return HttpAnswer(
                    error.status, list((error.headers or {}).items()), b"", request.url
                )
            begun += b"."
            async with socket:
                return await _Talk(request, conversation, socket, self._largest_reply).answer()

    def _session_for(self, request: HttpRequest) -> aiohttp.ClientSession:
        host = split_url(request.url).hostname or ""
        if host in ("localhost", "127.0.0.1", "::1"):
            return self._direct
        return self._proxied


class _Talk:
    """Both directions of a conversation at once."""

    def __init__(
        self,
        request: HttpRequest,
        conversation: Conversation,
        socket: aiohttp.ClientWebSocketResponse,
        largest_reply: int,
    ) -> None:
        self._request, self._conversation, self._socket = request, conversation, socket
        self._largest_reply = largest_reply
        self._size = 0
        self._is_ready = asyncio.Event()

    async def answer(self) -> HttpAnswer:
        sending = asyncio.create_task(self._send())
        try:
            await self._receive()
            if sending.done() and not sending.cancelled() and (error := sending.exception()):
                raise error
        finally:
            sending.cancel()
            await asyncio.gather(sending, return_exceptions=True)
        conversation = self._conversation
        if conversation.failure is not None:
            return HttpAnswer(
                200, (), conversation.failure.encode("utf-8", "surrogatepass"), self._request.url
            )
        return HttpAnswer(200, (), conversation.answer, self._request.url)

    async def _send(self) -> None:
        conversation, socket = self._conversation, self._socket
        for message in conversation.opening:
            await _send_message(socket, message)
        if conversation.card.ready:
            await self._is_ready.wait()
        clock = asyncio.get_running_loop().time
        due = clock()
        for message in conversation.chunks():
            await _send_message(socket, message)
            due += conversation.pause
            await asyncio.sleep(max(0.0, due - clock()))
        for message in conversation.closing:
            await _send_message(socket, message)

    async def _receive(self) -> None:
        conversation = self._conversation
        async for message in self._socket:
            if message.type is aiohttp.WSMsgType.ERROR:
                raise _cut(self._request, f"the connection broke ({_reason(message.data)})")
            if isinstance(message.data, str):
                text = message.data
            else:
                text = bytes(message.data).decode("utf-8", "replace")
            self._size += len(text)
            if self._size > self._largest_reply:
                raise _endless(self._request, conversation.answer, self._largest_reply)
            meaning = conversation.take_in(text)
            if meaning == "ready":
                self._is_ready.set()
            if meaning in ("error", "end"):
                return
        self._check_close()

    def _check_close(self) -> None:
        """See that the service closed the connection because everything was said."""
        code = self._socket.close_code
        if code == aiohttp.WSCloseCode.MESSAGE_TOO_BIG:
            raise _endless(self._request, self._conversation.answer, LARGEST_MESSAGE)
        if code == aiohttp.WSCloseCode.OK and self._conversation.card.end is None:
            return
        raise _cut(
            self._request,
            f"it closed the connection (code {code}) before the conversation had ended",
        )


async def _send_message(socket: aiohttp.ClientWebSocketResponse, message: bytes | str) -> None:
    if isinstance(message, str):
        await socket.send_str(message)
    else:
        await socket.send_bytes(message)


class ScriptedTransport:
    """Answers from a function instead of a network, and keeps what it was asked."""

    def __init__(self, answer: Callable[[HttpRequest], HttpAnswer]) -> None:
        self._answer = answer
        self.asked: list[HttpRequest] = []

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        self.asked.append(request)
        answer = self._answer(request)
        if request.on_block is not None:
            request.on_block(answer.body)
        if answer.url:
            return answer
        return HttpAnswer(answer.status, answer.headers, answer.body, request.url)

    async def converse(self, request: HttpRequest, conversation: Conversation) -> HttpAnswer:
        """See `Transport`; the function's answer is taken for the messages, one on each line."""
        self.asked.append(request)
        for line in self._answer(request).text.splitlines():
            conversation.take_in(line)
        return HttpAnswer(200, (), conversation.answer, request.url)


def _session(*, trust_env: bool, takes_private: bool) -> aiohttp.ClientSession:
    # How many requests are on their way at once is the card's business, not the pool's; cookies are
    # as well.
    connector = aiohttp.TCPConnector(
        limit=0, resolver=InternetResolver(takes_private=takes_private)
    )
    return aiohttp.ClientSession(
        connector=connector, trust_env=trust_env, cookie_jar=aiohttp.DummyCookieJar()
    )


@asynccontextmanager
async def _told_apart(request: HttpRequest, body: bytearray) -> AsyncIterator[None]:
    """The library's errors as ours; `body` is what has come of the answer."""
    try:
        yield
    except TimeoutError as error:
        what = "the answer did not end" if body else "there was no answer"
        late = UnreachableError(
            f"{what} within {request.timeout:g} s ({_origin(request)})",
            engine=request.engine,
            advice=f"try again later, or raise {request.step}.timeout in its card",
        )
        late.was_sent = not isinstance(error, aiohttp.ConnectionTimeoutError)
        late.is_late = late.was_sent
        raise late from error
    except aiohttp.InvalidURL as error:
        shown_url = without_secrets(request.url, request.secrets)
        raise UnreachableError(f"{shown_url!r} is not a URL", engine=request.engine) from error
    except (aiohttp.ClientError, OSError) as error:
        cut = UnreachableError(
            f"cannot reach {_origin(request)} ({_reason(error)})",
            engine=request.engine,
            advice="is the engine running, and are url and region in its card right?",
        )
        cut.was_sent = not isinstance(error, aiohttp.ClientConnectorError)
        raise cut from error


def _redirected(request: HttpRequest, answer: HttpAnswer) -> HttpRequest | None:
    """The request to where an answer points; None when it does not."""
    target = answer.header("location")
    if answer.status not in _REDIRECTS or target is None:
        return None
    try:
        url = resolved(target, request.url)
    except UrlError:
        return None
    keeps_method = answer.status in (307, 308) or request.method in ("GET", "HEAD")
    if origin_of(url) != origin_of(request.url):
        # Keys, and the audio, are for the host that the card names.
        if keeps_method and request.body is not None:
            return None
        request = replace(request, headers=())
    if keeps_method:
        return replace(request, url=url)
    about_body = ("content-type", "content-length", "content-encoding")
    headers = tuple(
        (name, value) for name, value in request.headers if name.lower() not in about_body
    )
    return replace(request, url=url, method="GET", headers=headers, body=None, parts=())


def _streamed(content: bytes | None) -> "bytes | io.BytesIO | None":
    """A body as it is sent: a large one in blocks, so that other requests go on meanwhile."""
    if content is not None and len(content) > _LARGE_BODY:
        return io.BytesIO(content)
    return content


def _endless(request: HttpRequest, body: bytes, limit: int) -> UnreadableReplyError:
    """What is raised for a reply that is given up; its beginning is kept."""
    error = UnreadableReplyError(
        f"the reply is larger than {short_size(limit)}", engine=request.engine
    )
    error.body, error.is_whole = body[:_KEPT], False
    return error


def _cut(request: HttpRequest, what: str) -> UnreachableError:
    error = UnreachableError(
        f"{what} ({_origin(request)})", engine=request.engine, advice="try again later"
    )
    error.was_sent = True
    return error


def _not_reached(request: HttpRequest, what: str) -> UnreachableError:
    return UnreachableError(f"{what} ({_origin(request)})", engine=request.engine)


def _origin(request: HttpRequest) -> str:
    parts = split_url(request.url)
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}"


def _reason(error: BaseException) -> str:
    if isinstance(error, aiohttp.ClientConnectorDNSError):
        return "no such host"
    if isinstance(
        error, (aiohttp.ClientConnectorCertificateError, ssl.SSLError, aiohttp.ClientSSLError)
    ):
        return "its certificate is not trusted"
    if isinstance(error, aiohttp.ClientConnectorError):
        number = error.os_error.errno
        if number:
            return os.strerror(number).lower()
        return str(error.os_error)
    if isinstance(error, aiohttp.ServerDisconnectedError):
        return "it closed the connection without an answer"
    return (str(error) or type(error).__name__).lower()
