"""`plover`: gets a link instead of the sound, fetches it, and has the reply in the last answer to
"how is it".

    POST /plover/trails     {"trail": "http://...", "tongue": "en"}   X-Band: KEY
                            -> 202 {"steps": "ID"}
    GET  /plover/trails/ID  -> 202 while it walks, then 200 and {"phrases": ["..."], "spoken": [
                                {"s": "Good", "clock": "00:00:00.500", "until": "00:00:00.800"}]}
                            or 410 {"lost": "..."}

Times are clock text.
"""

import secrets
import urllib.error
import urllib.request
from itertools import chain
from typing import Any

import anyio.to_thread
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Hearing, Listener
from mantisreed.units import clock

_MOST_BYTES = 64 * 1024 * 1024  # of a request


def routes(listener: Listener, key: str) -> list[BaseRoute]:
    """What it answers."""
    trails: dict[str, dict[str, Any]] = {}

    async def start(request: Request) -> Response:
        if request.headers.get("x-band") != key:
            return JSONResponse({"lost": "unbanded"}, status_code=401)
        asked = await request.json()
        name = secrets.token_hex(6)
        trails[name] = {"trail": str(asked.get("trail")), "tongue": asked.get("tongue"), "looks": 0}
        return JSONResponse({"steps": name}, status_code=202)

    async def look(request: Request) -> Response:
        if request.headers.get("x-band") != key:
            return JSONResponse({"lost": "unbanded"}, status_code=401)
        trail = trails.get(request.path_params["name"])
        if trail is None:
            return JSONResponse({"lost": "no such trail"}, status_code=404)
        trail["looks"] += 1
        if trail["looks"] == 1:
            return Response(status_code=202)
        try:
            content = await anyio.to_thread.run_sync(_fetched, trail["trail"])
            hearing = await anyio.to_thread.run_sync(listener.hear, content, trail["tongue"])
        except (OSError, ValueError) as error:
            return JSONResponse({"lost": f"the trail ends in water ({error})"}, status_code=410)
        except RecordingError as error:
            return JSONResponse({"lost": error.what}, status_code=410)
        return JSONResponse(_answer(hearing))

    return [Route("/trails", start, methods=["POST"]), Route("/trails/{name}", look)]


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    return f"""\
[engine.plover]
about = "a link to the audio instead of its bytes"
url = "{address}/plover"
secrets.band = "file:standin.key"

[engine.plover.accepts]
formats = ["opus", "mp3"]

[engine.plover.every]
headers.X-Band = "{{band}}"

[engine.plover.steps.start]
path = "/trails"
json = {{ trail = "{{recording_url}}", tongue = "{{language}}" }}
take.steps = "steps"

[engine.plover.steps.ask]
path = "/trails/{{steps}}"
interval = "100 ms"

[engine.plover.errors]
message = "lost"

[engine.plover.reply]
times = "clock"

[engine.plover.reply.words]
each = "spoken"
text = "s"
start = "clock"
end = "until"
"""


def _fetched(link: str) -> bytes:
    if not link.startswith("http://127.0.0.1:"):
        raise ValueError("this plover walks on loopback only")
    with urllib.request.urlopen(link, timeout=20) as answer:  # noqa: S310 - loopback, checked above
        content: bytes = answer.read(_MOST_BYTES)
    return content


def _answer(hearing: Hearing) -> dict[str, Any]:
    words = chain.from_iterable(line.words for line in hearing.lines)
    return {
        "phrases": [line.text for line in hearing.lines],
        "spoken": [
            {"s": word.text, "clock": clock(word.start), "until": clock(word.end)} for word in words
        ],
    }
