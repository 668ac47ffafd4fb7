"""`heron`: takes raw bytes, with account and shore in the address and the key in a header of its
own.

    POST /heron/ACCOUNT/SHORE/calls?tongue=en   X-Feather: KEY   Content-Type: audio/...
    answer:   {"sightings": [{"readings": [{"script": "...", "trust": 0.9, "marks": [
                  {"glyph": "Good", "at": 0.5, "gone": 0.8, "trust": 0.93}]}, {"script": "..."}]}]}
    trouble:  {"fault": {"note": "..."}} with status 403, 404 or 415

Each sighting holds its readings, the likeliest first; only the first has marks. Times are seconds.
"""

from typing import Any

import anyio.to_thread
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Listener
from mantisreed.standin.lines import Line

ACCOUNT, SHORES = "marsh-station", ("north", "south")


def routes(listener: Listener, key: str) -> list[BaseRoute]:
    """What it answers."""

    async def calls(request: Request) -> JSONResponse:
        if request.headers.get("x-feather") != key:
            return _fault(403, "no such feather")
        account, shore = request.path_params["account"], request.path_params["shore"]
        if account != ACCOUNT or shore not in SHORES:
            return _fault(404, f"account {account!r} has no heron on the {shore!r} shore")
        try:
            content = await request.body()
            hearing = await anyio.to_thread.run_sync(
                listener.hear, content, request.query_params.get("tongue")
            )
        except RecordingError as error:
            return _fault(415, error.what)
        return JSONResponse({"sightings": list(map(_sighting, hearing.lines))})

    return [Route("/{account}/{shore}/calls", calls, methods=["POST"])]


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    known = "\n".join(f'{tongue} = "{tongue}"' for tongue in listener.tongues)
    return f"""\
[engine.heron]
about = "raw bytes; account and region in the address; ranked alternatives"
url = "{address}/heron/{{account}}/{{shore}}"
secrets.feather = "file:standin.key"
values.account = "{ACCOUNT}"
values.shore = "north"

[engine.heron.accepts]
formats = ["opus", "flac"]
max_duration = "2 h"

[engine.heron.price]
per_minute = 0.009
currency = "credits"

[engine.heron.accepts.languages]
{known}

[engine.heron.every]
headers.X-Feather = "{{feather}}"

[engine.heron.send]
path = "/calls"
query.tongue = "{{language}}"
raw = "{{audio}}"

[engine.heron.errors]
message = "fault.note"

[engine.heron.reply.passages]
each = "sightings"
text = "readings[0].script"
alternatives = "readings[1:].script"

[engine.heron.reply.words]
each = "readings[0].marks"
text = "glyph"
start = "at"
end = "gone"
confidence = "trust"

[engine.heron.profile.south]
values.shore = "south"
"""


def _sighting(line: Line) -> dict[str, Any]:
    marks = [
        {
            "glyph": word.text,
            "at": round(word.start, 3),
            "gone": round(word.end, 3),
            "trust": round(word.confidence, 3),
        }
        for word in line.words
    ]
    bare = line.text.lower().rstrip(".!?")
    others = [{"script": bare}, {"script": bare.rpartition(" ")[0]}]
    first = {"script": line.text, "trust": round(line.confidence, 3), "marks": marks}
    return {"readings": [first, *(other for other in others if other["script"])]}


def _fault(status: int, note: str) -> JSONResponse:
    return JSONResponse({"fault": {"note": note}}, status_code=status)
