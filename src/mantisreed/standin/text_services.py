"""Stand-ins for text services: a translator, a judge of tone, a digest and a voice, each with a
shape of its own.

    godwit      POST /godwit/renderings   X-Wing: KEY
                {"from": "en", "into": "de", "lines": ["..."]}
                answer: {"lines": [{"line": "..."}], "letters": 31}
                GET /godwit/tongues: {"known": ["de", "en"]}
    turnstone   POST /turnstone/weigh     Bearer KEY    words=...&tongue=en (form)
                answer: <mood><weather>calm</weather><force>2</force><topic>boats</topic></mood>
    sanderling  POST /sanderling/tides    Bearer KEY    the text itself
                answer: 202 {"tide": "ID"}
                GET /sanderling/tides/ID: {"level": "rising"} or {"level": "high"}
                GET /sanderling/tides/ID/shells: the digest
    whimbrel    POST /whimbrel/calls      Basic station:KEY   {"say": "...", "tongue": "en"}
                answer: a WAV file

The translator knows the phrases of the bundled bank, also when a word of them is wrong; anything
else comes back in angle quotes. The voice speaks phrases of the bank and leaves out all else.
"""

import base64
import io
import re
import secrets
from collections import OrderedDict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from xml.sax.saxutils import escape

import numpy as np
import soundfile
from rapidfuzz import fuzz, process
from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, Response
from starlette.routing import BaseRoute, Mount, Route

from mantisreed.audio.decode import SAMPLE_RATE
from mantisreed.standin.bank import Phrase

NAMES = ("godwit", "turnstone", "sanderling", "whimbrel")

_PAIRS = Path(__file__).with_name("tongues.tsv")
_MOST_LETTERS = 600  # that the translator takes at once
_MOST_DIGESTED = 1200  # characters that the digest takes at once
_ALIKE = 80.0  # of 100; from which on a sentence is taken for a phrase
_SENTENCE_END = re.compile(r"(?<=[.!?])\s+")
_KEPT_TIDES = 1000  # jobs that it remembers
_PAUSE = 0.3  # seconds between two phrases that are spoken

_MOODS = {
    "worried": (
        "storm",
        "fog",
        "lost",
        "broken",
        "hole",
        "dead",
        "stronger",
        "thick",
        "fouled",
        "rough",
        "nebel",
    ),
    "glad": (
        "thank",
        "best",
        "first of the season",
        "fresh tea",
        "good condition",
        "best autumn",
        "danke",
        "schön",
    ),
    "busy": ("nets", "bags", "weight", "wing", "ring", "counted", "netze", "beutel", "gewicht"),
}
_TOPICS = {
    "boats": ("boat", "buoy", "anchor", "engine", "hull", "boot"),
    "nets": ("net ", "nets", "netz"),
    "weather": ("wind", "fog", "rain", "storm", "nebel", "regnet"),
    "birds": ("bird", "tern", "dunlin", "wren", "warbler", "vogel", "kiebitz"),
}


def routes(phrases: Sequence[Phrase], key: str) -> list[BaseRoute]:
    """What they answer, each under its own name."""
    made = {
        "godwit": _godwit(key),
        "turnstone": _turnstone(key),
        "sanderling": _sanderling(key),
        "whimbrel": _whimbrel(phrases, key),
    }
    return [Mount(f"/{name}", routes=made[name]) for name in NAMES]


def _godwit(key: str) -> list[BaseRoute]:
    async def renderings(request: Request) -> Response:
        if request.headers.get("x-wing") != key:
            return JSONResponse({"flaw": "no such wing"}, status_code=403)
        asked = await request.json()
        lines, into = list(map(str, asked.get("lines") or ())), str(asked.get("into", ""))
        letters = sum(map(len, lines))
        if into not in tongues():
            return JSONResponse({"flaw": f"{into!r} is no tongue of mine"}, status_code=400)
        if letters > _MOST_LETTERS:
            return JSONResponse({"flaw": f"{letters} letters are too many"}, status_code=413)
        return JSONResponse(
            {"lines": [{"line": rendered(line, into)} for line in lines], "letters": letters}
        )

    async def known(request: Request) -> Response:
        return JSONResponse({"known": tongues()})

    return [Route("/renderings", renderings, methods=["POST"]), Route("/tongues", known)]


