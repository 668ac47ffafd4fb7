"""Requests built by a card, answers read by it, secrets kept."""

import asyncio
import json
from pathlib import Path
from typing import Any

import pytest

from engines.cards import BROOK, brook_card, request_of, workspace_of
from mantisreed.audio.formats import FORMATS
from mantisreed.cards.answers import AskedStep, check_answer
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import HttpTransport
from mantisreed.engines.asking import reading_of
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.reading.reply import ParsedReply
from mantisreed.engines.request import Piece, RequestOptions, language_for
from mantisreed.errors import (
    BadRequestError,
    EngineBrokeError,
    EngineError,
    FormatRefusedError,
    InputError,
    RefusedError,
    SecretError,
    SlowDownError,
    TooBigError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.secrets import Secret, SecretSource

SECRETS = {"key": Secret("hush-hush")}
PIECE = Piece(b"sound", FORMATS["flac"], 16_000, 1, 10.0, ((1.0, 2.0), (3.5, 4.5)))
GOOD = {
    "tongue": "en",
    "says": "Nets closed. Tea?",
    "stretches": [
        {
            "from": 1.0,
            "till": 2.0,
            "says": "Nets closed.",
            "words": [
                {"w": "Nets", "from": 1.0, "till": 1.4, "sure": 0.9},
                {"w": "closed.", "from": 1.4, "till": 2.0, "sure": 1.7},
            ],
        },
        {"from": 3.0, "till": 10.2, "says": "Tea?", "words": []},
    ],
}


def request(folder: Path, language: str | None = "en") -> HttpRequest:
    return request_of(brook_card(folder), PIECE, RequestOptions(language), SECRETS)


def reading(folder: Path, document: object, old: str = "", new: str = "") -> ParsedReply:
    body = document if isinstance(document, bytes) else json.dumps(document).encode()
    return reading_of(brook_card(folder, old, new), EngineResponse(body), PIECE, SECRETS)


def test_a_request_is_what_the_card_says(tmp_path: Path) -> None:
    built = request(tmp_path)
    assert (built.method, built.url) == ("POST", "http://127.0.0.1:9/brook/listen")
    assert built.header("Authorization") == "Bearer hush-hush"
    assert (built.header("Content-Type") or "").startswith("multipart/form-data; boundary=")
    parts = {part.name: part for part in built.parts}
    assert (parts["sound"].content, parts["sound"].content_type) == (b"sound", "audio/flac")
    assert (parts["creek"].content, parts["tongue"].content) == (b"deep", b"en")


def test_a_field_whose_placeholder_is_empty_is_left_out(tmp_path: Path) -> None:
    assert "tongue" not in {part.name for part in request(tmp_path, language=None).parts}


def test_a_request_does_not_show_its_secrets(tmp_path: Path) -> None:
    assert "hush" not in repr(request(tmp_path)) + str(SECRETS)


@pytest.mark.parametrize(
    ("asked", "sent"), [("en", "en"), ("de-AT", "de"), ("EN-gb", "en"), (None, None)]
)
def test_a_language_is_sent_as_the_card_lists_it(
    tmp_path: Path, asked: str | None, sent: str | None
) -> None:
    assert language_for(brook_card(tmp_path), asked) == sent
    with pytest.raises(InputError, match="does not know the language 'fr'"):
        language_for(brook_card(tmp_path), "fr")


def test_words_passages_and_language_are_found(tmp_path: Path) -> None:
    read = reading(tmp_path, GOOD)
    assert read.language == "en"
    first, second = read.passages
    assert [(word.text, word.start, word.end, word.confidence) for word in first.words] == [
        ("Nets", 1.0, 1.4, 0.9),
        ("closed.", 1.4, 2.0, None),
    ]
    assert read.doubts == ("1 confidence is not on its scale (see reply.confidence_scale): 1.7",)
    assert (second.timing, second.end, second.words[0].text) == ("estimated", 10.0, "Tea?")


@pytest.mark.parametrize(("unit", "factor"), [("ms", 1e3), ("us", 1e6), ("1/6000 s", 6e3)])
def test_times_come_in_any_unit(tmp_path: Path, unit: str, factor: float) -> None:
    document = json.loads(json.dumps(GOOD), parse_float=lambda text: float(text) * factor)
    read = reading(tmp_path, document, 'text = "says"', f'times = "{unit}"\ntext = "says"')
    assert [(word.start, word.end) for word in read.passages[0].words] == [(1.0, 1.4), (1.4, 2.0)]


def test_words_without_passages_are_grouped_by_pauses(tmp_path: Path) -> None:
    words = [
        {"w": text, "from": at, "till": at + 0.3}
        for text, at in (("one", 0.0), ("two", 0.4), ("three", 5.0))
    ]
    start, end = (
        BROOK.index("[engine.brook.reply.passages]"),
        BROOK.index("[engine.brook.reply.words]"),
    )
    read = reading(tmp_path, {"says": "one two three", "words": words}, BROOK[start:end])
    assert [passage.text for passage in read.passages] == ["one two", "three"]


def test_text_alone_is_laid_over_the_speech_and_marked(tmp_path: Path) -> None:
    start = BROOK.index("[engine.brook.reply.passages]")
    end = BROOK.index("[engine.brook.profile")
    first, second = reading(tmp_path, {"says": "one. two"}, BROOK[start:end]).passages
    assert (first.start, first.end, first.timing) == (1.0, 2.0, "estimated")
    assert (second.text, second.start, second.end) == ("two", 3.5, 4.5)


def test_no_speech_is_a_reading_without_passages(tmp_path: Path) -> None:
    assert reading(tmp_path, {"says": "", "stretches": []}) == ParsedReply((), None)


@pytest.mark.parametrize(
    ("status", "kind"),
    [
        (302, BadRequestError),
        (400, BadRequestError),
        (401, RefusedError),
        (403, RefusedError),
        (404, BadRequestError),
        (413, TooBigError),
        (415, FormatRefusedError),
        (418, BadRequestError),
        (429, SlowDownError),
        (500, EngineBrokeError),
        (503, EngineBrokeError),
    ],
)
def test_errors_are_told_apart_and_quote_the_engine_without_secrets(
    tmp_path: Path, status: int, kind: type[EngineError]
) -> None:
    card = brook_card(tmp_path)
    answer = HttpAnswer(status, {}, b"<p>no   use with\x07 hush-hush</p>" + b"x" * 5000)
    with pytest.raises(kind) as caught:
        check_answer(
            card, answer, SECRETS.values(), AskedStep("send", card.sequence[0][1], is_only=True)
        )
    assert "no use with? ***" in str(caught.value) and "hush" not in str(caught.value)
    assert len(str(caught.value)) < 400 and caught.value.status == status
    if kind is RefusedError:
        assert caught.value.advice == "check the secret in file:standin.key"


def changed(path: str, value: Any) -> dict[str, Any]:
    document = json.loads(json.dumps(GOOD))
    *above, last = path.split("/")
    place = document
    for step in above:
        place = place[int(step) if step.isdigit() else step]
    place[last] = value
    return document  # type: ignore[no-any-return]


@pytest.mark.parametrize(
    ("document", "told"),
    [
        (b"<html>", "a web page"),
        (b'{"says": "half', "not JSON"),
        (b"", "it is empty"),
        ([], r"it is empty \(\[\]\)"),
        (changed("says", 3), r"reply.text \(says\) finds no text"),
        (changed("stretches", None), r"reply.passages.each \(stretches\) finds nothing"),
        (changed("stretches", "x"), r"reply.passages.each \(stretches\) finds no list"),
        (changed("stretches", []), "finds text, but no passage or word"),
        (
            changed("stretches/0/from", "soon"),
            r"reply.passages.start \(from\) finds 'soon', not a time in 's'",
        ),
        (
            changed("stretches/0/words/1/till", "x"),
            r"reply.words.end \(till\) finds 'x', not a time",
        ),
        (changed("stretches/0/words/0/from", float("nan")), "finds nan, not a time"),
        (changed("stretches/0/words/0/w", {}), r"reply.words.text \(w\) finds no text"),
        (changed("stretches/0/words/1/from", -3), r"finds -3, a negative time"),
        (changed("stretches/0/till", 0.5), r"an end \(0.5 s\) comes before its start \(1 s\)"),
        (
            changed("stretches/1/till", 2500.0),
            r"a time of 2500 s in a piece of 10 s; is reply.times = 's' right",
        ),
    ],
)
def test_a_reply_that_is_not_as_the_card_says_is_told_by_path(
    tmp_path: Path, document: object, told: str
) -> None:
    with pytest.raises(UnreadableReplyError, match=told):
        reading(tmp_path, document)


def test_secrets_come_from_the_environment_or_a_file(tmp_path: Path) -> None:
    (tmp_path / "k").write_text("  from file\n")
    assert SecretSource.parse("file:k").read(tmp_path).reveal() == "from file"
    assert SecretSource.parse("env:K").read(tmp_path, {"K": "from env"}).reveal() == "from env"


@pytest.mark.parametrize(
    "place", ["env:ABSENT", "env:EMPTY", "file:absent", "file:.", "env:BROKEN"]
)
def test_a_secret_that_is_not_there_is_told_by_its_place(tmp_path: Path, place: str) -> None:
    with pytest.raises(SecretError) as caught:
        SecretSource.parse(place).read(tmp_path, {"EMPTY": " \n", "BROKEN": "a\r\nX-Evil: b"})
    assert caught.value.where == place and "Evil" not in str(caught.value)


def test_an_unreachable_engine_is_told_by_address_and_reason(tmp_path: Path) -> None:
    async def exchange(url: str) -> None:
        card = workspace_of(tmp_path, BROOK.replace("http://127.0.0.1:9", url)).engine("brook")
        async with HttpTransport() as transport:
            await transport.exchange(request_of(card, PIECE))

    with pytest.raises(UnreachableError, match=r"http://127.0.0.1:9 \(connection refused\)"):
        asyncio.run(exchange("http://127.0.0.1:9"))
    with pytest.raises(UnreachableError, match="no such host"):
        asyncio.run(exchange("http://nowhere.invalid"))
