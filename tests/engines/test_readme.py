"""The card that the README shows reads the answer that the README shows."""

import json
import re
from pathlib import Path

from engines.cards import request_of, workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.cards.secrets import Secret
from mantisreed.engines.reply import read_reply
from mantisreed.engines.request import Piece

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
