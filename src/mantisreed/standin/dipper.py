"""`dipper`: upload first, start a job with what the upload gave, ask until it is done, fetch the catch elsewhere.

    POST /dipper/tokens         client-credentials grant: client `wader`, the key as secret; a token lasts 600 s
    POST /dipper/pebbles        Authorization: Bearer TOKEN, raw bytes -> 201, Location: /pebbles/ID
    POST /dipper/dives          {"pebble": "/pebbles/ID", "tongue": "en"} -> 202 {"dive": "ID"}
    GET  /dipper/dives/ID       {"mood": "perched" | "under" | "surfaced" | "drowned", "because": "...",
                                 "catch": "/catches/ID"}
    GET  /dipper/catches/ID     {"voices": [{"who": 1, "begins": 500, "ends": 3100, "line": "...",
                                             "parts": [{"part": "Good", "begins": 500, "ends": 800}]}]}

Times are milliseconds; the same voice has the same number. A dive takes three looks.
"""

import base64
import secrets
from typing import Any
from urllib.parse import parse_qs

import anyio.to_thread
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Hearing, Listener

CLIENT = "wader"
_LOOKS = 3


def routes(listener: Listener, key: str) -> list[BaseRoute]:
    """What it answers."""
    return _Dipper(listener, key).routes()


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    return f"""\
[engine.dipper]
about = "upload, start, ask, fetch; a token first; speakers are told apart"
address = "{address}/dipper"
secrets.key = "file:standin.key"
values.client = "{CLIENT}"

[engine.dipper.accepts]
formats = ["flac", "mp3"]

[engine.dipper.token]
address = "{address}/dipper/tokens"
client = "{{client}}"
secret = "{{key}}"
scope = "dive"

[engine.dipper.every]
bearer = "{{token}}"

[engine.dipper.upload]
path = "/pebbles"
raw = "{{audio}}"
take.pebble = "header:Location"

[engine.dipper.send]
path = "/dives"
json = {{ pebble = "{{pebble}}", tongue = "{{language}}" }}
take.dive = "dive"

[engine.dipper.poll]
path = "/dives/{{dive}}"
state = "mood"
waiting = ["perched", "under"]
done = ["surfaced"]
failed = ["drowned"]
reason = "because"
every = "100 ms"
slowest = "10 s"
take.catch = "catch"

[engine.dipper.fetch]
path = "{{catch}}"

[engine.dipper.reply]
times = "ms"

[engine.dipper.reply.passages]
each = "voices"
text = "line"
speaker = "who"
start = "begins"
end = "ends"

[engine.dipper.reply.words]
each = "parts"
text = "part"
start = "begins"
end = "ends"
"""


class _Dipper:
    def __init__(self, listener: Listener, key: str) -> None:
        self._listener = listener
        self._key = key
        self._tokens: set[str] = set()
        self._pebbles: dict[str, bytes] = {}
        self._dives: dict[str, dict[str, Any]] = {}

    def routes(self) -> list[BaseRoute]:
        return [
            Route("/tokens", self._token, methods=["POST"]),
            Route("/pebbles", self._pebble, methods=["POST"]),
            Route("/dives", self._dive, methods=["POST"]),
            Route("/dives/{dive}", self._look),
            Route("/catches/{dive}", self._catch),
        ]

    async def _token(self, request: Request) -> Response:
        fields = parse_qs((await request.body()).decode())
        expected = f"Basic {base64.b64encode(f'{CLIENT}:{self._key}'.encode()).decode()}"
        if request.headers.get("authorization") != expected or fields.get("grant_type") != ["client_credentials"]:
            return JSONResponse({"error": "invalid_client"}, status_code=401)
        token = secrets.token_urlsafe(16)
        self._tokens.add(token)
        return JSONResponse({"access_token": token, "token_type": "Bearer", "expires_in": 600})

    def _refused(self, request: Request) -> Response | None:
        token = request.headers.get("authorization", "").removeprefix("Bearer ")
        return None if token in self._tokens else JSONResponse({"because": "wet token"}, status_code=401)

    async def _pebble(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        name = f"/pebbles/{secrets.token_hex(6)}"
        self._pebbles[name] = await request.body()
        return Response(status_code=201, headers={"Location": name})

    async def _dive(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        asked = await request.json()
        content = self._pebbles.pop(asked.get("pebble", ""), None)
        if content is None:
            return JSONResponse({"because": "no such pebble"}, status_code=404)
        name = secrets.token_hex(6)
        self._dives[name] = {"content": content, "tongue": asked.get("tongue"), "looks": 0}
        return JSONResponse({"dive": name}, status_code=202)

    async def _look(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        dive = self._dives.get(request.path_params["dive"])
        if dive is None:
            return JSONResponse({"because": "no such dive"}, status_code=404)
        dive["looks"] += 1
        if dive["looks"] < _LOOKS:
            return JSONResponse({"mood": ("perched", "under")[dive["looks"] > 1]})
        try:
            dive["heard"] = await anyio.to_thread.run_sync(self._listener.hear, dive["content"], dive["tongue"])
        except RecordingError as error:
            return JSONResponse({"mood": "drowned", "because": error.what})
        return JSONResponse({"mood": "surfaced", "catch": f"/catches/{request.path_params['dive']}"})

    async def _catch(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        dive = self._dives.get(request.path_params["dive"], {})
        if "heard" not in dive:
            return JSONResponse({"because": "nothing caught yet"}, status_code=404)
        return JSONResponse(_voices(dive["heard"]))


def _voices(hearing: Hearing) -> dict[str, Any]:
    numbers = {voice: number for number, voice in enumerate(dict.fromkeys(line.voice for line in hearing.lines), 1)}
    return {
        "voices": [
            {
                "who": numbers[line.voice],
                "begins": round(line.start * 1000),
                "ends": round(line.end * 1000),
                "line": line.text,
                "parts": [
                    {"part": word.text, "begins": round(word.start * 1000), "ends": round(word.end * 1000)}
                    for word in line.words
                ],
            }
            for line in hearing.lines
        ]
    }
