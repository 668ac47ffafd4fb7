"""In which steps a stranger is spoken to: at once, as a job, by an upload elsewhere, in chunks, in
a conversation.
"""

import asyncio
import base64
import json
import random
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any, Protocol
from xml.sax.saxutils import escape

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import BaseRoute, Route, WebSocketRoute
from starlette.websockets import WebSocket

from composed.bodies import Carrier, RefusedError, Sound
from composed.names import Names, path_of
from composed.replies import Shape
from mantisreed.standin.hearing import Hearing

Card = dict[str, Any]
Handler = Callable[[Request, bytes], Awaitable[Response]]


class Host(Protocol):
    """What a way needs of the service that has it; a `Stranger` is one.

    Attributes:
        seed, key, names, sound, carrier, shape, troubles, pages_card: as a stranger has them.
    """

    seed: int
    key: str
    names: Names
    sound: Sound
    carrier: Carrier
    shape: Shape
    troubles: list[str]
    pages_card: Card

    def note(self, what: str) -> None: ...

    def make_plain(self) -> None: ...

    def make_streamed(self, kind: str, final: str) -> None: ...

    def allows(self, request: Request, body: bytes) -> bool: ...

    def reply(self, hearing: Hearing, key: str = "") -> Response: ...

    def paged(self, request: Request, whole: Response) -> Response: ...

    def route(
        self,
        path: str,
        handler: Handler,
        *,
        methods: list[str] | None = None,
        is_work: bool = False,
    ) -> BaseRoute: ...

    async def hear(self, content: bytes) -> Hearing: ...

    async def reply_lines(self, content: bytes) -> list[str]: ...


@dataclass
class Way:
    """A way.

    Attributes:
        kind: words for people.
        card: what it adds to the card.
        routes: what it answers.
        recordings: how many are sent together.
    """

    kind: str
    card: Card
    routes: list[BaseRoute] = field(default_factory=list)
    recordings: int = 1


def way(chance: random.Random, stranger: Host) -> Way:
    """Any way."""
    makers = (
        _at_once,
        _at_once,
        _job,
        _job,
        _job,
        _uploaded,
        _uploaded,
        _chunked,
        _parts,
        _linked,
        _streamed,
        _conversation,
        _batch,
    )
    return chance.choice(makers)(chance, stranger)


def _at_once(chance: random.Random, stranger: Host) -> Way:
    """One request, whose answer is the reply; perhaps in pages."""
    where = stranger.names.plain()

    async def answer(request: Request, body: bytes) -> Response:
        hearing = await stranger.hear(await stranger.carrier.read(request, body))
        return stranger.reply(hearing)

    step = {**stranger.carrier.step, "path": f"/{where}"}
    return Way("at once", {"send": step}, [stranger.route(f"/{where}", answer, is_work=True)])


@dataclass
class _States:
    """How a job's state is written.

    Attributes:
        card: what it adds to the step that asks.
        body: what an answer says, and its status, while waiting and when done.
    """

    card: Card
    waiting: tuple[int, Any]
    done: tuple[int, Any]
    retry_after: str | None = None


