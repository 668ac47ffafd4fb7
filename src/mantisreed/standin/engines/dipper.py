"""`dipper`: upload first, start a job with what the upload gave, ask until it is done, fetch the
catch elsewhere.

    POST /dipper/tokens      client-credentials grant: client `wader`, the key as secret; a token
                             lasts 600 s
    POST /dipper/pebbles     Authorization: Bearer TOKEN, raw bytes -> 201, Location: /pebbles/ID
    POST /dipper/dives       {"pebble": "/pebbles/ID", "tongue": "en", "knot": "...",
                              "ring": "http://...", "carry": false} -> 202 {"dive": "ID"}
    GET  /dipper/knots/KNOT  {"dive": "ID"}, or 404: the dive that was asked for with this knot
    DELETE /dipper/dives/ID  204
    GET  /dipper/dives/ID    {"mood": "perched" | "under" | "surfaced" | "drowned",
                              "because": "...", "catch": "/catches/ID"}
    POST /dipper/rise        204: all dives that take long end now; no token needed
    GET  /dipper/catches/ID  {"voices": [{"who": 1, "begins": 500, "ends": 3100, "line": "...",
                              "parts": [{"part": "Good", "begins": 500, "ends": 800}]}]}

Times are milliseconds; the same voice has the same number. A dive takes three looks, or as long as
the fault profile says. When it has ended, the address in `ring` is called, signed after Standard
Webhooks: a POST with {"dive": "ID", "mood": "..."}, or with the catch itself if asked to `carry`
it.
"""

import asyncio
import base64
import contextlib
import hashlib
import hmac
import json
import random
import secrets
import time
from typing import Any
from urllib.parse import parse_qs

import aiohttp
import anyio.to_thread
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Hearing, Listener

CLIENT = "wader"
_LOOKS = 3  # at a job before it is done


def routes(listener: Listener, key: str, profile: FaultProfile | None = None) -> list[BaseRoute]:
    """What it answers."""
    return _Dipper(listener, key, profile or FaultProfile()).routes()


def bell(key: str) -> str:
    """The secret with which it signs its calls, made from its key."""
    return f"whsec_{base64.b64encode(hashlib.sha256(key.encode()).digest()).decode()}"


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    return f"""\
[engine.dipper]
about = "upload, start, ask, fetch; a token first; speakers are told apart"
url = "{address}/dipper"
secrets.key = "file:standin.key"
secrets.bell = "file:standin.bell"
values.client = "{CLIENT}"

[engine.dipper.accepts]
formats = ["flac", "mp3"]

[engine.dipper.token]
url = "{address}/dipper/tokens"
client = "{{client}}"
secret = "{{key}}"
scope = "dive"

[engine.dipper.every]
bearer = "{{token}}"

[engine.dipper.steps.upload]
path = "/pebbles"
raw = "{{audio}}"
take.pebble = "header:Location"

[engine.dipper.steps.start]
path = "/dives"
json.pebble = "{{pebble}}"
json.tongue = "{{language}}"
json.knot = "{{request_id}}"
json.ring = "{{callback}}"
take.dive = "dive"

[engine.dipper.lookup]
path = "/knots/{{request_id}}"
take.dive = "dive"

[engine.dipper.cancel]
path = "/dives/{{dive}}"

[engine.dipper.callback]
secret = "{{bell}}"

[engine.dipper.steps.ask]
path = "/dives/{{dive}}"
state = "mood"
waiting = ["perched", "under"]
done = ["surfaced"]
failed = ["drowned"]
reason = "because"
interval = "100 ms"
max_interval = "10 s"
take.catch = "catch"

[engine.dipper.steps.fetch]
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

[engine.dipper.profile.carrier]
steps.start.json.carry = "yes"
callback.brings = "reply"
"""


