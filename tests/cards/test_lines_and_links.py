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
from mantisreed.engines.asking import reading_of
from mantisreed.errors import BadRequestError, EngineError

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


def test_a_moment_is_read_where_seconds_are(tmp_path: Path) -> None:
    rules = ErrorRules(retry_after=Take("until"))
    answer = HttpAnswer(429, {}, b'{"until": "2026-05-04T05:00:30Z"}')
    assert retry_after(answer, rules, now=1777870800.0) == 30.0
