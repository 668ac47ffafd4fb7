"""One answer of a service: its status, headers, cookies and links, and its body as a document."""

import re
from collections.abc import Iterable, Mapping
from functools import cached_property
from http.cookies import CookieError, SimpleCookie
from typing import Any

from mantisreed.cards.documents import (
    DocumentError,
    events_in,
    json_or_text,
    lines_in,
    looks_like_events,
    looks_like_xml,
    parse_json,
    parse_xml,
)

UNCHANGED = 304
"""RFC 9110, 15.4.5: nothing is new since the answer whose ETag was sent along."""

_LINK = re.compile(r'<([^<>]*)>((?:\s*;\s*[^=;,\s]+(?:=(?:"[^"]*"|[^",;]*))?)*)')
_RELATION = re.compile(r';\s*rel\s*=\s*(?:"([^"]*)"|([^",;\s]*))', re.IGNORECASE)


class HttpAnswer:
    """What came back, whatever its status.

    Attributes:
        status: of HTTP.
        headers: names and values, in order.
        body: to the byte.
        url: of the request, after redirects; links in the answer are resolved against it.
    """

    def __init__(
        self,
        status: int,
        headers: Mapping[str, str] | Iterable[tuple[str, str]] = (),
        body: bytes = b"",
        url: str = "",
    ) -> None:
        pairs = headers.items() if isinstance(headers, Mapping) else headers
        # The library's names are texts of a kind of its own, which cannot be kept.
        self.headers = tuple((str(name), str(value)) for name, value in pairs)
        self.status, self.body, self.url = status, body, url
        self._documents: dict[frozenset[str], Any] = {}

    def header(self, name: str) -> str | None:
        """The value of a header; several of the same name are joined, as HTTP has it."""
        # Several of one name mean the same as one with commas (RFC 9110, 5.3).
        values = self.header_values(name)
        if values:
            return ", ".join(values)
        return None

    def header_values(self, name: str) -> list[str]:
        """The values of all headers of that name."""
        wanted = name.lower()
        return [value for key, value in self.headers if key.lower() == wanted]

    def cookie(self, name: str) -> str | None:
        """The value of a cookie that the answer sets."""
        for value in self.header_values("set-cookie"):
            # Each by itself: one that cannot be read would take the others along.
            cookies: SimpleCookie = SimpleCookie()
            try:
                cookies.load(value)
            except CookieError:  # browsers pass over such a cookie too
                continue
            if name in cookies:
                return cookies[name].value
        return None

    def link(self, relation: str) -> str | None:
        """The target of a link of that relation in the header `Link` (RFC 8288)."""
        for target, parameters in _LINK.findall(self.header("link") or ""):
            for quoted, bare in _RELATION.findall(parameters):
                if relation.lower() in (quoted or bare).lower().split():
                    return str(target)
        return None

    @property
    def text(self) -> str:
        """The body as text."""
        return self.body.decode("utf-8-sig", "replace")

    def document(self, lists: frozenset[str] = frozenset()) -> Any:
        """The body as JSON or XML, else as text; None when it is empty.

        Args:
            lists: names of XML elements that are lists.
        """
        if lists not in self._documents:
            self._documents[lists] = self._parsed(lists)
        return self._documents[lists]

    def documents(self, lists: frozenset[str] = frozenset()) -> list[Any]:
        """The documents of its lines or events, where it has several; else the body as one.

        Args:
            lists: names of XML elements that are lists.
        """
        whole = self.document(lists)
        if not isinstance(whole, str):
            return [whole]
        return self._parts or [whole]

    @cached_property
    def _parts(self) -> list[Any]:
        """What its events or lines hold; nothing where it is neither."""
        if looks_like_events(self.body):
            return [json_or_text(event.data) for event in events_in(self.body)]
        lines = list(lines_in(self.body))
        if len(lines) > 1 and lines[0].lstrip().startswith(("{", "[")):
            return list(map(json_or_text, lines))
        return []

    def _parsed(self, lists: frozenset[str]) -> Any:
        if not self.body.strip():
            return None
        try:
            if looks_like_xml(self.body):
                return parse_xml(self.body, lists)
            return parse_json(self.body)
        except DocumentError:
            return self.text