def _states(chance: random.Random, stranger: Host) -> _States:
    names = stranger.names
    key, deep = names.new(), names.new()
    path = path_of(deep, key)
    made = chance.choice(
        ("text", "number", "boolean", "condition", "statuses", "not yet", "among others")
    )
    states: Card
    if made == "text":
        waiting, done, failed = names.new(), names.new(), names.new()
        states = {"state": path, "waiting": [waiting], "done": [done], "failed": [failed]}
        return _States(
            states,
            (200, {deep: {key: waiting}}),
            (200, {deep: {key: done}}),
            chance.choice((None, "0")),
        )
    if made == "number":
        states = {"state": path, "waiting": [0, 1], "done": [2], "failed": [3, 4]}
        return _States(states, (200, {deep: {key: 1}}), (200, {deep: {key: 2}}))
    if made == "boolean":
        states = {"state": path, "waiting": [False], "done": [True]}
        return _States(states, (200, {deep: {key: False}}), (200, {deep: {key: True}}))
    if made == "condition":
        states = {
            "done_when": f"{path} >= `100`",
            "waiting_when": f"{path} < `100`",
            "failed_when": f"{path_of(deep)}.x",
        }
        return _States(states, (200, {deep: {key: 40}}), (200, {deep: {key: 100}}))
    if made == "statuses":
        return _States(
            {"waiting_statuses": [202], "done_statuses": [200]}, (202, {}), (200, {}), "0"
        )
    if made == "among others":
        job = names.new()
        states = {
            "state": f"{path_of(deep)}[?{path_of(job)} == '{{job}}'].{path_of(key)} | [0]",
            "waiting": ["wet"],
            "done": ["dry"],
        }
        others = {job: "another", key: "dry"}
        return _States(
            states,
            (200, {deep: [others, {job: "{job}", key: "wet"}]}),
            (200, {deep: [others, {job: "{job}", key: "dry"}]}),
        )
    return _States(
        {"waiting_statuses": [404], "done_statuses": [200]}, (404, {"no": "not yet"}), (200, {})
    )


def _with_job(document: Any, number: str) -> Any:
    """A document that says which job it means."""
    return json.loads(json.dumps(document).replace("{job}", number))


class _Jobs:
    """Jobs that need to be asked about twice."""

    def __init__(self, stranger: Host) -> None:
        self._stranger = stranger
        self.answers: dict[str, Response] = {}
        self._asked: dict[str, int] = {}

    def new(self, answer: Response) -> str:
        number = f"{self._stranger.seed}-{len(self.answers) + 1}"
        self.answers[number] = answer
        return number

    def is_done(self, number: str) -> bool:
        if number not in self.answers:
            raise RefusedError(f"no job {number}")
        self._asked[number] = self._asked.get(number, 0) + 1
        return self._asked[number] > 2


def _asking(
    chance: random.Random, stranger: Host, jobs: _Jobs, where: str
) -> tuple[Card, list[BaseRoute]]:
    """The steps after a job was started, where `{job}` is taken, and what answers them."""
    names, states = stranger.names, _states(chance, stranger)
    ask: Card = {
        **states.card,
        "path": f"/{where}/{{job}}",
        "interval": "20 ms",
        "max_interval": "50 ms",
    }
    last = chance.choice(
        ("fetch", "fetch", "link", "redirect" if states.done[0] == 200 else "fetch")
    )
    fetched, link, kept = names.plain(), names.new(), names.plain()
    link_kind = chance.choice(("absolute", "root", "relative", "header"))
    routes: list[BaseRoute] = []

    async def asked(request: Request, body: bytes) -> Response:
        number = request.path_params["job"]
        if not jobs.is_done(number):
            if states.retry_after is None:
                headers = {}
            else:
                headers = {"Retry-After": states.retry_after}
            return JSONResponse(_with_job(states.waiting[1], number), states.waiting[0], headers)
        if last == "redirect":
            return Response(status_code=303, headers={"Location": f"../{fetched}/{number}"})
        document, headers = dict(_with_job(states.done[1], number)), {}
        if last == "link":
            path = f"{request.url.path.rsplit('/', 2)[0]}/{fetched}/{number}?mark=a%20b"
            url = {
                "absolute": f"{request.url.scheme}://{request.url.netloc}{path}",
                "root": path,
                "relative": f"../{fetched}/{number}?mark=a%20b",
                "header": path,
            }[link_kind]
            if link_kind == "header":
                headers["Location"] = url
            else:
                document[link] = url
        return JSONResponse(document, states.done[0], headers)

    async def fetch(request: Request, body: bytes) -> Response:
        if last == "link" and request.query_params.get("mark") != "a b":
            raise RefusedError("the link was not used as it is")
        number = request.path_params["job"]
        if number not in jobs.answers:
            raise RefusedError(f"no job {number}")
        return stranger.paged(request, jobs.answers[number])

    routes.append(stranger.route(f"/{where}/{{job}}", asked, methods=["GET"]))
    routes.append(stranger.route(f"/{fetched}/{{job}}", fetch, methods=["GET"]))
    if last == "redirect":
        for key in (
            "state",
            "waiting",
            "done",
            "failed",
            "done_when",
            "waiting_when",
            "failed_when",
            "done_statuses",
        ):
            ask.pop(key, None)
        waiting = states.waiting[0]
        ask |= {
            "waiting_statuses": [waiting],
            "done_statuses": [303],
            "take": {kept: "header:Location"},
        }
        steps: Card = {"ask": ask, "fetch": {"url": f"{{{kept}}}", **stranger.pages_card}}
    elif last == "link":
        ask["take"] = {kept: "header:Location" if link_kind == "header" else path_of(link)}
        steps = {"ask": ask, "fetch": {"url": f"{{{kept}}}", **stranger.pages_card}}
    else:
        steps = {"ask": ask, "fetch": {"path": f"/{fetched}/{{job}}", **stranger.pages_card}}
    if chance.random() < 0.4:
        removed = names.plain()

        async def remove(request: Request, body: bytes) -> Response:
            return Response(status_code=chance.choice((204, 500)))

        routes.append(stranger.route(f"/{removed}/{{job}}", remove, methods=["DELETE"]))
        steps["remove"] = {"path": f"/{removed}/{{job}}", "method": "DELETE", "cleanup": True}
    stranger.note(f"states {sorted(states.card)} then {last}")
    return steps, routes


