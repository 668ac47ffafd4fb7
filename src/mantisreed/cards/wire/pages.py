"""An answer that comes in several pages."""

import json
from collections.abc import Awaitable
from typing import Any, Protocol

from mantisreed.cards.answers import unreadable
from mantisreed.cards.documents import DocumentError, parse_json
from mantisreed.cards.steps import Pages
from mantisreed.cards.templates import Values
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.errors import UnreadableReplyError
from mantisreed.urls import UrlError, resolved

_MARK = "mantisreed-pages"
"""The name under which several pages are kept as one reply."""


class SendPage(Protocol):
    """Makes the request for one page."""

    def __call__(
        self, values: Values | None = None, *, url: str | None = None
    ) -> Awaitable[HttpAnswer]:
        """Send it once."""
        ...


class PageReader:
    """Reads all pages of one answer."""

    def __init__(self, engine: str, step: str, pages: Pages) -> None:
        self._engine, self._step, self._pages = engine, step, pages

    async def answer(self, send: SendPage) -> HttpAnswer:
        """All pages, as one answer.

        Raises:
            UnreadableReplyError: they have no end.
        """
        bodies: list[bytes] = []
        seen: set[str] = set()
        values, url, offset = self._first(), None, self._pages.first
        while True:
            answer = await send(values, url=url)
            bodies.append(answer.body)
            following = self._following(answer, offset, len(bodies))
            if following is None:
                if len(bodies) == 1:
                    return answer
                return HttpAnswer(200, answer.headers, joined(bodies), answer.url)
            values, url, offset = following
            # A service that always gives the same link would be asked for ever.
            place = json.dumps([values, url], default=str)
            if place in seen:
                raise self._endless(
                    answer, f"page {len(bodies)} points to a page that was read already"
                )
            seen.add(place)
            if len(bodies) >= self._pages.limit:
                raise self._endless(answer, f"there are more than {self._pages.limit} pages")

    def _first(self) -> dict[str, Any]:
        return {
            "page_token": None,
            "page_offset": self._pages.first,
            "page_number": self._pages.first,
        }

    def _following(
        self, answer: HttpAnswer, offset: int, number: int
    ) -> tuple[dict[str, Any], str | None, int] | None:
        """Values, URL and offset of the next page; None when there is none."""
        pages = self._pages
        following: tuple[dict[str, Any], str | None, int] | None = None
        # The service's own word comes before a link or token, which some give on the last page too.
        if pages.more is not None and not pages.more.holds_in(answer):
            return None
        if pages.next_url is not None:
            link = pages.next_url.find(answer)
            if link is not None:
                following = (self._first(), self._resolved(link, answer), offset)
        elif pages.next_token is not None:
            token = pages.next_token.find(answer)
            if token is not None:
                following = ({**self._first(), "page_token": token}, None, offset)
        else:
            offset += self._count(answer)
            place = {"page_offset": offset, "page_number": pages.first + number}
            # An empty page is behind the last one.
            if self._count(answer):
                following = ({"page_token": None, **place}, None, offset)
        return following

    def _count(self, answer: HttpAnswer) -> int:
        """How many items a page has."""
        path = self._pages.items
        assert path is not None
        documents = answer.documents(path.list_names)
        # A page of lines or events is the list of them.
        items = path.find(documents if len(documents) > 1 else documents[0])
        return len(items) if isinstance(items, list) else 0

    def _resolved(self, link: Any, answer: HttpAnswer) -> str:
        try:
            return resolved(str(link), answer.url)
        except UrlError as error:
            raise self._endless(
                answer, f"the link to the next page cannot be used: {error}"
            ) from error

    def _endless(self, answer: HttpAnswer, what: str) -> UnreadableReplyError:
        advice = "check 'pages' in its card"
        return unreadable(self._engine, f"step {self._step}: {what}", answer, advice=advice)


def joined(bodies: list[bytes]) -> bytes:
    """Several pages as one reply that can be kept."""
    return json.dumps(
        {_MARK: [body.decode("utf-8", "surrogateescape") for body in bodies]}
    ).encode()


def parted(body: bytes) -> list[bytes]:
    """The pages of a kept reply; the reply itself where it has no others."""
    if not body.startswith(f'{{"{_MARK}":'.encode()):
        return [body]
    try:
        document = parse_json(body)
    except DocumentError:
        return [body]
    return [page.encode("utf-8", "surrogateescape") for page in document[_MARK]]
