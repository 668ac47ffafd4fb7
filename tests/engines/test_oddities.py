"""What a reply holds that its card does not lead one to expect is told; nothing of any shape makes
reading crash.
"""

import json
import tomllib
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.card import EngineCard
from mantisreed.engines.card_checks import read_cards
from mantisreed.engines.reading.reply import ParsedReply, read_reply
from mantisreed.engines.reading.unpacking import UnexpectedReplyError
from mantisreed.engines.request import Piece

PIECE = Piece(b"", FORMATS["wav"], 16_000, 1, 10.0, ((0.0, 10.0),))


def card_of(reply: str) -> EngineCard:
    toml = (
        '[engine.smew]\nurl = "http://smew.marsh.example"\nsend.raw = '
        f'"{{audio}}"\n[engine.smew.reply]\n{reply}'
    )
    return read_cards("smew", tomllib.loads(toml)["engine"]["smew"], "a test")["smew", None]


WORDS = (
    'words = { each = "words", text = "w", start = "a", end = "b", confidence = "c", speaker '
    '= "who" }'
)
NESTED = """
passages = { each = "parts", text = "t", start = "a", end = "b" }
words = { each = "words", text = "w", start = "a", end = "b" }
"""


def reading(reply: str, document: Any) -> ParsedReply:
    body = document if isinstance(document, bytes) else json.dumps(document).encode()
    return read_reply(card_of(reply), body, PIECE)


def word(
    text: str, start: Any = 1.0, end: Any = 2.0, sure: Any = 0.9, who: Any = "A"
) -> dict[str, Any]:
    return {"w": text, "a": start, "b": end, "c": sure, "who": who}


@pytest.mark.parametrize(
    ("reply", "document", "told"),
    [
        (
            WORDS,
            {"words": [word("mud", 3, 4), word("tide", 1, 2)]},
            "comes before the one it follows",
        ),
        (WORDS, {"words": [word("mud", sure=1.5)]}, "confidence is not on its scale"),
        (WORDS, {"words": [word("mud", sure="high")]}, "confidence is not on its scale"),
        (WORDS, {"words": [word("mud", sure=-0.2)]}, "confidence is not on its scale"),
        (
            f'confidence_scale = "log"\n{WORDS}',
            {"words": [word("mud", sure=0.7)]},
            "confidence is not on its scale",
        ),
        (WORDS, {"words": [word("▁mud")]}, "mark of a part of a word"),
        (WORDS, {"words": [word("ma@@"), word("rsh", 2, 3)]}, "mark of a part of a word"),
        (WORDS, {"words": [word("<b>mud</b>")]}, "looks like markup"),
        (WORDS, {"words": [word("mud"), word("tide", None, None)]}, "has no time"),
        (WORDS, {"words": [word("mud", 1, None), word("tide", 2, 3)]}, "has no end"),
        (
            'text = "t"',
            {"t": "1\n00:00:01,000 --> 00:00:02,000\nMud."},
            "looks like a subtitle file",
        ),
        (
            'text = "t"',
            {"t": "WEBVTT\n\n00:01.000 --> 00:02.000\nMud."},
            "looks like a subtitle file",
        ),
        ('text = "t"', {"t": '{"words": ["mud"]}'}, "looks like JSON"),
        ('text = "t"', {"t": "Mud &amp; tide"}, "looks like markup"),
        ('format = "text"', b"<r><w>Mud</w></r>", "looks like markup"),
        ('format = "text"', b'{"text": "Mud"}', "looks like JSON"),
        (
            NESTED,
            {
                "parts": [
                    {
                        "t": "Mud tide",
                        "a": 1,
                        "b": 2,
                        "words": [word("Mud", 1, 2), word("tide", 5, 6)],
                    }
                ]
            },
            "lies outside its passage",
        ),
    ],
)
def test_nothing_wrong_is_read_without_a_word(reply: str, document: Any, told: str) -> None:
    assert any(told in doubt for doubt in reading(reply, document).doubts)


@pytest.mark.parametrize(
    ("reply", "document", "told"),
    [
        (WORDS, {"words": [word("[door]")]}, "looks like a sound"),
        (
            WORDS,
            {"words": [word("mud", sure=None)]},
            "path finds nothing in the reply: confidence (c)",
        ),
        (WORDS, {"words": [word("mud", None, 0.5), word("tide", 1, 2)]}, "has no start"),
    ],
)
def test_what_may_be_right_is_remarked(reply: str, document: Any, told: str) -> None:
    read = reading(reply, document)
    assert any(told in remark for remark in read.remarks) and not read.doubts


