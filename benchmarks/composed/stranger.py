"""A stranger: one made-up service, composed from a seed."""

import json
import random
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import anyio.to_thread
import tomlkit
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import BaseRoute, Mount, Route

from composed.bodies import RefusedError, carrier, sound
from composed.doors import door
from composed.names import Names, path_of
from composed.replies import Shape, Truth, shape
from composed.ways import Handler, way
from mantisreed.errors import RecordingError
from mantisreed.standin.hearing import Hearing, Listener

Card = dict[str, Any]
_MOODS = ("none", "none", "none", "broken", "hurried", "hidden")


@dataclass(frozen=True, slots=True)
class _Billed:
    """How it says what it charges."""

    place: str
    name: str
    unit: str


class Stranger:
    """One made-up service.

    Attributes:
        seed, name, key: which one, what it is called, and its key.
        names: that it gives to things.
        sound, carrier, shape: what it takes, how, and how it replies.
        kind: its ways in a few words.
        troubles: why it refused requests.
        truths: what its replies said, by what it calls the sound; the newest under the empty text.
        billed: seconds that it said it charges.
        recordings: how many are sent together.
        files: secrets of its card that are files, with what is in them.
    """

    def __init__(self, seed: int, listener: Listener, key: str) -> None:
        """Compose it.

        Args:
            seed: of everything.
            listener: what it hears by.
            key: that it knows people by.
        """
        chance = random.Random(seed)
        self.seed, self.name, self.key = seed, f"stranger{seed}", key
        self._listener, self._chance = listener, chance
        self.names = Names(chance)
        self.troubles: list[str] = []
        self.truths: dict[str, Truth] = {}
        self.billed = 0.0
        self._notes: list[str] = []
        self.sound = sound(chance, self.names)
        self.carrier = carrier(chance, self.names, self.sound)
        self.shape: Shape = shape(chance, self.names, self.sound.rate)
        self._door = door(chance, self.names, key)
        self._mood = chance.choice(_MOODS)
        self._was_moody = False
        self._trouble_key = self.names.new()
        self._hidden_key = self.names.new()
        self._bill = self._any_bill()
        self.pages_card: Card = {}
        self._pages = ""
        self._choose_pages()
        self._way = way(chance, self)
        self.recordings = self._way.recordings
        self.files = self._door.files
        if self._way.kind == "conversation":
            self._mood, self._bill = "none", None
        if self._way.kind.startswith("batch") or self._way.kind == "streamed again":
            self._bill = None
        if self._way.kind == "at once":
            self._pages = ""

    @property
    def kind(self) -> str:
        """Its ways in a few words."""
        words = [self._way.kind, self._door.kind, f"{self.sound.format}@{self.sound.rate}"]
        if "conversation" not in self._way.kind and not words[0].startswith(
            ("uploaded", "chunked", "parts", "linked")
        ):
            words.append(self.carrier.kind)
        words += [
            self.shape.kind,
            f"mood {self._mood}",
            self._pages and f"pages {self._pages}",
            *self._notes,
        ]
        return " | ".join(word for word in words if word)

    def note(self, what: str) -> None:
        """Say more about its ways."""
        self._notes.append(what)

    def make_plain(self) -> None:
        """Reply with one JSON document, as a part of another one."""
        while self.shape.document is None or self.shape.table.get("format", "json") != "json":
            self.shape = shape(self._chance, self.names, self.sound.rate)
        document = self.shape.document
        self.shape.write = lambda hearing: _plainly(document, hearing)
        self.pages_card, self._pages = {}, ""

    def make_streamed(self, kind: str, final: str) -> None:
        """Reply with several messages, each with the words of a part."""
        while self.shape.document is None or self.shape.table.get("format") != "lines":
            self.shape = shape(self._chance, self.names, self.sound.rate)
        self._kind_of_message = {kind: final}
        self.pages_card, self._pages = {}, ""

    async def reply_lines(self, content: bytes) -> list[str]:
        """The messages that say what was heard."""
        hearing = await self.hear(content)
        body, _, truth = self.shape.write(hearing)
        self.truths[""] = truth
        lines = [json.loads(line) for line in body.decode().splitlines()]
        return [json.dumps({**line, **self._kind_of_message}) for line in lines]

    def _any_bill(self) -> _Billed | None:
        place = self._chance.choice(("none", "header"))
        if place == "none":
            return None
        return _Billed(place, self.names.header(), self._chance.choice(("s", "ms")))

    def _choose_pages(self) -> None:
        """Whether the words come in pages: by a link, a token, or a count."""
        # Only a plain document can be parted.
        if self.shape.document is None or not self.shape.list_path or self._chance.random() < 0.15:
            return
        self._pages = self._chance.choice(("link", "token", "offset", "number"))
        self._page_key, self._page_query = self.names.new(), self.names.plain()
        query = {"query": {self._page_query: f"{{page_{self._pages}}}"}}
        pages: dict[str, Card] = {
            "link": {"pages": {"next_url": path_of(self._page_key)}},
            "token": {"pages": {"next_token": path_of(self._page_key)}, **query},
            "offset": {"pages": {"items": path_of(*self.shape.list_path)}, **query},
            "number": {"pages": {"items": path_of(*self.shape.list_path), "first": 1}, **query},
        }
        self.pages_card = pages[self._pages]

    def allows(self, request: Request, body: bytes) -> bool:
        """Whether a request may pass."""
        return self._door.allows(request, body)

    async def hear(self, content: bytes) -> Hearing:
        """What is said in a sound, as it came.

        Raises:
            RefusedError: it is no sound in the form that this service takes.
        """
        try:
            readable = self.sound.readable(content)
            hearing = await anyio.to_thread.run_sync(self._listener.hear, readable, "en")
        except RecordingError as error:
            raise RefusedError(f"no sound: {error.what}") from error
        self.billed = round(hearing.seconds + 0.5, 3)
        return hearing

    def reply(self, hearing: Hearing, key: str = "") -> Response:
        """The reply to a sound; whole."""
        body, content_type, truth = self.shape.write(hearing)
        self.truths[key] = truth
        headers = {}
        if self._bill is not None:
            if self._bill.unit == "ms":
                scale = 1000
            else:
                scale = 1
            if scale > 1:
                headers[self._bill.name] = f"{self.billed * scale:.0f}"
            else:
                headers[self._bill.name] = f"{self.billed}"
        return Response(body, media_type=content_type, headers=headers)

    def paged(self, request: Request, whole: Response) -> Response:
        """One page of a reply, where it comes in pages."""
        if not self._pages:
            return whole
        document = json.loads(bytes(whole.body))
        holder = document
        for name in self.shape.list_path[:-1]:
            holder = holder[name]
        words = holder[self.shape.list_path[-1]]
        given = request.query_params.get(self._page_query)
        size = max(3, len(words) // 3)
        if self._pages == "number":
            start = (int(given or 0) - 1) * size
        else:
            start = int((given or "0").removeprefix("t"))
        holder[self.shape.list_path[-1]] = words[start : start + size]
        following = start + size
        if following < len(words):
            if self._pages == "link":
                url = request.url.include_query_params(**{self._page_query: following})
                document[self._page_key] = f"{url.path}?{url.query}"
            elif self._pages == "token":
                document[self._page_key] = f"t{following}"
        elif self._pages == "token":
            document[self._page_key] = None
        headers = {
            name: value for name, value in whole.headers.items() if name.lower() != "content-length"
        }
        return JSONResponse(document, headers=headers)

    def route(
        self,
        path: str,
        handler: Handler,
        *,
        methods: list[str] | None = None,
        is_work: bool = False,
    ) -> BaseRoute:
        """A route behind the door, with the service's moods."""

        async def guarded(request: Request) -> Response:
            body = await request.body()
            if not self.allows(request, body):
                self.troubles.append(f"{request.method} {request.url.path}: no access")
                return JSONResponse({self._trouble_key: {"text": "no access"}}, 401)
            if is_work and self._mood != "none" and not self._was_moody:
                self._was_moody = True
                return self._moody()
            try:
                return await handler(request, body)
            except (RefusedError, ValueError, KeyError, TypeError) as error:
                self.troubles.append(f"{request.method} {request.url.path}: {error!r}")
                return JSONResponse({self._trouble_key: {"text": str(error)}}, 400)

        return Route(path, guarded, methods=methods or ["POST"])

    def _moody(self) -> Response:
        if self._mood == "broken":
            return JSONResponse({self._trouble_key: {"text": "a plank broke"}}, 503)
        if self._mood == "hurried":
            return JSONResponse({self._trouble_key: {"text": "slower"}}, 429, {"Retry-After": "0"})
        return JSONResponse(
            {self._hidden_key: {"code": 77}, self._trouble_key: {"text": "come again"}}
        )

    def card(self, address: str) -> str:
        """Its card, as TOML.

        Args:
            address: where strangers are served.
        """
        base = f"{address}/{self.name}"
        card: Card = {
            "about": self.kind,
            "url": base,
            "secrets": {"key": "env:STRANGER_KEY"},
            "accepts": self.sound.accepts,
        }
        for part in (self._door.card, self.carrier.card, self._way.card):
            card = _merged(card, part)
        if "token" in card:
            card["token"]["url"] = card["token"]["url"].replace("{base}", base)
        if self._mood != "none":
            card["errors"] = {"message": path_of(self._trouble_key, "text")}
        if self._mood == "hidden":
            hidden = f"{path_of(self._hidden_key)}.code == `77`"
            card["errors"] |= {"when": path_of(self._hidden_key), "slow_down": {"when": hidden}}
        if self._bill is not None:
            card["billed"] = {"seconds": f"header:{self._bill.name}"}
            if self._bill.unit != "s":
                card["billed"]["times"] = self._bill.unit
        card["reply"] = self.shape.table
        return tomlkit.dumps({"engine": {self.name: card}})

    @property
    def reports_its_bill(self) -> bool:
        """Whether it says what it charges."""
        return self._bill is not None

    def routes(self) -> list[BaseRoute]:
        """What it answers."""
        return [*self._door.routes, *self._way.routes]


def _plainly(
    document: Callable[[Hearing], tuple[Any, Truth]], hearing: Hearing
) -> tuple[bytes, str, Truth]:
    found, truth = document(hearing)
    return json.dumps(found).encode(), "application/json", truth


def _merged(table: Card, other: Card) -> Card:
    merged = dict(table)
    for key, value in other.items():
        below = merged.get(key)
        if isinstance(below, dict) and isinstance(value, dict):
            merged[key] = _merged(below, value)
        else:
            merged[key] = value
    return merged


def mounted(strangers: list[Stranger]) -> list[BaseRoute]:
    """The routes of several, each under its own name."""
    return [Mount(f"/{stranger.name}", routes=stranger.routes()) for stranger in strangers]
