"""What the API's description says beyond the routes: bodies, headers, media types, problems."""

import json
from collections.abc import Mapping
from typing import Any

from mantisreed.exports.formats import OUTPUT_FORMATS, media_types
from mantisreed.options import API_OPTIONS, Option
from mantisreed.serving.problems import MEDIA_TYPE
from mantisreed.serving.routes.shapes import ProblemDocument
from mantisreed.transcript.document import SCHEMA

_BINARY: dict[str, Any] = {"schema": {"type": "string", "format": "binary"}}

Described = dict[str, Any]
Responses = dict[int | str, Described]


def _header(description: str, *, is_integer: bool = False) -> Described:
    return {
        "description": description,
        "schema": {"type": "integer" if is_integer else "string"},
    }


_LOCATION = {"Location": _header("Where it is found.")}
_TAG = {"ETag": _header("The version of the transcript.")}
_FILE = {"ETag": _header("The version of the file.")}
_UPLOAD_STATE = {
    "Upload-Offset": _header("Bytes that have come.", is_integer=True),
    "Upload-Complete": _header("`?1` when all of it has come, else `?0`."),
    **_LOCATION,
}
_PROBLEM_HEADERS = {
    "Retry-After": _header("Seconds after which it may be tried again.", is_integer=True),
    "WWW-Authenticate": _header("How to show a token."),
    "Allow": _header("What can be done here."),
    **_TAG,
    "Upload-Offset": _header("Where an upload goes on.", is_integer=True),
}
_PROBLEM = {"schema": {"$ref": "#/components/schemas/ProblemDocument"}}

PROBLEMS: Responses = {
    status: {"description": why, "content": {MEDIA_TYPE: _PROBLEM}, "headers": _PROBLEM_HEADERS}
    for status, why in (("4XX", "why it is not done"), ("5XX", "what failed"))
}


def content(*types: str) -> Described:
    """Contents of these media types, as they are."""
    return dict.fromkeys(types, _BINARY)


def response(description: str, *headers: Mapping[str, Described], **kept: Any) -> Described:
    """A response with headers."""
    merged: dict[str, Described] = {}
    for each in headers:
        merged.update(each)
    return {"description": description, **({"headers": merged} if merged else {}), **kept}


_TEXTS: dict[str, Described] = {kind: {"schema": {"type": "string"}} for kind in media_types()}
_TEXTS["application/json"] = {"schema": {"$ref": "#/components/schemas/Transcript"}}

TEXT: Responses = {
    200: response("The text.", _LOCATION, _TAG, content=_TEXTS),
    304: response("You have this version.", _LOCATION, _TAG),
}
"""In which forms a text is had."""

ACCEPTED: Responses = {202: response("Accepted.", _LOCATION)}
_PARTS = content("audio/*", "video/*", "multipart/byteranges")
SOUND: Responses = {
    200: response("The recording.", _FILE, content=content("audio/*", "video/*")),
    206: response("A part of it.", _FILE, content=_PARTS),
    416: response("There is no such part.", content=content("text/plain")),
}
PAGE: Responses = {200: response("The page.", content=content("text/html"))}
COUNTS: Responses = {
    200: response("The counts.", content={"text/plain": {"schema": {"type": "string"}}})
}
STREAM: Responses = {
    200: response(
        "Events `job` and `gone`, until nobody listens.",
        content={"text/event-stream": {"schema": {"type": "string"}}},
    )
}
SAVED: Responses = {200: response("Saved.", _TAG)}
GONE: Responses = {204: response("It is gone.")}


def upload_responses(status: int) -> Responses:
    """How far an upload has come."""
    return {status: response("How far it has come.", _UPLOAD_STATE)}


def header_parameter(
    name: str, description: str, *, is_required: bool = False, is_integer: bool = False
) -> Described:
    """A header that a request may have."""
    return {
        "name": name,
        "in": "header",
        "required": is_required,
        **_header(description, is_integer=is_integer),
    }


CONDITIONAL: Described = {
    "parameters": [header_parameter("If-None-Match", "The version that you have already.")]
}

_KINDS: dict[str, Described] = {
    "text": {"type": "string"},
    "duration": {"type": "string", "examples": ["10min"]},
    "texts": {"type": "array", "items": {"type": "string"}},
    "names": {"type": "array", "items": {"type": "string"}},
    "flag": {"type": "boolean"},
    "number": {"type": "number"},
    "money": {"type": "number"},
    "count": {"type": "integer", "minimum": 1},
}


def _option_field(option: Option) -> Described:
    """An option, as a schema has it."""
    told = f"{option.help}."
    if option.default is not None:
        told = f"{option.help} (default: {option.default})."
    field = _KINDS[option.kind] | {"description": told}
    if option.choices:
        field["enum"] = list(option.choices)
    return field


