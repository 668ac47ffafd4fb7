"""Replies of every kind and times in every unit."""

import json
from pathlib import Path

import keyring
import pytest
from keyring.backend import KeyringBackend
from keyring.backends import fail

from engines.cards import workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.cards.documents import events_in
from mantisreed.cards.templates import DocumentTemplate, Template, Value
from mantisreed.engines.reading.reply import ParsedReply, read_reply
from mantisreed.engines.reading.times import TimeUnit
from mantisreed.engines.reading.unpacking import UnexpectedReplyError
from mantisreed.engines.request import Piece
from mantisreed.errors import SecretError
from mantisreed.secrets import SecretSource

PIECE = Piece(b"", FORMATS["wav"], 8_000, 1, 20.0, ((1.0, 3.0), (6.0, 8.0)))


def read(folder: Path, reply: str, body: bytes | object) -> ParsedReply:
    card = workspace_of(
        folder, f'[engine.e]\nurl = "http://a.example"\nsend.raw = "{{audio}}"\n{reply}'
    ).engine("e")
    return read_reply(card, body if isinstance(body, bytes) else json.dumps(body).encode(), PIECE)


@pytest.mark.parametrize(
    ("found", "unit", "seconds"),
    [
        (1.5, "s", 1.5),
        ("1.5", "s", 1.5),
        (1500, "ms", 1.5),
        (1_500_000, "us", 1.5),
        (9_000, "1/6000 s", 1.5),
        ("9000", "1/6000 s", 1.5),
        (12_000, "samples", 1.5),
        ("00:00:01.5", "clock", 1.5),
        ("1:02", "clock", 62.0),
        ("1.500s", "suffixed", 1.5),
        ("250ms", "suffixed", 0.25),
        ("PT1.5S", "iso8601", 1.5),
        ("PT1H2M3S", "iso8601", 3723.0),
        ("P1DT1S", "iso8601", 86_401.0),
        (True, "s", None),
        (None, "s", None),
        ("soon", "ms", None),
        (float("inf"), "s", None),
        (1.5, "clock", None),
        ("P", "iso8601", None),
        ({"mud": 1}, "suffixed", None),
        ({"minutes": 1, "millis": 500}, "suffixed", 60.5),
    ],
)
def test_times_are_read_in_every_unit(found: object, unit: str, seconds: float | None) -> None:
    read_as = TimeUnit(unit).seconds(found, 8_000)
    assert read_as == (None if seconds is None else pytest.approx(seconds))


def test_punctuation_without_times_joins_the_word_before_it(tmp_path: Path) -> None:
    words = [{"w": "Nets", "a": 1, "z": 2}, {"w": "closed", "a": 2, "z": 3}, {"w": "."}]
    paths = 'reply.words = { each = "@", text = "w", start = "a", end = "z" }'
    (passage,) = read(tmp_path, paths, words).passages
    assert passage.text == "Nets closed." and passage.words[-1].end == 3


def test_a_function_in_a_path_that_meets_another_type_finds_nothing(tmp_path: Path) -> None:
    paths = 'reply.words = { each = "sort_by(words, &a)", text = "w", start = "a", end = "z" }'
    with pytest.raises(UnexpectedReplyError, match="finds nothing"):
        read(tmp_path, paths, {"words": 4})


def test_a_change_of_speaker_begins_a_passage(tmp_path: Path) -> None:
    words = [
        {"w": text, "a": n, "z": n + 0.9, "s": who}
        for n, (text, who) in enumerate([("Hut", 1), ("Yes", 2)])
    ]
    paths = 'reply.words = { each = "@", text = "w", start = "a", end = "z", speaker = "s" }'
    assert [(p.text, p.speaker) for p in read(tmp_path, paths, words).passages] == [
        ("Hut", "1"),
        ("Yes", "2"),
    ]


def test_events_are_parsed_by_the_rules_of_the_html_standard() -> None:
    body = b"\xef\xbb\xbf: a comment\r\nevent: x\r\ndata: one\r\ndata:two\r\n\r\n"
    body += b"id: 4\n\ndata\n\ndata:  three\n\ndata: last"
    assert [event.data for event in events_in(body)] == ["one\ntwo", "", " three", "last"]


