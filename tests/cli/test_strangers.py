"""Cards speak to services that nobody has seen: whatever a seed composes, the transcript is what
was said.
"""

import tomllib
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest
from starlette.applications import Starlette

from composed.stranger import Stranger, mounted
from composed.trying import KEY_VARIABLE, Ended, faults_of
from conftest import Command, Note
from mantisreed.cards.describing import described_card
from mantisreed.engines.card_checks import read_cards
from mantisreed.standin import server
from mantisreed.standin.hearing import Listener

SEEDS = range(1000, 1020)


@pytest.fixture(scope="module")
def strangers(listener: Listener) -> dict[int, Stranger]:
    return {seed: Stranger(seed, listener, f"salt-{seed}-marsh") for seed in SEEDS}


@pytest.fixture(scope="module")
def where(strangers: dict[int, Stranger]) -> Iterator[str]:
    application = Starlette(routes=mounted(list(strangers.values())))
    with server.bound_socket(0) as waiting, server.serving(application, waiting) as address:
        yield address


@pytest.mark.parametrize("seed", SEEDS)
def test_a_stranger_is_understood_to_the_millisecond(
    mantisreed: Command,
    strangers: dict[int, Stranger],
    where: str,
    note: Note,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    seed: int,
) -> None:
    stranger = strangers[seed]
    monkeypatch.setenv(KEY_VARIABLE, stranger.key)

    def run(arguments: Sequence[str]) -> Ended:
        result = mantisreed(*arguments)
        return Ended(result.returncode, result.stdout, result.stderr)

    assert faults_of(stranger, where, note.path, tmp_path, run) == [], stranger.kind
    kept = b"".join(
        file.read_bytes() for file in (tmp_path / ".mantisreed").rglob("*") if file.is_file()
    )
    assert stranger.key.encode() not in kept


def test_a_card_that_is_shown_is_the_card_that_was_read(listener: Listener) -> None:
    for seed in range(100):
        stranger = Stranger(seed, listener, "key")
        table = tomllib.loads(stranger.card("http://marsh.example"))["engine"][stranger.name]
        card = read_cards(stranger.name, table, "the card")[stranger.name, None]
        shown = described_card(card)
        again = read_cards(
            stranger.name, tomllib.loads(shown)["engine"][stranger.name], "the shown card"
        )
        assert described_card(again[stranger.name, None]) == shown
        for key in ("every", "send", "steps", "login", "token", "sign", "reply", "batch"):
            assert getattr(again[stranger.name, None], key) == getattr(card, key), (seed, key)


def test_seeds_compose_every_ability(listener: Listener) -> None:
    kinds = " ".join(Stranger(seed, listener, "key").kind for seed in range(200))
    for ability in (
        *(
            "at once",
            "job/body",
            "job/header",
            "job/text",
            "uploaded",
            "chunked/header",
            "chunked/body",
            "batch",
        ),
        *(
            "conversation",
            "bearer",
            "basic",
            "credentials",
            "login/cookie",
            "login/body",
            "login/header",
            "/refused/",
        ),
        *(
            "signature/sha256",
            "signature/sha512",
            "raw/gzip",
            "form/json",
            "json/uri",
            "urlencoded",
            "+md5",
            "+crc32c",
        ),
        *(
            "json nested",
            "xml",
            "lines",
            "events",
            "csv",
            "ctm",
            "srt",
            "vtt",
            "ttml",
            "text",
            "side by side",
            "tokens",
        ),
        *(
            "moment",
            "samples",
            "iso8601",
            "clock",
            "suffixed",
            "20 ms",
            "only length",
            "relative",
            "speaker turns",
        ),
        *(
            "percent",
            "negative log",
            "inside base64",
            "zip",
            "gzip",
            "pages link",
            "pages token",
            "pages offset",
        ),
        *(
            "then redirect",
            "then link",
            "mood hidden",
            "mood broken",
            "marks untimed",
            "events pattern",
            "mulaw",
            "alaw",
        ),
    ):
        assert ability in kinds, ability
