"""A key comes out nowhere: over where it stands, how it is written, how the engine fails, and every
place where text comes out or is kept.
"""

import base64
import html
import json
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import quote

import pytest

from conftest import Command, Note

KEY = "SeaLavender-42-samphire"

PLACES = {
    "query": 'every.query = { key = "{key}" }',
    "path": 'send.path = "/v1/{key}/hear"',
    "header": 'every.bearer = "{key}"',
    "basic": 'every.basic = "warden:{key}"',
}
WRITTEN: dict[str, Callable[[str], str]] = {
    "as it is": str,
    "small": str.lower,
    "percent": lambda key: "".join(f"%{ord(one):02x}" for one in key),
    "base64": lambda key: base64.b64encode(f"warden:{key}".encode()).decode(),
    "entities": lambda key: "".join(f"&#{ord(one)};" for one in key),
    "hexadecimal": lambda key: key.encode().hex(),
    "quoted": lambda key: "".join(f"={ord(one):02X}" for one in key),
}


def plain(status: str, body: str, *headers: str) -> bytes:
    head = [f"HTTP/1.1 {status}", f"Content-Length: {len(body.encode())}", *headers]
    return ("\r\n".join(head) + "\r\n\r\n" + body).encode()


FAILURES: dict[str, Callable[[str], bytes]] = {
    "status line": lambda said: f"HTTP/9.x {said}\r\n\r\n".encode(),
    "header": lambda said: f"HTTP/1.1 200 OK\r\n{said}\x00: a\r\nbad {said}\r\n\r\n".encode(),
    "reason": lambda said: f"HTTP/1.1 500 {quote(said)}\r\nContent-Length: 0\r\n\r\n".encode(),
    "refused": lambda said: plain("403 No", json.dumps({"error": f"key {said} is bad"})),
    "broke": lambda said: plain("500 No", f"<html>{said}</html>", "Content-Type: text/html"),
    "junk": lambda said: plain("200 OK", f"not json {said}"),
    "other shape": lambda said: plain("200 OK", json.dumps({"oops": said})),
    "redirect": lambda said: plain(
        "302 Found", "", f"Location: https://x.example/?k={quote(said)}"
    ),
    "cut off": lambda said: f"HTTP/1.1 200 OK\r\nContent-Length: 999\r\n\r\n{said}".encode(),
    "nothing": lambda said: b"",
}


@contextmanager
def answering(answer: Callable[[], bytes]) -> Iterator[int]:
    """A server that reads a request and answers it with these bytes."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        is_over = threading.Event()

        def serve() -> None:
            server.settimeout(0.1)
            while not is_over.is_set():
                try:
                    connection, _ = server.accept()
                except TimeoutError:
                    continue
                with connection:
                    connection.settimeout(2)
                    try:
                        _read_request(connection)
                        connection.sendall(answer())
                    except OSError:
                        continue

        thread = threading.Thread(target=serve)
        thread.start()
        try:
            yield server.getsockname()[1]
        finally:
            is_over.set()
            thread.join()


def _read_request(connection: socket.socket) -> None:
    head = b""
    while b"\r\n\r\n" not in head:
        head += connection.recv(65536)
    length = next(
        int(line.split(b":")[1])
        for line in head.split(b"\r\n")
        if line.lower().startswith(b"content-length")
    )
    left = length - len(head.partition(b"\r\n\r\n")[2])
    while left > 0:
        left -= len(connection.recv(min(left, 65536)))


def everything(folder: Path) -> dict[str, str]:
    return {
        str(path.relative_to(folder)): path.read_bytes().decode("latin-1")
        for path in folder.rglob("*")
        if path.is_file() and path.suffix not in (".wav", ".toml")
    }


@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize("failure", FAILURES)
def test_a_key_comes_out_nowhere(
    mantisreed: Command,
    note: Note,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    place: str,
    failure: str,
) -> None:
    monkeypatch.setenv("HUT_KEY", KEY)
    (tmp_path / "note.wav").write_bytes(note.path.read_bytes())
    written = iter(WRITTEN.values())
    way: list[Callable[[str], str]] = [str]
    with answering(lambda: FAILURES[failure](way[0](KEY))) as port:
        (tmp_path / "mantisreed.toml").write_text(
            f'[settings]\nmax_attempts = 1\n[engine.hut]\nurl = "http://127.0.0.1:{port}"\n'
            f'secrets.key = "env:HUT_KEY"\n{PLACES[place]}\nsend.raw = "{{audio}}"\n'
            'reply.text = "text"\naccepts.formats = ["wav"]\n'
        )
        told = []
        for form in written:
            way[0] = form
            shown = mantisreed(
                *("run", "note.wav", "--afresh", "--log-file", "log.txt", "-v", "--report", "r.csv")
            )
            told += [shown.stdout, shown.stderr, (tmp_path / "r.csv").read_text()]
        # The ledger and the log have all of them by now.
        told += [mantisreed(*command).stdout for command in (("jobs", "--json"), ("jobs",))]
        told += everything(tmp_path).values()
        for text in told:
            small = html.unescape(text.lower())
            for other in WRITTEN.values():
                assert other(KEY).lower() not in small, text[:2000]
            assert "lavender-42" not in small
