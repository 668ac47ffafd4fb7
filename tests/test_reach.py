"""Each key of the settings says what it can reach, and whatever is reached is asked for."""

import tomllib
import typing
from collections.abc import Iterator
from pathlib import Path

import msgspec
import pytest

from mantisreed.destinations.rules import FollowUp
from mantisreed.engines.card import EngineCard
from mantisreed.reach import REACHING, REACHING_NOTHING, Reach
from mantisreed.services.card import TextServiceCard
from mantisreed.settings import Callbacks, LedgerPlace, Links, ServeKeys, Settings, StoragePlace
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.trust import uses_of

ROOTS = (Settings, Links, Callbacks, ServeKeys, LedgerPlace, StoragePlace, LayoutRules)
TABLES = (*ROOTS, EngineCard, TextServiceCard, FollowUp)


def inside(hint: object) -> Iterator[type]:
    for part in typing.get_args(hint):
        yield from inside(part)
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct):
        yield hint


def every_table() -> dict[str, set[str]]:
    found: dict[str, set[str]] = {}
    waiting: list[type] = list(TABLES)
    while waiting:
        table = waiting.pop()
        if table.__name__ in found:
            continue
        found[table.__name__] = set(table.__struct_fields__)  # type: ignore[attr-defined]
        for hint in typing.get_type_hints(table).values():
            waiting += inside(hint)
    return found


def test_every_key_says_what_it_can_reach() -> None:
    for table, keys in every_table().items():
        reaching, nothing = set(REACHING.get(table, {})), REACHING_NOTHING.get(table, frozenset())
        assert not reaching & nothing, table
        assert keys == reaching | nothing, table
    assert {reach for keys in REACHING.values() for reach in keys.values()} == set(
        typing.get_args(Reach)
    )


ENGINE = '[engine.x]\nurl = "https://speech.example"\nreply.text = "t"\n'


@pytest.mark.parametrize(
    ("toml", "kind", "said"),
    [
        ('[settings]\ninto = "~/texts"', "writing", "write to HOME/texts"),
        ('[settings]\ninto = "../texts"', "writing", "write to"),
        ('[settings]\nreplace = "~/g.txt"', "reading", "read HOME/g.txt"),
        ('[settings]\nredact_names = "/etc/names"', "reading", "read /etc/names"),
        ('[settings]\nstrong_words_file = "/etc/words"', "reading", "read /etc/words"),
        (
            '[recording_urls]\npublic = "https://hut.example"',
            "listening",
            "pieces of recordings at https://hut",
        ),
        ('[callbacks]\npublic = "https://hut.example"', "listening", "at https://hut.example"),
        ('[serve]\nwebhook_secret = "env:K"', "secret", "sign the calls"),
        ('[ledger]\nurl = "postgresql://me@db.example/x"', "database", "keep the ledger at"),
        ('[storage]\nurl = "s3://marsh/x"', "writing", "put queued recordings and their outputs"),
        (ENGINE, "sending", "send recordings to https://speech.example"),
        (
            '[engine.x]\nurl = "http://127.0.0.1:9"',
            "sending",
            "send recordings to http://127.0.0.1:9",
        ),
        ('[engine.x]\nurl = "{h}"\nvalues.h = "https://a.example"', "sending", "https://a.example"),
        (ENGINE + 'secrets.k = "env:K"', "secret", "send env:K to https://speech.example"),
        (ENGINE + 'steps.go.url = "https://other.example/x"', "sending", "https://other.example"),
        (ENGINE + 'token.url = "https://gate.example"', "sending", "https://gate.example"),
        ('[engine.x]\ncommand.run = ["hear", "{audio_file}"]', "program", "start hear"),
        ('[engine.x]\npython.object = "a:b"', "object", "load a:b"),
        ('[service.s]\nurl = "http://localhost:9"', "sending", "send texts to http://localhost:9"),
        ('[service.s]\nurl = "https://t.example"\nsecrets.k = "env:K"', "secret", "send env:K"),
        (
            '[follow_up.m.mail]\nserver = "smtp://127.0.0.1:25"\nto = ["a@marsh.example"]',
            "sending",
            "send results to smtp://127.0.0.1:25 for a@marsh.example",
        ),
        (
            '[follow_up.c.webhook]\nto = "http://127.0.0.1:9/x"',
            "sending",
            "results to http://127.0.0.1:9",
        ),
        ('[follow_up.c.copy]\nto = "~/copies"', "writing", "write to ~/copies"),
        ('[follow_up.c.copy]\nto = "../copies"', "writing", "write to ../copies"),
        ('[follow_up.c.copy]\nto = "s3://marsh/texts"', "writing", "write to s3://marsh/texts"),
        ('[follow_up.c.copy]\nto = "{recording}/x"', "writing", "write to"),
        (
            '[follow_up.r.rows]\nfile = "~/rows.csv"\ncolumns.a = "b"',
            "writing",
            "write to ~/rows.csv",
        ),
        ('[follow_up.r.rows]\ndatabase = "sqlite:///../x.db"', "database", "write to the database"),
        ('[follow_up.r.rows]\ndatabase = "postgresql://db.example/x"', "database", "the database"),
        ('[follow_up.p.command]\nrun = ["tell"]', "program", "start tell"),
    ],
)
def test_whatever_is_reached_is_asked_for_in_words(
    tmp_path: Path, toml: str, kind: str, said: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    document = tomllib.loads(toml)
    folder = tmp_path / "from-elsewhere"
    folder.mkdir()
    found = uses_of(folder / "mantisreed.toml", document, document.get("engine", {}))
    wanted = said.replace("HOME", str(tmp_path / "home"))
    assert any(use.kind == kind and wanted in use.what for use in found), found


def test_what_stays_in_the_folder_is_not_asked_for(tmp_path: Path) -> None:
    document = tomllib.loads(
        '[settings]\ninto = "texts"\nreplace = "g.txt"\n'
        '[follow_up.c.copy]\nto = "copies/{recording}"\n'
        '[follow_up.r.rows]\nfile = "rows.csv"\n[follow_up.d.rows]\ndatabase = "sqlite:///rows.db"\n'
    )
    assert uses_of(tmp_path / "mantisreed.toml", document, {}) == ()
