"""Proposals for the `reply` table work as they are."""

import asyncio
import json
import re
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import Note, free_port
from mantisreed.engines.asking import client_for, reply_to
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.learning import propose
from mantisreed.engines.links import LinkServer
from mantisreed.engines.reply import read_reply
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.engines.transport import HttpTransport
from mantisreed.errors import InputError
from mantisreed.pipeline.pieces import PieceOptions, Preparation
from mantisreed.workspace import Workspace, open_workspace

ENGINES = [
    *("brook", "heron", "sedge", "sedge:worded", "dipper", "plover", "bittern", "bittern:lines"),
    *("rail", "rail:vtt", "rail:text", "wren", "stilt"),
]


def piece_of(note: Note, card: EngineCard) -> Piece:
    return next(iter(Preparation(note.path, card, PieceOptions()))).piece


def raw_reply(workspace: Workspace, engine: str, piece: Piece) -> bytes:
    card = workspace.engine(engine)

    async def ask() -> EngineResponse:
        port = free_port()
        async with HttpTransport() as transport, LinkServer(f"127.0.0.1:{port}", f"http://127.0.0.1:{port}") as links:
            client = client_for(card, workspace.secrets_of(card), transport)
            link = links.offer(piece.audio, piece.form.content_type, piece.form.extension)
            return await reply_to(client, card, replace(piece, link=link), RequestOptions())

    body = asyncio.run(ask()).body
    assert body is not None
    return body


def with_reply(settings: Path, engine: str, reply: str) -> Workspace:
    """The workspace with that engine's own `reply` tables taken out and the proposal put in."""
    name = engine.partition(":")[0]
    tables = re.split(r"(?m)^(?=\[)", settings.read_text())
    kept = [table for table in tables if not re.match(rf"\[engine\.{name}\.(reply|profile|task)", table)]
    file = settings.with_name("learnt.toml")
    file.write_text("".join(kept) + "\n" + reply)
    return open_workspace(file)


@pytest.mark.parametrize(
    ("engine", "length"),
    [*((engine, None) for engine in ENGINES), ("brook", 15.0), ("sedge", 15.0), ("dipper", 15.0)],
)
def test_a_proposal_reads_the_reply_as_the_card_does(
    settings: Path, note: Note, engine: str, length: float | None
) -> None:
    workspace = open_workspace(settings)
    card = workspace.engine(engine)
    piece = piece_of(note, card)
    reply = raw_reply(workspace, engine, piece)

    name = engine.partition(":")[0]
    learnt = with_reply(settings, engine, propose(reply, length).toml(name)).engine(name)

    wanted, found = read_reply(card, reply, piece), read_reply(learnt, reply, piece)
    assert [passage.words for passage in found.passages] == [passage.words for passage in wanted.passages]
    assert [passage.text for passage in found.passages] == [passage.text for passage in wanted.passages]
    assert [passage.speaker for passage in found.passages] == [passage.speaker for passage in wanted.passages]
    assert [passage.alternatives for passage in found.passages] == [p.alternatives for p in wanted.passages]


def test_a_text_without_times_and_a_state_are_pointed_out() -> None:
    sample = {"job": {"status": "FINISHED"}, "out": {"content": "Nets closed at nine."}}
    proposal = propose(json.dumps(sample).encode()).toml("marsh")
    assert 'text = "out.content"' in proposal and "# no times were found" in proposal
    assert 'looks like a state, for [poll]: state = "job.status"' in proposal
    assert proposal.startswith("[engine.marsh.reply]\n")


def test_one_word_is_little_to_go_by_and_that_is_said() -> None:
    sample = {"words": [{"text": "Tea?", "begin": 100, "end": 400}]}
    proposal = propose(json.dumps(sample).encode()).toml("marsh")
    assert 'times = "ms"' in proposal and "# not sure: only one item to go by" in proposal


def test_names_that_are_no_identifiers_are_quoted() -> None:
    words = [
        {"the word": text, "@from": n / 2, "@to": n / 2 + 0.4} for n, text in enumerate(["Nets", "closed", "now"])
    ]
    proposal = propose(json.dumps({"word-list": words}).encode()).toml("marsh")
    assert r'each = "\"word-list\""' in proposal and r'start = "\"@from\""' in proposal


@pytest.mark.parametrize("sample", [b"", b"  \n", b"[]", b'{"id": 4}', b'data: {"n": 1}\n\n'])
def test_a_sample_without_text_is_refused(sample: bytes) -> None:
    with pytest.raises(InputError):
        propose(sample)
