"""Proposals for the `reply` table work as they are."""

import asyncio
import io
import json
import re
import tomllib
import zipfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from conftest import Note, free_port
from mantisreed.cards.wire.transport import HttpTransport
from mantisreed.engines.asking import client_for, reply_to
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.links import LinkServer
from mantisreed.engines.reading.reply import read_reply
from mantisreed.engines.request import Piece, RequestOptions
from mantisreed.errors import InputError
from mantisreed.learning.proposal import Proposal
from mantisreed.learning.samples import propose_reply
from mantisreed.pipeline.preparing.cut_limits import PieceOptions
from mantisreed.pipeline.preparing.pieces import Preparation
from mantisreed.workspace import Workspace, open_workspace

ENGINES = [
    *("brook", "heron", "sedge", "sedge:worded", "dipper", "plover", "bittern", "bittern:lines"),
    *("rail", "rail:vtt", "rail:text", "wren", "stilt"),
]


def piece_of(note: Note, card: EngineCard) -> Piece:
    return next(iter(Preparation(note.path, card, PieceOptions()))).piece


def proposed(sample: bytes, length: float | None = None, name: str = "marsh") -> str:
    card = Proposal(name)
    propose_reply(sample, card, length)
    return card.toml


def raw_reply(workspace: Workspace, engine: str, piece: Piece) -> bytes:
    card = workspace.engine(engine)

    async def ask() -> EngineResponse:
        port = free_port()
        async with (
            HttpTransport() as transport,
            LinkServer(f"127.0.0.1:{port}", f"http://127.0.0.1:{port}") as links,
        ):
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
    kept = [
        table for table in tables if not re.match(rf"\[engine\.{name}\.(reply|profile|task)", table)
    ]
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
    learnt = with_reply(settings, engine, proposed(reply, length, name)).engine(name)

    wanted, found = read_reply(card, reply, piece), read_reply(learnt, reply, piece)
    assert [passage.words for passage in found.passages] == [
        passage.words for passage in wanted.passages
    ]
    assert [passage.text for passage in found.passages] == [
        passage.text for passage in wanted.passages
    ]
    assert [passage.speaker for passage in found.passages] == [
        passage.speaker for passage in wanted.passages
    ]
    assert [passage.alternatives for passage in found.passages] == [
        p.alternatives for p in wanted.passages
    ]


def test_a_text_without_times_and_a_state_are_pointed_out() -> None:
    sample = {"job": {"status": "FINISHED"}, "out": {"content": "Nets closed at nine."}}
    proposal = proposed(json.dumps(sample).encode())
    assert 'text = "out.content"' in proposal and "# no times were found" in proposal
    assert 'looks like a state, for a step that asks: state = "job.status" (FINISHED)' in proposal
    assert proposal.startswith("[engine.marsh.reply]\n")


def test_one_word_is_little_to_go_by_and_that_is_said() -> None:
    sample = {"words": [{"text": "Tea?", "begin": 100, "end": 400}]}
    proposal = proposed(json.dumps(sample).encode())
    assert (
        '# times = "ms"' in proposal
        and '# start = "begin"  (not sure: only one item to go by' in proposal
    )


def words_from(*starts: float) -> list[dict[str, object]]:
    said = ["high", "tide", "and", "low", "water", "at", "the", "hide"]
    return [
        {"text": text, "from": start, "to": start + 0.4}
        for text, start in zip(said, starts, strict=False)
    ]


def test_a_part_for_each_track_is_told_from_passages() -> None:
    tracks = [
        {"speaker": "warden", "heard": words_from(0.5, 1.0, 4.0, 4.6, 8.1)},
        {"speaker": "ringer", "heard": words_from(2.0, 2.5, 6.0, 6.6)},
    ]
    reply = tomllib.loads(proposed(json.dumps({"sides": tracks}).encode(), 10.0))
    learnt = reply["engine"]["marsh"]["reply"]
    assert learnt["tracks"] == {"each": "sides", "speaker": "speaker"}
    assert learnt["words"] == {"each": "heard", "text": "text", "start": "from", "end": "to"}
    # One behind the other they are passages of one recording.
    tracks[1]["heard"] = words_from(8.6, 9.0, 9.3)
    assert "tracks" not in proposed(json.dumps({"sides": tracks}).encode(), 10.0)


