"""Routes of what came out: texts, sound, the review page, corrected transcripts."""

import asyncio
from dataclasses import replace
from pathlib import Path

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, Response

from mantisreed.exports.formats import OUTPUT_FORMATS, TRANSCRIPT_FORMAT, chosen_formats
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.reviewing import Reviewed, reviewed
from mantisreed.review.page import review_page
from mantisreed.review.personal import hidden_transcript
from mantisreed.serving.answers import (
    PAGE_HEADERS,
    TEXT_RESPONSES,
    form_of,
    json_answer,
    order_of,
    text_answer,
    transcript_of,
)
from mantisreed.serving.desk import writing_of
from mantisreed.serving.orders import Order
from mantisreed.serving.problems import Problem
from mantisreed.serving.service import Service
from mantisreed.transcript.document import from_json

LARGEST_TRANSCRIPT = 64 << 20
"""Bytes of a corrected transcript."""

_DOCUMENT = ".transcript.json"

router = APIRouter()


@router.get("/jobs/{job}/text", tags=["outputs"], response_class=Response, responses=TEXT_RESPONSES)
async def text(request: Request, job: str) -> Response:
    """The text, in the form of `Accept`: plain, JSON, SRT, WebVTT, TTML, Markdown, HTML, CSV."""
    service, _, order = order_of(request, job, "read")
    return await text_answer(service, order, form_of(request))


@router.get("/jobs/{job}/outputs/{form}", tags=["outputs"], response_class=Response)
async def output(request: Request, job: str, form: str) -> Response:
    """The text in a format, by its name."""
    service, _, order = order_of(request, job, "read")
    return await text_answer(service, order, chosen_formats([form])[0])


@router.get("/jobs/{job}/sound", tags=["review"], response_class=FileResponse)
async def sound(request: Request, job: str) -> Response:
    """The recording, for the review page."""
    service, _, order = order_of(request, job, "read")
    recording = _recording_of(order)
    transcript = await asyncio.to_thread(transcript_of, order)
    track = transcript.recording.track_number
    played, file = await service.playing.of(order.id, recording, track)
    return FileResponse(file, media_type=played.media_type)


@router.post("/jobs/{job}/review", tags=["review"])
async def open_review(request: Request, job: str) -> Response:
    """An address that opens the review page in a browser for some hours."""
    service, token, order = order_of(request, job, "read")
    return json_answer(
        {"url": f"/jobs/{order.id}/review?ticket={service.access.ticket(order, token)}"}
    )


@router.get("/jobs/{job}/review", tags=["review"], response_class=Response)
async def review(request: Request, job: str) -> Response:
    """The review page: hear, read, correct, save."""
    service, _, order = order_of(request, job, "read")
    recording = _recording_of(order)
    transcript = await asyncio.to_thread(transcript_of, order)
    track = transcript.recording.track_number
    played, _ = await service.playing.of(order.id, recording, track)
    ready = await asyncio.to_thread(reviewed, transcript, recording, played)
    page = await asyncio.to_thread(
        _review_page, service, order, ready, request.query_params.get("ticket")
    )
    return Response(page, headers=PAGE_HEADERS)


@router.put("/jobs/{job}/transcript", tags=["review"])
async def save(request: Request, job: str) -> Response:
    """Take a corrected transcript, and write all outputs of the job anew."""
    service, _, order = order_of(request, job, "submit")
    body = bytearray()
    async for block in request.stream():
        body += block
        if len(body) > LARGEST_TRANSCRIPT:
            raise Problem(413, f"a transcript has at most {LARGEST_TRANSCRIPT} bytes")
    files = await asyncio.to_thread(_saved, service, order, bytes(body))
    return json_answer({"files": [file.name for file in files]})


def _recording_of(order: Order) -> Path:
    """The recording of a job.

    Raises:
        Problem: it is not here, as that of a link, or not here any more.
    """
    if not order.path or not Path(order.path).is_file():
        advice = "`mantisreed review` with a copy of it"
        raise Problem(404, "the recording is not on this machine", advice=advice)
    return Path(order.path)


def _stem_of(document: Path) -> str:
    return document.name.removesuffix(_DOCUMENT)


def _review_page(service: Service, order: Order, ready: Reviewed, ticket: str | None) -> str:
    query = f"?ticket={ticket}" if ticket else ""
    played = replace(ready.sound, url=f"/jobs/{order.id}/sound{query}")
    rules = service.workspace.layout(order.options.layout)
    save_url = f"/jobs/{order.id}/transcript{query}"
    stem = _stem_of(Path(order.transcript or order.name))
    return review_page(ready.transcript, played, rules, stem=stem, save_url=save_url)


def _saved(service: Service, order: Order, content: bytes) -> tuple[Path, ...]:
    """Write a corrected transcript over the job's outputs.

    Raises:
        InputError: it is no transcript.
        Problem: it is of another recording.
    """
    corrected, writing = from_json(content), writing_of(service.workspace, order.options)
    if corrected.recording.digest != transcript_of(order).recording.digest:
        raise Problem(422, "this is the transcript of another recording")
    corrected = hidden_transcript(corrected, writing.redaction)
    document = Path(order.transcript or "")
    stem, written = _stem_of(document), {Path(file).name for file in order.files}
    names = [name for name, form in OUTPUT_FORMATS.items() if f"{stem}{form.suffix}" in written]
    formats = chosen_formats(names or [TRANSCRIPT_FORMAT])
    outputs = Outputs(
        document.parent, service.workspace.hidden, formats, options=writing, overwrite=True
    )
    files = outputs.write(stem, order.source, corrected).files
    service.book.change(
        order, words=len(corrected.words), doubts=len(corrected.doubts_worth_hearing)
    )
    return files
