"""From a reply's bytes to the documents that a card's paths read: unpacked, taken out of others,
parted.
"""

import base64
import binascii
import csv
import email
import io
import json
import re
import zipfile
import zlib
from collections.abc import Iterator
from fnmatch import fnmatchcase
from itertools import chain
from typing import Any

from mantisreed.cards.documents import (
    DocumentError,
    events_in,
    json_or_text,
    lines_in,
    looks_like_events,
    looks_like_xml,
    parse_cbor,
    parse_json,
    parse_msgpack,
    parse_xml,
)
from mantisreed.cards.paths import ReplyPath
from mantisreed.cards.wire.pages import parted
from mantisreed.engines.card import Layer, PassagePaths, Reply, SpeakerNames, TurnPaths, WordPaths
from mantisreed.limits import LARGEST_REPLY

# Around what a language model writes.
_FENCE = re.compile(r"```\w*[ \t]*\r?\n(.*?)\r?\n?```", re.DOTALL)
_URL_SAFE = str.maketrans("-_", "+/")  # both alphabets of RFC 4648 are read
_BOUNDARY = re.compile(rb"--([^\r\n]{1,70})\r?\n[A-Za-z-]+:")
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"
_MOST_LAYERS = 3  # of packing, one around the other


class UnexpectedReplyError(Exception):
    """The reply is not as the card says; the text says where.

    Attributes:
        breaks_off: whether it is the beginning of one.
    """

    breaks_off = False


class _BrokenOffError(UnexpectedReplyError):
    breaks_off = True


def bodies_of(reply: Reply, body: bytes) -> list[bytes]:
    """The reply's own bytes, out of all that is around them; several where it comes in pages or
    parts.

    Raises:
        UnexpectedReplyError: something around it is not as the card says.
    """
    # Each page may be packed by itself.
    bodies = list(chain.from_iterable(unpacked_files(page, reply.file) for page in parted(body)))
    for layer in reply.inside.items:
        packed = chain.from_iterable(_taken_out(layer, outer) for outer in bodies)
        bodies = list(chain.from_iterable(unpacked_files(inner, reply.file) for inner in packed))
    return bodies


def unpacked(body: bytes, file: str | None = None) -> bytes:
    """The bytes without what is packed around them.

    Raises:
        UnexpectedReplyError: the packing is damaged, or holds several files, or more than any
            reply.
    """
    files = unpacked_files(body, file)
    if len(files) > 1:
        raise UnexpectedReplyError(f"it holds {len(files)} files where one is expected")
    return files[0]


def unpacked_files(body: bytes, file: str | None = None) -> list[bytes]:
    """The files in a reply without gzip, zip or multipart around them: one, or all those that the
    card names, in the order of their names, numbers by their size.

    Args:
        body: as it came.
        file: the name of the files in an archive, or the name or media type of the parts, with `*`
            for any text.

    Raises:
        UnexpectedReplyError: the packing is damaged, or holds more than any reply.
    """
    for _ in range(_MOST_LAYERS):
        if body.startswith(_GZIP):
            body = _gunzipped(body)
        elif body.startswith(_ZIP):
            files = _unzipped(body, file)
            if len(files) > 1:
                return files
            body = files[0]
        elif boundary := _BOUNDARY.match(body):
            return _parts_of_multipart(body, boundary[1], file)
        else:
            return [body]
    raise UnexpectedReplyError("it is packed in too many layers")


def _parts_of_multipart(body: bytes, boundary: bytes, file: str | None) -> list[bytes]:
    """The parts of a multipart body (RFC 2046, 5.1) that the card names; all that are text where it
    names none.

    Raises:
        UnexpectedReplyError: it breaks off, or no part is named so.
    """
    # Without its last boundary it was cut off, however whole its parts look.
    if not re.search(b"\r?\n--" + re.escape(boundary) + rb"--\s*\Z", body):
        raise _BrokenOffError("its packing (multipart) breaks off")
    found, names = [], []
    for part in re.split(b"(?:^|\r?\n)--" + re.escape(boundary) + rb"(?:--)?[ \t]*\r?\n?", body):
        head, blank, content = part.partition(b"\r\n\r\n")
        if not blank:
            head, blank, content = part.partition(b"\n\n")
        if not blank:
            continue
        said = email.message_from_bytes(head + b"\n\n")
        called = (said.get_param("name", header="content-disposition"), said.get_filename())
        own = [str(name) for name in (*called, said.get_content_type()) if name]
        names.append(own[0])
        if file is None:
            # Engines that read aloud as well send sound beside the text.
            is_wanted = said.get_content_maintype() not in ("audio", "video", "image")
        else:
            is_wanted = any(fnmatchcase(name, file) for name in own)
        if is_wanted:
            found.append(content)
    if not found:
        listed = ", ".join(names[:5]) or "nothing"
        raise UnexpectedReplyError(f"no part {file!r} is in it; there is {listed}")
    return found