def _job(chance: random.Random, stranger: Host) -> Way:
    """The sound starts a job; the job is asked for."""
    names, jobs = stranger.names, _Jobs(stranger)
    where, key, deep = names.plain(), names.new(), names.new()
    place = chance.choice(("body", "header", "text"))
    header = names.header()

    async def start(request: Request, body: bytes) -> Response:
        hearing = await stranger.hear(await stranger.carrier.read(request, body))
        number = jobs.new(stranger.reply(hearing))
        if place == "header":
            return Response(status_code=202, headers={header: number})
        if place == "text":
            return Response(number)
        return JSONResponse({deep: {key: number}}, 201)

    taken = {"body": path_of(deep, key), "header": f"header:{header}", "text": "text:"}[place]
    steps, routes = _asking(chance, stranger, jobs, where)
    first = {**stranger.carrier.step, "path": f"/{where}", "take": {"job": taken}}
    return Way(
        f"job/{place}",
        {"steps": {"start": first, **steps}},
        [stranger.route(f"/{where}", start, is_work=True), *routes],
    )


def _uploaded(chance: random.Random, stranger: Host) -> Way:
    """A ticket, the bytes to another host without keys, perhaps word that they are there, then a
    job.
    """
    names, jobs = stranger.names, _Jobs(stranger)
    ticket, place, there, start_at = names.plain(), names.plain(), names.plain(), names.plain()
    url_key, id_key, header_key, sound_key, tongue_key, job_key = (names.new() for _ in range(6))
    sounds: dict[str, bytes] = {}
    ready: set[str] = set()
    needs_word, signed_header = chance.random() < 0.5, names.header()
    is_processed, looked_at, looks, ready_key = (
        chance.random() < 0.5,
        names.plain(),
        dict[str, int](),
        names.new(),
    )

    async def give(request: Request, body: bytes) -> Response:
        asked = json.loads(body)
        if asked.get(header_key) != stranger.sound.content_type and "rate=" not in str(
            asked.get(header_key)
        ):
            raise RefusedError(f"{header_key}: {asked}")
        number = f"s{len(sounds) + 1}"
        sounds[number] = b""
        prefix = request.url.path.rpartition("/")[0]
        url = f"http://localhost:{request.url.port}{prefix}/{place}/{number}?sig=a%2Fb%3D&n=1"
        return JSONResponse({url_key: url, id_key: number, header_key: "tide"})

    async def put(request: Request) -> Response:
        has_key = stranger.key in str(request.headers) or stranger.key in str(request.url)
        if (
            has_key
            or request.query_params.get("sig") != "a/b="
            or request.headers.get(signed_header) != "tide"
        ):
            return JSONResponse({"no": "not as it was signed"}, 403)
        sounds[request.path_params["number"]] = await request.body()
        return Response(status_code=200, headers={"ETag": '"x"'})

    async def word(request: Request, body: bytes) -> Response:
        ready.add(request.path_params["number"])
        return Response(status_code=204)

    async def start(request: Request, body: bytes) -> Response:
        given = json.loads(body)
        number = given.get(sound_key)
        if is_processed and looks.get(number, 0) < 3:
            raise RefusedError("not processed yet")
        if (
            given.get(tongue_key) != "en"
            or number not in sounds
            or (needs_word and number not in ready)
        ):
            raise RefusedError(f"not ready: {given}")
        return JSONResponse(
            {job_key: jobs.new(stranger.reply(await stranger.hear(sounds[number])))}
        )

    async def look(request: Request, body: bytes) -> Response:
        number = request.path_params["number"]
        looks[number] = looks.get(number, 0) + 1
        return JSONResponse({ready_key: looks[number] >= 3})

    steps: Card = {
        "ticket": {
            "path": f"/{ticket}",
            "json": {header_key: "{content_type}"},
            "take": {
                "target_url": path_of(url_key),
                "sound": path_of(id_key),
                "signed": path_of(header_key),
            },
        },
        "put": {
            "url": "{target_url}",
            "method": "PUT",
            "raw": "{audio}",
            "headers": {signed_header: "{signed}"},
        },
    }
    if needs_word:
        steps["complete"] = {"path": f"/{there}/{{sound}}", "method": "POST"}
    if is_processed:
        steps["process"] = {
            "path": f"/{looked_at}/{{sound}}",
            "state": path_of(ready_key),
            "waiting": [False],
            "done": [True],
            "interval": "20 ms",
        }
    steps["start"] = {
        "path": f"/{start_at}",
        "json": {sound_key: "{sound}", tongue_key: "{language}"},
        "take": {"job": path_of(job_key)},
    }
    later, routes = _asking(chance, stranger, jobs, names.plain())
    routes += [
        stranger.route(f"/{ticket}", give),
        Route(f"/{place}/{{number}}", put, methods=["PUT"]),
        stranger.route(f"/{there}/{{number}}", word),
        stranger.route(f"/{looked_at}/{{number}}", look, methods=["GET"]),
        stranger.route(f"/{start_at}", start, is_work=True),
    ]
    return Way(
        f"uploaded{'/processed' if is_processed else ''}", {"steps": {**steps, **later}}, routes
    )


