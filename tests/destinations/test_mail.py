"""Mail about anything: no name chooses a header, and every name can be mailed."""

import email
import email.policy
from email.header import decode_header, make_header

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.cards.templates import Template
from mantisreed.destinations.actions import Mail
from mantisreed.destinations.mail import header_text, message_for
from mantisreed.destinations.parcels import Parcel, ParcelFile

MAIL = Mail(
    server="smtp://127.0.0.1:25",
    sender="hut@marsh.example",
    to=("warden@marsh.example",),
    subject=Template("{recording}"),
    attach=("srt",),
)
NAMES = [
    "=?utf-8?q?talk=0aBcc:_spy@x.example?=",
    "=?utf-8?b?dGFsawpCY2M6IHNweUB4LmV4YW1wbGU=?=",
    "=?utf-8?q?=3D=3Futf-8=3Fq=3Fa=3D0aBcc=3A_x=40y=3F=3D?=",
    "talk\r\nBcc: spy@x.example",
    "talk\u2028Bcc: spy@x.example",
    "caf\udce9.wav",
    "夜の潮 🦆.wav",
    '"; filename=evil.exe; x="',
    "a" * 3000,
    "\x00\x07",
]


def sent(name: str) -> bytes:
    file = ParcelFile(f"{name}.srt", b"1\n", "srt")
    message = message_for(MAIL, [Parcel("k" * 32, {"recording": name}, [file])], "k")
    return message.as_bytes(policy=email.policy.SMTP)


def check(content: bytes) -> None:
    read = email.message_from_bytes(content, policy=email.policy.default)
    assert read["Bcc"] is None and read["To"] == "warden@marsh.example"
    again = str(make_header(decode_header(str(read["Subject"]))))
    assert not set(again) & set("\r\n\u2028\u0085")
    (attached,) = read.iter_attachments()
    assert str(attached.get_filename()).endswith(".srt")


@pytest.mark.parametrize("name", NAMES)
def test_no_name_chooses_a_header_and_every_name_can_be_mailed(name: str) -> None:
    check(sent(name))


@given(st.text(max_size=60))
def test_a_header_is_one_line_however_often_it_is_decoded(text: str) -> None:
    shown = header_text(f"=?utf-8?q?{text}?= {text}")
    for _ in range(3):
        assert len(shown.splitlines()) <= 1
        shown = str(make_header(decode_header(shown)))
    check(sent(text))
