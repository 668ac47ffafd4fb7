"""The manual of cards: every example in it is a part of a card, and every key is named."""

import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

import msgspec
import pytest

from mantisreed.cards.card import ErrorPatterns, ErrorRules
from mantisreed.cards.effects import effects_in_markdown
from mantisreed.cards.filters import FILTERS
from mantisreed.engines.card import EngineCard
from mantisreed.engines.card_checks import card_laid_over, read_cards
from mantisreed.engines.request import PLACEHOLDERS

DOCS = Path(__file__).parents[2] / "docs"
PAGES = [DOCS / "engine-cards.md", *sorted(DOCS.glob("engine-card-*.md"))]
MANUAL = "".join(page.read_text(encoding="utf-8") for page in PAGES)
EXAMPLES = re.findall(r"```toml\n(.*?)```", MANUAL, re.DOTALL)
BASE: dict[str, Any] = {
    "url": "https://speech.marsh.example",
    "secrets": {"key": "env:MARSH_KEY"},
    "send": {"raw": "{audio}"},
    "reply": {"text": "text"},
}


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_every_example_is_a_part_of_a_card(number: int) -> None:
    (name,) = tomllib.loads(EXAMPLES[number])["engine"]
    part = tomllib.loads(EXAMPLES[number])["engine"][name]
    card = card_laid_over(BASE, part)
    if "reply" in part:
        card["reply"] = part["reply"]
    cards = read_cards(name, card, "the manual")
    assert cards[name, None].name == "marsh"


def structs_in(kind: Any, seen: set[type]) -> Iterator[type]:
    """All tables of a card."""
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct) and kind not in seen:
        seen.add(kind)
        yield kind
        for field in msgspec.structs.fields(kind):
            yield from structs_in(field.type, seen)
    for inner in get_args(kind):
        yield from structs_in(inner, seen)


def test_every_key_placeholder_and_filter_is_in_the_manual() -> None:
    named = set(re.findall(r"`([a-z_]+)", MANUAL)) | set(re.findall(r"`[a-z_]+\.([a-z_]+)", MANUAL))
    tables = [table for table in structs_in(EngineCard, set()) if table is not ErrorPatterns]
    keys = {
        field.name for table in (*tables, ErrorRules) for field in msgspec.structs.fields(table)
    } - {"name"}
    assert keys <= named, keys - named
    for placeholder in PLACEHOLDERS:
        assert f"{{{placeholder}" in MANUAL, placeholder
    assert {
        name for name in FILTERS if f"`{name}`" not in MANUAL and f"`{name}:" not in MANUAL
    } == set()


def test_the_smallest_cards_are_short() -> None:
    pages = ("engine-recipes.md", "engine-recipes-jobs.md")
    recipes = "\n".join((DOCS / page).read_text(encoding="utf-8") for page in pages)
    form = """
[engine.marsh]
url = "https://speech.marsh.example/listen"
secrets.key = "env:MARSH_KEY"
every.bearer = "{key}"
send.form = { file = "{audio}", lang = "{language}" }
[engine.marsh.reply]
language = "lang"
passages = { each = "parts", text = "text", start = "from", end = "to" }
words = { each = "words", text = "w", start = "from", end = "to", confidence = "sure" }
"""
    assert len(form.strip().splitlines()) <= 12 and read_cards(
        "marsh", tomllib.loads(form)["engine"]["marsh"], "a card"
    )
    job = """
[engine.marsh]
url = "https://speech.marsh.example"
secrets.key = "env:MARSH_KEY"
every.bearer = "{key}"
[engine.marsh.steps]
upload = { path = "/sounds", raw = "{audio}", take.sound = "id" }
start = { path = "/jobs", json = { sound = "{sound}", lang = "{language}" }, take.job = "id" }
[engine.marsh.steps.ask]
path = "/jobs/{job}"
state = "state"
waiting = ["queued", "running"]
done = ["done"]
failed = ["failed"]
[engine.marsh.steps.fetch]
path = "/jobs/{job}/words"
[engine.marsh.reply]
words = { each = "words", text = "w", start = "from", end = "to", confidence = "sure" }
"""
    assert len(job.strip().splitlines()) <= 25 and read_cards(
        "marsh", tomllib.loads(job)["engine"]["marsh"], "a card"
    )
    assert "[engine.brook]" in recipes


def test_the_table_of_effects_is_that_of_the_program() -> None:
    (table,) = re.findall(r"<!-- effects -->\n(.*?)\n<!-- /effects -->", MANUAL, re.DOTALL)
    assert table == effects_in_markdown()
