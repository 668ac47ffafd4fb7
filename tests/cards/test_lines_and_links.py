"""Conditions, pages and taken values in lines and events; replies in several places."""

import json
from pathlib import Path

import pytest

from cards.test_bad_answers import HEAD, PIECE, asked
from engines.cards import workspace_of
from mantisreed.cards.answers import retry_after
from mantisreed.cards.card import ErrorRules
from mantisreed.cards.paths import Take
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.streams import heard_by
from mantisreed.engines.asking import reading_of
from mantisreed.engines.reading.heard import ReplyStream
from mantisreed.errors import (
    BadRequestError,
    EngineError,
    IncompleteReplyError,
    UnreachableError,
)

LINES = b'{"w": "a", "from": 0, "to": 1}\n{"w": "b", "from": 1, "to": 2, "more": 7}\n'
EVENTS = b'data: {"w": "a"}\n\nevent: trouble\ndata: {"wrong": "mud in the line"}\n\n'
WORDS = 'reply.words = { each = "@", text = "w", start = "from", end = "to" }\n'


def words_in(folder: Path, toml: str, body: bytes) -> list[str]:
    card = workspace_of(folder, toml).engine(None)
    read = reading_of(card, type("Kept", (), {"body": body})(), PIECE, {})
    return [word.text for passage in read.passages for word in passage.words]


@pytest.mark.parametrize(
    ("form", "body"), [("events", EVENTS), ("lines", b'{"w": 1}\n{"wrong": "mud in the line"}\n')]
)
def test_an_error_in_a_stream_is_seen_by_its_condition(
    tmp_path: Path, form: str, body: bytes
) -> None:
    toml = f'{HEAD}send.raw = "{{audio}}"\nreply = {{ format = "{form}", text = "w" }}\n'
    toml += 'errors.engine_broke.when = "wrong"\nerrors.message = "wrong"\n'
    with pytest.raises(EngineError, match=r"it broke .*mud in the line"):
        asked(tmp_path, toml, lambda request: HttpAnswer(200, {}, body))


def test_lines_come_in_pages(tmp_path: Path) -> None:
    toml = (
        f'{HEAD}reply.format = "lines"\n{WORDS}'
        'steps.start = { path = "/jobs", raw = "{audio}", take.job = "id" }\n'
        'steps.fetch.path = "/jobs/{job}"\nsteps.fetch.query.after = "{page_token}"\n'
        'steps.fetch.pages = { next_token = "more", more = "job == \'{job}\' || more" }\n'
    )

    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "POST":
            return HttpAnswer(200, {}, b'{"id": "j"}')
        if "after=7" in request.url:
            return HttpAnswer(200, {}, b'{"w": "c", "from": 2, "to": 3}\n')
        return HttpAnswer(200, {}, LINES)

    came, urls = asked(tmp_path, toml, script)
    assert urls == ["/api/jobs", "/api/jobs/j", "/api/jobs/j?after=7"]
    assert words_in(tmp_path, toml, came.body or b"") == ["a", "b", "c"]


def test_a_list_of_links_is_a_reply_in_several_places(tmp_path: Path) -> None:
    steps = (
        'steps.start = { path = "/jobs", raw = "{audio}", take.links = "parts[].at" }\n'
        'steps.fetch.url = "{links}"\n'
    )
    toml = f'{HEAD}{steps}reply.words = {{ each = "words", text = "w", start = "s", end = "e" }}\n'

    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "POST":
            parts = [{"at": f"/parts/{number}"} for number in range(3)]
            return HttpAnswer(200, {}, json.dumps({"parts": parts}).encode())
        number = int(request.url[-1])
        word = {"w": f"word{number}", "s": number, "e": number + 0.5}
        return HttpAnswer(200, {}, json.dumps({"words": [word]}).encode())

    came, urls = asked(tmp_path, toml, script)
    assert urls[1:] == [f"http://smew.marsh.example/parts/{n}"[25:] for n in range(3)]
    assert words_in(tmp_path, toml, came.body or b"") == ["word0", "word1", "word2"]
    early = toml.replace("steps.fetch.url", "steps.look.url") + 'steps.fetch.path = "/end"\n'
    with pytest.raises(BadRequestError, match=r"\{links\} in the address of step look is a list"):
        asked(tmp_path, early, script)


