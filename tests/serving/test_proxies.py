"""The service behind a proxy: whom it believes, and the path under which it is reached."""

import asyncio
import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib import error, request

import pytest
from hypothesis import given
from hypothesis import strategies as st

from browser import BROWSER, Browser
from conftest import Note, free_port
from mantisreed.errors import InputError
from mantisreed.serving.proxies import BehindProxies, network_given, prefix_given
from mantisreed.standin.hearing import Listener
from serving.running import Running, made, serving, standins

PROXIES = ("192.0.2.1", "198.51.100.0/24", "2001:db8::/64")


def seen(headers: dict[str, str], peer: str, path: str = "/jobs", prefix: str = "") -> Any:
    """What the application is told of a request."""
    told: dict[str, Any] = {}

    async def application(scope: Any, receive: Any, send: Any) -> None:
        told.update(scope)

    scope = {
        "type": "http",
        "client": (peer, 4711),
        "scheme": "http",
        "path": path,
        "headers": [(name.lower().encode(), value.encode()) for name, value in headers.items()],
    }
    networks = tuple(network_given(one) for one in PROXIES)
    behind = BehindProxies(application, networks, prefix_given(prefix))
    asyncio.run(behind(scope, None, None))  # type: ignore[arg-type]
    return told


@pytest.mark.parametrize(
    ("peer", "chain", "client"),
    [
        ("203.0.113.9", "10.0.0.1", "203.0.113.9"),  # no proxy of ours
        ("192.0.2.1", "203.0.113.9", "203.0.113.9"),
        ("192.0.2.1", "1.2.3.4, 203.0.113.9", "203.0.113.9"),  # the first one is made up
        ("192.0.2.1", "203.0.113.9, 198.51.100.7", "203.0.113.9"),
        ("192.0.2.1", "", "192.0.2.1"),
        ("192.0.2.1", "nonsense", "192.0.2.1"),
        ("192.0.2.1", "203.0.113.9, unknown, 198.51.100.7", "198.51.100.7"),
        ("2001:db8::1", "2001:db8:1::9", "2001:db8:1::9"),
    ],
)
def test_only_named_proxies_are_believed_who_a_request_is_from(
    peer: str, chain: str, client: str
) -> None:
    assert seen({"X-Forwarded-For": chain}, peer)["client"][0] == client


@given(st.text(max_size=60), st.text(max_size=40))
def test_whatever_strangers_send_changes_nothing(chain: str, prefix: str) -> None:
    written = {"X-Forwarded-For": chain, "X-Forwarded-Prefix": prefix, "X-Forwarded-Host": "a"}
    headers = {name: value.encode("ascii", "replace").decode() for name, value in written.items()}
    told = seen(headers, "203.0.113.9")
    assert (told["client"][0], told["root_path"], told["path"]) == ("203.0.113.9", "", "/jobs")


@pytest.mark.parametrize("path", ["/jobs", "/marsh/text/jobs"])
@pytest.mark.parametrize("how", ["option", "header"])
def test_a_prefix_is_taken_off_where_the_proxy_has_left_it(path: str, how: str) -> None:
    headers = {"X-Forwarded-Prefix": "/marsh/text/"} if how == "header" else {}
    told = seen(headers, "192.0.2.1", path, "/marsh/text" if how == "option" else "")
    assert (told["root_path"], told["path"]) == ("/marsh/text", "/marsh/text/jobs")
    assert seen({"X-Forwarded-Prefix": "//evil.example/"}, "192.0.2.1")["root_path"] == ""


def test_what_is_no_address_or_path_is_refused() -> None:
    assert prefix_given("/marsh/") == "/marsh" and prefix_given("/") == ""
    for wrong in ("marsh", "//marsh", "/a b", '/"', "/a?b", "https://marsh.example/"):
        with pytest.raises(InputError, match="no path"):
            prefix_given(wrong)
    for wrong in ("hut.example", "192.0.2.1.2", "*", ""):
        with pytest.raises(InputError, match="no address"):
            network_given(wrong)


