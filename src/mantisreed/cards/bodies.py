"""Bodies of requests: forms, JSON, bytes."""

import gzip
import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import quote, urlencode

from mantisreed.cards.filters import as_bytes
from mantisreed.cards.steps import FormPart, Step
from mantisreed.cards.templates import ListTemplate, Values


@dataclass(frozen=True, slots=True)
class Attachment:
    """The bytes that a step sends as `{audio}`, with what a form says of them.

    Attributes:
        content: the bytes.
        content_type: their media type.
        file_name: what they are called.
        duration: seconds of sound in them.
        block: bytes that must not be parted: those of one sample, where there is no container.
    """

    content: bytes = field(repr=False)
    content_type: str
    file_name: str
    duration: float = 0.0
    block: int = 1


@dataclass(frozen=True, slots=True)
class SentPart:
    """One part of a multipart body, for showing it."""

    name: str
    content: bytes = field(repr=False)
    content_type: str | None
    file_name: str | None


def _pairs(fields: Mapping[str, ListTemplate], values: Values) -> list[tuple[str, str]]:
    found = []
    for key, template in fields.items():
        found.extend([(key, text) for text in template.texts(values)])
    return found


@dataclass(frozen=True, slots=True)
class Body:
    """The body of a request.

    Attributes:
        content: its bytes; None for none.
        content_type: of them.
        parts: those of a form, with what is secret in them.
    """

    content: bytes | None
    content_type: str | None
    parts: tuple[SentPart, ...] = ()

    @classmethod
    def of(
        cls, step: Step, values: Values, attachment: Attachment | None, boundary: Callable[[], str]
    ) -> "Body":
        """The body of a step's request.

        Args:
            step: with one of the keys for bodies.
            values: of its placeholders.
            attachment: the audio.
            boundary: gives the boundary of a form.
        """
        body = cls._plain(step, values, attachment, boundary)
        # What the card says of its body comes before what its kind implies.
        if step.content_type is not None:
            body = replace(body, content_type=step.content_type.text(values) or body.content_type)
        # No time in the packing, so that the same body is the same bytes.
        if step.gzip and body.content is not None:
            body = replace(body, content=gzip.compress(body.content, compresslevel=6, mtime=0))
        return body

    @classmethod
    def _plain(
        cls, step: Step, values: Values, attachment: Attachment | None, boundary: Callable[[], str]
    ) -> "Body":
        if step.json is not None:
            document = step.json.document(values)
            # A body all of whose fields were left out is still a body of its kind.
            nothing: Any = [] if isinstance(step.json.source, list) else {}
            return cls(
                json.dumps(nothing if document is None else document).encode(), "application/json"
            )
        if step.urlencoded is not None:
            fields = _pairs(step.urlencoded, values)
            return cls(
                urlencode(fields, quote_via=quote, safe="").encode(),
                "application/x-www-form-urlencoded",
            )
        if step.form is not None:
            return cls._multipart(step, values, attachment, boundary())
        if step.raw is not None:
            value = step.raw.value(values)
            # The sound has a type of its own; any other text is text.
            if attachment and step.raw.is_audio:
                kind = attachment.content_type
            else:
                kind = "text/plain; charset=utf-8"
            return cls(b"" if value is None else as_bytes(value), kind)
        return cls(None, None)

    @classmethod
    def _multipart(
        cls, step: Step, values: Values, attachment: Attachment | None, boundary: str
    ) -> "Body":
        assert step.form is not None
        parts: list[SentPart] = []
        for name, holder in step.form.items():
            for part in holder.parts:
                parts += _sent_parts(name, part, values, attachment)
        content = _multipart_body(parts, boundary, step.multipart)
        return cls(content, f"multipart/{step.multipart}; boundary={boundary}", tuple(parts))


def _sent_parts(
    name: str, part: FormPart, values: Values, attachment: Attachment | None
) -> Iterator[SentPart]:
    if part.content_type:
        kind = part.content_type.text(values)
    else:
        kind = None
    if part.file_name:
        file_name = part.file_name.text(values)
    else:
        file_name = None
    if part.json is not None:
        document = part.json.document(values)
        if document is not None:
            yield SentPart(
                name, json.dumps(document).encode(), kind or "application/json", file_name
            )
        return
    assert part.value is not None
    if len(part.value.items) == 1 and part.value.items[0].is_audio:
        content = part.value.items[0].value(values)
        if content is not None and attachment is not None:
            yield SentPart(
                name, content, kind or attachment.content_type, file_name or attachment.file_name
            )
        return
    for text in part.value.texts(values):
        yield SentPart(name, text.encode("utf-8", "surrogatepass"), kind, file_name)


def _multipart_body(parts: Iterable[SentPart], boundary: str, kind: str) -> bytes:
    """The body as RFC 7578 has it for forms, and RFC 2046, 5.1 for the other kinds."""
    pieces: list[bytes] = []
    for part in parts:
        lines = [f"--{boundary}"]
        # Only forms name their parts (RFC 7578); others have a type alone.
        if kind == "form-data":
            if part.file_name:
                file_name = f'; filename="{_escaped(part.file_name)}"'
            else:
                file_name = ""
            lines.append(f'Content-Disposition: form-data; name="{_escaped(part.name)}"{file_name}')
        if part.content_type:
            lines.append(f"Content-Type: {part.content_type}")
        pieces += ["\r\n".join([*lines, "", ""]).encode(), part.content, b"\r\n"]
    return b"".join([*pieces, f"--{boundary}--\r\n".encode()])


def _escaped(name: str) -> str:
    """A name as browsers write it in a form (HTML standard, 4.10.21.8)."""
    # As the standard of HTML forms escapes these three.
    return name.replace('"', "%22").replace("\r", "%0D").replace("\n", "%0A")