@pytest.mark.parametrize("size", ['size = "{bytes}", ', ""])
def test_each_part_of_an_upload_has_a_link_of_its_own(tmp_path: Path, size: str) -> None:
    steps = (
        'steps.ticket = { path = "/uploads", json.bytes = "{audio_size}", '
        'take = { links = "sort_by(parts, &number)[].at", bytes = "each" } }\n'
        'steps.put = { url = "{links}", method = "PUT", raw = "{chunk}", '
        f'chunks = {{ {size}collect.mark = "header:etag" }} }}\n'
        'steps.end = { path = "/end", json.marks = "{mark}" }\n'
    )
    sent: list[bytes] = []

    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "PUT":
            sent.append(request.body or b"")
            return HttpAnswer(200, {"etag": f"mark {request.url[-1]}"}, b"")
        if request.url.endswith("/uploads"):
            parts = [{"number": n, "at": f"https://shed.example/put/{n}"} for n in (2, 0, 1)]
            each = -(-len(PIECE.audio) // 3)
            return HttpAnswer(200, {}, json.dumps({"parts": parts, "each": each}).encode())
        assert json.loads(request.body or b"") == {"marks": ["mark 0", "mark 1", "mark 2"]}
        return HttpAnswer(200, {}, b'{"text": "Eleven terns."}')

    toml = f'{HEAD}{steps}reply.text = "text"\n'
    _, urls = asked(tmp_path, toml, script)
    assert len(urls) == 5 and b"".join(sent) == PIECE.audio
    too_few = toml.replace("[].at", "[:2].at")
    if size:
        with pytest.raises(BadRequestError, match=r"there are 3 chunks, and 2 links"):
            asked(tmp_path, too_few, script)


def test_the_number_of_parts_is_known_before_links_are_asked_for(tmp_path: Path) -> None:
    steps = (
        'steps.ticket = { path = "/uploads", json.parts = "{chunk_count}", take.at = "at" }\n'
        'steps.put = { url = "{at}", method = "PUT", raw = "{chunk}", chunks.size = 1000 }\n'
        'steps.end = { path = "/end", json.parts = "{chunk_count}" }\nreply.text = "text"\n'
    )
    asked_for: list[int] = []

    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "POST":
            asked_for.append(json.loads(request.body or b"")["parts"])
        return HttpAnswer(200, {}, b'{"at": "/put", "text": "Eleven terns."}')

    asked(tmp_path, HEAD + steps, script)
    assert asked_for == [-(-len(PIECE.audio) // 1000)] * 2


def test_each_speaker_has_a_track_of_the_reply(tmp_path: Path) -> None:
    words = 'reply.words = { each = "words", text = "w", start = "s", end = "e" }\n'
    toml = f'{HEAD}send.raw = "{{audio}}"\n{words}'
    body = {
        "parts": [
            {"who": "A", "words": [{"w": "Low", "s": 0.2, "e": 0.5}, {"w": "Now", "s": 4, "e": 5}]},
            {"who": "B", "words": [{"w": "Tide?", "s": 2, "e": 2.5}]},
        ]
    }
    for speaker, names in ((', speaker = "who"', "ABA"), ("", "010")):
        tracks = f'reply.tracks = {{ each = "parts"{speaker} }}\n'
        card = workspace_of(tmp_path, toml + tracks).engine(None)
        kept = type("Kept", (), {"body": json.dumps(body).encode()})()
        passages = reading_of(card, kept, PIECE, {}).passages
        assert [one.text for one in passages] == ["Low", "Tide?", "Now"]
        assert "".join(one.speaker or "-" for one in passages) == names


def test_tracks_may_be_files_of_their_own(tmp_path: Path) -> None:
    steps = (
        'steps.start = { path = "/jobs", raw = "{audio}", take.links = "tracks" }\n'
        'steps.fetch.url = "{links}"\nreply.tracks.each = "[@]"\n'
        'reply.words = { each = "words", text = "w", start = "s", end = "e" }\n'
    )

    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "POST":
            return HttpAnswer(200, {}, b'{"tracks": ["/track/0", "/track/1"]}')
        number = int(request.url[-1])
        words = [{"w": f"w{number}", "s": 3 - 2 * number, "e": 4 - 2 * number}]
        return HttpAnswer(200, {}, json.dumps({"words": words}).encode())

    came, _ = asked(tmp_path, HEAD + steps, script)
    card = workspace_of(tmp_path, HEAD + steps).engine(None)
    passages = reading_of(card, came, PIECE, {}).passages
    assert [(one.text, one.speaker) for one in passages] == [("w1", "1"), ("w0", "0")]


def test_a_moment_is_read_where_seconds_are(tmp_path: Path) -> None:
    rules = ErrorRules(retry_after=Take("until"))
    answer = HttpAnswer(429, {}, b'{"until": "2026-05-04T05:00:30Z"}')
    assert retry_after(answer, rules, now=1777870800.0) == 30.0


ASKED_EVENTS = (
    f'{HEAD}steps.start = {{ path = "/jobs", raw = "{{audio}}", take.job = "id" }}\n'
    'steps.listen.path = "/jobs/{job}/events"\n'
    'reply = { format = "events", end_mark = "over", text = "said" }\n'
)


def numbered(*words: str, first: int = 1) -> bytes:
    events = [f'id: {n}\ndata: {{"said": "{word} "}}\n\n' for n, word in enumerate(words, first)]
    return "".join(events).encode()


def test_a_stream_of_events_is_taken_up_where_it_broke_off(tmp_path: Path) -> None:
    first, second = numbered("Eleven", "terns"), numbered("on", "the", first=3)
    last = numbered("shingle", first=5) + b"event: over\ndata: {}\n\n"
    answers = iter([first + b'id: 3\ndata: {"sa', second, last])
    asked_after: list[str | None] = []

    def script(request: HttpRequest) -> HttpAnswer:
        if request.method == "POST":
            return HttpAnswer(200, {}, b'{"id": "j"}')
        asked_after.append(request.header("last-event-id"))
        body = next(answers)
        if body.endswith(b'"sa'):
            assert request.on_block is not None
            request.on_block(body)
            raise UnreachableError("the connection broke", engine="smew")
        return HttpAnswer(200, {}, body)

    came, _ = asked(tmp_path, ASKED_EVENTS, script)
    assert asked_after == [None, "2", "4"]
    card = workspace_of(tmp_path, ASKED_EVENTS).engine(None)
    (passage,) = reading_of(card, came, PIECE, {}).passages
    assert passage.text == "Eleven terns on the shingle"


def test_a_stream_whose_events_have_no_number_is_not_taken_up(tmp_path: Path) -> None:
    asked_for = []

    def script(request: HttpRequest) -> HttpAnswer:
        asked_for.append(request.method)
        if request.method == "POST":
            return HttpAnswer(200, {}, b'{"id": "j"}')
        return HttpAnswer(200, {}, b'data: {"said": "Eleven"}\n\n')

    with pytest.raises(IncompleteReplyError, match="'over'"):
        asked(tmp_path, ASKED_EVENTS, script)
    assert asked_for == ["POST", "GET"]


@pytest.mark.parametrize(
    ("reply", "blocks", "heard"),
    [
        (
            'format = "lines", text = "t"',
            ['{"t": "Eleven "}\n{"t": "te', 'rns"}\n', '{"t": " now"}'],
            ["Eleven", "Eleven terns"],
        ),
        (
            'format = "events", text = "t", is_whole_text = true',
            ['data: {"t": "Eleven"}\r\n\r\n', 'data: {"t": "Eleven terns"}\r\n\r\n'],
            ["Eleven", "Eleven terns"],
        ),
        (
            'format = "lines", key = "n", passages = { each = "[@]", text = "t" }',
            ['{"n": 1, "t": "Elven"}\n', '{"n": 1, "t": "Eleven"}\n{"n": 2, "t": "terns"}\n'],
            ["Elven", "Eleven terns"],
        ),
        (
            'format = "lines", words = { each = "w", text = "t", start = "s", end = "e" }',
            ['{"w": [{"t": "Eleven"}, {"t": "terns"}]}\n', "not JSON\n"],
            ["Eleven terns"],
        ),
    ],
)
def test_text_is_told_while_it_comes(
    tmp_path: Path, reply: str, blocks: list[str], heard: list[str]
) -> None:
    card = workspace_of(tmp_path, f'{HEAD}send.raw = "{{audio}}"\nreply = {{ {reply} }}\n').engine(
        None
    )
    told: list[str] = []
    times = iter(range(0, 100, 1))
    listener = ReplyStream(card, lambda: float(next(times))).listener()
    with heard_by(told.append):
        for block in blocks:
            listener(block.encode())
    assert told == heard
