"""Whatever looks random in a request that is learnt from never stands in what is written."""

import base64
import json
import random
import secrets
import string
import uuid

import pytest

from mantisreed.learning.curl import propose_from_curl
from mantisreed.learning.random_values import looks_random

NAMES = (
    *("pass", "pw", "appkey", "sig", "signature", "code", "k", "sid", "license", "X-Session"),
    *("model", "ref", "project", "x", "account", "style", "tag", "format", "id", "context"),
)
PLAIN = (
    *("general-purpose", "medical_conversation", "2026-05-04T05:00:00Z", "detailed-json"),
    *("niceFormatting", "application/json", "linear16-telephony", "2026-05-04-preview"),
    *("en-GB,de-DE,fr-FR", "transcription", "word_marks", "v2beta1/general", "16khz-stereo"),
    *("saltmarsh-notes", "oystercatcher", "diarization-enabled", "Watvogelzählung"),
)


def random_value(chance: random.Random) -> str:
    """A key of one of the shapes that services give out."""
    length = chance.randint(12, 40)
    raw = chance.randbytes(length)
    letters = string.ascii_letters + string.digits
    return chance.choice(
        (
            lambda: raw.hex(),
            lambda: base64.urlsafe_b64encode(raw).decode().rstrip("="),
            lambda: base64.b64encode(raw).decode(),
            lambda: str(uuid.UUID(bytes=chance.randbytes(16))),
            lambda: "".join(chance.choices(letters, k=length)),
            lambda: "".join(chance.choices(string.ascii_lowercase, k=length + 2)),
            lambda: "".join(chance.choices(string.digits, k=length)),
            lambda: f"rk-{''.join(chance.choices(letters, k=length))}",
            lambda: f"eyJhbGciOiJIUzI1NiJ9.{raw.hex()}.{raw[::-1].hex()}",
        )
    )()


def command(chance: random.Random, value: str) -> str:
    """A curl command with a value in one of the places where it can be."""
    name = chance.choice(NAMES)
    url = "https://listen.marsh.example/v2/listen"
    audio = "--data-binary @note.flac"
    form = "-F sound=@note.flac"
    return chance.choice(
        (
            f'curl {url} -H "{name}: {value}" {audio}',
            f'curl {url} -H "Authorization: {value}" {audio}',
            f'curl {url} -H "Cookie: {name}={value}; seen=yes" {audio}',
            f"curl '{url}?{name}={value}&tier=general' {audio}",
            f"curl https://listen.marsh.example/{name}/{value}/listen {audio}",
            f"curl {url} {form} -F {name}={value}",
            f"curl {url} {form} -F '{name}={json.dumps({'a': {name: value}})}'",
            f"curl {url} --json '{json.dumps({'audio': '<base64>', name: [value]})}'",
            f"curl {url} -d audio=AAAA -d {name}={value}",
            f"curl {url} -u {value}:{value[::-1]} {audio}",
            f"curl {url} -H 'Content-Type: text/plain' -d 'go {value}'",
            f"curl {url} --digest -u {name}:{value} {audio}",
        )
    )


@pytest.mark.parametrize("seed", range(30))
def test_no_random_value_stands_in_what_is_written(seed: int) -> None:
    chance = random.Random(seed)
    for _ in range(30):
        value = random_value(chance)
        text = command(chance, value)
        proposal = propose_from_curl(text, "marsh")
        written = proposal.toml + "\n".join(proposal.notes)
        assert value not in written and value[::-1] not in written, text


@pytest.mark.parametrize("word", PLAIN)
def test_what_is_plainly_an_option_is_kept(word: str) -> None:
    assert not looks_random(word)


def test_keys_of_this_machines_own_making_look_random() -> None:
    made = (secrets.token_hex(12), secrets.token_urlsafe(16), str(uuid.uuid4()))
    assert all(map(looks_random, made))
