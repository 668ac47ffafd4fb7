"""How a stranger knows who asks: keys, logins, signatures. Each door writes its part of the card,
and checks.
"""

import base64
import hashlib
import hmac
import json
import random
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import BaseRoute, Route

from composed.names import Names, path_of

Card = dict[str, Any]
_LONG, _FORM = 3600, "application/x-www-form-urlencoded"


@dataclass
class Door:
    """Who may ask.

    Attributes:
        kind: a word for people.
        card: what it adds to the card.
        allows: whether a request with this body may pass.
        routes: of a login.
        files: secrets of the card that are files, with what is in them.
    """

    kind: str
    card: Card
    allows: Callable[[Request, bytes], bool]
    routes: list[BaseRoute] = field(default_factory=list)
    files: dict[str, str] = field(default_factory=dict)


def door(chance: random.Random, names: Names, key: str) -> Door:
    """Any door."""
    make = chance.choice(
        (
            _bearer,
            _header,
            _query,
            _basic,
            _scheme,
            _credentials,
            _json_login,
            _json_login,
            _form_login,
            _signature,
            _seal,
            _refreshed,
            _web_token,
        )
    )
    return make(chance, names, key)


def _same(given: str | None, wanted: str) -> bool:
    return given is not None and hmac.compare_digest(given.encode(), wanted.encode())


def _bearer(chance: random.Random, names: Names, key: str) -> Door:
    return Door(
        "bearer",
        {"every": {"bearer": "{key}"}},
        lambda request, _: _same(request.headers.get("authorization"), f"Bearer {key}"),
    )


def _header(chance: random.Random, names: Names, key: str) -> Door:
    name = names.header()
    return Door(
        "header",
        {"every": {"headers": {name: "{key}"}}},
        lambda request, _: _same(request.headers.get(name), key),
    )


def _query(chance: random.Random, names: Names, key: str) -> Door:
    name = names.new()
    return Door(
        "query",
        {"every": {"query": {name: "{key}"}}},
        lambda request, _: _same(request.query_params.get(name), key),
    )


def _basic(chance: random.Random, names: Names, key: str) -> Door:
    user = names.plain()
    wanted = base64.b64encode(f"{user}:{key}".encode()).decode()
    return Door(
        "basic",
        {"every": {"basic": f"{user}:{{key}}"}},
        lambda request, _: _same(request.headers.get("authorization"), f"Basic {wanted}"),
    )


def _scheme(chance: random.Random, names: Names, key: str) -> Door:
    scheme = names.plain().capitalize()
    return Door(
        "scheme",
        {"every": {"headers": {"Authorization": f"{scheme} {{key}}"}}},
        lambda request, _: _same(request.headers.get("authorization"), f"{scheme} {key}"),
    )


class _Tokens:
    """Tokens that were given out: which are good, and that the first one is refused once it was
    used.
    """

    def __init__(self, lifetime: float | None, *, is_refused_once: bool) -> None:
        self._lifetime = lifetime
        self._good: dict[str, float] = {}
        self._refuses = is_refused_once
        self._uses = 0

    def new(self, key: str) -> str:
        token = hashlib.sha256(f"{key} {len(self._good)} {time.time_ns()}".encode()).hexdigest()[
            :24
        ]
        self._good[token] = time.time() + (self._lifetime or _LONG)
        return token

    def is_good(self, token: str | None) -> bool:
        if token is None or self._good.get(token, 0.0) < time.time():
            return False
        self._uses += 1
        if self._refuses and self._uses == 2:
            self._good.pop(token)
            self._good[f"gone {token}"] = 0.0
            return False
        return True


def _credentials(chance: random.Random, names: Names, key: str) -> Door:
    tokens, where, client, scope = (
        _Tokens(None, is_refused_once=False),
        names.plain(),
        names.plain(),
        names.plain(),
    )
    as_form = chance.random() < 0.5

    async def give(request: Request) -> Response:
        async with request.form() as fields:
            form = dict(fields)
        basic = base64.b64encode(f"{client}:{key}".encode()).decode()
        if as_form:
            known = form.get("client_id") == client and form.get("client_secret") == key
        else:
            known = _same(request.headers.get("authorization"), f"Basic {basic}")
        if (
            not known
            or form.get("grant_type") != "client_credentials"
            or form.get("scope") != scope
        ):
            return JSONResponse({"error": "invalid_client"}, 401)
        answer = {"access_token": tokens.new(key), "token_type": "bearer", "expires_in": _LONG}
        return JSONResponse(answer)

    token = {"url": f"/{where}", "client": client, "secret": "{key}", "scope": scope}
    return Door(
        "credentials",
        {
            "token": {
                **token,
                "url": f"{{base}}/{where}",
                "sent_as": "form" if as_form else "basic",
            },
            "every": {"bearer": "{token}"},
        },
        lambda request, _: tokens.is_good(_after("Bearer ", request.headers.get("authorization"))),
        [Route(f"/{where}", give, methods=["POST"])],
    )


