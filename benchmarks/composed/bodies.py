"""How a stranger wants the sound: raw, in a form, in a document, packed, with digests. All of it is
checked.
"""

import base64
import gzip
import hashlib
import io
import json
import random
import zlib
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

import crc32c
import numpy as np
import soundfile
from starlette.datastructures import FormData, UploadFile
from starlette.requests import Request

from composed.names import Names

Card = dict[str, Any]
_LARGEST_FIELD = 64 * 1024 * 1024


class RefusedError(Exception):
    """A request is not as it has to be; the text says why."""


@dataclass(frozen=True)
class Sound:
    """In which form a stranger takes sound.

    Attributes:
        format: its name on a card.
        rate: samples per second.
        own_name: what this service calls the format.
        content_type: of a body that is nothing but sound.
    """

    format: str
    rate: int
    own_name: str
    content_type: str

    @property
    def accepts(self) -> Card:
        """The table of the card."""
        return {
            "formats": [self.format],
            "sample_rate": self.rate,
            "format_names": {self.format: self.own_name},
        }

    def readable(self, content: bytes) -> bytes:
        """The sound with a header, whatever it came as.

        Raises:
            RefusedError: it is not in this form.
        """
        magic = {
            "flac": b"fLaC",
            "wav": b"RIFF",
            "opus": b"OggS",
            "webm": b"\x1aE\xdf\xa3",
            "wav-mulaw": b"RIFF",
        }
        if self.format in magic:
            if not content.startswith(magic[self.format]):
                raise RefusedError(f"this is no {self.format}: it begins with {content[:8]!r}")
            return content
        samples: Any
        if self.format.startswith("pcm"):
            if len(content) % 2:
                raise RefusedError("half a sample")
            samples = np.frombuffer(content, "<i2" if self.format == "pcm-s16le" else ">i2").astype(
                np.int16
            )
        else:
            raw = {"mulaw": "ULAW", "alaw": "ALAW"}[self.format]
            samples, _ = soundfile.read(
                io.BytesIO(content),
                dtype="int16",
                format="RAW",
                subtype=raw,
                samplerate=self.rate,
                channels=1,
            )
        sink = io.BytesIO()
        soundfile.write(sink, samples, self.rate, format="WAV")
        return sink.getvalue()


_SOUNDS = (
    ("flac", "audio/flac"),
    ("wav", "audio/wav"),
    ("opus", "audio/ogg"),
    ("webm", "audio/webm"),
    ("wav-mulaw", "audio/wav"),
    ("pcm-s16le", "audio/pcm"),
    ("pcm-s16be", "audio/L16"),
    ("mulaw", "audio/PCMU"),
    ("alaw", "audio/PCMA"),
)


def sound(chance: random.Random, names: Names) -> Sound:
    """Any form of sound."""
    form, content_type = chance.choice(_SOUNDS)
    if form in ("opus", "webm"):
        rates = (8000, 16000, 24000, 48000)
    else:
        rates = (8000, 16000, 22050, 44100)
    return Sound(form, chance.choice(rates), names.new(), content_type)


@dataclass
class Carrier:
    """How the sound is carried.

    Attributes:
        kind: a word for people.
        step: what it adds to the step of the card.
        read: takes the sound out of a request, as it came; strict.
        card: what it adds to the card besides.
    """

    kind: str
    step: Card
    read: Callable[[Request, bytes], Awaitable[bytes]]
    card: Card = field(default_factory=dict)


def _wanted(given: object, wanted: object, what: str) -> None:
    if given != wanted:
        raise RefusedError(f"{what}: expected {wanted!r}, found {given!r}")


def carrier(chance: random.Random, names: Names, form: Sound) -> Carrier:
    """Any way of carrying sound."""
    made = chance.choice((_raw, _raw, _form, _form, _json, _json, _urlencoded))(chance, names, form)
    if chance.random() < 0.4 and made.kind.startswith("raw"):
        _add_digest(made, chance, names)
    if chance.random() < 0.3:
        _add_extras(made, chance, names)
    return made


def _raw(chance: random.Random, names: Names, form: Sound) -> Carrier:
    query, is_packed = names.new(), chance.random() < 0.3
    own_type = chance.choice((None, "application/octet-stream", f"audio/x-{names.plain()}"))

    async def read(request: Request, body: bytes) -> bytes:
        _wanted(request.query_params.get(query), "en", query)
        kind = request.headers.get("content-type", "").partition(";")[0]
        _wanted(kind, own_type or form.content_type, "Content-Type")
        if is_packed:
            _wanted(request.headers.get("content-encoding"), "gzip", "Content-Encoding")
            return gzip.decompress(body)
        return body

    step: Card = {"raw": "{audio}", "query": {query: "{language}"}}
    if own_type:
        step["content_type"] = own_type
    if is_packed:
        step["gzip"] = True
    return Carrier("raw/gzip" if is_packed else "raw", step, read)


