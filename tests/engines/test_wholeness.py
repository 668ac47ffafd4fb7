"""Half an answer never passes for a whole one, and nothing at all never for silence."""

import json
from pathlib import Path

import pytest

from engines.test_reply_kinds import read
from jobs.test_dispatch import Weir
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.engines.reading.unpacking import UnexpectedReplyError
from mantisreed.engines.reading.wholeness import check_whole
from mantisreed.errors import IncompleteReplyError, UnreadableReplyError
from mantisreed.workspace import open_workspace

HEAD = '[engine.reed]\nurl = "http://reed.marsh.example"\nsend.raw = "{audio}"\n'
EVENTS = 'reply.format = "events"\nreply.text = "w"\n'
LINES = 'reply.format = "lines"\nreply.text = "w"\n'


@pytest.mark.parametrize(
    ("reply", "whole", "half"),
    [
        ('reply.text = "w"', b'{"w": "tide"}', b'{"w": "ti'),
        ('reply.text = "w"', b'[{"w": "a"}, {"w": "b"}]', b'[{"w": "a"}, '),
        ('reply.format = "xml"\nreply.text = "r.w"', b"<r><w>tide</w></r>", b"<r><w>ti"),
        (LINES, b'{"w": "a"}\n{"w": "b"}\n', b'{"w": "a"}\n{"w": '),
        (EVENTS, b'data: {"w": "a"}\n\n', b'data: {"w": "a"}\n\ndata: {"w'),
        (LINES + 'reply.complete = "over"', b'{"w": "a"}\n{"over": true}\n', b'{"w": "a"}\n'),
        (
            EVENTS + 'reply.complete = "n == `2`"\nreply.only = "w"',
            b'data: {"w": "a"}\n\nevent: end\ndata: {"n": 2}\n\n',
            b'data: {"w": "a"}\n\n',
        ),
        (LINES + 'reply.end_mark = "over"', b'{"w": "a"}\nover\n', b'{"w": "a"}\n'),
        (EVENTS + 'reply.end_mark = "over"', b'data: {"w": "a"}\n\ndata: over\n\n', b""),
        (
            EVENTS + 'reply.end_mark = "over"',
            b'data: {"w": "a"}\n\nevent: over\ndata: {}\n\n',
            b'data: {"w": "a"}\n\n',
        ),
        ('reply.text = "w"\nreply.complete = "is"', b'{"w": "a", "is": 1}', b'{"w": "a"}'),
        ('reply.format = "text"\nreply.complete = "ends_with(@, \'K\')"', b"a OK", b"a"),
        (
            'reply.format = "csv"\nreply.text = "[].w"\nreply.complete = "contains(@, \'#\')"',
            b"w\na\n#\n",
            b"w\na\n",
        ),
    ],
)
def test_half_an_answer_is_told_from_a_whole_one(
    tmp_path: Path, reply: str, whole: bytes, half: bytes
) -> None:
    settings = tmp_path / "mantisreed.toml"
    settings.write_text(HEAD + reply)
    card = open_workspace(settings).engine("reed")
    check_whole(card, whole)
    with pytest.raises(IncompleteReplyError, match="the answer is incomplete") as told:
        check_whole(card, half)
    assert told.value.body == half


@pytest.mark.parametrize("body", [b"", b"[]", b"{}", b"null", b'""', b"<!doctype html><p>Log in"])
def test_what_says_nothing_is_never_silence_unless_the_card_says_so(
    tmp_path: Path, body: bytes
) -> None:
    with pytest.raises(UnexpectedReplyError, match=r"errors.no_speech|web page"):
        read(tmp_path, 'reply.text = "w"', body)
    if not body.startswith(b"<"):
        known = 'reply.text = "w"\nerrors.no_speech.when = "!@"'
        assert read(tmp_path, known, body).passages == ()


def test_a_web_page_is_no_text(tmp_path: Path) -> None:
    with pytest.raises(UnexpectedReplyError, match="web page"):
        read(tmp_path, 'reply.format = "text"', b"\n<html><body>Sign in</body></html>")


def at_once(folder: Path) -> Weir:
    """A weir that answers with the reply, of which it makes no job."""
    (folder / "mantisreed.toml").write_text(
        '[engine.weir]\nurl = "http://weir.marsh.example"\n'
        'steps.start = { raw = "{audio}", path = "/jobs" }\nreply.text = "says"\n'
    )
    return Weir(folder)


@pytest.mark.parametrize("status", [202, 204])
def test_a_status_without_a_reply_is_no_reply(tmp_path: Path, status: int) -> None:
    weir = at_once(tmp_path)
    weir.to_sending = [HttpAnswer(status, {}, b"")]
    for _ in range(2):
        with pytest.raises(UnreadableReplyError, match=f"HTTP {status} and without a reply"):
            weir.reply()
    assert weir.sent == 1
    weir.mend("reply.text", f"errors.no_speech.statuses = [{status}]\nreply.text")
    assert weir.reply() is None and weir.sent == 1, "the kept answer is read as the card says now"


def test_an_incomplete_answer_is_asked_for_again_and_kept_to_look_at(tmp_path: Path) -> None:
    weir = at_once(tmp_path)
    weir.to_sending = [HttpAnswer(200, {}, b'{"says": "hi')]
    weir.to_sending += [HttpAnswer(200, {}, b'{"says": "high tide"}')]
    assert weir.reply() == b'{"says": "high tide"}'
    assert [one.charge for one in weir.piece.attempts] == ["maybe", "sure"]
    weir.to_sending = [HttpAnswer(200, {}, b'{"says": "lo')] * 3
    with pytest.raises(IncompleteReplyError):
        weir.reply(afresh=True)
    assert weir.sent == 4, "each try may have been paid for: there are two"


def test_a_stream_whose_words_end_before_the_speech_does_is_doubtful(tmp_path: Path) -> None:
    reply = 'format = "lines"\nwords = { each = "@", text = "w", start = "s", end = "e" }'
    lines = "".join(
        json.dumps({"w": "tide", "s": second, "e": second + 0.5}) + "\n" for second in range(9)
    )
    known = "".join(f"reply.{line}\n" for line in reply.splitlines())
    assert not read(tmp_path, known, lines.encode()).doubts
    (doubt,) = read(
        tmp_path, known, lines.encode()[: lines.index("3.5")].rpartition(b"\n")[0]
    ).doubts
    assert "may be incomplete" in doubt