def test_of_an_archive_the_largest_file_is_read_and_named(tmp_path: Path) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("about [1].txt", "made at the hide")
        archive.writestr("said [1].json", json.dumps({"words": words_from(0.5, 1.0, 1.5, 2.0)}))
    card = proposed(packed.getvalue(), 3.0)
    assert tomllib.loads(card)["engine"]["marsh"]["reply"]["file"] == "said [[]1].json"
    assert "the largest of 2 files in the archive" in card


def test_names_that_are_no_identifiers_are_quoted() -> None:
    words = [
        {"the word": text, "@from": n / 2, "@to": n / 2 + 0.4}
        for n, text in enumerate(["Nets", "closed", "now"])
    ]
    proposal = proposed(json.dumps({"word-list": words}).encode())
    assert r'each = "\"word-list\""' in proposal and r'start = "\"@from\""' in proposal


@pytest.mark.parametrize("sample", [b"", b"  \n", b"[]", b'{"id": 4}', b'data: {"n": 1}\n\n'])
def test_a_sample_without_text_is_refused(sample: bytes) -> None:
    with pytest.raises(InputError):
        proposed(sample)


SAID = ["Nets", "closed", "at", "nine", "tonight", "said", "Ada", "to", "Brin"]


def rows(**columns: object) -> list[dict[str, object]]:
    """A word list: for each word what each function of its number gives."""
    return [
        {"w": word, **{name: make(n) for name, make in columns.items()}}  # type: ignore[operator]
        for n, word in enumerate(SAID)
    ]


def words_of(sample: object) -> dict[str, object]:
    content = sample if isinstance(sample, bytes) else json.dumps(sample).encode()
    reply = tomllib.loads(proposed(content))["engine"]["marsh"]["reply"]
    return {**reply.pop("words"), **{f"reply.{key}": value for key, value in reply.items()}}


def test_a_speaker_number_is_no_confidence_and_a_riders_name_no_time() -> None:
    sample = rows(
        rider=lambda n: "Ada" if n < 5 else "Brin",
        speaker=lambda n: n // 5,
        t0=lambda n: int((0.5 + 0.4 * n) * 1e9),
        t1=lambda n: int((0.8 + 0.4 * n) * 1e9),
    )
    found = {
        "each": "out",
        "text": "w",
        "start": "t0",
        "end": "t1",
        "speaker": "speaker",
        "reply.times": "ns",
    }
    assert words_of({"out": sample}) == found


def test_the_number_of_a_word_is_no_time_and_no_confidence() -> None:
    sample = rows(
        id=lambda n: n,
        begin=lambda n: 500 + 400 * n,
        span=lambda n: 300,
        sure=lambda n: 0.9 - n / 100,
    )
    found = words_of({"out": sample})
    assert (found["start"], found["length"], found["confidence"]) == ("begin", "span", "sure")


@pytest.mark.parametrize(
    ("value", "scale"),
    [
        (lambda n: 0.9 - n / 50, None),
        (lambda n: 90 + n, "percent"),
        (lambda n: -0.1 * n - 0.01, "log"),
    ],
)
def test_the_scale_of_confidences_is_seen(value: Callable[[int], float], scale: str | None) -> None:
    found = words_of(
        {"out": rows(start=lambda n: 0.4 * n, end=lambda n: 0.4 * n + 0.3, score=value)}
    )
    assert found["confidence"] == "score" and found.get("reply.confidence_scale") == scale


def test_what_is_not_sure_is_a_comment_with_its_values() -> None:
    proposal = proposed(
        json.dumps({"out": rows(q=lambda n: 0.9 - n / 50, at=lambda n: 0.4 * n)}).encode()
    )
    assert '# confidence = "q"  (not sure: values 0.9' in proposal
    assert "confidence" not in tomllib.loads(proposal)["engine"]["marsh"]["reply"]["words"]


