"""`brook`: an engine that takes a multipart form and answers at once, in JSON of its own shape.

    POST /listen   Authorization: Bearer KEY
    form fields:   sound (the file), creek (a model, "shallow" or "deep"), tongue (a language; may be left out)
    answer:        {"tongue": "en", "lasts": 20.0, "says": "...", "stretches": [
                       {"from": 0.5, "till": 3.1, "says": "...", "words": [
                           {"w": "Good", "from": 0.5, "till": 0.8, "sure": 0.93}]}]}
    trouble:       {"trouble": "..."} with status 401, 413, 415 or 422

Times are seconds.
"""

import io
import secrets
from collections.abc import Sequence
from typing import Any

import anyio.to_thread
from starlette.applications import Starlette
from starlette.datastructures import UploadFile
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from mantisreed.audio.decode import Decoder
from mantisreed.errors import RecordingError
from mantisreed.standin.ear import EAR_RATE, Ear, HeardPhrase

NAME = "brook"
MOST_BYTES = 16 * 1024 * 1024
MODELS = ("shallow", "deep")


def brook(ear: Ear, languages: Sequence[str], key: str, *, most_bytes: int = MOST_BYTES) -> Starlette:
    """The engine as an ASGI application.

    Args:
        ear: what it hears by.
        languages: the tags it knows.
        key: the only bearer key that it lets in.
        most_bytes: size of the sound at most.
    """

    async def listen(request: Request) -> JSONResponse:
        offered = request.headers.get("authorization", "")
        if not secrets.compare_digest(offered.encode(), f"Bearer {key}".encode()):
            return _trouble(401, "this key opens no sluice here")
        async with request.form(max_files=1, max_fields=10) as form:
            sound, tongue = form.get("sound"), form.get("tongue")
            if not isinstance(sound, UploadFile):
                return _trouble(422, "the form has no file named sound")
            if form.get("creek") not in MODELS:
                return _trouble(422, f"creek has to be one of {', '.join(MODELS)}")
            if tongue is not None and tongue not in languages:
                return _trouble(422, f"the tongue {tongue!r} is not spoken here")
            if (sound.size or 0) > most_bytes:
                return _trouble(413, f"{sound.size} bytes will not go through; {most_bytes} would")
            content = await sound.read()
        try:
            answer = await anyio.to_thread.run_sync(_heard, ear, content, None if tongue is None else str(tongue))
        except RecordingError as error:
            return _trouble(415, f"the sound cannot be read: {error.what}")
        return JSONResponse(answer)

    return Starlette(routes=[Route("/listen", listen, methods=["POST"])])


def card(address: str, languages: Sequence[str]) -> str:
    """The engine card, as TOML, for the engine at this address."""
    known = ", ".join(f'"{language}"' for language in languages)
    return f"""\
[engine.{NAME}]
about = "a stand-in on this machine that hears the phrases of a phrase bank"
address = "{address}"
secrets.key = "file:{NAME}.key"

[engine.{NAME}.accepts]
formats = ["flac", "wav", "opus", "mp3"]
most_bytes = "{MOST_BYTES // 1024**2} MiB"
languages = [{known}]

[engine.{NAME}.price]
per_minute = 0.004
currency = "shells"

[engine.{NAME}.pace]
requests = 120
window = "60 s"
at_once = 4

[engine.{NAME}.send]
path = "/listen"
headers.Authorization = "Bearer {{key}}"
form.sound = "{{audio}}"
form.creek = "deep"
form.tongue = "{{language}}"

[engine.{NAME}.reply]
text = "says"
language = "tongue"

[engine.{NAME}.reply.passages]
each = "stretches"
text = "says"
start = "from"
end = "till"

[engine.{NAME}.reply.words]
each = "words"
text = "w"
start = "from"
end = "till"
confidence = "sure"
"""


def _heard(ear: Ear, content: bytes, tongue: str | None) -> dict[str, Any]:
    decoder = Decoder(io.BytesIO(content), sample_rate=EAR_RATE)
    phrases = ear.listen(decoder, tongue)
    return {
        "tongue": tongue or _spoken_tongue(phrases),
        "lasts": round(decoder.seconds, 3),
        "says": " ".join(_said(phrase) for phrase in phrases),
        "stretches": [
            {
                "from": round(phrase.words[0].start, 3),
                "till": round(phrase.words[-1].end, 3),
                "says": _said(phrase),
                "words": [
                    {
                        "w": word.text,
                        "from": round(word.start, 3),
                        "till": round(word.end, 3),
                        "sure": round(word.confidence, 3),
                    }
                    for word in phrase.words
                ],
            }
            for phrase in phrases
        ],
    }


def _said(phrase: HeardPhrase) -> str:
    return " ".join(word.text for word in phrase.words)


def _spoken_tongue(phrases: Sequence[HeardPhrase]) -> str | None:
    """The language that most phrases are in."""
    tongues = [phrase.phrase.language for phrase in phrases if phrase.phrase.language]
    return max(sorted(set(tongues)), key=tongues.count, default=None)


def _trouble(status: int, text: str) -> JSONResponse:
    return JSONResponse({"trouble": text}, status_code=status)
