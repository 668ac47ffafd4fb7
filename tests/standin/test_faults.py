"""What stand-ins do wrong when they are asked to, and what they count."""

import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from email.utils import parsedate_to_datetime

import pytest
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from mantisreed.standin import server
from mantisreed.standin.faults import FAULTS, Fault, FaultProfile, Weather, heard_sounds

WHOLE = b'{"says":"tide"}'


@contextmanager
def engine(profile: FaultProfile) -> Iterator[str]:
    numbers = iter(range(1000))

    async def hear(request: Request) -> JSONResponse:
        sounds = heard_sounds.get()
        assert sounds is not None
        sounds.append((await request.body()).decode())
        return JSONResponse({"says": "tide"})

    async def take(request: Request) -> JSONResponse:
        return JSONResponse({"id": next(numbers)}, status_code=202)

    routes = [
        Route("/weir/hear", hear, methods=["POST"]),
        Route("/weir/take", take, methods=["POST"]),
    ]
    application = Starlette(routes=routes, middleware=[Middleware(Weather, profile=profile)])
    with server.bound_socket(0) as waiting, server.serving(application, waiting) as address:
        yield address


def asked(
    address: str, path: str = "/weir/hear", sound: bytes = b"a"
) -> tuple[object, bytes, dict[str, str]]:
    """Status or what broke, the body, headers in lower case."""
    try:
        with urllib.request.urlopen(
            urllib.request.Request(f"{address}{path}", data=sound), timeout=5
        ) as answer:
            return (
                answer.status,
                answer.read(),
                {name.lower(): value for name, value in answer.headers.items()},
            )
    except urllib.error.HTTPError as error:
        return (
            error.code,
            error.read(),
            {name.lower(): value for name, value in error.headers.items()},
        )
    except Exception as error:
        return type(error).__name__, b"", {}


def tally(address: str) -> dict[str, dict[str, int]]:
    import json

    with urllib.request.urlopen(f"{address}/tally") as answer:
        counts: dict[str, dict[str, int]] = json.loads(answer.read())
    return counts


@pytest.mark.parametrize(
    ("fault", "status", "body"),
    [
        ("refused", "RemoteDisconnected", b""),
        ("cut", "IncompleteRead", b""),
        ("500", 500, b'{"trouble":"the sluice is broken"}'),
        ("503", 503, b'{"trouble":"the sluice is broken"}'),
        ("hang", "RemoteDisconnected", b""),
        ("truncated", 200, WHOLE[: len(WHOLE) // 2]),
        ("page", 200, None),
        ("wrong type", 200, WHOLE),
        ("empty", 200, b""),
    ],
)
def test_each_fault_is_what_it_says_and_is_counted(
    fault: Fault, status: object, body: bytes | None
) -> None:
    with engine(FaultProfile(faults=1.0, kinds=(fault,), hang=0.1)) as address:
        found, content, headers = asked(address)
        assert found == status or (
            fault in ("refused", "hang") and found in ("URLError", "ConnectionResetError")
        )
        assert content == body if body is not None else content.startswith(b"<!DOCTYPE html>")
        if fault in ("wrong type", "page"):
            assert headers["content-type"] == "text/html"
        counts = tally(address)
    is_good = fault == "wrong type"
    assert counts["faults"] == ({} if is_good else {fault: 1}) and counts["answered"] == (
        {"a": 1} if is_good else {}
    )
    assert {case for case in FAULTS if case != "duplicate id"} >= {fault}


def test_a_duplicate_id_is_one_that_was_given_before() -> None:
    with engine(FaultProfile(faults=0.5, kinds=("duplicate id",), seed=1)) as address:
        ids = [asked(address, "/weir/take")[1] for _ in range(12)]
        assert 12 - len(set(ids)) == tally(address)["faults"]["duplicate id"] > 0


def test_the_same_seed_spoils_the_same_requests_about_as_many_as_asked_for() -> None:
    def statuses(seed: int) -> list[object]:
        with engine(FaultProfile(faults=0.3, kinds=("500", "503"), seed=seed)) as address:
            return [asked(address)[0] for _ in range(60)]

    first = statuses(4)
    assert first == statuses(4) != statuses(5)
    assert 8 <= 60 - first.count(200) <= 28


@pytest.mark.parametrize("told", ["seconds", "date", "none"])
def test_what_is_over_the_pace_gets_429_and_is_told_when_to_come_back(told: str) -> None:
    with engine(FaultProfile(pace=(2, 30.0), retry_after=told)) as address:  # type: ignore[arg-type]
        answers = [asked(address) for _ in range(3)]
    assert [status for status, _, _ in answers] == [200, 200, 429]
    later = answers[2][2].get("retry-after")
    if told == "none":
        assert later is None
    else:
        assert later is not None
        seconds = (
            int(later)
            if told == "seconds"
            else parsedate_to_datetime(later).timestamp() - time.time()
        )
        assert 25 <= seconds <= 32
