"""A learnt card is put into a settings file, wherever the other tables of it stand."""

import tomllib
from pathlib import Path

import pytest

from mantisreed.errors import InputError
from mantisreed.workbench.card_review import add_card

BROOK = '[engine.brook]\nurl = "http://127.0.0.1:1"\nsend.raw = "{audio}"\nreply.text = "says"\n'
SERVICE = '[service.godwit]\nurl = "http://127.0.0.1:1"  # kept\n'
REQUEST = BROOK.replace("brook", "marsh").replace('reply.text = "says"', 'reply.format = "text"')
REPLY = '[engine.marsh.reply]\ntext = "heard"\n'


@pytest.mark.parametrize(
    "settings",
    [
        "",
        BROOK,
        BROOK + SERVICE,
        SERVICE + BROOK,
        BROOK + SERVICE + BROOK.replace("brook", "heron"),
    ],
    ids=["none", "an engine", "engine, service", "service, engine", "service between engines"],
)
@pytest.mark.parametrize("more", ["", SERVICE.replace("godwit", "turnstone")])
def test_request_and_reply_become_one_card(tmp_path: Path, settings: str, more: str) -> None:
    file = tmp_path / "mantisreed.toml"
    file.write_text(settings)
    add_card(file, "marsh", REQUEST)
    file.write_text(file.read_text() + more)
    with pytest.raises(InputError, match="there is a card 'marsh' already"):
        add_card(file, "marsh", REQUEST)
    add_card(file, "marsh", REPLY)
    written = file.read_text()
    found = tomllib.loads(written)
    assert found["engine"]["marsh"]["reply"] == {"text": "heard"}
    assert found["engine"]["marsh"]["send"] == {"raw": "{audio}"}
    before = tomllib.loads(settings + more)
    assert {**found["engine"], "marsh": None} == {**before.get("engine", {}), "marsh": None}
    assert found.get("service") == before.get("service") and written.count("# kept") == (
        settings + more
    ).count("# kept")
    with pytest.raises(InputError, match="has a reply table already"):
        add_card(file, "marsh", REPLY)


def test_a_reply_alone_is_no_card(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="there is no card 'marsh' yet"):
        add_card(tmp_path / "mantisreed.toml", "marsh", REPLY)
