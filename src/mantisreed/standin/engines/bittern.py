"""`bittern`: is asked in plain words, and booms its answer out bit by bit, without any times.

POST /bittern/boom?pass=KEY
body:    {"wish": "...", "reed": {"kind": "flac", "grains": "BASE64"}, "beat": "events" or "lines"}
answer:  server-sent events, `data: {"puff": "We caught "}`, at the end `data: over`; or the same as
JSON lines
"""

import base64
import binascii
import json
from collections.abc import AsyncIterator

import anyio.to_thread
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Listener

_PUFF = 17  # characters


def routes(listener: Listener, key: str) -> list[BaseRoute]:
    """What it answers."""

    async def boom(request: Request) -> Response:
        if request.query_params.get("pass") != key:
            return JSONResponse({"quiet": "no pass"}, status_code=401)
        try:
            asked = json.loads(await request.body())
            content = base64.b64decode(asked["reed"]["grains"], validate=True)
            if not asked["wish"]:
                return JSONResponse({"quiet": "no wish"}, status_code=422)
            hearing = await anyio.to_thread.run_sync(listener.hear, content)
        except (KeyError, TypeError, ValueError, binascii.Error):
            return JSONResponse({"quiet": "this wish cannot be read"}, status_code=400)
        except RecordingError as error:
            return JSONResponse({"quiet": error.what}, status_code=415)
        as_lines = asked.get("beat") == "lines"
        media = "application/x-ndjson" if as_lines else "text/event-stream"
        return StreamingResponse(_puffs(hearing.text, as_lines=as_lines), media_type=media)

    return [Route("/boom", boom, methods=["POST"])]


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    return f"""\
[engine.bittern]
about = "an instruction and the audio; text only, streamed; times are estimated"
url = "{address}/bittern"
secrets.key = "file:standin.key"

[engine.bittern.accepts]
formats = ["opus", "flac"]
max_duration = "20 min"

[engine.bittern.every]
query.pass = "{{key}}"

[engine.bittern.send]
path = "/boom"

[engine.bittern.send.json]
wish = "Write down what is said, word for word."
reed = {{ kind = "{{format}}", grains = "{{audio|base64}}" }}
beat = "events"

[engine.bittern.errors]
message = "quiet"

[engine.bittern.reply]
format = "events"
text = "puff"
end_mark = "over"

[engine.bittern.profile.lines]
send.json.beat = "lines"
reply.format = "lines"
"""


async def _puffs(text: str, *, as_lines: bool) -> AsyncIterator[str]:
    for start in range(0, max(1, len(text)), _PUFF):
        item = json.dumps({"puff": text[start : start + _PUFF]})
        yield f"{item}\n" if as_lines else f"data: {item}\n\n"
    yield "over\n" if as_lines else "data: over\n\n"
