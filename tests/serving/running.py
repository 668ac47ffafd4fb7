"""A service that runs as the built command, on loopback, and asking it."""

import contextlib
import json
import subprocess
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any
from urllib import error, request

from browser import wait_until
from conftest import KEY, free_port
from mantisreed.standin import server
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from serving.described import check_described


@dataclass
class Answer:
    status: int
    headers: dict[str, str]
    body: bytes

    @property
    def json(self) -> Any:
        return json.loads(self.body)


@dataclass
class Running:
    """A service that runs, and its folder."""

    folder: Path
    address: str
    process: subprocess.Popen[str]
    prefix: str = ""

    def ask(
        self,
        method: str,
        path: str,
        body: bytes | None = None,
        token: str | None = None,
        **headers: str,
    ) -> Answer:
        answer = self._asked(method, path, body, token, headers)
        if not path.startswith("/openapi.json"):
            own = path.removeprefix(self.prefix)
            check_described(
                self.description, method, own, answer.status, answer.headers, answer.body
            )
        return answer

    @cached_property
    def description(self) -> str:
        """The service's own description of what it answers."""
        return self._asked("GET", f"{self.prefix}/openapi.json", None, None, {}).body.decode()

    def _asked(
        self, method: str, path: str, body: bytes | None, token: str | None, headers: dict[str, str]
    ) -> Answer:
        given = {name.replace("_", "-"): value for name, value in headers.items()}
        if token is not None:
            given["Authorization"] = f"Bearer {token}"
        asked = request.Request(self.address + path, body, given, method=method)
        try:
            with request.urlopen(asked, timeout=60) as answer:
                return Answer(
                    answer.status, {k.lower(): v for k, v in answer.headers.items()}, answer.read()
                )
        except error.HTTPError as answer:
            return Answer(
                answer.code, {k.lower(): v for k, v in answer.headers.items()}, answer.read()
            )

    def send(self, recording: Path, path: str = "/jobs", **headers: str) -> Answer:
        return self.ask(
            "POST", path, recording.read_bytes(), Content_Type="application/octet-stream", **headers
        )

    def save(self, job: str, document: Any, version: str | None = None) -> Answer:
        """Save a corrected transcript over a version of it; over what there is, where none is
        named.
        """
        path = f"/jobs/{job}/outputs/json"
        version = version or self.ask("HEAD", path).headers["etag"]
        content = json.dumps(document).encode()
        return self.ask("PUT", f"/jobs/{job}/transcript", content, If_Match=version)

    def ended(self, job: str, token: str | None = None, at: str | None = None) -> dict[str, Any]:
        def look() -> bool:
            told.update(self.ask("GET", at or f"/jobs/{job}", token=token).json)
            return told["finished"] is not None

        told: dict[str, Any] = {}
        try:
            wait_until(look, 60.0)
        except AssertionError as error:
            heard = (self.folder / "serve.err").read_text()
            raise AssertionError(
                f"{error}; last told: {told}; the service said: {heard}"
            ) from error
        return told


@contextlib.contextmanager
def serving(
    folder: Path,
    *arguments: str,
    port: int | None = None,
    program: Sequence[str] = (sys.executable, "-m", "mantisreed"),
) -> Iterator[Running]:
    """`mantisreed serve` in a folder with settings."""
    listen = f"127.0.0.1:{port or free_port()}"
    command = [*program, "serve", "--listen", listen, *arguments]
    with (folder / "serve.err").open("a") as errors:
        process = subprocess.Popen(
            command, cwd=folder, stdout=subprocess.PIPE, stderr=errors, text=True
        )
    try:
        assert process.stdout is not None
        first = process.stdout.readline()
        assert "listening" in first, (folder / "serve.err").read_text()
        yield Running(folder, f"http://{listen}", process)
    finally:
        if process.poll() is None:
            process.terminate()
            process.wait(40)
        assert process.stdout is not None
        process.stdout.close()


@contextlib.contextmanager
def standins(
    listener: Listener, folder: Path, profile: FaultProfile | None = None, more: str = ""
) -> Iterator[str]:
    with (
        server.bound_socket(0) as waiting,
        server.serving(server.standins(listener, KEY, profile), waiting) as at,
    ):
        folder.mkdir(exist_ok=True)
        file = folder / "mantisreed.toml"
        server.write_cards(file, at, KEY, listener)
        file.write_text(
            f'[settings]\nengine = "brook"\nmax_attempts = 3\n{more}\n{file.read_text()}'
        )
        yield at


def made(folder: Path, name: str, *arguments: str) -> str:
    command = [
        sys.executable,
        "-m",
        "mantisreed",
        "tokens",
        "create",
        name,
        "--json",
        *arguments,
    ]
    shown = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True)
    token = json.loads(shown.stdout)["token"]
    assert isinstance(token, str)
    return token