@pytest.mark.parametrize(
    ("reply", "document", "told"),
    [
        (WORDS, {"words": [word("mud", 5, 4)]}, "an end (4 s) comes before its start (5 s)"),
        (WORDS, {"words": [word("mud", -3, 4)]}, "a negative time"),
        (WORDS, {"words": [word("mud", 1000, 1400)]}, "is reply.times = 's' right?"),
        (WORDS, {"words": [word("mud", "soon", 4)]}, "not a time in 's'"),
        (WORDS, {"tokens": []}, "reply.words.each (words) finds nothing"),
        (WORDS, {"words": [{"x": 1}]}, "reply.words.text (w) finds nothing"),
        ('inside = "payload"\ntext = "t"', {"other": "x"}, "reply.inside (payload) finds nothing"),
        ('inside = "base64:payload"\ntext = "t"', {"payload": "!"}, "reply.inside"),
        (
            f'times = "moment"\nzero = "began"\n{WORDS}',
            {"words": [word("mud")]},
            "reply.zero (began) finds nothing",
        ),
        (
            'words = { text = "w", start = "a", end = "b" }',
            {"w": ["mud"], "a": [1, 2, 3], "b": [2]},
            "finds 3 items",
        ),
    ],
)
def test_what_cannot_be_right_is_refused(reply: str, document: Any, told: str) -> None:
    with pytest.raises(UnexpectedReplyError) as error:
        reading(reply, document)
    assert told in str(error.value)


def test_times_in_parts_are_added_up() -> None:
    parts = word("mud", {}, {"minutes": "0", "millis": 1_500})
    (passage,) = reading(
        WORDS, {"words": [parts, word("tide", {"seconds": 2}, {"millis": 2500})]}
    ).passages
    assert [(said.start, said.end) for said in passage.words] == [(0.0, 1.5), (2.0, 2.5)]


def test_a_word_and_its_mark_may_stand_in_two_lines() -> None:
    second = {"words": [{"w": ".", "a": None}, {"w": "Tea", "a": 3, "b": 4}]}
    lines = b'{"words": [{"w": "Mud", "a": 1, "b": 2}]}\n' + json.dumps(second).encode()
    (passage,) = reading(
        'format = "lines"\nwords = { each = "words", text = "w", start = "a", end = "b" }', lines
    ).passages
    assert passage.text == "Mud. Tea"


def test_a_document_in_a_fence_is_taken_out_of_it() -> None:
    body = {"said": '```json\n{"t": "Mud and tide"}\n```'}
    (passage,) = reading('inside = "said"\ntext = "t"', body).passages
    assert passage.text == "Mud and tide"


def test_speakers_may_be_called_by_their_place_in_a_list() -> None:
    document = {"words": [word("mud", who=1)], "people": ["Ada", "Brin"]}
    (passage,) = reading(
        f'{WORDS}\nspeakers = {{ each = "people", name = "@" }}', document
    ).passages
    assert passage.speaker == "Brin"


json_values = st.recursive(
    st.none() | st.booleans() | st.floats(allow_nan=False) | st.integers() | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(st.sampled_from(["words", "parts", *"wabct"]), inner, max_size=4)
    ),
    max_leaves=20,
)
REPLIES = [
    WORDS,
    NESTED,
    'text = "t"\nlanguage = "a"',
    'words = { text = "w", start = "a", length = "b", confidence = "c" }',
    'times = "clock"\nwords = { each = "words[].parts[]", text = "w", length = "b" }',
    f'{WORDS}\nturns = {{ each = "parts", start = "a", end = "b", speaker = "t" }}',
    'times = "moment"\nzero = "t"\nwords = { each = "words", text = "w", start = "a", '
    'tokens.begin_mark = " " }',
    'inside = "t"\ntext = "t"',
]


@given(document=json_values, reply=st.sampled_from(REPLIES))
def test_no_document_makes_reading_crash(document: Any, reply: str) -> None:
    try:
        read = reading(reply, document)
    except UnexpectedReplyError:
        return
    for passage in read.passages:
        assert all(0 <= said.start <= said.end <= PIECE.duration for said in passage.words)