class _Dipper:
    def __init__(self, listener: Listener, key: str, profile: FaultProfile) -> None:
        self._profile = profile
        self._chance = random.Random(profile.seed)  # noqa: S311 - nothing is kept secret with it
        self._knots: dict[str, str] = {}
        self._calling: set[asyncio.Task[None]] = set()
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
            Route("/dives/{dive}", self._look, methods=["GET"]),
            Route("/dives/{dive}", self._surface, methods=["DELETE"]),
            Route("/knots/{knot}", self._knot),
            Route("/rise", self._rise, methods=["POST"]),
            Route("/catches/{dive}", self._catch),
        ]

    async def _token(self, request: Request) -> Response:
        fields = parse_qs((await request.body()).decode())
        expected = f"Basic {base64.b64encode(f'{CLIENT}:{self._key}'.encode()).decode()}"
        if request.headers.get("authorization") != expected or fields.get("grant_type") != [
            "client_credentials"
        ]:
            return JSONResponse({"error": "invalid_client"}, status_code=401)
        token = secrets.token_urlsafe(16)
        self._tokens.add(token)
        return JSONResponse({"access_token": token, "token_type": "Bearer", "expires_in": 600})

    def _refused(self, request: Request) -> Response | None:
        token = request.headers.get("authorization", "").removeprefix("Bearer ")
        if token in self._tokens:
            return None
        return JSONResponse({"because": "wet token"}, status_code=401)

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
        end = self._end()
        self._dives[name] = dive = {
            "content": content,
            "tongue": asked.get("tongue"),
            "looks": 0,
            "end": end,
        }
        dive["listening"] = asyncio.Lock()
        dive["until"] = time.monotonic() + self._profile.queue
        dive["ring"], dive["carry"] = asked.get("ring"), asked.get("carry") == "yes"
        if knot := asked.get("knot"):
            self._knots[knot] = name
        if dive["ring"] and self._profile.calls == "early":
            await self._ring(name)
        elif dive["ring"] and self._profile.calls != "never":
            calling = asyncio.create_task(self._ring(name))
            self._calling.add(calling)
            calling.add_done_callback(self._calling.discard)
        if end == "lost":
            del self._dives[name]
        return JSONResponse({"dive": name}, status_code=202)

    def _end(self) -> str:
        """How a new dive will end."""
        chance = self._chance.random()
        if chance < self._profile.failing:
            return "drowned"
        return "lost" if chance < self._profile.failing + self._profile.losing else "surfaced"

    async def _ring(self, name: str) -> None:
        dive = self._dives[name]
        await asyncio.sleep(max(0.0, dive["until"] - time.monotonic()))
        mood = await self._mood(dive)
        body = {"dive": name, "mood": mood}
        if dive["carry"] and mood == "surfaced":
            body = _voices(dive["heard"])
        content = json.dumps(body).encode()
        async with aiohttp.ClientSession() as session:
            call = f"call_{secrets.token_hex(8)}"
            for _ in range(2 if self._profile.calls == "twice" else 1):
                headers = _signed(bell(self._key), call, content)
                # An engine whose call nobody takes does nothing about it.
                with contextlib.suppress(aiohttp.ClientError, TimeoutError):  # see above
                    await session.post(dive["ring"], data=content, headers=headers)

    async def _mood(self, dive: dict[str, Any]) -> str:
        if dive["end"] == "drowned":
            dive["because"] = "a wave took it"
            return "drowned"
        async with dive["listening"]:
            if "heard" in dive:
                return "surfaced"
            try:
                dive["heard"] = await anyio.to_thread.run_sync(
                    self._listener.hear, dive["content"], dive["tongue"]
                )
            except RecordingError as error:
                dive["end"], dive["because"] = "drowned", error.what
                return "drowned"
        return "surfaced"

    async def _surface(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        self._dives.pop(request.path_params["dive"], None)
        return Response(status_code=204)

    async def _rise(self, request: Request) -> Response:
        for dive in self._dives.values():
            dive["until"] = time.monotonic()
        return Response(status_code=204)

    async def _knot(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        dive = self._knots.get(request.path_params["knot"])
        if dive not in self._dives:
            return JSONResponse({"because": "no such knot"}, status_code=404)
        return JSONResponse({"dive": dive})

    async def _look(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        dive = self._dives.get(request.path_params["dive"])
        if dive is None:
            return JSONResponse({"because": "no such dive"}, status_code=404)
        dive["looks"] += 1
        is_early = (
            time.monotonic() < dive["until"] if self._profile.queue else dive["looks"] < _LOOKS
        )
        if is_early and "heard" not in dive:
            return JSONResponse({"mood": ("perched", "under")[dive["looks"] > 1]})
        if await self._mood(dive) == "drowned":
            return JSONResponse({"mood": "drowned", "because": dive["because"]})
        return JSONResponse(
            {"mood": "surfaced", "catch": f"/catches/{request.path_params['dive']}"}
        )

    async def _catch(self, request: Request) -> Response:
        if refused := self._refused(request):
            return refused
        dive = self._dives.get(request.path_params["dive"], {})
        if "heard" not in dive:
            return JSONResponse({"because": "nothing caught yet"}, status_code=404)
        return JSONResponse(_voices(dive["heard"]))


def _signed(secret: str, call: str, content: bytes) -> dict[str, str]:
    """The headers of a call, after https://www.standardwebhooks.com."""
    moment = str(int(time.time()))
    key = base64.b64decode(secret.removeprefix("whsec_"))
    signed = hmac.digest(key, f"{call}.{moment}.".encode() + content, "sha256")
    return {
        "webhook-id": call,
        "webhook-timestamp": moment,
        "webhook-signature": f"v1,{base64.b64encode(signed).decode()}",
        "Content-Type": "application/json",
    }


def _voices(hearing: Hearing) -> dict[str, Any]:
    numbers = {
        voice: number
        for number, voice in enumerate(dict.fromkeys(line.voice for line in hearing.lines), 1)
    }
    return {
        "voices": [
            {
                "who": numbers[line.voice],
                "begins": round(line.start * 1000),
                "ends": round(line.end * 1000),
                "line": line.text,
                "parts": [
                    {
                        "part": word.text,
                        "begins": round(word.start * 1000),
                        "ends": round(word.end * 1000),
                    }
                    for word in line.words
                ],
            }
            for line in hearing.lines
        ]
    }
