"""`mantisreed init`: a first settings file, with a card to fill in."""

import sys
from dataclasses import dataclass
from pathlib import Path

from mantisreed.cli.console import Console
from mantisreed.errors import InputError
from mantisreed.files import printable, write_new
from mantisreed.learning.proposal import toml_key, toml_value
from mantisreed.settings import SETTINGS_FILE

_TEMPLATE = """\
# Settings of Mantisreed for this folder: `mantisreed docs settings` explains all of them.
[settings]
engine = {engine}
# language = "en"                     # the engine finds it out where nothing is said
# to = ["txt", "srt", "vtt", "json"]  # `mantisreed run --help` lists the formats

# How to speak to the engine: `mantisreed docs engine-cards` explains the keys.
# `mantisreed engines learn request.txt --add {name}` fills the card in from the curl command or
# the OpenAPI document of the engine.
[engine.{key}]
url = {url}
secrets.key = {secret}
every.bearer = "{{key}}"
send.form = {{ file = "{{audio}}", language = "{{language}}" }}
reply.text = "text"
"""


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `init` is asked for; its arguments tell the same."""

    engine: str | None = None
    url: str | None = None
    key: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Write the file; ask for what is not given, where somebody is there to be asked."""
    engine = asked.engine or _answer("Name of the engine", "my-engine")
    url = asked.url or _answer("Its address for a request", "https://speech.example/v1/transcribe")
    key = asked.key or _answer(
        "Where its API key is: env:NAME, file:PATH or keyring:NAME", "env:SPEECH_KEY"
    )
    if not key.startswith(("env:", "file:", "keyring:")):
        raise InputError(
            "the settings never hold a key",
            where="--key",
            advice="name its place: env:NAME, file:PATH or keyring:NAME",
        )
    text = _TEMPLATE.format(
        engine=toml_value(engine),
        name=engine,
        key=toml_key(engine),
        url=toml_value(url),
        secret=toml_value(key),
    )
    file = Path(SETTINGS_FILE)
    try:
        write_new(file, text.encode())
    except FileExistsError as error:
        raise InputError(
            "there are settings already", where=printable(file), advice="mantisreed engines check"
        ) from error
    console.result(f"{printable(file)} is written; next:")
    console.result(f"  mantisreed engines check {engine}       # is the card right?")
    console.result("  mantisreed trust                # allow these settings to use the key")
    console.result(
        f"  mantisreed engines try {engine} --dry-run   # show the request; send nothing"
    )
    console.result("  mantisreed doctor               # is everything there?")
    return 0


def _answer(question: str, default: str) -> str:
    """What somebody at the terminal answers; the default where nobody is there."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return default
    sys.stderr.write(f"{question} [{default}]: ")
    sys.stderr.flush()
    return sys.stdin.readline().strip() or default