def _form(chance: random.Random, names: Names, form: Sound) -> Carrier:
    file, tongue, config, words = names.new(), names.new(), names.new(), names.new()
    file_type, as_json = chance.random() < 0.4, chance.random() < 0.5
    deep, flag, optional = names.new(), names.new(), names.new()

    async def read(request: Request, body: bytes) -> bytes:
        async with request.form() as fields:
            return await checked(fields)

    async def checked(fields: FormData) -> bytes:
        upload = fields.get(file)
        if not isinstance(upload, UploadFile):
            raise RefusedError(f"part {file} is no file")
        _wanted(
            upload.content_type,
            "application/x-sound" if file_type else form_type(form),
            f"type of {file}",
        )
        _wanted(bool(upload.filename), True, "file name")
        if as_json:
            part = fields.get(config)
            if isinstance(part, UploadFile):
                _wanted(part.content_type, "application/json", f"type of {config}")
                text = (await part.read()).decode()
            else:
                text = str(part)
            _wanted(
                json.loads(text),
                {deep: {tongue: "en"}, flag: True, words: ["dunlin", "knot"]},
                config,
            )
        else:
            _wanted(fields.get(tongue), "en", tongue)
            _wanted(fields.getlist(words), ["dunlin", "knot"], words)
            _wanted(fields.get(flag), "true", flag)
        if optional in fields:
            raise RefusedError(f"{optional} is empty: leave it out")
        return await upload.read()

    parts: Card = {
        file: {"value": "{audio}", "content_type": "application/x-sound"}
        if file_type
        else "{audio}"
    }
    if as_json:
        document = {
            deep: {tongue: "{language}", optional: "{target}"},
            flag: True,
            words: "{hints}",
        }
        parts[config] = {"json": document, "content_type": "application/json"}
    else:
        parts |= {tongue: "{language}", words: "{hints}", flag: "true", optional: "{target}"}
    return Carrier("form/json" if as_json else "form", {"form": parts}, read)


def form_type(form: Sound) -> str:
    """The content type of the sound at its rate."""
    if form.format == "pcm-s16be":
        return f"audio/L16;rate={form.rate};channels=1"
    if form.format in ("mulaw", "alaw"):
        return f"{form.content_type};rate={form.rate}"
    return form.content_type


def _json(chance: random.Random, names: Names, form: Sound) -> Carrier:
    outer, content, kind, rate, tongue, words, seconds = (names.new() for _ in range(7))
    as_uri, as_list = chance.random() < 0.4, chance.random() < 0.3
    optional = names.new()

    async def read(request: Request, body: bytes) -> bytes:
        given = json.loads(body)
        inside = given.pop(outer)
        text = inside.pop(content)
        _wanted(inside, {kind: form.own_name, rate: form.rate}, outer)
        length = given.pop(seconds)
        if not isinstance(length, (int, float)) or not 1 < length < 120:
            raise RefusedError(f"{seconds}: {length!r}")
        _wanted(
            given, {tongue: ["en"] if as_list else "en", words: ["dunlin", "knot"]}, "the document"
        )
        prefix = f"data:{form_type(form)};base64,"
        if as_uri:
            _wanted(text[: len(prefix)], prefix, content)
            text = text[len(prefix) :]
        return base64.b64decode(text, validate=True)

    if as_uri:
        sound_text = "data:{content_type};base64,{audio|base64}"
    else:
        sound_text = "{audio|base64}"
    document = {
        outer: {content: sound_text, kind: "{format}", rate: "{sample_rate}"},
        tongue: ["{language}"] if as_list else "{language}",
        words: "{hints}",
        seconds: "{duration}",
        optional: {names.new(): "{target}"},
    }
    return Carrier("json/uri" if as_uri else "json", {"json": document}, read)


def _urlencoded(chance: random.Random, names: Names, form: Sound) -> Carrier:
    content, tongue, size = names.new(), names.new(), names.new()

    async def read(request: Request, body: bytes) -> bytes:
        async with request.form(max_part_size=_LARGEST_FIELD) as fields:
            _wanted(fields.get(tongue), "en", tongue)
            found = base64.b64decode(str(fields.get(content)), validate=True)
            _wanted(fields.get(size), str(len(found)), size)
            return found

    fields = {content: "{audio|base64}", tongue: "{language}", size: "{audio_size}"}
    return Carrier("urlencoded", {"urlencoded": fields}, read)


def _crc(body: bytes) -> bytes:
    return crc32c.crc32c(body).to_bytes(4, "big")


_DIGESTS: dict[str, Callable[[bytes], bytes]] = {
    "md5": lambda body: hashlib.md5(body, usedforsecurity=False).digest(),
    "sha256": lambda body: hashlib.sha256(body).digest(),
    "crc32c": _crc,
    "crc32": lambda body: zlib.crc32(body).to_bytes(4, "big"),
}


def _add_digest(made: Carrier, chance: random.Random, names: Names) -> None:
    """A digest of the sound in a header."""
    header, kind = names.header(), chance.choice(sorted(_DIGESTS))
    encoding, read = chance.choice(("hex", "base64")), made.read

    async def checked(request: Request, body: bytes) -> bytes:
        found = await read(request, body)
        digest = _DIGESTS[kind](found)
        if encoding == "hex":
            wanted = digest.hex()
        else:
            wanted = base64.b64encode(digest).decode()
        _wanted(request.headers.get(header), f"{kind}={wanted}", header)
        return found

    made.step.setdefault("headers", {})[header] = f"{kind}={{audio|{kind}|{encoding}}}"
    made.read = checked
    made.kind += f"+{kind}"


def _add_extras(made: Carrier, chance: random.Random, names: Names) -> None:
    """A header with a random number, a query parameter that comes twice, and the name of the
    recording.
    """
    nonce, listed, origin, read = names.header(), names.new(), names.header(), made.read

    async def checked(request: Request, body: bytes) -> bytes:
        if len(request.headers.get(nonce, "")) < 16:
            raise RefusedError(f"{nonce} is no random number")
        _wanted(request.query_params.getlist(listed), ["mud", "tide"], listed)
        if request.headers.get(origin) not in ("note", "copy"):
            raise RefusedError(f"{origin}: {request.headers.get(origin)}")
        return await read(request, body)

    made.step.setdefault("headers", {}).update({nonce: "{nonce}", origin: "{recording.stem}"})
    made.step.setdefault("query", {})[listed] = ["mud", "tide"]
    made.read = checked
    made.kind += "+extras"
