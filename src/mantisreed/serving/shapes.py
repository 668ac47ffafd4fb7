"""The shapes of the API's documents, for its description."""

from typing import Any

from pydantic import BaseModel, Field

from mantisreed.serving.orders import STATES
from mantisreed.serving.problems import MEDIA_TYPE


class ErrorOfJob(BaseModel):
    """Why a job failed or waits."""

    what: str
    advice: str | None = None


class CallOfJob(BaseModel):
    """The call when it has ended."""

    url: str
    profile: str
    state: str | None = None


class Job(BaseModel):
    """One recording that is, or was, transcribed."""

    id: str
    recording: str
    state: str = Field(json_schema_extra={"enum": list(STATES)})
    stage: str | None = Field(None, description="What is being done, or why it waits.")
    engine: str | None = None
    language: str | None = None
    created: str
    finished: str | None = None
    seconds: float | None = Field(None, description="Length of the recording.")
    words: int | None = None
    doubts: int | None = None
    cost: float | None = None
    currency: str | None = None
    error: ErrorOfJob | None = None
    call: CallOfJob | None = None
    links: dict[str, str]


class JobList(BaseModel):
    """Jobs, the newest first."""

    jobs: list[Job]
    count: int = Field(description="Of all that fit the filters.")
    next: str | None = Field(None, description="The address of the next page.")


class ProblemDocument(BaseModel):
    """RFC 9457."""

    type: str
    title: str
    status: int
    detail: str
    advice: str | None = None


_PROBLEM_CONTENT = {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemDocument"}}}
PROBLEMS: dict[int | str, dict[str, Any]] = {
    "4XX": {"description": "why it is not done", "content": _PROBLEM_CONTENT},
    "5XX": {"description": "what failed", "content": _PROBLEM_CONTENT},
}

_OPTION_FIELDS: dict[str, Any] = {
    "engine": {"type": "string", "description": "An engine card, or NAME:PROFILE."},
    "language": {"type": "string", "description": "A BCP 47 tag."},
    "translate_to": {"type": "string"},
    "hints": {"type": "array", "items": {"type": "string"}},
    "to": {
        "type": "array",
        "items": {"type": "string"},
        "description": "Formats that are written.",
    },
    "channels": {"type": "string", "description": "mix, apart, or a number."},
    "piece_length": {"type": "string", "examples": ["10min"]},
    "layout": {"type": "string"},
    "second_opinion": {
        "type": "string",
        "description": "The engine that hears what is doubtful again.",
    },
    "redact": {"type": "boolean"},
    "spend_limit": {"type": "number"},
    "afresh": {"type": "boolean"},
    "name": {"type": "string", "description": "What the recording is called."},
    "call": {"type": "string", "format": "uri", "description": "Called when the job has ended."},
    "wait": {"type": "string", "description": "As in the query.", "examples": ["30s"]},
    "profile": {
        "type": "string",
        "enum": ["live", "test"],
        "description": "With which key the call is signed.",
    },
}
BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "multipart/form-data": {
                "schema": {
                    "type": "object",
                    "required": ["recording"],
                    "properties": {
                        "recording": {"type": "string", "format": "binary"},
                        **_OPTION_FIELDS,
                    },
                }
            },
            "application/json": {
                "schema": {
                    "type": "object",
                    "properties": {
                        "link": {"type": "string", "format": "uri"},
                        "path": {
                            "type": "string",
                            "description": "A file in a folder that the service allows.",
                        },
                        "upload": {"type": "string", "description": "The id of a complete upload."},
                        **_OPTION_FIELDS,
                    },
                }
            },
            "application/octet-stream": {"schema": {"type": "string", "format": "binary"}},
        },
    }
}