def _turnstone(key: str) -> list[BaseRoute]:
    async def weigh(request: Request) -> Response:
        if request.headers.get("authorization") != f"Bearer {key}":
            return Response("<flaw>who is this?</flaw>", 401, media_type="application/xml")
        words = str((await request.form()).get("words", ""))
        mood, force = tone_of(words)
        topics = "".join(f"<topic>{escape(topic)}</topic>" for topic in topics_of(words))
        answer = f"<mood><weather>{mood}</weather><force>{force}</force>{topics}</mood>"
        return Response(answer, media_type="application/xml")

    return [Route("/weigh", weigh, methods=["POST"])]


@dataclass(slots=True)
class _Tides:
    """Digests that are under way: the texts, and how often each was asked for."""

    texts: "OrderedDict[str, str]" = field(default_factory=OrderedDict)
    asked: dict[str, int] = field(default_factory=dict)


def _sanderling(key: str) -> list[BaseRoute]:
    tides = _Tides()

    def is_known(request: Request) -> bool:
        return request.headers.get("authorization") == f"Bearer {key}"

    async def begin(request: Request) -> Response:
        if not is_known(request):
            return PlainTextResponse("not on this beach", 401)
        text = (await request.body()).decode("utf-8", "replace")
        if len(text) > _MOST_DIGESTED:
            return PlainTextResponse("too much for one tide", 413)
        tide = secrets.token_hex(6)
        tides.texts[tide] = text
        while len(tides.texts) > _KEPT_TIDES:
            tides.texts.popitem(last=False)
        return JSONResponse({"tide": tide}, status_code=202)

    async def level(request: Request) -> Response:
        tide = request.path_params["tide"]
        if not is_known(request) or tide not in tides.texts:
            return PlainTextResponse("no such tide", 404)
        tides.asked[tide] = tides.asked.get(tide, 0) + 1
        return JSONResponse({"level": "rising" if tides.asked[tide] < 2 else "high"})

    async def shells(request: Request) -> Response:
        text = tides.texts.get(request.path_params["tide"])
        if not is_known(request) or text is None:
            return PlainTextResponse("no such tide", 404)
        return PlainTextResponse(digest_of(text))

    return [
        Route("/tides", begin, methods=["POST"]),
        Route("/tides/{tide}", level),
        Route("/tides/{tide}/shells", shells),
    ]


def _whimbrel(phrases: Sequence[Phrase], key: str) -> list[BaseRoute]:
    expected = f"Basic {base64.b64encode(f'station:{key}'.encode()).decode()}"

    async def calls(request: Request) -> Response:
        if request.headers.get("authorization") != expected:
            return JSONResponse({"why": "unknown station"}, status_code=401)
        sound = spoken(str((await request.json()).get("say", "")), phrases)
        if sound is None:
            return JSONResponse({"why": "I know no call for that"}, status_code=422)
        return Response(sound, media_type="audio/wav")

    return [Route("/calls", calls, methods=["POST"])]


@lru_cache(maxsize=1)
def _pairs() -> dict[str, str]:
    lines = _PAIRS.read_text(encoding="utf-8").splitlines()
    return dict(line.split("\t") for line in lines if "\t" in line and not line.startswith("#"))


def tongues() -> list[str]:
    """The languages between which the translator goes."""
    return ["de", "en"]


def rendered(line: str, into: str) -> str:
    """A line in another language, sentence by sentence; what is not known is in angle quotes."""
    pairs = _pairs() if into == "de" else {german: english for english, german in _pairs().items()}
    known = set(pairs.values())
    said = []
    for sentence in _SENTENCE_END.split(line.strip()):
        found = _nearest(sentence, pairs)
        if found is not None:
            said.append(pairs[found])
        else:
            said.append(sentence if _nearest(sentence, known) else f"«{sentence}»")
    return " ".join(said)


