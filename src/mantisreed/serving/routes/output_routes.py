"""Routes of what came out: texts, sound, the review page, corrected transcripts."""

import asyncio
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Request
from fastapi import Path as PathParameter
from fastapi.responses import FileResponse, Response

from mantisreed.exports.formats import OUTPUT_FORMATS, TRANSCRIPT_FORMAT, chosen_formats
from mantisreed.pipeline.options import default_writing
from mantisreed.pipeline.outputs import Outputs
from mantisreed.review.page import Saving, review_page
from mantisreed.review.personal import hidden_transcript
from mantisreed.serving.orders import Order
from mantisreed.serving.problems import Problem
from mantisreed.serving.routes.answers import (
    PAGE_HEADERS,
    TranscriptDocument,
    document_of,
    form_of,
    json_answer,
    names_version,
    order_of,
    order_to_change,
    prefix_of,
    text_answer,
)
from mantisreed.serving.routes.description import (
    CONDITIONAL,
    PAGE,
    RANGE,
    SAVED,
    SAVING,
    SOUND,
    TEXT,
)
from mantisreed.serving.routes.shapes import ReviewAddress, SavedFiles
from mantisreed.serving.service import Service
from mantisreed.state import place_of
from mantisreed.transcript.document import Transcript, from_json
from mantisreed.workbench.reviewing import Reviewed, reviewed

LARGEST_TRANSCRIPT = 64 << 20
"""Bytes of a corrected transcript."""

_DOCUMENT = ".transcript.json"
_FORM = PathParameter(json_schema_extra={"enum": sorted(OUTPUT_FORMATS)})

router = APIRouter()


@router.get(
    "/jobs/{job}/text",
    tags=["outputs"],
    response_class=Response,
    responses=TEXT,
    openapi_extra=CONDITIONAL,
)
async def text(request: Request, job: str) -> Response:
    """The text, in the form of `Accept`: plain, JSON, SRT, WebVTT, TTML, Markdown, HTML, CSV."""
    service, _, order = order_of(request, job, "read")
    return await text_answer(request, service, order, form_of(request))


@router.get(
    "/jobs/{job}/outputs/{form}",
    tags=["outputs"],
    response_class=Response,
    responses=TEXT,
    openapi_extra=CONDITIONAL,
)
async def output(request: Request, job: str, form: Annotated[str, _FORM]) -> Response:
    """The text in a format, by its name."""
    service, _, order = order_of(request, job, "read")
    return await text_answer(request, service, order, chosen_formats([form])[0])


@router.get(
    "/jobs/{job}/sound",
    tags=["review"],
    response_class=FileResponse,
    responses=SOUND,
    openapi_extra=RANGE,
)
async def sound(request: Request, job: str) -> Response:
    """The recording, for the review page."""
    service, _, order = order_of(request, job, "read")
    recording = await _recording_of(service, order)
    document = await document_of(service, order)
    track = document.transcript.recording.track_number
    played, file = await service.playing.of(order.id, recording, track)
    return FileResponse(file, media_type=played.media_type)


@router.post("/jobs/{job}/review", tags=["review"], response_model=ReviewAddress)
async def open_review(request: Request, job: str) -> Response:
    """An address that opens the review page in a browser for some hours."""
    service, token, order = order_of(request, job, "read")
    ticket = service.access.ticket(order, token)
    return json_answer({"url": f"{prefix_of(request)}/jobs/{order.id}/review?ticket={ticket}"})


@router.get("/jobs/{job}/review", tags=["review"], response_class=Response, responses=PAGE)
async def review(request: Request, job: str) -> Response:
    """The review page: hear, read, correct, save."""
    service, _, order = order_of(request, job, "read")
    recording = await _recording_of(service, order)
    document = await document_of(service, order)
    track = document.transcript.recording.track_number
    played, _ = await service.playing.of(order.id, recording, track)
    ready = await asyncio.to_thread(reviewed, document.transcript, recording, played)
    ticket = request.query_params.get("ticket")
    at = _Addresses(f"{prefix_of(request)}/jobs/{order.id}", f"?ticket={ticket}" if ticket else "")
    page = await asyncio.to_thread(_review_page, service, order, ready, document.tag, at)
    return Response(page, headers=PAGE_HEADERS)