def _chunked(chance: random.Random, stranger: Host) -> Way:
    """An upload in chunks that breaks off once, then a job."""
    names, jobs = stranger.names, _Jobs(stranger)
    where, start_at, id_key, got_key, job_key, sound_key = (
        *(names.plain() for _ in range(2)),
        *(names.new() for _ in range(4)),
    )
    size, received_in = chance.choice((4096, 10_000, 65_536)), chance.choice(("header", "body"))
    sounds: dict[str, bytearray] = {}
    has_broken: set[str] = set()

    async def create(request: Request, body: bytes) -> Response:
        number = f"u{len(sounds) + 1}"
        sounds[number] = bytearray()
        return JSONResponse({id_key: number}, 201)

    async def chunk(request: Request, body: bytes) -> Response:
        number = request.path_params["number"]
        held = sounds[number]
        span = request.headers.get("content-range", "")
        if span.startswith("bytes */"):
            return received(held, int(span.rpartition("/")[2]))
        first, _, rest = span.removeprefix("bytes ").partition("-")
        last, _, whole = rest.partition("/")
        if int(first) != len(held) or int(last) - int(first) + 1 != len(body):
            raise RefusedError(f"expected bytes from {len(held)}, found {span}")
        if len(held) > 0 and number not in has_broken:
            has_broken.add(number)
            held += body[: len(body) // 2]
            return Response(status_code=503)
        held += body
        return received(held, int(whole))

    def received(held: bytearray, whole: int) -> Response:
        is_whole = len(held) == whole
        if received_in == "header" and held:
            headers = {"Range": f"bytes=0-{len(held) - 1}"}
        else:
            headers = {}
        status = 200 if is_whole else 308
        return JSONResponse({got_key: len(held)}, status, headers)

    async def start(request: Request, body: bytes) -> Response:
        given = json.loads(body)
        hearing = await stranger.hear(bytes(sounds[given[sound_key]]))
        return JSONResponse({job_key: jobs.new(stranger.reply(hearing))})

    if received_in == "header":
        taken = "header:Range"
    else:
        taken = path_of(got_key)
    resume = {
        "path": f"/{where}/{{upload}}",
        "method": "PUT",
        "headers": {"Content-Range": "bytes */{audio_size}"},
        "ok_statuses": [308],
    }
    steps: Card = {
        "create": {"path": f"/{where}", "method": "POST", "take": {"upload": path_of(id_key)}},
        "chunk": {
            "path": f"/{where}/{{upload}}",
            "method": "PUT",
            "raw": "{chunk}",
            "content_type": "application/octet-stream",
            "headers": {"Content-Range": "bytes {chunk_start}-{chunk_end}/{audio_size}"},
            "ok_statuses": [308],
            "chunks": {"size": size, "received": taken, "resume": resume},
        },
        "start": {
            "path": f"/{start_at}",
            "json": {sound_key: "{upload}"},
            "take": {"job": path_of(job_key)},
        },
    }
    later, routes = _asking(chance, stranger, jobs, names.plain())
    routes += [
        stranger.route(f"/{where}", create),
        stranger.route(f"/{where}/{{number}}", chunk, methods=["PUT"]),
        stranger.route(f"/{start_at}", start, is_work=True),
    ]
    return Way(f"chunked/{received_in}", {"steps": {**steps, **later}}, routes)


def _parts(chance: random.Random, stranger: Host) -> Way:
    """An upload in numbered parts; the list of their marks completes it."""
    names, jobs = stranger.names, _Jobs(stranger)
    where, done_at, id_key, list_key, number_key, mark_key, job_key = (
        *(names.plain() for _ in range(2)),
        *(names.new() for _ in range(5)),
    )
    sounds: dict[str, dict[int, bytes]] = {}
    as_xml = chance.random() < 0.5

    async def create(request: Request, body: bytes) -> Response:
        sounds[number := f"p{len(sounds) + 1}"] = {}
        return JSONResponse({id_key: number})

    async def part(request: Request, body: bytes) -> Response:
        place = int(request.query_params["part"])
        sounds[request.path_params["number"]][place] = body
        return Response(headers={"ETag": f'"mark-{place}"'})

    async def complete(request: Request, body: bytes) -> Response:
        held = sounds[request.path_params["number"]]
        wanted = [(place, f'"mark-{place}"') for place in sorted(held)]
        if as_xml:
            expected = "".join(
                f"<P><N>{place}</N><M>{escape(mark)}</M></P>" for place, mark in wanted
            )
            if body.decode().replace("&quot;", '"') != f"<All>{expected}</All>":
                raise RefusedError(f"expected {expected}, found {body!r}")
        elif json.loads(body) != {
            list_key: [{number_key: place, mark_key: mark} for place, mark in wanted]
        }:
            raise RefusedError(f"expected {wanted}, found {body!r}")
        whole = b"".join(held[place] for place in sorted(held))
        return JSONResponse({job_key: jobs.new(stranger.reply(await stranger.hear(whole)))})

    item: Any = {number_key: "{chunk_number}", mark_key: "{mark}"}
    body: Card = {"json": {list_key: "{chunk_items}"}}
    if as_xml:
        item = "<P><N>{chunk_number}</N><M>{mark|xml}</M></P>"
        body = {"raw": "<All>{chunk_items|join:}</All>", "content_type": "application/xml"}
    chunks = {"size": 50_000, "collect": {"mark": "header:ETag"}, "item": item}
    steps: Card = {
        "create": {"path": f"/{where}", "method": "POST", "take": {"upload": path_of(id_key)}},
        "part": {
            "path": f"/{where}/{{upload}}",
            "method": "PUT",
            "query": {"part": "{chunk_number}"},
            "raw": "{chunk}",
            "content_type": "application/octet-stream",
            "chunks": chunks,
        },
        "complete": {"path": f"/{done_at}/{{upload}}", **body, "take": {"job": path_of(job_key)}},
    }
    later, routes = _asking(chance, stranger, jobs, names.plain())
    routes += [
        stranger.route(f"/{where}", create),
        stranger.route(f"/{where}/{{number}}", part, methods=["PUT"]),
        stranger.route(f"/{done_at}/{{number}}", complete, is_work=True),
    ]
    return Way(f"parts/{'xml' if as_xml else 'json'}", {"steps": {**steps, **later}}, routes)


def _linked(chance: random.Random, stranger: Host) -> Way:
    """An upload in parts, each to a link of its own; the number or the size of parts is agreed on
    before.
    """
    names, jobs = stranger.names, _Jobs(stranger)
    where, store, done_at, id_key, list_key, link_key, place_key, size_key, mark_key, job_key = (
        *(names.plain() for _ in range(3)),
        *(names.new() for _ in range(7)),
    )
    sounds: dict[str, dict[int, bytes]] = {}
    sizes_say = chance.choice(("size", "count"))
    count_key = names.new()

    async def create(request: Request, body: bytes) -> Response:
        asked = json.loads(body)
        sounds[number := f"l{len(sounds) + 1}"] = {}
        size = 70_000
        count = int(asked[count_key])
        if sizes_say == "size":
            count = -(-count // size)
        url = str(request.url).partition("?")[0].removesuffix(where)
        links = [
            {place_key: place, link_key: f"{url}{store}/{number}/{place}?sig=s{place}"}
            for place in range(count)
        ]
        chance.shuffle(links)
        return JSONResponse({id_key: number, list_key: links, size_key: size})

    async def part(request: Request) -> Response:
        place = int(request.path_params["place"])
        if request.query_params.get("sig") != f"s{place}":
            stranger.troubles.append("a link without its signature")
            return Response(status_code=403)
        sounds[request.path_params["number"]][place] = await request.body()
        return Response(headers={"ETag": f"m{place}"})

    async def complete(request: Request, body: bytes) -> Response:
        held = sounds[request.path_params["number"]]
        if json.loads(body) != {mark_key: [f"m{place}" for place in sorted(held)]}:
            raise RefusedError(f"expected the marks of {len(held)} parts, found {body!r}")
        whole = b"".join(held[place] for place in sorted(held))
        return JSONResponse({job_key: jobs.new(stranger.reply(await stranger.hear(whole)))})

    links = f"sort_by({path_of(list_key)}, &{path_of(place_key)})[].{path_of(link_key)}"
    ticket: Card = {"path": f"/{where}", "take": {"upload": path_of(id_key), "links": links}}
    chunks: Card = {"collect": {"mark": "header:ETag"}}
    if sizes_say == "size":
        ticket |= {"json": {count_key: "{audio_size}"}}
        ticket["take"]["part_size"] = path_of(size_key)
        chunks["size"] = "{part_size}"
    else:
        ticket |= {"json": {count_key: "{chunk_count}"}}
        chunks["size"] = 60_000
    steps: Card = {
        "ticket": ticket,
        "part": {
            "url": "{links}",
            "method": "PUT",
            "raw": "{chunk}",
            "content_type": "application/octet-stream",
            "chunks": chunks,
        },
        "complete": {
            "path": f"/{done_at}/{{upload}}",
            "json": {mark_key: "{mark}"},
            "take": {"job": path_of(job_key)},
        },
    }
    later, routes = _asking(chance, stranger, jobs, names.plain())
    routes += [
        stranger.route(f"/{where}", create),
        Route(f"/{store}/{{number}}/{{place}}", part, methods=["PUT"]),
        stranger.route(f"/{done_at}/{{number}}", complete, is_work=True),
    ]
    return Way(f"linked by {sizes_say}", {"steps": {**steps, **later}}, routes)


def _streamed(chance: random.Random, stranger: Host) -> Way:
    """A job whose events are heard as they happen; the stream breaks off now and then."""
    names = stranger.names
    where, job_key, kind_key = names.plain(), names.new(), names.new()
    final, over = names.plain(), names.plain()
    stranger.make_streamed(kind_key, final)
    events: dict[str, list[str]] = {}

    async def start(request: Request, body: bytes) -> Response:
        content = await stranger.carrier.read(request, body)
        number = f"e{len(events) + 1}"
        events[number] = await stranger.reply_lines(content)
        return JSONResponse({job_key: number})

    async def listen(request: Request, body: bytes) -> Response:
        lines = events[request.path_params["number"]]
        last = int(request.headers.get("last-event-id", "0"))
        some = lines[last : last + max(1, len(lines) // 3)]
        said = [f"id: {number}\ndata: {line}\n\n" for number, line in enumerate(some, last + 1)]
        if last + len(some) >= len(lines):
            said.append(f"event: {over}\ndata: {{}}\n\n")
        return Response("retry: 10\n\n" + "".join(said), media_type="text/event-stream")

    table = stranger.shape.table
    table |= {"format": "events", "end_mark": over, "only": f"{path_of(kind_key)} == '{final}'"}
    begin = {**stranger.carrier.step, "path": f"/{where}", "take": {"job": path_of(job_key)}}
    steps = {"start": begin, "listen": {"path": f"/{where}/{{job}}"}}
    routes = [
        stranger.route(f"/{where}", start, is_work=True),
        stranger.route(f"/{where}/{{number}}", listen, methods=["GET"]),
    ]
    return Way("streamed again", {"steps": steps}, routes)


def _batch(chance: random.Random, stranger: Host) -> Way:
    """Several recordings are uploaded, and one job answers for all of them."""
    names, jobs = stranger.names, _Jobs(stranger)
    where, start_at, id_key, key_key, sound_key, job_key, list_key, one_key = (
        *(names.plain() for _ in range(2)),
        *(names.new() for _ in range(6)),
    )
    sounds: dict[str, bytes] = {}
    as_lines = chance.random() < 0.5
    stranger.make_plain()

    async def upload(request: Request, body: bytes) -> Response:
        number = f"b{len(sounds) + 1}"
        sounds[number] = await stranger.carrier.read(request, body)
        return JSONResponse({id_key: number})

    async def start(request: Request, body: bytes) -> Response:
        if as_lines:
            items = [json.loads(line) for line in body.decode().splitlines()]
        else:
            items = json.loads(body)[list_key]
        results = []
        for item in reversed(items):
            answer = stranger.reply(
                await stranger.hear(sounds[item[sound_key]]), key=item[sound_key]
            )
            results.append({key_key: item[key_key], one_key: json.loads(bytes(answer.body))})
        return JSONResponse({job_key: jobs.new(JSONResponse({list_key: results}))})

    item = {key_key: "{piece_key}", sound_key: "{sound}"}
    body: Card = (
        {"raw": "{manifest|json_lines}"} if as_lines else {"json": {list_key: "{manifest}"}}
    )
    if as_lines:
        body["content_type"] = "application/x-ndjson"
    steps: Card = {
        "upload": {
            **stranger.carrier.step,
            "path": f"/{where}",
            "take": {"sound": path_of(id_key)},
        },
        "start": {"path": f"/{start_at}", **body, "take": {"job": path_of(job_key)}},
    }
    later, routes = _asking(chance, stranger, jobs, names.plain())
    routes += [
        stranger.route(f"/{where}", upload),
        stranger.route(f"/{start_at}", start, is_work=True),
    ]
    batch = {
        "step": "start",
        "item": item,
        "results": path_of(list_key),
        "key": path_of(key_key),
        "reply": path_of(one_key),
        "wait": "500 ms",
    }
    return Way(
        "batch/lines" if as_lines else "batch",
        {"steps": {**steps, **later}, "batch": batch},
        routes,
        2,
    )


def _conversation(chance: random.Random, stranger: Host) -> Way:
    """Over a WebSocket: a greeting, the sound bit by bit, the final messages one by one."""
    names = stranger.names
    where, kind, begin, tongue, sound_key, over, final, partial, text, end = (
        names.plain(),
        *(names.new() for _ in range(9)),
    )
    as_json, waits_for_ready = chance.random() < 0.5, chance.random() < 0.5
    last_binary = not as_json and chance.random() < 0.4
    closes = chance.random() < 0.4
    protocol = chance.choice((None, names.plain()))
    stranger.make_streamed(kind, final)

    async def talk(socket: WebSocket) -> None:
        request = Request({**socket.scope, "type": "http", "method": "GET"})
        if not stranger.allows(request, b"") or (
            protocol and protocol not in socket.scope["subprotocols"]
        ):
            await socket.close(4401)
            return
        await socket.accept(protocol)
        hello = await socket.receive_json()
        if hello != {begin: {tongue: "en"}}:
            await socket.send_json({kind: "error", text: f"wrong greeting {hello}"})
            return
        if waits_for_ready:
            await socket.send_json({kind: begin})
        content = bytearray()
        while True:
            message = await socket.receive()
            if message["type"] != "websocket.receive":
                return
            data = message.get("bytes")
            if data is None:
                given = json.loads(message["text"])
                if given == {kind: over}:
                    break
                data = base64.b64decode(given[sound_key], validate=True)
            elif not data:
                break
            content += data
            if len(content) < 20_000:
                await socket.send_json({kind: partial, text: "so far"})
        for line in await stranger.reply_lines(bytes(content)):
            await socket.send_text(line)
        if not closes:
            await socket.send_json({kind: end})
            await asyncio.sleep(0.2)
        await socket.close()

    async def guarded(socket: WebSocket) -> None:
        try:
            await talk(socket)
        except Exception as error:
            stranger.troubles.append(repr(error))

    kind_path = path_of(kind)
    socket: Card = {
        "first": {begin: {tongue: "{language}"}},
        "partial": f"{kind_path} == '{partial}'",
        "partial_text": path_of(text),
        "error": f"{kind_path} == 'error'",
        "final": f"{kind_path} == '{final}'",
    }
    if as_json:
        socket |= {"audio": {sound_key: "{chunk|base64}"}, "chunk": "200 ms"}
    if last_binary:
        socket["last_binary"] = True
    else:
        socket["last"] = {kind: over}
    if waits_for_ready:
        socket["ready"] = f"{kind_path} == '{begin}'"
    if not closes:
        socket["end"] = f"{kind_path} == '{end}'"
    if protocol:
        socket["subprotocol"] = protocol
    step = {"path": f"/{where}", "websocket": socket}
    return Way("conversation", {"send": step}, [WebSocketRoute(f"/{where}", guarded)])
