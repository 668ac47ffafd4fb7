"""Secrets never come out, however they are written."""

import base64
import json
from collections.abc import Callable
from urllib.parse import quote, quote_plus

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.secrets import HIDDEN, Secret, redacted, redacted_body, without_secrets

printable_keys = st.text(
    st.characters(min_codepoint=0x21, max_codepoint=0x2FF), min_size=6, max_size=40
)
FORMS: dict[str, Callable[[str], str]] = {
    "as it is": lambda key: key,
    "in a URL": lambda key: quote(key, safe=""),
    "in a form": quote_plus,
    "in JSON": lambda key: json.dumps({"k": key}),
    "in JSON of another kind": lambda key: json.dumps({"k": key}, ensure_ascii=False),
    "in base64": lambda key: base64.b64encode(key.encode()).decode(),
    "in Basic": lambda key: base64.b64encode(f"u:{key}".encode()).decode(),
    "in Basic of a longer user": lambda key: base64.b64encode(f"usr:{key}".encode()).decode(),
    "in the other base64": lambda key: base64.urlsafe_b64encode(key.encode()).decode(),
    "in hexadecimal": lambda key: key.encode().hex(),
}


@pytest.mark.parametrize("form", FORMS)
@given(key=printable_keys)
def test_a_secret_is_hidden_in_every_form(form: str, key: str) -> None:
    written = FORMS[form](key)
    text = f"it said <{written}> twice"
    hidden = without_secrets(text, [Secret(key)])
    assert HIDDEN in hidden and key not in hidden and written not in hidden


@given(key=printable_keys.filter(lambda key: len(key) >= 8), data=st.data())
def test_eight_characters_of_a_secret_are_one(key: str, data: st.DataObject) -> None:
    first = data.draw(st.integers(0, len(key) - 8))
    last = data.draw(st.integers(first + 8, len(key)))
    hidden = without_secrets(f"({key[first:last]})", [Secret(key)])
    assert key[first : first + 8] not in hidden


@given(text=st.text(max_size=200))
def test_a_text_without_a_secret_stays_as_it_is(text: str) -> None:
    assert without_secrets(text, [Secret("mud-and-tide-4711")]) == text


def test_what_the_process_knows_leaves_it_nowhere_and_replies_keep_their_other_bytes() -> None:
    Secret("salt-marsh-0815")
    assert redacted("key salt-marsh-0815, also salt%2Dmarsh-0815") == f"key {HIDDEN}, also {HIDDEN}"
    body = b'\xff{"echo": "salt-marsh-0815", "said": "marsh"}'
    assert redacted_body(body) == b'\xff{"echo": "***", "said": "marsh"}'
