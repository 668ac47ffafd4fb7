"""Whether an answer is all of it: by what its card says, and by what can be known without that."""

import json
import re
from collections.abc import Iterator
from itertools import chain
from typing import Any

from mantisreed.cards.answers import signed_as
from mantisreed.cards.documents import (
    DocumentError,
    events_in,
    json_or_text,
    lines_in,
    looks_like_xml,
    parse_json,
    parse_xml,
)
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.engines.reading.unpacking import UnexpectedReplyError, bodies_of, documents_of
from mantisreed.errors import IncompleteReplyError

_PAGE = re.compile(rb"\s*(?:<!--.*?-->\s*)*<(?:!doctype\s+html|html)\b", re.IGNORECASE | re.DOTALL)
_JSON_FORMATS = ("json", "lines", "events")
# Of a document that says nothing: nobody can tell what its engine means by it.
_SAYS_NOTHING: tuple[Any, ...] = (None, [], {}, "")


def check_whole(card: EngineCard, body: bytes) -> None:
    """Return if an answer is all of it, as far as that can be known.

    Raises:
        IncompleteReplyError: it is not; the answer is kept in it.
    """
    problem = _problem(card, body)
    if problem is None or says_no_speech(card, body):
        return
    error = IncompleteReplyError(
        problem,
        engine=card.name,
        advice="try again later; `mantisreed jobs ID --reply` prints the incomplete answer",
    )
    error.body = body
    raise error


def is_whole(card: EngineCard, body: bytes) -> bool:
    """Whether an answer is all of it, as far as that can be known."""
    return _problem(card, body) is None


def says_no_speech(card: EngineCard, body: bytes) -> bool:
    """Whether the card says that this answer means that nobody spoke."""
    return signed_as(card, HttpAnswer(200, (), body)) == "no_speech"


def check_says_something(card: EngineCard, body: bytes) -> None:
    """Return if an answer may be a reply at all: no page of a web site, no empty document.

    Raises:
        UnexpectedReplyError: it may not.
    """
    if _PAGE.match(body.removeprefix(b"\xef\xbb\xbf")):
        raise UnexpectedReplyError("it is a web page (HTML), as of a proxy or a login")
    if card.reply.format not in ("json", "xml"):
        return
    try:
        is_empty = not body.strip() or parse_json(body) in _SAYS_NOTHING
    except DocumentError:
        return
    if is_empty:
        shown = body.decode("utf-8", "replace").strip() or "no bytes"
        raise UnexpectedReplyError(
            f"it is empty ({shown}), which may mean anything; if it means that nobody spoke, set "
            'errors.no_speech.when = "!@" in the card'
        )


def _problem(card: EngineCard, body: bytes) -> str | None:
    """What shows that an answer is not all of it; None where nothing does."""
    reply = card.reply
    try:
        bodies = bodies_of(reply, body)
    except UnexpectedReplyError as error:
        if error.breaks_off:
            return f"the answer is incomplete: {error}"
        return None  # whoever reads it says what is wrong
    for part in bodies:
        broken = _breaks_off(reply, part)
        if broken:
            return f"the answer is incomplete: {broken}"
    if reply.end_mark is not None and not any(_has_mark(reply, part) for part in bodies):
        return f"the answer is incomplete: {reply.end_mark!r} (reply.end_mark) does not come"
    if reply.complete is not None and not _is_complete(reply, bodies):
        return f"the answer is incomplete: reply.complete ({reply.complete}) does not hold"
    return None


def _breaks_off(reply: Reply, body: bytes) -> str | None:
    """In what it stops in the middle; None where it does not, or nobody knows."""
    if reply.format == "json" and _is_begun_json(body):
        return "its JSON breaks off"
    if reply.format == "xml" and _is_begun_xml(body):
        return "its XML breaks off"
    if reply.format in ("lines", "events"):
        # Only the last can be cut; a broken one before it is another matter.
        last = next(iter(reversed(list(_texts(reply, body)))), "")
        if _is_begun_json(last.encode("utf-8", "surrogatepass")):
            return f"its last {'event' if reply.format == 'events' else 'line'} breaks off"
    return None


def _is_begun_json(body: bytes) -> bool:
    """Whether a text is the beginning of a JSON document, and no whole one."""
    try:
        text = body.decode("utf-8-sig").rstrip()
    except UnicodeDecodeError as error:
        # Cut in the middle of a character.
        return error.reason == "unexpected end of data"
    if not text.lstrip().startswith(("{", "[", '"')):
        return False
    try:
        json.loads(text)
    except json.JSONDecodeError as error:
        # What is wrong at the very end was not finished; anything before is no JSON.
        return error.pos >= len(text) or error.msg.startswith("Unterminated string")
    except RecursionError:
        return False
    return False


def _is_begun_xml(body: bytes) -> bool:
    if not looks_like_xml(body):
        return False
    try:
        parse_xml(body)
    except DocumentError as error:
        return error.breaks_off
    return False


def _texts(reply: Reply, body: bytes) -> Iterator[str]:
    """The texts of all lines or events, also of those that do not count."""
    if reply.format == "lines":
        return lines_in(body)
    return (event.data for event in events_in(body))


def _has_mark(reply: Reply, body: bytes) -> bool:
    mark = reply.end_mark
    if reply.format == "events":
        return any(mark in (event.name, event.data.strip()) for event in events_in(body))
    return any(line.strip() == mark for line in lines_in(body))


def _is_complete(reply: Reply, bodies: list[bytes]) -> bool:
    """Whether the card's condition holds for a document; of lines and events, for any of them."""
    assert reply.complete is not None
    documents = chain.from_iterable(_documents(reply, body) for body in bodies)
    return any(map(reply.complete.holds, documents))


def _documents(reply: Reply, body: bytes) -> Iterator[Any]:
    if reply.format in ("lines", "events"):
        for text in _texts(reply, body):
            yield json_or_text(text)
    elif reply.format in ("msgpack", "cbor"):
        yield from documents_of(reply, body)
    else:
        lists = reply.complete.list_names if reply.complete else frozenset()
        yield HttpAnswer(200, (), body).document(lists)
