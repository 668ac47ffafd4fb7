"""Text services of any shape, composed by a seed: how texts go there, how answers come back, jobs
and keys.
"""

import asyncio
import base64
import html
import json
import random
import tomllib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any
from urllib.parse import parse_qs, urlsplit
from xml.sax.saxutils import escape

import pytest

from mantisreed.cards.wire.transport import HttpTransport
from mantisreed.secrets import Secret
from mantisreed.services.card import read_service
from mantisreed.services.client import (
    Question,
    TextServiceClient,
    question_key,
    read_data,
    read_sound,
    read_texts,
)
from web import QuietHandler, listening

TEXTS = ("Nets up at dawn.", "It's <wet> & windy — 20 % more!", "Zwei Kiebitze?", '"So," she said.')
KEY = "a key of the marsh"

BODIES: dict[str, tuple[str, Callable[[bytes], list[str]]]] = {
    "list": ('json.lines = "{passages}"', lambda body: json.loads(body)["lines"]),
    "objects": (
        'json = { to = "{target}", docs = "{passages}" }',
        lambda body: [one["said"] for one in json.loads(body)["docs"]],
    ),
    "fields": (
        'urlencoded = { q = "{passages}", to = "{target}" }',
        lambda body: parse_qs(body.decode())["q"],
    ),
    "one": ('json = { q = "{text}", from = "{language}" }', lambda body: [json.loads(body)["q"]]),
    "raw": (
        'raw = "{text}"\ncontent_type = "text/plain; charset=utf-8"',
        lambda body: [body.decode()],
    ),
    "prompt": (
        'json.messages = [{ role = "user", content = "Into {target}: {text}" }]',
        lambda body: [json.loads(body)["messages"][0]["content"].removeprefix("Into de: ")],
    ),
}
SEVERAL = ("list", "objects", "fields")


def turned(text: str) -> str:
    return text.swapcase()


def as_events(text: str) -> bytes:
    parts = [text[n : n + 7] for n in range(0, len(text), 7)]
    return (
        "".join(f"data: {json.dumps({'delta': {'t': part}})}\n\n" for part in parts).encode()
        + b"data: [DONE]\n\n"
    )


REPLIES = {
    "json": (
        'texts = "out[].t"',
        lambda texts: json.dumps({"out": [{"t": text} for text in texts]}).encode(),
    ),
    "html": (
        'texts = "data.list[*].v"\nis_html = true',
        lambda texts: json.dumps(
            {"data": {"list": [{"v": html.escape(text)} for text in texts]}}
        ).encode(),
    ),
    "mixed up": (
        'texts = "sort_by(out, &n)[].t"',
        lambda texts: json.dumps(
            {"out": [{"n": n, "t": text} for n, text in enumerate(texts)][::-1]}
        ).encode(),
    ),
    "xml": (
        'format = "xml"\ntexts = "r.s[]"',
        lambda texts: f"<r>{''.join(f'<s>{escape(text)}</s>' for text in texts)}</r>".encode(),
    ),
    "inside": (
        'inside = "choices[0].m"\ntexts = "t"',
        lambda texts: json.dumps(
            {"choices": [{"m": f"Here:\n```json\n{json.dumps({'t': texts})}\n```"}]}
        ).encode(),
    ),
}
SINGLE = {
    "text": ('format = "text"', lambda texts: texts[0].encode()),
    "json": ('text = "choices[0].message.content"', lambda texts: nested(texts[0])),
    "nested lists": (
        "text = \"join('', [0][*][0])\"",
        lambda texts: json.dumps([[[texts[0][:5], "x"], [texts[0][5:], "y"]]]).encode(),
    ),
    "events": ('format = "events"\ntext = "delta.t"', lambda texts: as_events(texts[0])),
    "lines": (
        'format = "lines"\ntext = "delta.t"',
        lambda texts: as_events(texts[0]).replace(b"data: ", b"").replace(b"\n\n", b"\n"),
    ),
}
KEYS = {
    "bearer": (
        'every.bearer = "{key}"',
        lambda head, query: head.get("authorization") == f"Bearer {KEY}",
    ),
    "header": ('every.headers.X-Reed = "{key}"', lambda head, query: head.get("x-reed") == KEY),
    "query": ('every.query.k = "{key}"', lambda head, query: query.get("k") == [KEY]),
    "basic": (
        'every.basic = "hut:{key}"',
        lambda head, query: (
            base64.b64decode(head.get("authorization", "").removeprefix("Basic "))
            == f"hut:{KEY}".encode()
        ),
    ),
}


def nested(text: str) -> bytes:
    return json.dumps({"choices": [{"message": {"content": text}}]}).encode()


