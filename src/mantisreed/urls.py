"""URLs: resolving links, and telling whose host one leads to."""

from functools import lru_cache
from urllib.parse import SplitResult, urljoin, urlsplit

from yarl import URL

_FORBIDDEN = frozenset('\\ "<>^`{|}') | frozenset(map(chr, range(0x20))) | {"\x7f"}


_PORTS = {"http": 80, "https": 443, "ws": 80, "wss": 443}
_REMEMBERED = 1024  # most requests of a batch go to the same few places


class UrlError(ValueError):
    """A text is no URL that a request may go to; the text says why, in half a sentence."""


@lru_cache(maxsize=_REMEMBERED)
def split_url(text: str) -> SplitResult:
    """The parts of a URL; what is none at all, such as `http://[`, has nothing but a path."""
    try:
        parts = urlsplit(text)
        _ = parts.port, parts.hostname
    except ValueError:
        return SplitResult("", "", text, "", "")
    return parts


def port_of(parts: SplitResult) -> int | None:
    """The port of a URL, or the usual one of its scheme; None where there is none."""
    return parts.port or _PORTS.get(parts.scheme)


@lru_cache(maxsize=_REMEMBERED)
def resolved(link: str, base: str) -> str:
    """A link as it is meant in a document that was got from `base` (RFC 3986, 5.2).

    Raises:
        UrlError: it leads nowhere.
    """
    try:
        joined = urljoin(base, checked_text(link))
    except ValueError as error:
        if isinstance(error, UrlError):
            raise
        raise UrlError(f"it is no URL ({error})") from None
    return checked_url(joined)


def checked_text(link: str) -> str:
    """The link, if no program could take it for another one.

    Raises:
        UrlError: it holds what a URL never does; programs differ in what they make of it.
    """
    wrong = next((character for character in link if character in _FORBIDDEN), None)
    if wrong is not None:
        raise UrlError(f"it holds {wrong!r}, which no URL does")
    return link


def checked_url(text: str) -> str:
    """The URL, if a request may go there.

    Raises:
        UrlError: it is no http(s) or ws(s) URL with a host, or carries a user's name.
    """
    try:
        url = URL(checked_text(text), encoded=True)
        host, _ = url.host, url.port
    except ValueError as error:
        raise UrlError(f"it is no URL ({error})") from None
    if url.scheme not in ("http", "https", "ws", "wss") or not host:
        raise UrlError("it does not begin with http:// or https:// and a host")
    if url.user is not None or url.password is not None:
        raise UrlError("it carries a user's name or password")
    return text


_SECURE = {"http": "http", "ws": "http", "https": "https", "wss": "https"}


@lru_cache(maxsize=_REMEMBERED)
def origin_of(url: str) -> tuple[str, str, int | None]:
    """Scheme, host and port, by which keys are bound; a WebSocket's are those of its handshake."""
    parts = URL(url, encoded=True)
    return _SECURE.get(parts.scheme, parts.scheme), (parts.host or "").lower(), parts.port
