"""`brook`: takes a multipart form and answers at once, in JSON of its own shape, in another
language if asked to.

    POST /brook/listen   Authorization: Bearer KEY
    POST /brook/render   the same, with the field `into`
    form fields:   sound (the file), creek (a model, "shallow" or "deep"), tongue (a language;
                   may be left out)
    answer:        {"tongue": "en", "lasts": 20.0, "says": "...", "stretches": [
                       {"from": 0.5, "till": 3.1, "says": "...", "words": [
                           {"w": "Good", "from": 0.5, "till": 0.8, "sure": 0.93}]}]}
    trouble:       {"trouble": "..."} with status 401, 413, 415 or 422

Times are seconds.
"""

import secrets
from collections.abc import Container
from typing import Any

import anyio.to_thread
from starlette.datastructures import FormData, UploadFile
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import BaseRoute, Route

from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Hearing, Listener

NAME = "brook"
MOST_BYTES = 16 * 1024 * 1024  # of a request, so that long recordings have to be cut
MODELS = ("shallow", "deep")


def routes(listener: Listener, key: str, *, most_bytes: int = MOST_BYTES) -> list[BaseRoute]:
    """What it answers.

    Args:
        listener: what it hears by.
        key: the only bearer key that it lets in.
        most_bytes: size of the sound at most.
    """

    async def listen(request: Request) -> JSONResponse:
        offered = request.headers.get("authorization", "")
        if not secrets.compare_digest(offered.encode(), f"Bearer {key}".encode()):
            return _trouble(401, "this key opens no sluice here")
        async with request.form(max_files=1, max_fields=10) as form:
            sound, tongue, into = form.get("sound"), form.get("tongue"), form.get("into")
            wrong = _wrong_form(form, listener.tongues, most_bytes)
            if wrong is not None:
                return wrong
            assert isinstance(sound, UploadFile)
            content = await sound.read()
        try:
            hearing = await anyio.to_thread.run_sync(
                listener.hear, content, None if tongue is None else str(tongue)
            )
        except RecordingError as error:
            return _trouble(415, f"the sound cannot be read: {error.what}")
        if request.url.path.endswith("/render"):
            hearing = listener.render(hearing, str(into))
        return JSONResponse(_answer(hearing))

    return [Route("/listen", listen, methods=["POST"]), Route("/render", listen, methods=["POST"])]


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML, for stand-ins at this address."""
    known = ", ".join(f'"{tongue}"' for tongue in listener.tongues)
    return f"""\
[engine.brook]
about = "a form with a file; the answer is JSON with passages and words"
url = "{address}/brook"
secrets.key = "file:standin.key"

[engine.brook.accepts]
formats = ["flac", "wav", "opus", "mp3"]
max_bytes = "{MOST_BYTES // 1024**2} MiB"
languages = [{known}]

[engine.brook.price]
per_minute = 0.004
currency = "credits"

[engine.brook.rate_limit]
requests = 120
window = "60 s"

[engine.brook.every]
bearer = "{{key}}"

[engine.brook.send]
path = "/listen"
form.sound = "{{audio}}"
form.creek = "deep"
form.tongue = "{{language}}"

[engine.brook.errors]
message = "trouble"

[engine.brook.reply]
text = "says"
language = "tongue"

[engine.brook.reply.passages]
each = "stretches"
text = "says"
start = "from"
end = "till"

[engine.brook.reply.words]
each = "words"
text = "w"
start = "from"
end = "till"
confidence = "sure"

[engine.brook.profile.quick]
send.form.creek = "shallow"

[engine.brook.task.translate]
send.path = "/render"
send.form.into = "{{target}}"
"""


def _answer(hearing: Hearing) -> dict[str, Any]:
    return {
        "tongue": hearing.tongue,
        "lasts": round(hearing.seconds, 3),
        "says": hearing.text,
        "stretches": [
            {
                "from": round(line.start, 3),
                "till": round(line.end, 3),
                "says": line.text,
                "words": [
                    {
                        "w": word.text,
                        "from": round(word.start, 3),
                        "till": round(word.end, 3),
                        "sure": round(word.confidence, 3),
                    }
                    for word in line.words
                ],
            }
            for line in hearing.lines
        ],
    }


def _wrong_form(form: FormData, tongues: Container[str], most_bytes: int) -> JSONResponse | None:
    """What is wrong with a request; None where nothing is."""
    sound, tongue = form.get("sound"), form.get("tongue")
    if not isinstance(sound, UploadFile):
        return _trouble(422, "the form has no file named sound")
    if form.get("creek") not in MODELS:
        return _trouble(422, f"creek has to be one of {', '.join(MODELS)}")
    # A bank that does not say in which languages its phrases are is heard in any.
    if tongue is not None and tongues and tongue not in tongues:
        return _trouble(422, f"the tongue {tongue!r} is not spoken here")
    if (sound.size or 0) > most_bytes:
        return _trouble(413, f"{sound.size} bytes will not go through; {most_bytes} would")
    return None


def _trouble(status: int, text: str) -> JSONResponse:
    return JSONResponse({"trouble": text}, status_code=status)