@contextmanager
def served(body_kind: str, write: Any, lets_in: Any, *, is_job: bool) -> Iterator[str]:
    """The service; gives its address."""
    results: dict[str, bytes] = {}
    asked: dict[str, int] = {}

    class Handler(QuietHandler):
        def answer(self, body: bytes) -> tuple[int, bytes]:
            parts = urlsplit(self.path)
            head = {name.lower(): value for name, value in self.headers.items()}
            if not lets_in(head, parse_qs(parts.query)):
                return 401, b"{}"
            if self.command == "GET" and is_job:
                job = parts.path.rpartition("/")[2]
                asked[job] = asked.get(job, 0) + 1
                if parts.path.startswith("/results/"):
                    return 200, results[job]
                return 200, json.dumps({"is": "going" if asked[job] < 2 else "there"}).encode()
            written = write([turned(text) for text in BODIES[body_kind][1](body)])
            if not is_job:
                return 200, written
            results[str(len(results))] = written
            return 202, json.dumps({"job": str(len(results) - 1)}).encode()

        def handle_one(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
            self.send(*self.answer(body))

        do_GET = do_POST = handle_one  # noqa: N815

    with listening(Handler) as port:
        yield f"http://127.0.0.1:{port}"


def card_of(url: str, body: str, reply: str, key: str, *, is_job: bool, has_items: bool) -> str:
    item = 'item = { said = "{text}", n = "{number}" }' if has_items else ""
    exchange = f"[send]\n{body}"
    if is_job:
        exchange = (
            f'[steps.begin]\n{body}\ntake.job = "job"\n[steps.ask]\npath = "/jobs/{{job}}"\nstate '
            '= "is"\n'
            'waiting = ["going"]\ndone = ["there"]\ninterval = "10 ms"\n[steps.fetch]\npath = '
            '"/results/{job}"'
        )
    return (
        f'url = "{url}"\nsecrets.key = '
        f'"env:MARSH_KEY"\n{key}\n{item}\n[reply]\n{reply}\n{exchange}\n'
    )


async def answer_of(card: Any, question: Question) -> bytes:
    async with HttpTransport() as transport:
        return await TextServiceClient(card, {"key": Secret(KEY)}, transport).answer(question)


@pytest.mark.parametrize("seed", range(40))
def test_a_service_of_any_shape_is_understood_by_a_card(seed: int) -> None:
    chance = random.Random(seed)
    body_kind = chance.choice(list(BODIES))
    is_several = body_kind in SEVERAL
    reply, write = chance.choice(list((REPLIES if is_several else SINGLE).values()))
    key, lets_in = chance.choice(list(KEYS.values()))
    is_job = chance.random() < 0.5
    texts = TEXTS if is_several else TEXTS[:1]
    with served(body_kind, write, lets_in, is_job=is_job) as url:
        has_items = body_kind == "objects"
        toml = card_of(url, BODIES[body_kind][0], reply, key, is_job=is_job, has_items=has_items)
        card = read_service("reeve", tomllib.loads(toml), "mantisreed.toml")
        question = Question(texts, "en", "de")
        body = asyncio.run(answer_of(card, question))
        assert read_texts(card, body, question) == [turned(text) for text in texts], toml
        assert question_key(card, question) == question_key(card, Question(texts, "en", "de"))
        assert question_key(card, question) != question_key(
            card, Question((*texts[:-1], "other"), "en", "de")
        )


def service(reply: str) -> Any:
    toml = f'url = "http://h"\nsend.json.q = "{{text}}"\n[reply]\n{reply}'
    return read_service("reeve", tomllib.loads(toml), "mantisreed.toml")


def test_data_comes_from_json_xml_and_what_a_model_writes() -> None:
    wanted = {"tone": "calm", "force": 3}
    paths = 'data = { tone = "tone", force = "force" }'
    assert read_data(service(paths), json.dumps(wanted).encode()) == wanted
    xml = 'format = "xml"\ndata = { tone = "r.tone", force = "r.force" }'
    assert read_data(service(xml), b"<r><tone>calm</tone><force>3</force></r>") == wanted
    fenced = nested(f"Sure!\n```json\n{json.dumps(wanted)}\n```\nAnything else?")
    assert read_data(service(f'inside = "choices[0].message.content"\n{paths}'), fenced) == wanted


def test_sound_comes_as_it_is_or_in_base64() -> None:
    assert read_sound(service('format = "mp3"'), b"sound") == b"sound"
    packed = json.dumps({"audio": base64.b64encode(b"sound").decode()}).encode()
    assert read_sound(service('sound = "audio"\nsound_format = "ogg"'), packed) == b"sound"