def looks_packed(body: bytes) -> bool:
    """Whether an archive is in a reply, or around it."""
    # A zip may have something in front of it, such as a program.
    return body.startswith((_GZIP, _ZIP)) or _ZIP in body[:4096]


def _gunzipped(body: bytes) -> bytes:
    unpacked_body = b""
    rest = body
    try:
        while rest:  # there may be several members, RFC 1952, 2.2
            unpacker = zlib.decompressobj(wbits=31)
            # One byte beyond the limit tells that there is more.
            unpacked_body += unpacker.decompress(rest, LARGEST_REPLY - len(unpacked_body) + 1)
            if len(unpacked_body) > LARGEST_REPLY:
                raise UnexpectedReplyError("it is too large once unpacked")
            if not unpacker.eof:
                raise _BrokenOffError("its packing (gzip) breaks off")
            # Some writers fill the last block with zeros.
            rest = unpacker.unused_data.lstrip(b"\0")
    except zlib.error:
        raise UnexpectedReplyError("its packing (gzip) is damaged") from None
    return unpacked_body


def files_in(body: bytes) -> dict[str, int]:
    """The sizes of the files in an archive, by name; empty for what is no archive.

    Raises:
        UnexpectedReplyError: its packing is damaged.
    """
    if body.startswith(_GZIP):
        body = _gunzipped(body)
    if not body.startswith(_ZIP):
        return {}
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            return {one.filename: one.file_size for one in archive.infolist() if not one.is_dir()}
    except (zipfile.BadZipFile, OSError):
        raise UnexpectedReplyError("its packing (zip) is damaged") from None


def _wanted_of(archive: zipfile.ZipFile, file: str | None) -> list[zipfile.ZipInfo]:
    members = [member for member in archive.infolist() if not member.is_dir()]
    wanted = [member for member in members if fnmatchcase(member.filename, file or "*")]
    names = ", ".join(member.filename for member in members[:5]) or "nothing"
    if not wanted:
        raise UnexpectedReplyError(f"no file {file!r} is in its archive; there is {names}")
    if len(wanted) > 1 and file is None:
        raise UnexpectedReplyError(
            f"its archive holds several files ({names}): reply.file says which"
        )
    return wanted


def _unzipped(body: bytes, file: str | None) -> list[bytes]:
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            wanted = _wanted_of(archive, file)
            # What the archive says; what is in it is measured below.
            if sum(member.file_size for member in wanted) > LARGEST_REPLY:
                raise UnexpectedReplyError("it is too large once unpacked")
            contents = []
            for member in sorted(wanted, key=lambda one: _in_order(one.filename)):
                with archive.open(member) as member_file:
                    contents.append(member_file.read(LARGEST_REPLY + 1))
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, RuntimeError, EOFError, OSError):
        raise UnexpectedReplyError(
            "its packing (zip) is damaged, or locked by a password"
        ) from None
    if sum(map(len, contents)) > LARGEST_REPLY:
        raise UnexpectedReplyError("it is too large once unpacked")
    return contents


def _in_order(name: str) -> list[tuple[int, int, str]]:
    """What files are sorted by: `part-2` comes before `part-10`."""
    return [
        # `part-10` comes behind `part-2`.
        (0, int(part), "") if part.isdecimal() else (1, 0, part)
        for part in re.split(r"(\d{1,18})", name)
        if part
    ]


def _taken_out(layer: Layer, outer: bytes) -> Iterator[bytes]:
    """What stands inside a document, or inside each of several."""
    found = 0
    for document in outer_documents(outer, layer.path.list_names):
        value = layer.path.find(document)
        for item in value if isinstance(value, list) and layer.encoding != "text" else [value]:
            if item is None:
                continue
            found += 1
            yield _decoded(layer, item)
    if not found:
        raise UnexpectedReplyError(f"reply.inside ({layer.source}) finds nothing")


def _decoded(layer: Layer, value: Any) -> bytes:
    if layer.encoding == "base64":
        try:
            text = "".join(str(value).split()).translate(_URL_SAFE)
            # The padding is often left out.
            return base64.b64decode(text + "=" * (-len(text) % 4), validate=True)
        except (binascii.Error, ValueError):
            raise UnexpectedReplyError(f"reply.inside ({layer.source}) finds no base64") from None
    if not isinstance(value, str):
        return json.dumps(value).encode()
    fenced = _FENCE.fullmatch(value.strip())
    return (fenced[1] if fenced else value).encode("utf-8", "surrogatepass")


