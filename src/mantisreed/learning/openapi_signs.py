"""What an operation of an API takes and gives, by its schemas."""

import re
from collections.abc import Iterator, Mapping
from typing import Any

from mantisreed.learning.fields import is_audio, is_link
from mantisreed.learning.found_lists import joined_path
from mantisreed.learning.openapi_document import Operation

_TEXT = re.compile(
    r"text|transcript|words?$|utterance|segment|result|sentence|caption|subtitle|vtt|srt", re.I
)

JOB = re.compile(r"(^|_|[a-z])(id|uuid|token|name|job)$", re.I)


def has_audio_field(operation: Operation) -> bool:
    """Whether a request has a place for the audio."""
    if operation.verb == "GET":
        return False
    return any(
        is_audio_type(kind) or audio_field(media.get("schema") or {})
        for kind, media in operation.body.items()
    )


def is_audio_type(kind: str) -> bool:
    """Whether a media type is one of sound, or of any bytes."""
    return kind.startswith(("audio/", "video/")) or kind.partition(";")[0] in (
        "application/octet-stream",
        "*/*",
    )


def audio_field(schema: Mapping[str, Any], depth: int = 0) -> bool:
    """The field of a form that takes the audio; None where none does."""
    for name, inner in (schema.get("properties") or {}).items():
        if not isinstance(inner, Mapping):
            continue
        if is_bytes(name, inner) or (
            is_link(name) and is_audio(name) and inner.get("type") == "string"
        ):
            return True
        if inner.get("format") == "uri" and (is_audio(name) or is_link(name)):
            return True
        # Schemas may contain themselves.
        if depth < 3 and inner.get("type") in ("object", None) and audio_field(inner, depth + 1):
            return True
    return False


def is_bytes(name: str, schema: Mapping[str, Any]) -> bool:
    """Whether a field holds the sound itself."""
    media = str(schema.get("contentMediaType", ""))
    encoded = str(schema.get("contentEncoding", "")).startswith("base64")
    kind = schema.get("format")
    return (
        kind == "binary"
        or media.startswith("audio/")
        or ((kind == "byte" or encoded) and is_audio(name))
    )


def gives_text(operation: Operation) -> bool:
    """Whether an answer has what was said."""
    for kind, media in operation.answers.items():
        if kind.startswith("text/") or "subrip" in kind:
            return True
        if any(map(_TEXT.search, _property_names(media.get("schema") or {}))):
            return True
    return False


def gives_job(operation: Operation) -> bool:
    """Whether an answer has the id of a job."""
    for media in operation.answers.values():
        if job_place(media.get("schema") or {}) is not None:
            return True
    return False


def job_place(schema: Mapping[str, Any], wanted: str = "", path: str = "") -> str | None:
    """Where an answer has the id of a job; None where it has none.

    Args:
        schema: of the answer.
        wanted: what a later request calls it; a field of that name comes before any other.
        path: of the schema in the whole answer.
    """
    properties = schema.get("properties") or {}
    same = next((name for name in properties if wanted and name.lower() == wanted.lower()), None)
    found = same or next(filter(JOB.search, properties), None)
    if found is not None:
        return joined_path(path, found)
    for name, inner in properties.items():
        if isinstance(inner, Mapping) and path.count(".") < 2:
            deeper = job_place(inner, wanted, joined_path(path, name))
            if deeper is not None:
                return deeper
    return None


def _property_names(schema: Mapping[str, Any], depth: int = 0) -> Iterator[str]:
    for name, inner in (schema.get("properties") or {}).items():
        is_address = isinstance(inner, Mapping) and inner.get("type") == "string" and is_link(name)
        if not is_address:  # `result_url` says where the text is, and not what it is
            yield str(name)
        if depth < 4 and isinstance(inner, Mapping):
            yield from _property_names(inner, depth + 1)
            if isinstance(inner.get("items"), Mapping):
                yield from _property_names(inner["items"], depth + 1)


def text_format(media_type: str) -> str:
    """How a reply of this media type is written, as a card calls it."""
    for written, marks in (("vtt", ("vtt",)), ("srt", ("srt", "subrip"))):
        if any(mark in media_type for mark in marks):
            return written
    return "text"


def examples_of(media: Mapping[str, Any]) -> Iterator[Any]:
    """What a description gives as an example of an answer, in any of the three ways."""
    if media.get("example"):
        yield media["example"]
    schema = media.get("schema") or {}
    if schema.get("example"):
        yield schema["example"]
    for one in (media.get("examples") or {}).values():
        if isinstance(one, Mapping) and one.get("value"):
            yield one["value"]


def is_field_for_link(name: str, schema: Mapping[str, Any]) -> bool:
    """Whether an engine fetches the recording from there, and does not send its answer there."""
    is_uri = schema.get("format") == "uri" or schema.get("type") == "string"
    return is_uri and is_link(name) and not re.search("callback|hook", name, re.I)