def _after(prefix: str, value: str | None) -> str | None:
    if value is not None and value.startswith(prefix):
        return value.removeprefix(prefix)
    return None


def _json_login(chance: random.Random, names: Names, key: str) -> Door:
    """A login with a body of JSON; the token is in the answer's body or in a header, and ends in
    several ways.
    """
    where, user, password, holder, field_name = (names.plain(), *(names.new() for _ in range(4)))
    person, header, place = names.plain(), names.header(), chance.choice(("body", "header"))
    ending = chance.choice(("seconds", "moment", "none", "refused"))
    end_name = names.new()
    tokens = _Tokens(None, is_refused_once=ending == "refused")

    async def enter(request: Request) -> Response:
        given = await request.json()
        if given != {user: person, password: key}:
            return JSONResponse({"no": "wrong user or password"}, 401)
        token = tokens.new(key)
        answer: dict[str, Any] = {holder: {field_name: token}} if place == "body" else {}
        if ending == "seconds":
            answer[end_name] = _LONG
        if ending == "moment":
            moment = datetime.fromtimestamp(time.time() + _LONG, UTC)
            answer[end_name] = moment.strftime("%Y-%m-%dT%H:%M:%SZ")
        return JSONResponse(answer, headers={header: token} if place == "header" else None)

    taken: Any = path_of(holder, field_name) if place == "body" else f"header:{header}"
    login: Card = {
        "path": f"/{where}",
        "json": {user: person, password: "{key}"},
        "take": {"pass": {"from": taken, "secret": True}},
    }
    if ending in ("seconds", "moment"):
        login["expires_in" if ending == "seconds" else "expires_at"] = path_of(end_name)
    way = chance.choice(("bearer", "header", "query"))
    carrier, query = names.header(), names.new()
    ways: dict[str, Card] = {
        "bearer": {"bearer": "{pass}"},
        "header": {"headers": {carrier: "{pass}"}},
        "query": {"query": {query: "{pass}"}},
    }
    every = ways[way]

    def given(request: Request) -> str | None:
        if way == "bearer":
            return _after("Bearer ", request.headers.get("authorization"))
        if way == "header":
            return request.headers.get(carrier)
        return request.query_params.get(query)

    return Door(
        f"login/{place}/{ending}/{way}",
        {"login": login, "every": every},
        lambda request, _: tokens.is_good(given(request)),
        [Route(f"/{where}", enter, methods=["POST"])],
    )


def _form_login(chance: random.Random, names: Names, key: str) -> Door:
    """A login as browsers do it; the session is a cookie."""
    where, user, password, person, cookie = (
        names.plain(),
        names.new(),
        names.new(),
        names.plain(),
        names.plain(),
    )
    tokens = _Tokens(None, is_refused_once=chance.random() < 0.3)

    async def enter(request: Request) -> Response:
        async with request.form() as fields:
            form = dict(fields)
        is_form = request.headers.get("content-type", "").startswith(_FORM)
        if not is_form or form != {user: person, password: key}:
            return JSONResponse({"no": "wrong user or password"}, 403)
        answer = Response(status_code=204)
        answer.set_cookie(cookie, tokens.new(key), path="/", httponly=True)
        return answer

    return Door(
        "login/cookie",
        {
            "login": {
                "path": f"/{where}",
                "urlencoded": {user: person, password: "{key}"},
                "take": {"session": f"cookie:{cookie}"},
            },
            "every": {"headers": {"Cookie": f"{cookie}={{session}}"}},
        },
        lambda request, _: tokens.is_good(request.cookies.get(cookie)),
        [Route(f"/{where}", enter, methods=["POST"])],
    )


def _web_token(chance: random.Random, names: Names, key: str) -> Door:
    """A token that the client signs itself, as RFC 7519 has it: good for ten minutes."""
    issuer = names.plain()

    def unpacked(part: str) -> bytes:
        return base64.urlsafe_b64decode(part + "=" * (-len(part) % 4))

    def allows(request: Request, body: bytes) -> bool:
        token = _after("Bearer ", request.headers.get("authorization")) or ""
        head, _, rest = token.partition(".")
        claims, _, mark = rest.partition(".")
        wanted = hmac.new(key.encode(), f"{head}.{claims}".encode(), "sha256").digest()
        if not hmac.compare_digest(unpacked(mark), wanted) or json.loads(unpacked(head)) != {
            "alg": "HS256"
        }:
            return False
        said = json.loads(unpacked(claims))
        return bool(said["iss"] == issuer and time.time() < said["exp"] <= time.time() + 600)

    return Door(
        "web token",
        {
            "values": {
                "token_head": '{"alg":"HS256"}',
                "token_claims": f'{{"iss":"{issuer}","exp":{{now|add:590|seconds}}}}',
                "token_text": "{token_head|base64url}.{token_claims|base64url}",
            },
            "sign": {
                "token_mark": {"key": "{key}", "text": "{token_text}", "encoding": "base64url"}
            },
            "every": {"bearer": "{token_text}.{token_mark}"},
        },
        allows,
    )