STREAM = 'reply = { format = "events", text = "a.b", end_mark = "[over]" }'


def test_streamed_parts_are_joined_and_laid_over_the_speech(tmp_path: Path) -> None:
    body = (
        b'data: {"a": {"b": "Nets clo"}}\n\ndata: {"a": {}}\n\ndata: {"a": {"b": "sed. '
        b'Tea?"}}\n\ndata: [over]\n\n'
    )
    first, second = read(tmp_path, STREAM, body).passages
    assert (first.text, first.start, second.text, second.start) == (
        "Nets closed.",
        1.0,
        "Tea?",
        6.0,
    )
    whole = STREAM.replace("format", "is_whole_text = true, format")
    cumulative = b'data: {"a": {"b": "Nets"}}\n\ndata: {"a": {"b": "Nets closed."}}\n\n'
    assert " ".join(p.text for p in read(tmp_path, whole, cumulative).passages) == "Nets closed."


@pytest.mark.parametrize(
    ("reply", "body", "told"),
    [
        (STREAM, b"data: {broken\n\n", "event 1 is not JSON"),
        (STREAM, b"", "it has no events"),
        (STREAM, b'data: {"c": 1}\n\n', r"reply.text \(a.b\) finds nothing"),
        ('reply.format = "srt"', b"Nets closed.\n", "it is no SRT"),
        ('reply.format = "vtt"', b"<html>", "a web page"),
    ],
)
def test_a_stream_or_file_that_is_none_is_told(
    tmp_path: Path, reply: str, body: bytes, told: str
) -> None:
    with pytest.raises(UnexpectedReplyError, match=told):
        read(tmp_path, reply, body)


@pytest.mark.parametrize(("kind", "body"), [("srt", b""), ("vtt", b"WEBVTT\n"), ("text", b" \n")])
def test_an_empty_file_means_that_nothing_was_heard(tmp_path: Path, kind: str, body: bytes) -> None:
    assert read(tmp_path, f'reply.format = "{kind}"', body).passages == ()


def test_templates_keep_types_and_leave_out_what_is_empty() -> None:
    values: dict[str, Value] = {
        "rate": 16_000,
        "hints": ["dunlin", "knot"],
        "tongue": None,
        "name": "a b",
    }
    template = {"r": "{rate}", "t": "at {rate} Hz", "h": "{hints}", "n": [1, "{name}"]}
    empty = {"l": "{tongue}", "deep": {"x": "{tongue}"}}
    wanted = {"r": 16_000, "t": "at 16000 Hz", "h": ["dunlin", "knot"], "n": [1, "a b"]}
    assert DocumentTemplate(template | empty).document(values) == wanted
    assert (
        Template("{hints}!").text(values) == "dunlin, knot!"
        and Template("x{tongue}").text(values) is None
    )
    assert DocumentTemplate({"kept": {}}).document(values) == {"kept": {}}


def test_secrets_come_from_the_keyring(tmp_path: Path) -> None:
    class Ring(KeyringBackend):
        priority = 1.0

        def get_password(self, service: str, username: str) -> str | None:
            return "from ring" if (service, username) == ("marsh", "brook") else None

        def set_password(self, service: str, username: str, password: str) -> None:
            raise NotImplementedError

    before = keyring.get_keyring()
    try:
        keyring.set_keyring(Ring())  # type: ignore[no-untyped-call]
        assert SecretSource.parse("keyring:marsh/brook").read(tmp_path).reveal() == "from ring"
        with pytest.raises(SecretError, match="empty or not set"):
            SecretSource.parse("keyring:marsh/heron").read(tmp_path)
        keyring.set_keyring(fail.Keyring())  # type: ignore[no-untyped-call]
        with pytest.raises(SecretError, match="keyring cannot be read"):
            SecretSource.parse("keyring:marsh/brook").read(tmp_path)
    finally:
        keyring.set_keyring(before)
