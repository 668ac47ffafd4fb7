"""Forms with files (RFC 7578), read as they come: nothing is kept of a file but what its reader
keeps.
"""

from collections.abc import AsyncGenerator, AsyncIterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from python_multipart.exceptions import FormParserError
from python_multipart.multipart import MultipartParser, parse_options_header

from mantisreed.serving.problems import Problem

if TYPE_CHECKING:
    from python_multipart.multipart import MultipartCallbacks

_MOST_FIELDS = 40  # all options and a few more
_MOST_HEADERS = 8 << 10  # bytes before the content of a part


@dataclass(frozen=True, slots=True)
class FormPiece:
    """Some of the content of a field.

    Attributes:
        name: of the field.
        file_name: as the sender has it; None where it is no file.
        content: the next bytes.
        is_last: whether the field ends with them.
    """

    name: str
    file_name: str | None
    content: bytes
    is_last: bool


@dataclass(slots=True)
class _FormReader:
    """What the parser tells, one thing after the other."""

    ready: list[FormPiece] = field(default_factory=list)
    is_complete: bool = False
    _fields: int = 0
    _headers: int = 0
    _header: bytearray = field(default_factory=bytearray)
    _value: bytearray = field(default_factory=bytearray)
    _disposition: bytes = b""
    _name: str = ""
    _file_name: str | None = None

    def callbacks(self) -> "MultipartCallbacks":
        return {
            "on_part_begin": self._part_begins,
            "on_header_field": self._header_comes,
            "on_header_value": self._value_comes,
            "on_header_end": self._header_ends,
            "on_headers_finished": self._content_begins,
            "on_part_data": self._content_comes,
            "on_part_end": self._part_ends,
            "on_end": self._form_ends,
        }

    def _part_begins(self) -> None:
        self._fields += 1
        self._headers, self._disposition = 0, b""
        if self._fields > _MOST_FIELDS:
            raise Problem(400, f"a form has at most {_MOST_FIELDS} fields")

    def _count(self, size: int) -> None:
        self._headers += size
        if self._headers > _MOST_HEADERS:
            raise Problem(400, "the head of a field of the form is too long")

    def _header_comes(self, data: bytes, start: int, end: int) -> None:
        self._count(end - start)
        self._header += data[start:end]

    def _value_comes(self, data: bytes, start: int, end: int) -> None:
        self._count(end - start)
        self._value += data[start:end]

    def _header_ends(self) -> None:
        if self._header.lower() == b"content-disposition":
            self._disposition = bytes(self._value)
        self._header.clear()
        self._value.clear()

    def _content_begins(self) -> None:
        _, options = parse_options_header(self._disposition)
        if b"name" not in options:
            raise Problem(400, "a field of the form has no name")
        self._name = text_of(options[b"name"])
        file_name = options.get(b"filename")
        self._file_name = None if file_name is None else text_of(file_name)

    def _content_comes(self, data: bytes, start: int, end: int) -> None:
        self.ready.append(FormPiece(self._name, self._file_name, data[start:end], is_last=False))

    def _part_ends(self) -> None:
        self.ready.append(FormPiece(self._name, self._file_name, b"", is_last=True))

    def _form_ends(self) -> None:
        self.is_complete = True


def text_of(content: bytes | bytearray) -> str:
    """Text in UTF-8, as forms have it today; what is none is taken as Latin-1, in which all bytes
    are.
    """
    try:
        return content.decode()
    except UnicodeDecodeError:
        return content.decode("latin-1")


async def form_pieces(content_type: str, blocks: AsyncIterator[bytes]) -> AsyncGenerator[FormPiece]:
    """The content of a form, field after field, as it comes.

    Args:
        content_type: the header, with the boundary.
        blocks: the body.

    Raises:
        Problem: it is no form, or breaks off.
    """
    reader = _FormReader()
    boundary = parse_options_header(content_type)[1].get(b"boundary")
    if not boundary:
        raise Problem(400, "the form cannot be read (its type has no boundary)")
    try:
        parser = MultipartParser(boundary, reader.callbacks())
        async for block in blocks:
            parser.write(block)
            for piece in reader.ready:
                yield piece
            reader.ready.clear()
        parser.finalize()
    except FormParserError as error:
        raise Problem(400, "the form cannot be read (it is not as RFC 7578 has it)") from error
    if not reader.is_complete:
        raise Problem(400, "the form breaks off")