def outer_documents(body: bytes, lists: frozenset[str]) -> list[Any]:
    """A document of any kind, known by how it begins; several where it has lines or events.

    Raises:
        UnexpectedReplyError: it is none.
    """
    try:
        if looks_like_xml(body):
            return [parse_xml(body, lists)]
        if looks_like_events(body):
            return [json_or_text(event.data) for event in events_in(body)]
        return [parse_json(body)]
    except DocumentError as error:
        lines = list(lines_in(body))
        # One line that is no document is nothing.
        if len(lines) < 2:
            raise UnexpectedReplyError(str(error)) from None
        return list(map(json_or_text, lines))


def documents_of(reply: Reply, body: bytes) -> list[Any]:
    """The documents in one body: one, or those of lines and events that count.

    Raises:
        UnexpectedReplyError: it is not written as the card says.
    """
    try:
        if reply.format == "json":
            return [parse_json(body)]
        if reply.format == "msgpack":
            return [parse_msgpack(body)]
        if reply.format == "cbor":
            return [parse_cbor(body)]
        if reply.format == "xml":
            return [parse_xml(body, _list_names(reply))]
    except DocumentError as error:
        raise UnexpectedReplyError(str(error)) from None
    if reply.format == "csv":
        return [_rows(reply, body)]
    return _counted(reply, list(_parts(reply, body)))


def _parts(reply: Reply, body: bytes) -> Iterator[Any]:
    """The documents of lines or events, up to the mark of the end."""
    count = 0
    for text in _part_texts(reply, body):
        count += 1
        try:
            yield parse_json(text.encode("utf-8", "surrogatepass"))
        except DocumentError:
            if reply.format == "events":
                what = "event"
            else:
                what = "line"
            raise UnexpectedReplyError(f"{what} {count} is not JSON: {text[:80]}") from None
    if not count:
        raise UnexpectedReplyError(f"it has no {reply.format}")


def _part_texts(reply: Reply, body: bytes) -> Iterator[str]:
    """Of lines and events that count, up to the mark of the end."""
    mark = reply.end_mark
    if reply.format == "lines":
        for line in lines_in(body):
            if mark is not None and line.strip() == mark:
                return
            yield line
        return
    for event in events_in(body):
        if mark is not None and mark in (event.name, event.data.strip()):
            return
        if not reply.event or event.name in reply.event:
            yield event.data


def _counted(reply: Reply, parts: list[Any]) -> list[Any]:
    """Those that the card's condition lets through; of several with one key the last, at the place
    of the first.
    """
    if reply.only is not None:
        parts = [part for part in parts if reply.only.holds(part)]
    if reply.key is None:
        return parts
    latest: dict[str, Any] = {}
    for number, part in enumerate(parts):
        key = reply.key.find(part)
        # At the place of the first, as it is one sentence that grows.
        latest[json.dumps(key) if key is not None else f"#{number}"] = part
    return list(latest.values())


def _rows(reply: Reply, body: bytes) -> list[dict[str, str]]:
    text = body.decode("utf-8-sig", "replace")
    delimiter = reply.delimiter or ","
    if len(delimiter) != 1:
        raise UnexpectedReplyError("reply.delimiter: expected one character")
    try:
        rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter))
    except csv.Error as error:
        raise UnexpectedReplyError(f"it is not CSV ({error})") from None
    # Blank lines are common at the end.
    rows = [row for row in rows if any(cell.strip() for cell in row)]
    columns = list(reply.columns) or [cell.strip() for cell in (rows.pop(0) if rows else [])]
    return [dict(zip(columns, (cell.strip() for cell in row), strict=False)) for row in rows]


def _list_names(reply: Reply) -> frozenset[str]:
    """Names of XML elements that the card takes for lists."""
    names: set[str] = set()
    for table in (reply.passages, reply.words, reply.turns, reply.speakers):
        if table is None:
            continue
        for path in _paths_in(table):
            names |= path.list_names
        # In XML an element that occurs once would be a table, and no list of one.
        each: ReplyPath | None = table.each
        if each is not None and each.last_name is not None:
            names.add(each.last_name)
    for single in (reply.text, reply.language, reply.zero):
        names |= single.list_names if single else frozenset()
    return frozenset(names)


def _paths_in(table: PassagePaths | WordPaths | TurnPaths | SpeakerNames) -> Iterator[ReplyPath]:
    for name in table.__struct_fields__:
        value = getattr(table, name)
        if isinstance(value, ReplyPath):
            yield value
