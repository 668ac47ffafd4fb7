"""The page that leads to the first transcript: every command in its order, every output as it is
printed.
"""

import json
import re
import shlex
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from conftest import Command, Note
from mantisreed.standin.composer import Composition
from web import QuietHandler, listening

PAGE = (Path(__file__).parents[2] / "docs" / "first-transcript.md").read_text(encoding="utf-8")
ADDRESS = "https://speech.marsh.example"
ANSWER_TO_A_CLIP = {
    "transcript": "Half past",
    "tokens": [
        {"t": "Half", "begin_ms": 500, "end_ms": 810, "score": 0.97},
        {"t": "past", "begin_ms": 820, "end_ms": 1100, "score": 0.97},
    ],
}
_CLIP = 100_000  # bytes; less is the clip of `engines try`


def blocks() -> list[tuple[str, str]]:
    """The language and the text of each block of the page."""
    return re.findall(r"```(\w+)\n(.*?)```", PAGE, re.DOTALL)


def answer_of(composition: Composition) -> dict[str, object]:
    """What the engine of the page answers: each phrase's words share its time."""
    tokens = []
    for spoken in composition.truth:
        words = spoken.phrase.text.split()
        each = len(spoken.phrase.samples) / len(words)
        for at, word in enumerate(words):
            begin, end = (round((spoken.first + each * n) / 16) for n in (at, at + 1))
            tokens.append({"t": word, "begin_ms": begin, "end_ms": end, "score": 0.97})
    return {"transcript": " ".join(str(token["t"]) for token in tokens), "tokens": tokens}


@contextmanager
def engine(answer: dict[str, object]) -> Iterator[str]:
    """The engine of the page; gives its address."""

    class Handler(QuietHandler):
        def do_POST(self) -> None:  # noqa: N802
            form = self.rfile.read(int(self.headers["Content-Length"]))
            told = answer if len(form) > _CLIP else ANSWER_TO_A_CLIP
            is_right = (
                self.path == "/v2/recognise"
                and self.headers["Authorization"] == "Bearer s3cret"
                and b'name="clip"' in form
            )
            self.send(200 if is_right else 400, json.dumps(told).encode(), "application/json")

    with listening(Handler) as port:
        yield f"http://127.0.0.1:{port}"


def test_the_page_leads_to_a_transcript(
    note: Note, mantisreed: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv("MARSH_KEY", raising=False)
    shutil.copy(note.path, tmp_path / "talk.wav")
    (card,) = (text for language, text in blocks() if language == "toml")
    # The first command is what the other steps lead to.
    first, *others = [
        (text.splitlines(), following)
        for (language, text), following in zip(blocks(), [*blocks()[1:], ("", "")], strict=True)
        if language == "sh"
    ]
    with engine(answer_of(note.composition)) as address:
        (tmp_path / "mantisreed.toml").write_text(card.replace(ADDRESS, address))
        for (*before, command), (language, told) in [*others[:-1], first, others[-1]]:
            if before:
                assert before == ["export MARSH_KEY=..."]
                monkeypatch.setenv("MARSH_KEY", "s3cret")
            ended = mantisreed(*shlex.split(command)[1:])
            assert ended.returncode == 0, ended.stderr
            if language == "text":
                shown = ended.stdout.replace(address, ADDRESS)
                assert [line.rstrip() for line in shown.splitlines()] == told.splitlines()
    (subtitles,) = (text for language, text in blocks() if language == "srt")
    assert (tmp_path / "transcripts" / "talk.srt").read_text().strip() == subtitles.strip()
    assert (tmp_path / "transcripts" / "talk.md").is_file()
