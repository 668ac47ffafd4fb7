"""No secret comes out, in whatever letters and encodings it is, by whatever error it travels."""

import base64
import html
import json
import quopri
from collections.abc import Callable
from urllib.parse import quote, unquote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import EngineBrokeError, InputError, MantisreedError
from mantisreed.secrets import Secret, marked, redacted, unmarked

KEY = "mK7-seaLavender/42+hut=="

FORMS: dict[str, Callable[[str], str]] = {
    "as it is": lambda key: key,
    "small": str.lower,
    "capital": str.upper,
    "percent": lambda key: quote(key, safe=""),
    "every letter percent": lambda key: "".join(f"%{ord(one):02x}" for one in key),
    "twice percent": lambda key: quote("".join(f"%{ord(one):02X}" for one in key)),
    "base64": lambda key: base64.b64encode(key.encode()).decode(),
    "base64 behind a user": lambda key: base64.b64encode(f"warden:{key}".encode()).decode(),
    "base64 for addresses": lambda key: base64.urlsafe_b64encode(f"xy{key}".encode()).decode(),
    "base64 of small letters": lambda key: base64.b64encode(key.lower().encode()).decode(),
    "hexadecimal": lambda key: key.encode().hex(),
    "JSON": json.dumps,
    "JSON in JSON": lambda key: json.dumps(json.dumps(key)),
    "escapes": lambda key: "".join(f"\\u{ord(one):04x}" for one in key),
    "byte escapes": lambda key: "".join(f"\\x{ord(one):02x}" for one in key),
    "quoted": lambda key: "".join(f"={ord(one):02X}" for one in key),
    "quoted-printable": lambda key: quopri.encodestring(key.encode()).decode(),
    "entities": lambda key: "".join(f"&#{ord(one)};" for one in key),
    "hexadecimal entities": lambda key: "".join(f"&#x{ord(one):X};" for one in key),
    "page": html.escape,
    "a part of it": lambda key: key[3:14],
    "a part, percent and small": lambda key: "".join(
        f"%{ord(one):02x}" for one in key[3:14].lower()
    ),
}


def said(text: str, key: str) -> bool:
    """Whether eight characters of a key can be read out of a text, by anybody who tries."""
    seen: set[str] = set()
    waiting = [text]
    while waiting and len(seen) < 200:
        one = waiting.pop()
        if one in seen or not one:
            continue
        seen.add(one)
        small = one.lower()
        if any(key[at : at + 8].lower() in small for at in range(len(key) - 7)):
            return True
        waiting += [unquote(one), html.unescape(one)]
        waiting.append(quopri.decodestring(one.encode("utf-8", "replace")).decode("latin-1"))
    return False


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("around", ["{}", "key={}&x=1", "(at {} of /v1)", '{{"said": "{}"}}'])
def test_a_key_is_hidden_in_every_form(form: str, around: str) -> None:
    Secret(KEY)
    text = redacted(around.format(FORMS[form](KEY)))
    assert not said(text, KEY), text
    assert "***" in text


@pytest.mark.parametrize("form", FORMS)
def test_no_error_carries_it_whatever_is_done_with_it(form: str) -> None:
    Secret(KEY)
    written = FORMS[form](KEY)
    for error in (
        MantisreedError(f"400, message={written}"),
        InputError("x", where=written, advice=f"try {written}"),
        EngineBrokeError("x", engine="brook", answer=f"it said {written}"),
    ):
        error.where = f"at {written}"
        everything = f"{error} {error!r} {error.args} {vars(error)}"
        assert not said(everything, KEY), everything


@pytest.mark.parametrize(
    "address",
    [
        "https://warden:pw@speech.example/v1?key=abc#k=1",
        "http://speech.example/v1?key=abc",
        "wss://speech.example?key=abc",
        "URL('https://speech.example/v1?key=abc')",
    ],
)
def test_an_address_in_an_error_has_neither_query_nor_user(address: str) -> None:
    error = MantisreedError(f"cannot reach {address}, twice", where=address)
    assert "abc" not in str(error) and "pw@" not in str(error) and "speech.example" in str(error)
    assert str(error).endswith(", twice")


@given(st.text(alphabet="abcdefghij %=&#;\\xu0123456789-_/+", max_size=200))
def test_a_text_without_a_secret_stays_as_it_is(text: str) -> None:
    Secret(KEY)
    assert redacted(text) == text


def test_what_an_answer_echoes_is_kept_as_a_mark_and_filled_in_again() -> None:
    secrets = {"key": Secret(KEY), "pin": Secret("1234")}
    values = {"job": f"id-{KEY}", "list": [KEY, {"deep": KEY}], "n": 5, "pin": "1234"}
    kept = marked(values, secrets)
    assert KEY not in json.dumps(kept) and kept["n"] == 5
    assert unmarked(kept, secrets) == values