@router.put(
    "/jobs/{job}/transcript",
    tags=["review"],
    response_model=SavedFiles,
    responses=SAVED,
    openapi_extra=SAVING,
)
async def save(request: Request, job: str) -> Response:
    """Take a corrected transcript, and write all outputs of the job anew."""
    order_of(request, job, "submit")
    began_from = request.headers.get("if-match")
    if began_from is None:
        raise Problem(
            428,
            "the corrected version is unknown",
            advice=f"send the ETag of GET /jobs/{job[:60]}/outputs/json as If-Match",
        )
    body = bytearray()
    async for block in request.stream():
        body += block
        if len(body) > LARGEST_TRANSCRIPT:
            raise Problem(413, f"a transcript has at most {LARGEST_TRANSCRIPT} bytes")
    async with order_to_change(request, job) as (service, _, order):
        before = await document_of(service, order)
        number = order.corrections
        if not names_version(began_from, before.tag) or not await service.book.change_if(
            order, {"corrections": number}, corrections=number + 1
        ):
            tag = (await document_of(service, order)).tag
            raise Problem(
                412,
                "somebody else has saved a correction meanwhile; nothing was changed",
                advice="lay yours over the present one, and save that",
                headers={"ETag": tag},
            )
        files, corrected = await asyncio.to_thread(_saved, service, order, before, bytes(body))
        await service.book.change(
            order,
            words=len(corrected.words),
            doubts=len(corrected.doubts_worth_hearing),
            place=place_of(service.workspace.hidden),
            transcript=order.transcript,
            files=order.files,
            corrections=number + 2,  # other services fetch what they had
        )
        after = await document_of(service, order)
    return json_answer({"files": [file.name for file in files]}, ETag=after.tag)


async def _recording_of(service: Service, order: Order) -> Path:
    """The recording of a job.

    Raises:
        Problem: it is not here, as that of a link, or not here any more.
    """
    path = await service.recording_of(order)
    if path is None:
        advice = "`mantisreed review` with a copy of it"
        raise Problem(404, "the recording is not on this machine", advice=advice)
    return path


def _stem_of(document: Path) -> str:
    return document.name.removesuffix(_DOCUMENT)


@dataclass(frozen=True, slots=True)
class _Addresses:
    """Where a review page finds what it needs: the address of the job, and the query that lets
    it in.
    """

    job: str
    query: str


def _review_page(service: Service, order: Order, ready: Reviewed, tag: str, at: _Addresses) -> str:
    played = replace(ready.sound, url=f"{at.job}/sound{at.query}")
    rules = (order.options.writing or default_writing(service.workspace)).rules
    stem = _stem_of(Path(order.transcript or order.name))
    saving = Saving(f"{at.job}/transcript{at.query}", tag)
    return review_page(ready.transcript, played, rules, stem=stem, saving=saving)


def _saved(
    service: Service, order: Order, before: TranscriptDocument, content: bytes
) -> tuple[tuple[Path, ...], Transcript]:
    """Write a corrected transcript over the job's outputs; gives these, and what was written.

    Raises:
        InputError: it is no transcript.
        Problem: it is of another recording.
    """
    corrected = from_json(content)
    writing = order.options.writing or default_writing(service.workspace)
    if corrected.recording.digest != before.transcript.recording.digest:
        raise Problem(422, "this is the transcript of another recording")
    corrected = hidden_transcript(corrected, writing.redaction)
    document = Path(order.transcript or "")
    stem, written = _stem_of(document), {Path(file).name for file in order.files}
    names = [name for name, form in OUTPUT_FORMATS.items() if f"{stem}{form.suffix}" in written]
    formats = chosen_formats(names or [TRANSCRIPT_FORMAT])
    outputs = Outputs(
        document.parent, service.workspace.hidden, formats, options=writing, overwrite=True
    )
    return outputs.write(stem, order.source, corrected).files, corrected
