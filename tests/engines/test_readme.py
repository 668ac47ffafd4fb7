"""The card that the README shows reads the answer that the README shows."""

import json
import re
from pathlib import Path

import pytest

from conftest import Note
from engines.cards import request_of, workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.engines.reading.reply import read_reply
from mantisreed.engines.request import Piece
from mantisreed.secrets import Secret

README = (Path(__file__).parent.parent.parent / "README.md").read_text(encoding="utf-8")


def block(language: str) -> str:
    found = re.search(rf"```{language}\n(.*?)```", README, re.DOTALL)
    assert found is not None
    return found[1]


def test_the_card_of_the_readme_works_on_the_answer_of_the_readme(tmp_path: Path) -> None:
    card = workspace_of(tmp_path, block("toml")).engine("marsh")
    piece = Piece(b"sound", FORMATS["flac"], 16_000, 1, 10.0)
    request = request_of(card, piece, secrets={"key": Secret("k")})
    (passage,) = read_reply(card, block("json").encode(), piece).passages

    assert request.url == "https://speech.marsh.example/v2/recognise"
    assert [part.name for part in request.parts] == ["clip", "lang"]
    (token,) = json.loads(block("json"))["tokens"]
    assert (passage.words[0].text, passage.words[0].start) == (token["t"], token["begin_ms"] / 1000)


def test_the_first_example_from_python_works(
    settings: Path, note: Note, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """As it stands, but for the name of the engine, which is one that runs here."""
    settings.with_name("talk.mp4").write_bytes(note.path.read_bytes())
    monkeypatch.chdir(settings.parent)
    example = block("python")
    assert 'engine="marsh"' in example
    exec(compile(example.replace('engine="marsh"', 'engine="brook"'), "README.md", "exec"), {})
    assert capsys.readouterr().out.startswith("done ")
    assert (settings.parent / "transcripts" / "talk.srt").is_file()
