"""The shapes of the API's documents, for its description."""

from typing import Any

from pydantic import BaseModel, Field

from mantisreed.jobs.life import SHOWN_STATES


class ErrorOfJob(BaseModel):
    """Why a job failed or waits."""

    what: str
    advice: str | None = None


class WebhookOfJob(BaseModel):
    """The call when it has ended."""

    address: str
    profile: str
    state: str | None = None


class Job(BaseModel):
    """One recording that is, or was, transcribed."""

    id: str
    recording: str
    state: str = Field(json_schema_extra={"enum": list(SHOWN_STATES)})
    stage: str | None = Field(None, description="What is being done, or why it waits.")
    engine: str | None = None
    language: str | None = None
    created: str = Field(json_schema_extra={"format": "date-time"})
    finished: str | None = None
    seconds: float | None = Field(None, description="Length of the recording.")
    words: int | None = None
    doubts: int | None = None
    cost: float | None = None
    currency: str | None = None
    error: ErrorOfJob | None = None
    webhook: WebhookOfJob | None = None
    links: dict[str, str]


class AttemptOfPiece(BaseModel):
    """One try to have a piece answered."""

    started: str
    ended: str | None = None
    bytes: int
    outcome: str | None = None
    error: str | None = None


class PieceOfJob(BaseModel):
    """A piece of the recording, and what was sent of it."""

    start: float
    end: float
    channel: int | None = None
    state: str
    is_kept_reply: bool
    attempts: list[AttemptOfPiece]


class FollowUpOfJob(BaseModel):
    """What was done with the transcript."""

    name: str
    state: str
    reason: str | None = None
    result: dict[str, Any]


class DetailsOfJob(BaseModel):
    """What the ledger knows of a job besides; empty where it knows nothing."""

    engine: str | None = None
    billed_seconds: float | None = None
    reported_seconds: float | None = None
    reported_cost: float | None = None
    pieces: list[PieceOfJob] | None = None
    follow_ups: list[FollowUpOfJob] | None = None


class DetailedJob(Job):
    """One job, with its pieces, attempts and follow-ups."""

    details: DetailsOfJob


class JobList(BaseModel):
    """Jobs, the newest first."""

    jobs: list[Job]
    count: int = Field(description="Of all that fit the filters.")
    next: str | None = Field(None, description="The address of the next page.")


class PieceOfPlan(BaseModel):
    """A piece that would be sent."""

    start: float
    end: float
    bytes: int


class Plan(BaseModel):
    """What a job would send and cost."""

    engine: str
    seconds: float
    speech_seconds: float
    billed_seconds: float
    cost: float | None = None
    currency: str | None = None
    pieces: list[PieceOfPlan]
    notes: list[str]


class Engine(BaseModel):
    """An engine card."""

    name: str
    about: str
    languages: list[str]
    max_bytes: int | None = None
    price_per_minute: float | None = None
    currency: str | None = None


class Engines(BaseModel):
    """Engines, and what the token's jobs may cost together."""

    engines: list[Engine]
    default: str | None = None
    formats: list[str]
    spend_limit: float | None = None


class CostOfPeriod(BaseModel):
    """What was paid to an engine on a day or in a month."""

    day: str | None = None
    month: str | None = None
    engine: str
    billed_seconds: float
    cost: float | None = None
    currency: str | None = None
    reported_seconds: float | None = Field(None, description="What the engine itself says.")
    reported_cost: float | None = None


class Costs(BaseModel):
    """What was paid."""

    costs: list[CostOfPeriod]


class Worker(BaseModel):
    """A process that takes recordings from the queue."""

    machine: str
    version: str
    recordings: int = Field(description="Those that it has under way.")


class Work(BaseModel):
    """What goes on with the queue."""

    workers: list[Worker]
    waiting: dict[str, int] = Field(description="Queued recordings that nobody has, by engine.")
    working: dict[str, int] = Field(description="Those that a worker has, by engine.")
    per_minute: float = Field(description="Queued recordings that ended in a minute, lately.")
    seconds_left: float | None = Field(None, description="Until the queue is empty, at this rate.")


class ReviewAddress(BaseModel):
    """Where the review page is opened."""

    url: str


class SavedFiles(BaseModel):
    """The outputs that were written anew."""

    files: list[str]


class StateOfService(BaseModel):
    """How the service stands."""

    state: str


class ProblemDocument(BaseModel):
    """RFC 9457."""

    type: str
    title: str
    status: int
    detail: str
    advice: str | None = None
