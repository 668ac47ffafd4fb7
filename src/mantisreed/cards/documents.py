"""From an answer's bytes to what paths can read: JSON, XML, lines, server-sent events."""

import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from xml.parsers.expat import ExpatError

import msgspec

from mantisreed.extras import MissingExtraError, from_extra


class DocumentError(ValueError):
    """The bytes are not what they are taken for; the text says why, in half a sentence.

    Attributes:
        breaks_off: whether they are the beginning of it.
    """

    breaks_off = False


_ENDS_TOO_SOON = (3, 5, 20)
"""Expat's codes for no element found, an unclosed token, and an unclosed CDATA section."""


def parse_json(body: bytes) -> Any:
    """A JSON document.

    Raises:
        DocumentError: it is none, or nested too deeply to be one.
    """
    try:
        # The quick one first: it reads what is JSON by the letter.
        return msgspec.json.decode(body)
    except RecursionError:
        raise DocumentError("its JSON has too many levels") from None
    except (msgspec.DecodeError, UnicodeDecodeError):
        return _parse_json_leniently(body)


def _parse_json_leniently(body: bytes) -> Any:
    """What is no JSON by the letter, but is written by engines: a byte order mark, NaN, other
    Unicode encodings.
    """
    try:
        return json.loads(body)
    except RecursionError:
        raise DocumentError("its JSON has too many levels") from None
    except ValueError:
        raise DocumentError("it is not JSON") from None


def parse_xml(body: bytes, lists: frozenset[str] = frozenset()) -> Any:
    """An XML document as tables, lists and texts.

    An element is a table of its attributes and children by their local names, with its own text
    under `text`; one that has neither attributes nor children is its text. Elements of the same
    name are a list, as are those in `lists` even when there is one only. Documents with entities or
    a document type are refused: nobody needs them, and they are how a small document becomes a
    large one.

    Raises:
        DocumentError: it is no XML, or holds what is refused.
    """
    import xmltodict

    # Entities can make gigabytes of a few bytes; no engine needs them.
    if b"<!DOCTYPE" in body[:4096].upper():
        raise DocumentError("its XML declares a document type or entities, which is refused")
    try:
        return xmltodict.parse(
            body,
            # Attributes and elements look alike to paths: `word.start`, whichever it is.
            attr_prefix="",
            cdata_key="text",
            disable_entities=True,
            force_list=lambda _path, key, _value: key.rpartition(":")[2] in lists,
            # Without the prefix of a namespace, which each document chooses for itself.
            postprocessor=lambda _path, key, value: (key.rpartition(":")[2], value),
        )
    except (ExpatError, UnicodeDecodeError, LookupError) as error:
        wrong = DocumentError("it is not XML")
        wrong.breaks_off = getattr(error, "code", None) in _ENDS_TOO_SOON
        raise wrong from None
    except ValueError:
        raise DocumentError(
            "its XML declares a document type or entities, which is refused"
        ) from None
    except RecursionError:
        raise DocumentError("its XML has too many levels") from None


def parse_cbor(body: bytes) -> Any:
    """A CBOR document (RFC 8949).

    Raises:
        DocumentError: it is none, or its reader is not installed.
    """
    try:
        with from_extra("cbor", "it is CBOR, whose reader"):
            import cbor2
    except MissingExtraError as error:
        raise DocumentError(f"{error.what}: {error.advice}") from None
    try:
        return cbor2.loads(body)
    except (cbor2.CBORDecodeError, ValueError, RecursionError):
        raise DocumentError("it is not CBOR") from None


def parse_msgpack(body: bytes) -> Any:
    """A MessagePack document.

    Raises:
        DocumentError: it is none.
    """
    try:
        return msgspec.msgpack.decode(body)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        raise DocumentError("it is not MessagePack") from None


def json_or_text(text: str) -> Any:
    """A text as the JSON document that it is, else the text itself."""
    try:
        return parse_json(text.encode("utf-8", "surrogatepass"))
    except DocumentError:
        return text


def looks_like_xml(body: bytes) -> bool:
    """Whether a body begins as XML does."""
    return body.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"<")


def looks_like_events(body: bytes) -> bool:
    """Whether a body begins as a stream of server-sent events does."""
    return body.lstrip().startswith((b"data:", b"event:", b"id:", b":"))


@dataclass(frozen=True, slots=True)
class ServerSentEvent:
    """One event of a stream; `name` is empty where the stream gives none."""

    name: str
    data: str


def events_in(body: bytes) -> Iterator[ServerSentEvent]:
    """Server-sent events, after the parsing rules of the HTML standard, 9.2.6."""
    name = ""
    data: list[str] = []
    for line in (
        # The standard (HTML, 9.2.6) ends lines by any of three.
        body.decode("utf-8-sig", "replace").replace("\r\n", "\n").replace("\r", "\n").split("\n")
    ):
        # A blank line ends an event.
        if not line:
            if data:
                yield ServerSentEvent(name, "\n".join(data))
            name, data = "", []
            continue
        field, _, value = line.partition(":")
        if field == "data":
            # One blank behind the colon belongs to it; others are the value's.
            data.append(value.removeprefix(" "))
        elif field == "event":
            name = value.removeprefix(" ")
    if data:
        # The standard drops an event without its blank line; an engine that ends so has still said
        # something.
        yield ServerSentEvent(name, "\n".join(data))


def lines_in(body: bytes) -> Iterator[str]:
    """The lines that hold something."""
    # Not splitlines(): JSON may hold U+2028 and its like as they are, which do not end a line.
    text = body.decode("utf-8-sig", "replace")
    return (line for line in text.replace("\r\n", "\n").split("\n") if line.strip())