def _nearest(sentence: str, known: Iterable[str]) -> str | None:
    """The phrase that a sentence is, but for a word or two."""
    found = process.extractOne(sentence, list(known), scorer=fuzz.ratio, score_cutoff=_ALIKE)
    return None if found is None else str(found[0])


def tone_of(text: str) -> tuple[str, int]:
    """The tone of a text, by its words, and its force from 0 to 9."""
    low = text.lower()
    counts = {mood: sum(map(low.count, words)) for mood, words in _MOODS.items()}
    mood, force = max(counts.items(), key=lambda pair: pair[1])
    return (mood, min(9, force)) if force else ("calm", 0)


def topics_of(text: str) -> list[str]:
    """What a text is about, by its words."""
    low = text.lower()
    return [topic for topic, words in _TOPICS.items() if any(word in low for word in words)]


def digest_of(text: str) -> str:
    """The first sentence of a text and its longest one."""
    sentences = [part for part in _SENTENCE_END.split(" ".join(text.split())) if part]
    if not sentences:
        return ""
    chosen = {sentences[0]: None, max(sentences, key=len): None}
    return " ".join(chosen)


def spoken(text: str, phrases: Sequence[Phrase]) -> bytes | None:
    """A text read aloud with the phrases of the bank, as a WAV file; None where none of them is in
    it.
    """
    by_text = {phrase.text: phrase for phrase in phrases}
    pause = np.zeros(round(_PAUSE * SAMPLE_RATE), np.float32)
    parts: list[np.ndarray] = []
    for sentence in _SENTENCE_END.split(" ".join(text.split())):
        found = _nearest(sentence, by_text) if sentence else None
        if found is not None:
            parts += [np.asarray(by_text[found].samples, np.float32), pause]
    if not parts:
        return None
    sink = io.BytesIO()
    soundfile.write(sink, np.concatenate(parts), SAMPLE_RATE, format="WAV", subtype="PCM_16")
    return sink.getvalue()


def cards(address: str) -> str:
    """The cards of all four, as TOML, for stand-ins at this address."""
    return f"""\
[service.godwit]
about = "translator; several lines in one request"
url = "{address}/godwit"
secrets.wing = "file:standin.key"
every.headers.X-Wing = "{{wing}}"
languages = {{ path = "/tongues", reads = "known", writes = "known" }}
accepts = {{ max_characters = {_MOST_LETTERS}, languages = ["en", "de"] }}
price = {{ per_thousand_characters = "0.02", currency = "credits" }}
send.path = "/renderings"
send.json = {{ from = "{{language}}", into = "{{target}}", lines = "{{passages}}" }}
reply.texts = "lines[].line"
errors.message = "flaw"

[service.turnstone]
about = "judge of tone; a form in, XML out"
url = "{address}/turnstone"
secrets.stone = "file:standin.key"
every.bearer = "{{stone}}"
accepts.max_characters = 4000
price = {{ per_thousand_characters = "0.01", currency = "credits" }}
send = {{ path = "/weigh", urlencoded = {{ words = "{{text}}", tongue = "{{language}}" }} }}
reply.format = "xml"
reply.data = {{ tone = "mood.weather", force = "mood.force", topics = "mood.topic[]" }}

[service.sanderling]
about = "digest; takes jobs"
url = "{address}/sanderling"
secrets.sand = "file:standin.key"
every.bearer = "{{sand}}"
accepts.max_characters = {_MOST_DIGESTED}
reply.format = "text"
[service.sanderling.steps.begin]
path = "/tides"
raw = "{{text}}"
content_type = "text/plain; charset=utf-8"
take.tide = "tide"
[service.sanderling.steps.ask]
path = "/tides/{{tide}}"
state = "level"
waiting = ["rising"]
done = ["high"]
interval = "100 ms"
[service.sanderling.steps.fetch]
path = "/tides/{{tide}}/shells"

[service.whimbrel]
about = "voice; speaks phrases of the bank"
url = "{address}/whimbrel"
secrets.call = "file:standin.key"
every.basic = "station:{{call}}"
accepts.max_characters = 800
send = {{ path = "/calls", json = {{ say = "{{text}}", tongue = "{{language}}" }} }}
reply.format = "wav"
errors.message = "why"
"""