def _refreshed(chance: random.Random, names: Names, key: str) -> Door:
    """A token that is bought with a refresh token, which is good for one time."""
    where, token_key, next_key = names.plain(), names.new(), names.new()
    good = {"refresh": f"first-{key}", "token": ""}

    async def login(request: Request) -> Response:
        given = (await request.form()).get("refresh_token")
        if given != good["refresh"]:
            return JSONResponse({"wrong": "this token was used before"}, 400)
        good["token"] = f"pass-{chance.randrange(10**9)}"
        good["refresh"] = f"next-{chance.randrange(10**9)}"
        answer = {token_key: good["token"], next_key: good["refresh"], "expires_in": _LONG}
        return JSONResponse(answer)

    def allows(request: Request, body: bytes) -> bool:
        return _same(request.headers.get("authorization"), f"Bearer {good['token']}")

    fields = {"grant_type": "refresh_token", "refresh_token": "{refresh}"}
    card: Card = {
        "secrets": {"refresh": "file:refresh.token"},
        "login": {
            "path": f"/{where}",
            "urlencoded": fields,
            "take": {"pass": path_of(token_key)},
            "replaces": {"refresh": path_of(next_key)},
            "expires_in": "expires_in",
        },
        "every": {"bearer": "{pass}"},
    }
    routes: list[BaseRoute] = [Route(f"/{where}", login, methods=["POST"])]
    return Door("refreshed", card, allows, routes, {"refresh.token": good["refresh"]})


def _seal(chance: random.Random, names: Names, key: str) -> Door:
    """An HMAC by a key that is derived in steps, over the request with its query and headers."""
    moment, note, area = names.header(), names.header(), names.plain()
    prefix = names.plain().upper()

    def allows(request: Request, body: bytes) -> bool:
        given = request.headers.get(moment, "")
        derived = f"{prefix}{key}".encode()
        for text in (given[:8], area):
            derived = hmac.digest(derived, text.encode(), "sha256")
        wanted = request.headers.get("authorization", "").split(" ")
        if len(wanted) != 3 or moment.lower() not in wanted[1].split(";"):
            return False
        lines = [f"{name}:{request.headers.get(name, '')}" for name in wanted[1].split(";")]
        query = "&".join(sorted(request.url.query.split("&")))
        digest = hashlib.sha256(body).hexdigest()
        path = request.scope["raw_path"].decode().partition("?")[0]
        text = "\n".join([request.method, path, query, *lines, wanted[1], digest])
        mac = hmac.digest(derived, text.encode(), "sha256").hex()
        return wanted[0] == prefix and _same(wanted[2], mac)

    text = "{method}\n{path}\n{query|sort:&}\n{headers}\n{header_names}\n{body|sha256|hex}"
    card: Card = {
        "sign": {
            "day": {"key": f"{prefix}{{key}}", "text": "{now|time:%Y%m%d}", "encoding": "raw"},
            "area": {"key": "{day}", "text": area, "encoding": "raw"},
            "seal": {"key": "{area}", "text": text},
        },
        "every": {
            "headers": {
                moment: "{now|iso8601_basic}",
                note: "low tide",
                "Authorization": f"{prefix} {{header_names}} {{seal}}",
            }
        },
    }
    return Door("sealed", card, allows)


def _signature(chance: random.Random, names: Names, key: str) -> Door:
    """An HMAC over method, path, date and the body's digest."""
    sign, date, digest = names.header(), names.header(), names.header()
    function = chance.choice(("sha256", "sha512"))
    encoding = chance.choice(("hex", "base64"))
    form = chance.choice(("http_date", "iso8601", "seconds"))
    scheme = names.plain()

    def allows(request: Request, body: bytes) -> bool:
        given = request.headers.get(date, "")
        body_digest = hashlib.sha256(body).hexdigest()
        text = f"{request.method}\n{request.url.path}\n{given}\n{body_digest}"
        mac = hmac.new(key.encode(), text.encode(), function).digest()
        if encoding == "hex":
            wanted = mac.hex()
        else:
            wanted = base64.b64encode(mac).decode()
        is_now = form != "seconds" or abs(float(given or 0) - time.time()) < 60
        is_same = _same(request.headers.get(digest), body_digest)
        return (
            is_now
            and bool(given)
            and is_same
            and _same(request.headers.get(sign), f"{scheme} {wanted}")
        )

    return Door(
        f"signature/{function}/{encoding}/{form}",
        {
            "sign": {
                "seal": {
                    "key": "{key}",
                    "text": f"{{method}}\n{{path}}\n{{now|{form}}}\n{{body|sha256|hex}}",
                    "hash": function,
                    "encoding": encoding,
                }
            },
            "every": {
                "headers": {
                    date: f"{{now|{form}}}",
                    digest: "{body|sha256|hex}",
                    sign: f"{scheme} {{seal}}",
                }
            },
        },
        allows,
    )
