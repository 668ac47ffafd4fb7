"""From a curl command to the same request."""

import tomllib
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.engines.card_checks import read_cards
from mantisreed.errors import InputError, MantisreedError
from mantisreed.learning.curl import propose_from_curl
from mantisreed.learning.curl_command import holds_curl, read_curl


def card_of(command: str) -> dict[str, Any]:
    """The proposed card, which has to be one."""
    proposal = propose_from_curl(command, "tern")
    card: dict[str, Any] = tomllib.loads(proposal.toml)["engine"]["tern"]
    read_cards("tern", card, "the proposal")
    return card


def test_a_form_becomes_a_form_and_its_key_a_secret() -> None:
    card = card_of(
        r"""$ curl -sS -X POST "https://api.tern.example/v2/{account}/hear?model=large&lang=en" \
          -H "Authorization: Token $TERN_KEY" -H 'Accept: application/json' \
          -F file=@"note.wav;type=audio/wav" -F keywords=dunlin -F keywords=knot \
          -F 'config={"language": "en-GB", "sample_rate": 16000};type=application/json' | jq ."""
    )
    assert card["url"] == "https://api.tern.example" and card["secrets"] == {"key": "env:TERN_KEY"}
    assert card["every"] == {"headers": {"Authorization": "Token {key}"}}
    send = card["send"]
    assert send["path"] == "/v2/{account}/hear" and send["query"] == {
        "model": "large",
        "lang": "{language}",
    }
    assert send["form"]["file"] == "{audio}" and send["form"]["keywords"] == ["dunlin", "knot"]
    assert send["form"]["config"]["json"] == {
        "language": "{language}",
        "sample_rate": "{sample_rate}",
    }
    assert card["accepts"]["formats"] == ["wav"] and card["values"] == {"account": "..."}


@pytest.mark.parametrize(
    ("command", "body"),
    [
        ("curl https://t.example/x -T note.flac", {"method": "PUT", "raw": "{audio}"}),
        ("curl https://t.example/x --data-binary @note.ogg", {"raw": "{audio}"}),
        (
            "curl https://t.example/x --data-binary @n.wav -H 'Content-Type: "
            "application/octet-stream'",
            {"raw": "{audio}", "content_type": "application/octet-stream"},
        ),
        (
            """curl https://t.example/x --json '{"input":"data:audio/wav;base64,UklGRiQA","tongues":["en"]}'""",  # noqa: E501
            {
                "json": {
                    "input": "data:{content_type};base64,{audio|base64}",
                    "tongues": ["{language}"],
                }
            },
        ),
        (
            """curl https://t.example/x -d '{"audio": {"content": "'"$(base64 n.wav)"'"}, "languageCode": "en"}'""",  # noqa: E501
            {"json": {"audio": {"content": "{audio|base64}"}, "languageCode": "{language}"}},
        ),
        (
            "curl https://t.example/x -d 'speech=`base64 n.wav`&lang=en&apikey=abc'",
            {"urlencoded": {"speech": "{audio|base64}", "lang": "{language}", "apikey": "{key}"}},
        ),
        (
            """curl https://t.example/x --json '{"sound_link": "https://f.example/a.mp3", "hints": ["a"]}'""",  # noqa: E501
            {"json": {"sound_link": "{recording_url}", "hints": "{hints}"}},
        ),
        (
            "curl https://t.example/x -F 'meta=a; b' -F sound=@n.mp3",
            {"form": {"meta": "a; b", "sound": "{audio}"}},
        ),
        (
            "curl -G https://t.example/x -d url=https://f.example/a.wav",
            {"query": {"url": "{recording_url}"}},
        ),
        ('curl ^\n "https://t.example/x" ^\n --data-binary "@n.wav"', {"raw": "{audio}"}),
        (
            'curl -XPOST https://t.example/x -LsSd \'{"data": "<base64>"}\'',
            {"json": {"data": "{audio|base64}"}},
        ),
    ],
)
def test_every_way_to_send_sound_is_found(command: str, body: dict[str, Any]) -> None:
    send = card_of(command)["send"]
    send.pop("path"), send.pop("follow_redirects", None)
    assert send == body


@pytest.mark.parametrize(
    ("header", "every"),
    [
        ("-H 'Authorization: Bearer sk-1234567890'", {"bearer": "{key}"}),
        ("-H 'authorization: Key abc'", {"headers": {"Authorization": "Key {key}"}}),
        ("-H 'x-api-key: <YOUR_KEY>'", {"headers": {"x-api-key": "{key}"}}),
        ("-u station:hush", {"basic": "{user}:{key}"}),
        ("-u $KEY:", {"basic": "{key}:"}),
        ("-H 'Authorization: Basic c3RhdGlvbjpodXNo'", {"basic": "{user}:{key}"}),
        ("-b session=abc", {"headers": {"Cookie": "session={key}"}}),
    ],
)
def test_every_kind_of_key_goes_into_a_secret_and_nowhere_else(
    header: str, every: dict[str, Any]
) -> None:
    toml = propose_from_curl(f"curl {header} -T a.wav https://t.example/x", "tern").toml
    assert tomllib.loads(toml)["engine"]["tern"]["every"] == every
    assert not any(key in toml for key in ("sk-12345", "abc", "hush", "c3Rh"))


def test_what_was_not_read_is_told() -> None:
    proposal = propose_from_curl(
        "curl https://t.example -d @body.json\ncurl https://t.example/2", "tern"
    )
    notes = " ".join(proposal.notes)
    assert "the body is in the file body.json" in notes and "another command followed" in notes
    assert "where the audio goes was not found" in notes


@pytest.mark.parametrize(
    "command",
    ["curl", "curl -X POST", "curl 'https://t.example", "curl https://t.example -d '{\"a\": }'"],
)
def test_what_is_no_command_is_refused(command: str) -> None:
    with pytest.raises(InputError):
        propose_from_curl(command, "tern")


@given(st.text(max_size=200))
def test_no_text_after_the_word_makes_it_fail_otherwise(text: str) -> None:
    command = f"curl https://t.example {text}"
    assert holds_curl(command)
    try:
        read_curl(command)
        tomllib.loads(propose_from_curl(command, "tern").toml)
    except MantisreedError:
        pass


def test_a_url_that_is_none_is_told() -> None:
    with pytest.raises(InputError, match="a URL that is none"):
        propose_from_curl("curl http://[x -T a.wav", "tern")
