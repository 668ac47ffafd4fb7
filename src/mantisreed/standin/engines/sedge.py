"""`sedge`: takes JSON with the sound inside, and gives several forms of the same words.

    POST /sedge/ponder   HTTP basic authentication, user `ringer`, the key as password
    body:     {"sound": {"coding": "FLAC", "pitch": 16000, "ears": 1, "grains": "BASE64"},
               "tongue": "en", "clock": "counted" or "worded", "look_for": ["..."]}
    answer:   {"verdict": "heard", "spans": [{"opens": 500000, "runs": 2600000,
                  "forms": {"aloud": "...", "on_paper": "..."},
                  "bits": [{"opens": ..., "runs": ..., "form": "Good"}]}]}
    silence:  {"verdict": "stillness"}
    trouble:  {"verdict": "mud", "because": "..."} with status 200, or status 401

`opens` and `runs` are an offset and a length, in microseconds or worded as "PT1.500S".
"""

import base64
import binascii
import json
from typing import Any

import anyio.to_thread
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Listener
from mantisreed.standin.lines import Line

USER = "ringer"


def routes(listener: Listener, key: str) -> list[BaseRoute]:
    """What it answers."""
    expected = f"Basic {base64.b64encode(f'{USER}:{key}'.encode()).decode()}"

    async def ponder(request: Request) -> JSONResponse:
        if request.headers.get("authorization") != expected:
            return JSONResponse({"verdict": "stranger"}, status_code=401)
        try:
            asked = json.loads(await request.body())
            sound = asked["sound"]
            content = base64.b64decode(sound["grains"], validate=True)
            if (
                sound["coding"] not in ("FLAC", "OPUS")
                or sound["pitch"] != 16_000
                or sound["ears"] != 1
            ):
                return _mud("the sound has to be FLAC or OPUS, of pitch 16000, for 1 ear")
            hearing = await anyio.to_thread.run_sync(listener.hear, content, asked.get("tongue"))
        except (KeyError, TypeError, ValueError, binascii.Error) as error:
            return _mud(f"this is not the way to ask ({error})")
        except RecordingError as error:
            return _mud(error.what)
        if not hearing.lines:
            return JSONResponse({"verdict": "stillness"})
        worded = asked.get("clock") == "worded"
        return JSONResponse(
            {"verdict": "heard", "spans": [_span(line, worded=worded) for line in hearing.lines]}
        )

    return [Route("/ponder", ponder, methods=["POST"])]


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    return f"""\
[engine.sedge]
about = "JSON with the audio in base64; offset and length; several forms of the text"
url = "{address}/sedge"
secrets.key = "file:standin.key"
values.user = "{USER}"

[engine.sedge.accepts]
formats = ["flac", "opus"]
format_names = {{ flac = "FLAC", opus = "OPUS" }}
max_bytes = "10 MB"

[engine.sedge.price]
per_minute = 0.002
currency = "credits"

[engine.sedge.every]
basic = "{{user}}:{{key}}"

[engine.sedge.send]
path = "/ponder"

[engine.sedge.send.json]
sound.coding = "{{format}}"
sound.pitch = "{{sample_rate}}"
sound.ears = "{{channels}}"
sound.grains = "{{audio|base64}}"
tongue = "{{language}}"
clock = "counted"
look_for = "{{hints}}"

[engine.sedge.errors]
message = "because"
when = "because"
no_speech.when = "verdict == 'stillness'"

[engine.sedge.reply]
times = "us"

[engine.sedge.reply.passages]
each = "spans"
text = "forms.on_paper"
start = "opens"
length = "runs"

[engine.sedge.reply.words]
each = "bits"
text = "form"
start = "opens"
length = "runs"

[engine.sedge.profile.worded]
send.json.clock = "worded"
reply.times = "iso8601"
"""


def _span(line: Line, *, worded: bool) -> dict[str, Any]:
    aloud = "".join(
        character for character in line.text.lower() if character.isalnum() or character == " "
    )
    return {
        **_time(line.start, line.end, worded=worded),
        "forms": {"aloud": aloud, "on_paper": line.text},
        "bits": [
            {**_time(word.start, word.end, worded=worded), "form": word.text} for word in line.words
        ],
    }


def _time(start: float, end: float, *, worded: bool) -> dict[str, Any]:
    if worded:
        return {"opens": f"PT{start:.3f}S", "runs": f"PT{end - start:.3f}S"}
    return {"opens": round(start * 1_000_000), "runs": round((end - start) * 1_000_000)}


def _mud(because: str) -> JSONResponse:
    return JSONResponse({"verdict": "mud", "because": because})
