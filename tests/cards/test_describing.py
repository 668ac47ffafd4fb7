"""What a person sees of requests and answers."""

import cbor2
import msgspec
import pytest

from mantisreed.cards.describing import described_answer, described_request
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer

LINK = "https://store.marsh.example/clip.flac?part=3&X-Signature=9f8e7d6c5b4a&expires=60"


def described(headers: dict[str, str], body: bytes) -> list[str]:
    answer = HttpAnswer(200, headers, body)
    request = HttpRequest("marsh", "send", "POST", "https://speech.marsh.example/")
    return described_answer(answer, request, 0.25).splitlines()


def test_the_headers_of_an_answer_are_shown_but_for_those_that_say_nothing() -> None:
    headers = {
        "Content-Type": "text/plain",
        "Date": "Mon, 30 Nov 2026 12:00:00 GMT",
        "Retry-After": "7",
        "X-Job": "j-12",
        "Set-Cookie": "visit=abcdef",
    }
    assert described(headers, b"Nets closed.") == [
        "HTTP 200, text/plain, 12 B, after 0.25 s",
        "  Retry-After: 7",
        "  X-Job: j-12",
        "  Set-Cookie: ***",
        "  Nets closed.",
    ]


def test_what_signs_a_link_is_hidden_wherever_it_stands() -> None:
    hidden = "clip.flac?part=3&X-Signature=***&expires=60"
    shown = described({"Location": LINK, "Content-Type": "text/plain"}, LINK.encode())
    assert [line.rpartition("/")[2] for line in shown[1:]] == [hidden, hidden]
    request = HttpRequest("marsh", "upload", "PUT", LINK)
    assert "9f8e7d6c5b4a" not in described_request(request)


@pytest.mark.parametrize("form", ["msgpack", "cbor"])
def test_a_packed_answer_is_shown_as_json(form: str) -> None:
    document = {"text": "Nets closed."}
    packed = cbor2.dumps(document) if form == "cbor" else msgspec.msgpack.encode(document)
    shown = described({"Content-Type": f"application/{form}"}, packed)
    assert shown[1:] == ['  {"text": "Nets closed."}']
