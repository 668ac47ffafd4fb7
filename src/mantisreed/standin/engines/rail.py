"""`rail`: takes raw bytes and answers with a file as it is: plain text, SRT or WebVTT.

POST /rail/squeal?as=srt&tongue=en   Authorization: Bearer KEY
"""

import anyio.to_thread
from starlette.requests import Request
from starlette.responses import PlainTextResponse
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Hearing, Listener
from mantisreed.units import clock


def routes(listener: Listener, key: str) -> list[BaseRoute]:
    """What it answers."""

    async def squeal(request: Request) -> PlainTextResponse:
        if request.headers.get("authorization") != f"Bearer {key}":
            return PlainTextResponse("who squeals there?", status_code=401)
        try:
            tongue = request.query_params.get("tongue")
            hearing = await anyio.to_thread.run_sync(listener.hear, await request.body(), tongue)
        except RecordingError as error:
            return PlainTextResponse(error.what, status_code=415)
        return PlainTextResponse(_written(hearing, request.query_params.get("as", "text")))

    return [Route("/squeal", squeal, methods=["POST"])]


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    return f"""\
[engine.rail]
about = "raw bytes; the answer is an SRT file (profiles: WebVTT, plain text)"
url = "{address}/rail"
secrets.key = "file:standin.key"
values.as = "srt"

[engine.rail.every]
bearer = "{{key}}"

[engine.rail.send]
path = "/squeal"
query = {{ as = "{{as}}", tongue = "{{language}}" }}
raw = "{{audio}}"

[engine.rail.reply]
format = "srt"

[engine.rail.profile.vtt]
values.as = "vtt"
reply.format = "vtt"

[engine.rail.profile.text]
values.as = "text"
reply.format = "text"
"""


def _written(hearing: Hearing, kind: str) -> str:
    if kind == "text":
        return hearing.text + "\n"
    mark = "," if kind == "srt" else "."
    blocks = []
    for number, line in enumerate(hearing.lines, 1):
        times = f"{clock(line.start, separator=mark)} --> {clock(line.end, separator=mark)}"
        text = line.text if kind == "srt" or line.voice is None else f"<v {line.voice}>{line.text}"
        blocks.append(f"{number}\n{times}\n{text}\n")
    return ("" if kind == "srt" else "WEBVTT\n\n") + "\n".join(blocks)