@pytest.mark.parametrize(
    ("sample", "found"),
    [
        (
            b"<r><w s='0.5' e='0.9'>Nets</w><w s='0.9' e='1.3'>closed</w><w s='1.3' "
            b"e='1.5'>now</w></r>",
            {"each": "r.w", "text": "text", "start": "s", "end": "e", "reply.format": "xml"},
        ),
        (
            {
                "tokens": SAID,
                "starts": [0.4 * n for n in range(9)],
                "ends": [0.4 * n + 0.3 for n in range(9)],
            },
            {"text": "tokens", "start": "starts", "end": "ends"},
        ),
        (
            [[word, 500 + 400 * n, 800 + 400 * n] for n, word in enumerate(SAID)],
            {"each": "@", "text": "[0]", "start": "[1]", "end": "[2]", "reply.times": "ms"},
        ),
        (
            "\n".join(
                json.dumps(
                    {
                        "type": kind,
                        "word": word,
                        "from": f"{0.4 * n:.1f}s",
                        "to": f"{0.4 * n + 0.3:.1f}s",
                    }
                )
                for n, word in enumerate(SAID)
                for kind in ("partial", "final")
            ).encode(),
            {
                "each": "@",
                "text": "word",
                "start": "from",
                "end": "to",
                "reply.format": "lines",
                "reply.only": "type == 'final'",
                "reply.times": "suffixed",
            },
        ),
        (
            {"data": json.dumps({"out": rows(s=lambda n: 0.4 * n, e=lambda n: 0.4 * n + 0.3)})},
            {"each": "out", "text": "w", "start": "s", "end": "e", "reply.inside": "data"},
        ),
        (
            b"w,from,to\n"
            + "".join(
                f"{w},{0.4 * n:.2f},{0.4 * n + 0.3:.2f}\n" for n, w in enumerate(SAID)
            ).encode(),
            {"each": "@", "text": "w", "start": "from", "end": "to", "reply.format": "csv"},
        ),
    ],
)
def test_every_shape_of_a_word_list_is_found(sample: object, found: dict[str, object]) -> None:
    assert words_of(sample) == found


def test_turns_beside_the_words_are_laid_over_them() -> None:
    turns = [{"speaker": "A", "start": 0, "end": 1.9}, {"speaker": "B", "start": 1.9, "end": 4}]
    sample = {"turns": turns, "words": rows(start=lambda n: 0.4 * n, end=lambda n: 0.4 * n + 0.3)}
    reply = tomllib.loads(proposed(json.dumps(sample).encode()))["engine"]["marsh"]["reply"]
    assert reply["turns"] == {"each": "turns", "start": "start", "end": "end", "speaker": "speaker"}


@pytest.mark.parametrize("format_", ["srt", "vtt", "ctm", "ttml"])
def test_files_of_the_trade_are_known(format_: str) -> None:
    samples = {
        "srt": "1\n00:00:00,500 --> 00:00:01,000\nNets closed.\n",
        "vtt": "WEBVTT\n\n00:00.500 --> 00:01.000\nNets closed.\n",
        "ctm": "note 1 0.50 0.30 Nets 0.9\nnote 1 0.90 0.30 closed 0.8\n",
        "ttml": '<tt xmlns="http://www.w3.org/ns/ttml"><body><div><p begin="0.5s" end="1s">N</p></div></body></tt>',  # noqa: E501
    }
    reply = tomllib.loads(proposed(samples[format_].encode()))["engine"]["marsh"]["reply"]
    assert reply == {"format": format_}


@pytest.mark.parametrize(
    ("bill", "learnt"),
    [
        ({"billed": {"seconds": 6}}, {"seconds": "billed.seconds"}),
        (
            {"charge": {"amount": 0.02, "secs": 6.5}},
            {"seconds": "charge.secs", "cost": "charge.amount"},
        ),
        ({"usage": {"cost": 0.02}}, {"cost": "usage.cost"}),
        ({"usage": {"seconds": 6}}, {}),  # it may be the length of the recording
        ({"billed": {"minutes": 0.1}}, {}),  # no unit that a card has
        ({"billed": {"seconds": 0}, "cost": None}, {}),
        ({"duration": 6, "amount": 3}, {}),
    ],
)
def test_what_an_answer_says_that_it_charges_is_learnt(
    bill: dict[str, Any], learnt: dict[str, str]
) -> None:
    part = {"from": 0.5, "to": 1.0, "text": "two terns on the mud"}
    more = {"from": 1.5, "to": 2.4, "text": "and a gull above them"}
    card = Proposal("marsh")
    propose_reply(json.dumps({"parts": [part, more], **bill}).encode(), card)
    assert tomllib.loads(card.toml)["engine"]["marsh"].get("billed", {}) == learnt
