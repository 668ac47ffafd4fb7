"""Forms, read as they come: whatever is in them and however they are cut."""

import asyncio
from collections.abc import AsyncIterator
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving.forms import form_pieces

KIND = "multipart/form-data; boundary=tide-line"
_NAMES = st.text("abcxyz_", min_size=1, max_size=12)
_FILES = st.one_of(
    st.none(), st.text("abcä .-/\\", max_size=20).map(lambda name: name.replace("\\", ""))
)


def form(parts: list[tuple[str, str | None, bytes]]) -> bytes:
    body = b""
    for name, file_name, content in parts:
        head = f'Content-Disposition: form-data; name="{name}"'
        if file_name is not None:
            head += f'; filename="{file_name}"\r\nContent-Type: audio/wav'
        body += b"--tide-line\r\n" + head.encode() + b"\r\n\r\n" + content + b"\r\n"
    return body + b"--tide-line--\r\n"


def read(body: bytes, cuts: list[int], kind: str = KIND) -> list[tuple[str, str | None, bytes]]:
    """The parts of a form that comes in pieces which end at these places."""
    places = sorted({0, len(body), *(cut % (len(body) + 1) for cut in cuts)})

    async def blocks() -> AsyncIterator[bytes]:
        for first, last in pairwise(places):
            yield body[first:last]

    async def go() -> list[tuple[str, str | None, bytes]]:
        found: list[tuple[str, str | None, bytes]] = []
        content = b""
        async for piece in form_pieces(kind, blocks()):
            content += piece.content
            if piece.is_last:
                found.append((piece.name, piece.file_name, content))
                content = b""
        return found

    return asyncio.run(go())


@given(
    st.lists(st.tuples(_NAMES, _FILES, st.binary(max_size=60)), min_size=1, max_size=5),
    st.lists(st.integers(0, 10_000), max_size=12),
)
def test_a_form_is_read_as_it_was_written_however_it_is_cut(
    parts: list[tuple[str, str | None, bytes]], cuts: list[int]
) -> None:
    assert read(form(parts), cuts) == parts


@given(st.binary(max_size=80), st.lists(st.integers(0, 100), max_size=5))
def test_what_is_no_form_is_told(content: bytes, cuts: list[int]) -> None:
    with pytest.raises(Problem) as told:
        read(content, cuts)
    assert told.value.status == 400


@pytest.mark.parametrize(
    ("body", "kind", "what"),
    [
        (form([("recording", "a.wav", b"sound")])[:-20], KIND, "breaks off"),
        (form([("name", None, b"x")] * 50), KIND, "at most 40 fields"),
        (
            b'--tide-line\r\nContent-Disposition: form-data; name="' + b"x" * 20_000,
            KIND,
            "too long|RFC 7578",
        ),
        (
            b"--tide-line\r\nContent-Disposition: form-data\r\n\r\nx\r\n--tide-line--\r\n",
            KIND,
            "no name",
        ),
        (b"x", "multipart/form-data", "no boundary"),
    ],
)
def test_what_is_wrong_with_a_form_is_told(body: bytes, kind: str, what: str) -> None:
    with pytest.raises(Problem, match=what):
        read(body, [], kind)
