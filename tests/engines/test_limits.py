"""How much an engine may answer."""

import json
import tempfile
import time
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from engines.cards import workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.engines.asking import reading_of
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.http_client import _money
from mantisreed.engines.reading.reply import ParsedReply
from mantisreed.engines.reading.times import TimeUnit
from mantisreed.engines.request import Piece
from mantisreed.errors import UnreadableReplyError
from mantisreed.limits import (
    LONGEST_TIME,
    is_modest_number,
    most_bytes,
    most_characters,
    most_items,
)

UNITS = ("s", "ms", "samples", "clock", "iso8601", "suffixed", "moment")
HUGE: tuple[Any, ...] = (
    *(
        10**400,
        -(10**400),
        1e308,
        "1e999999999",
        "1e-999999999",
        "9" * 5000,
        "9" * 90 + ":00:00",
        "P" + "9" * 90 + "D",
    ),
    *(
        {"seconds": "1e999999999"},
        {"millis": 10**400},
        {"hours": "9" * 5000},
        {"s": "1/0"},
        [],
        {},
        None,
        True,
        "\ud800",
    ),
)
NUMBERS = st.one_of(
    st.sampled_from(HUGE),
    st.integers(),
    st.floats(),
    st.decimals().map(str),
    st.text(max_size=30),
    st.booleans(),
)


@given(
    st.sampled_from(UNITS),
    st.one_of(NUMBERS, st.dictionaries(st.sampled_from(("s", "millis", "x")), NUMBERS)),
)
def test_whatever_a_time_is_it_is_one_of_this_world_or_none_and_soon(
    unit: str, found: object
) -> None:
    begun = time.process_time()
    seconds = TimeUnit(unit).seconds(found, 16_000)
    assert seconds is None or abs(seconds) <= LONGEST_TIME
    assert time.process_time() - begun < 0.5


@given(NUMBERS)
def test_whatever_a_price_is_it_can_be_written_on_a_line(found: Any) -> None:
    amount = _money(found)
    assert amount is None or (0 <= amount <= 10**9 and len(f"{amount:f}") < 60)


def test_prices_keep_their_digits() -> None:
    assert _money("0.0040") == Decimal("0.0040") and _money(1e-9) == Decimal("1e-9")


@given(
    st.decimals(
        allow_nan=False, allow_infinity=False, min_value=-(10**9), max_value=10**9, places=6
    ).map(str)
)
def test_usual_numbers_are_modest(text: str) -> None:
    assert is_modest_number(text)


def test_limits_grow_with_the_sound() -> None:
    for limit in (
        most_characters,
        most_items,
        lambda seconds: most_bytes(seconds, is_document=True),
    ):
        assert 0 < limit(0.0) < limit(60.0) <= limit(3600.0)
    assert most_bytes(1e9, is_document=True) <= 256 << 20


def reading(reply: str, document: object, seconds: float = 2.0) -> ParsedReply:
    card_toml = (
        '[engine.marsh]\nurl = "http://127.0.0.1/"\nsend.raw = '
        f'"{{audio}}"\n[engine.marsh.reply]\n{reply}\n'
    )
    with tempfile.TemporaryDirectory() as folder:
        card = workspace_of(Path(folder), card_toml).engine("marsh")
    piece = Piece(b"", FORMATS["flac"], 16_000, 1, seconds, ((0.0, seconds),))
    return reading_of(card, EngineResponse(json.dumps(document).encode()), piece, {})


WORDS = 'words = { each = "w", text = "t", start = "s", end = "e" }'


@pytest.mark.parametrize(
    ("reply", "document", "told"),
    [
        ('text = "x"', {"x": "a " * 5000}, "more than anybody says in 2 s"),
        (WORDS, {"w": [{"t": "a", "s": 0, "e": 1}] * 30_000}, "finds 30000 items for 2 s"),
        ('words = { text = "w[].t" }', {"w": [{"t": "a"}] * 30_000}, "30000 words for 2 s"),
        (WORDS, {"w": [{"t": "a" * 9000, "s": 0, "e": 1}]}, "more than anybody says"),
        (f'{WORDS}\nturns = {{ each = "q", start = "s", end = "e", speaker = "p" }}',
         {"w": [], "q": [{"s": 0, "e": 1, "p": n} for n in range(2000)]}, "2000 speakers"),
    ],
)  # fmt: skip
def test_more_than_can_be_said_is_refused(reply: str, document: object, told: str) -> None:
    with pytest.raises(UnreadableReplyError, match=told):
        reading(reply, document)


def test_an_hour_may_hold_what_is_said_in_an_hour() -> None:
    words = [{"t": f"word{n}", "s": n * 0.2, "e": n * 0.2 + 0.1} for n in range(18_000)]
    assert len(reading(WORDS, {"w": words}, 3600.0).passages[0].words) > 100


def test_turns_that_lie_over_one_another_take_no_time() -> None:
    words = [{"t": "a", "s": n / 500, "e": n / 500 + 0.001} for n in range(900)]
    turns = [{"s": 0, "e": 2 - n / 10_000, "p": n % 7} for n in range(15_000)]
    begun = time.process_time()
    table = f'{WORDS}\nturns = {{ each = "q", start = "s", end = "e", speaker = "p" }}'
    assert reading(table, {"w": words, "q": turns}).passages
    assert time.process_time() - begun < 10


def test_texts_lose_what_is_no_text() -> None:
    document = {
        "w": [{"t": "tern\0\x1b[2J", "s": 0.1, "e": 0.5}, {"t": "\ud800", "s": 0.6, "e": 0.7}]
    }
    (passage,) = reading(WORDS, document).passages
    assert [word.text for word in passage.words] == ["tern [2J"]
    assert passage.text == "tern [2J"