_OPTION_FIELDS = {name: _option_field(option) for name, option in API_OPTIONS.items()}
_OPTION_FIELDS["to"]["items"] = {"type": "string", "enum": sorted(OUTPUT_FORMATS)}

_OTHER_FIELDS: dict[str, Described] = {
    "name": {"type": "string", "description": "What the recording is called."},
    "webhook": {"type": "string", "format": "uri", "description": "Called when the job has ended."},
    "profile": {
        "type": "string",
        "enum": ["live", "test"],
        "description": "With which key the call is signed.",
    },
}
_WAIT: Described = {"type": "string", "description": "As in the query.", "examples": ["30s"]}
_IN_FORM = {**_OPTION_FIELDS, **_OTHER_FIELDS, "wait": _WAIT}
_PLACES: dict[str, Described] = {
    "link": {"type": "string", "format": "uri"},
    "path": {"type": "string", "description": "A file in a folder that the service allows."},
    "upload": {"type": "string", "description": "The id of a complete upload."},
}
_FORM = {
    "type": "object",
    "required": ["recording"],
    "properties": {"recording": {"type": "string", "format": "binary"}, **_IN_FORM},
}
_BODY: Described = {
    "required": True,
    "content": {
        "multipart/form-data": {"schema": _FORM},
        "application/json": {
            "schema": {"type": "object", "properties": {**_PLACES, **_IN_FORM}},
        },
        "application/octet-stream": _BINARY,
    },
}
_IN_QUERY = [
    {
        "name": name,
        "in": "query",
        "required": False,
        "description": field.get("description", "") + " With a recording as the body.",
        "schema": {key: value for key, value in field.items() if key != "description"},
        **({"style": "form", "explode": False} if field["type"] == "array" else {}),
    }
    for name, field in {**_OPTION_FIELDS, **_OTHER_FIELDS}.items()
]

PLAN: Described = {"requestBody": _BODY, "parameters": _IN_QUERY}
SUBMISSION: Described = {
    "requestBody": _BODY,
    "parameters": [
        *_IN_QUERY,
        header_parameter(
            "Idempotency-Key", "Requests with the same key are one job, however often they come."
        ),
    ],
}
SAVING: Described = {
    "requestBody": {
        "required": True,
        "content": {
            "application/json": {"schema": {"$ref": "#/components/schemas/Transcript"}},
        },
    },
    "parameters": [
        header_parameter(
            "If-Match",
            "The version that was corrected; `*` replaces whatever there is.",
            is_required=True,
        )
    ],
}
_UPLOAD_BODY: Described = {
    "content": {
        "application/octet-stream": _BINARY,
        "application/partial-upload": _BINARY,
    }
}
_COMPLETE = header_parameter("Upload-Complete", "`?0` when more is to come, else `?1`.")
UPLOAD: Described = {
    "requestBody": _UPLOAD_BODY,
    "parameters": [
        _COMPLETE,
        header_parameter("Upload-Length", "Bytes that it will have.", is_integer=True),
    ],
}
UPLOAD_PART: Described = {
    "requestBody": _UPLOAD_BODY,
    "parameters": [
        _COMPLETE,
        header_parameter("Upload-Offset", "Where it goes on.", is_required=True, is_integer=True),
    ],
}
RANGE: Described = {"parameters": [header_parameter("Range", "Which part.")]}


def _transcript_schemas() -> dict[str, Described]:
    """The schema of transcripts, with its parts where the description has parts."""
    own = json.loads(SCHEMA.read_bytes())
    del own["$schema"]
    parts = {f"Transcript{name.title()}": part for name, part in own.pop("$defs").items()}
    moved = json.dumps({"Transcript": own, **parts})
    for name in parts:
        kept = name.removeprefix("Transcript").lower()
        moved = moved.replace(f'"#/$defs/{kept}"', f'"#/components/schemas/{name}"')
    schemas: dict[str, Described] = json.loads(moved)
    return schemas


def completed(document: Described) -> Described:
    """The description with what no route says by itself: problems, transcripts, tokens."""
    schemas = document.setdefault("components", {}).setdefault("schemas", {})
    schemas["ProblemDocument"] = ProblemDocument.model_json_schema()
    schemas |= _transcript_schemas()
    for unused in ("HTTPValidationError", "ValidationError"):
        schemas.pop(unused, None)
    for methods in document["paths"].values():
        for operation in methods.values():
            # The framework's own; ours are problems.
            operation["responses"].pop("422", None)
    document["components"]["securitySchemes"] = {"token": {"type": "http", "scheme": "bearer"}}
    document["security"] = [{"token": []}, {}]
    return document
