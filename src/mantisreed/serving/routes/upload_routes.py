"""Routes of uploads that can be gone on with where they broke off."""

from fastapi import APIRouter, Request
from fastapi.responses import Response

from mantisreed.jobs.store.served import Upload
from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving.fields import content_length
from mantisreed.serving.routes.answers import let_in, prefix_of
from mantisreed.serving.routes.description import GONE, UPLOAD, UPLOAD_PART, upload_responses

router = APIRouter()


@router.post(
    "/uploads",
    status_code=201,
    tags=["uploads"],
    response_class=Response,
    responses=upload_responses(201),
    openapi_extra=UPLOAD,
)
async def begin(request: Request, name: str | None = None) -> Response:
    """Begin an upload that can be gone on with, by as much of it as comes (`Upload-Complete: ?0`: a
    part).
    """
    service, token = let_in(request, "submit")
    uploads, most = service.intake.uploads, service.intake.most_bytes(token)
    length = _number(request, "upload-length")
    if most is not None and (length or 0) > most:
        raise Problem(413, f"the recording is over {most} bytes")
    async with service.intake.room(token, length or content_length(request)) as room:
        upload = await uploads.begin(token.name, name, length)
        await uploads.take(upload, 0, request.stream(), room, is_last=_is_last(request))
    return _state(request, upload, 201)


@router.head(
    "/uploads/{upload}",
    status_code=204,
    tags=["uploads"],
    response_class=Response,
    responses=upload_responses(204),
)
async def offset_of(request: Request, upload: str) -> Response:
    """How much of an upload has come."""
    service, token = let_in(request, "submit")
    found = await service.intake.uploads.get(upload, token.name)
    return _state(request, found, 204)


@router.patch(
    "/uploads/{upload}",
    status_code=204,
    tags=["uploads"],
    response_class=Response,
    responses=upload_responses(204),
    openapi_extra=UPLOAD_PART,
)
async def go_on(request: Request, upload: str) -> Response:
    """Go on with an upload where it ended (`Upload-Offset`)."""
    service, token = let_in(request, "submit")
    uploads = service.intake.uploads
    found = await uploads.get(upload, token.name)
    offset = _number(request, "upload-offset")
    if offset is None:
        raise Problem(400, "Upload-Offset says where it goes on")
    coming = content_length(request)
    async with service.intake.room(token, coming) as room:
        # What has come by now is stored already, and counts towards the size of the recording.
        whole = service.intake.most_bytes(token)
        most = whole if room is None else min(whole or room + offset, room + offset)
        await uploads.take(found, offset, request.stream(), most, is_last=_is_last(request))
    return _state(request, found, 204)


@router.delete(
    "/uploads/{upload}",
    status_code=204,
    tags=["uploads"],
    response_class=Response,
    responses=GONE,
)
async def drop(request: Request, upload: str) -> Response:
    """Give an upload up."""
    service, token = let_in(request, "submit")
    uploads = service.intake.uploads
    await uploads.give_up(await uploads.get(upload, token.name))
    return Response(status_code=204)


def _number(request: Request, name: str) -> int | None:
    """A number of bytes in a header.

    Raises:
        Problem: it is none.
    """
    given = request.headers.get(name)
    if given is None:
        return None
    # No number that Python reads and nobody else, such as `1_000`.
    if not given.isascii() or not given.isdecimal() or len(given) > 15:
        raise Problem(400, f"{name} is a number of bytes")
    return int(given)


def _is_last(request: Request) -> bool:
    return request.headers.get("upload-complete", "?1") != "?0"


def _state(request: Request, upload: Upload, status: int) -> Response:
    complete = "?1" if upload.is_complete else "?0"
    headers = {"Upload-Offset": str(upload.has), "Upload-Complete": complete}
    headers["Location"] = f"{prefix_of(request)}/uploads/{upload.id}"
    return Response(status_code=status, headers=headers)