# The whole service
# ----------------------------------------------------------------------


@pytest.fixture
def proxied(listener: Listener, trusting: Path) -> Iterator[tuple[Running, str]]:
    """A service, and the address under which a proxy offers it."""
    with (
        standins(listener, trusting),
        serving(trusting, "--proxy", "127.0.0.1", "--allow", ".") as service,
        proxy(service.address) as address,
    ):
        yield service, f"{address}/marsh/text"


class proxy:  # noqa: N801 - it is used as a function
    """A proxy that offers a service under `/marsh/text`, and says so."""

    def __init__(self, behind: str) -> None:
        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def answer(self) -> None:
                if not self.path.startswith("/marsh/text"):
                    self.send_error(404)
                    return
                length = int(self.headers.get("Content-Length", 0))
                path = self.path.removeprefix("/marsh/text") or "/"
                kept = {
                    name: value
                    for name, value in self.headers.items()
                    if name.lower() not in ("host", "content-length", "connection")
                }
                asked = request.Request(
                    behind + path,
                    self.rfile.read(length) if length else None,
                    {
                        **kept,
                        "X-Forwarded-For": self.client_address[0],
                        "X-Forwarded-Host": self.headers["Host"],
                        "X-Forwarded-Prefix": "/marsh/text",
                    },
                    method=self.command,
                )
                try:
                    answer = request.urlopen(asked, timeout=60)
                except error.HTTPError as problem:
                    answer = problem
                with answer:
                    self.send_response(answer.status)
                    for name, value in answer.headers.items():
                        if name.lower() not in ("transfer-encoding", "connection", "date"):
                            self.send_header(name, value)
                    self.send_header("Connection", "close")
                    self.end_headers()
                    while block := answer.read1(65536):
                        self.wfile.write(block)
                        self.wfile.flush()
                    self.close_connection = True

            do_GET = do_POST = do_PUT = do_HEAD = do_DELETE = answer  # noqa: N815 - as it is called

            def log_message(self, *_: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", free_port()), Handler)
        self._server.daemon_threads = True

    def __enter__(self) -> str:
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{self._server.server_port}"

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._server.server_close()


def test_every_address_that_the_service_names_is_under_its_path(
    proxied: tuple[Running, str], note: Note
) -> None:
    service, public = proxied
    address = public.removesuffix("/marsh/text")
    outside = Running(service.folder, address, service.process, "/marsh/text")
    sent = outside.send(note.path, "/marsh/text/jobs?name=round.wav")
    assert sent.status == 202 and sent.headers["location"].startswith("/marsh/text/jobs/")
    at = sent.headers["location"]
    told = outside.ended(sent.json["id"], at=at)
    assert all(link.startswith(f"{at}") for link in told["links"].values())
    assert outside.ask("GET", told["links"]["srt"]).status == 200
    events = outside.ask("GET", told["links"]["events"]).body.decode()
    assert f'"self": "{at}"' in events
    listed = outside.ask("GET", "/marsh/text/jobs?limit=1").json
    outside.send(note.path, "/marsh/text/jobs?name=other.wav")
    listed = outside.ask("GET", "/marsh/text/jobs?limit=1").json
    assert outside.ask("GET", listed["next"]).status == 200
    begun = outside.ask("POST", "/marsh/text/uploads?name=a.wav", b"RIFF", Upload_Complete="?0")
    assert outside.ask("HEAD", begun.headers["location"]).headers["upload-offset"] == "4"
    opened = outside.ask("POST", f"{at}/review").json["url"]
    assert opened.startswith(f"{at}/review?")
    page = outside.ask("GET", opened).body.decode()
    assert f"{at}/sound?" in page and f"{at}/transcript?" in page
    document = outside.ask("GET", "/marsh/text/openapi.json").json
    assert document["servers"] == [{"url": "/marsh/text"}]
    # Without the proxy nothing changes.
    assert service.ask("GET", "/openapi.json").json["servers"] == [{"url": "/"}]
    assert service.ask("GET", f"/jobs/{told['id']}").json["links"]["self"] == f"/jobs/{told['id']}"


@pytest.mark.skipif(BROWSER is None, reason="no browser is installed")
def test_the_board_and_the_review_page_work_under_a_path(
    proxied: tuple[Running, str], note: Note, tmp_path: Path
) -> None:
    service, public = proxied
    with Browser(tmp_path / "browser") as browser:
        # Also where somebody leaves the slash out.
        for address in (public, f"{public}/"):
            page = browser.open(address)
            page.wait_for("document.documentElement.dataset.ready === 'true'")
            page.wait_for("$('engine').options.length > 3")
            assert page.problems == []
        job = service.send(note.path, "/jobs?name=round.wav").json["id"]
        page.wait_for(
            "[...document.querySelectorAll('.state')].some(one => one.textContent === 'done')"
        )
        opened = page.value(
            f"ask(`${{PREFIX}}/jobs/{job}/review`, {{method: 'POST'}})"
            ".then(answer => answer.json()).then(told => told.url)"
        )
        review = browser.open(public.removesuffix("/marsh/text") + opened)
        review.wait_for("hasSound")
        review.value("keepEdit(0, state.rows[0].text + ' indeed'); saveServed()")
        review.wait_for("document.getElementById('message').textContent.startsWith('saved: ')")
        assert b"indeed" in service.ask("GET", f"/jobs/{job}/text").body


def test_wrong_tokens_are_counted_by_who_shows_them_and_no_header_gets_around_it(
    listener: Listener, trusting: Path
) -> None:
    with standins(listener, trusting):
        made(trusting, "hut")
        with serving(trusting) as service:
            statuses = [
                service.ask("GET", "/jobs", token="wrong", X_Forwarded_For=f"192.0.2.{n}").status
                for n in range(61)
            ]
            assert statuses[:60] == [401] * 60 and statuses[60] == 429
        with serving(trusting, "--proxy", "127.0.0.1") as service:
            ways = [
                service.ask("GET", "/jobs", token="wrong", X_Forwarded_For=f"192.0.2.{n}")
                for n in range(61)
            ]
            assert {one.status for one in ways} == {401}


@pytest.mark.parametrize("prefix", ["", "/marsh"])
def test_heads_and_methods_are_as_http_has_them(
    listener: Listener, note: Note, trusting: Path, prefix: str
) -> None:
    with standins(listener, trusting), serving(trusting, "--root-path", prefix) as service:
        job = service.send(note.path, f"{prefix}/jobs").json["id"]
        service.ended(job, at=f"{prefix}/jobs/{job}")
        paths = service.ask("GET", f"{prefix}/openapi.json").json["paths"]
        known = {"job": job, "form": "srt", "upload": "none", "call": "none"}
        for path, methods in paths.items():
            at = prefix + path.format(**known)
            allowed = service.ask("BREW", at).headers["allow"].split(", ")
            expected = {method.upper() for method in methods}
            assert set(allowed) == expected | ({"HEAD"} if "GET" in expected else set()), path
            assert service.ask("OPTIONS", at).status == 204
            if "get" not in methods or "head" in methods:
                continue
            shown, head = service.ask("HEAD", at), None
            assert shown.body == b""
            if not path.endswith(("/events", "/review")) and path != "/events":
                head = service.ask("GET", at)
                ours = ("content-type", "content-length", "etag", "location")
                assert shown.status == head.status, path
                assert [shown.headers.get(one) for one in ours] == [
                    head.headers.get(one) for one in ours
                ] or path == "/metrics"
            assert shown.status == 200, path
        assert json.loads(service.ask("GET", f"{prefix}/health").body) == {"state": "running"}
