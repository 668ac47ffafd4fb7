"""The first minutes: a settings file, whether everything is there, and the manual."""

import json
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

import pytest

from conftest import Command
from mantisreed.workspace import open_workspace

ROOT = Path(__file__).parent.parent.parent
GIVEN = ("--engine", "brook", "--url", "http://127.0.0.1:9/listen", "--key", "env:BROOK_KEY")


def test_init_writes_settings_that_are_right_and_overwrites_none(
    mantisreed: Command, tmp_path: Path
) -> None:
    told = mantisreed("init", *GIVEN)
    assert told.returncode == 0, told.stderr
    card = open_workspace(tmp_path / "mantisreed.toml").engine(None)
    assert card.name == "brook" and card.url is not None
    assert "mantisreed trust" in told.stdout
    again = mantisreed("init", *GIVEN)
    assert again.returncode == 2 and "there are settings already" in again.stderr


def test_init_never_writes_a_key(mantisreed: Command, tmp_path: Path) -> None:
    told = mantisreed("init", "--engine", "brook", "--url", "http://a.example", "--key", "s3cr3t")
    assert told.returncode == 2 and not (tmp_path / "mantisreed.toml").exists()


def checks(mantisreed: Command, *options: str) -> dict[str, tuple[str, str]]:
    document = json.loads(mantisreed("doctor", "--json", *options).stdout)
    return {one["what"]: (one["verdict"], one["told"]) for one in document["checks"]}


def test_the_doctor_says_what_is_missing_step_by_step(
    mantisreed: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv("MANTISREED_TRUST", raising=False)
    assert checks(mantisreed)["settings"][0] == "problem"
    mantisreed("init", *GIVEN)
    found = checks(mantisreed)
    assert found["trust"][0] == "problem" and found["engine brook"][0] == "note"
    mantisreed("trust")
    verdict, told = checks(mantisreed)["engine brook"]
    assert verdict == "problem" and "BROOK_KEY" in told
    monkeypatch.setenv("BROOK_KEY", "k")
    verdict, told = checks(mantisreed)["engine brook"]
    assert verdict == "problem" and "cannot reach 127.0.0.1:9" in told
    assert found["outputs"][0] == "ok" and found["ledger"][0] == "note"


def test_the_doctor_connects_and_sends_nothing(
    mantisreed: Command, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    asked: list[str] = []

    class Handler(BaseHTTPRequestHandler):
        def handle_one_request(self) -> None:
            asked.append(self.rfile.readline().decode())

    monkeypatch.setenv("BROOK_KEY", "k")
    with HTTPServer(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        url = f"http://127.0.0.1:{server.server_address[1]}/listen"
        mantisreed("init", "--engine", "brook", "--url", url, "--key", "env:BROOK_KEY")
        told = mantisreed("doctor", "--trust")
        server.shutdown()
    assert told.returncode == 0, told.stdout
    assert "everything is ready" in told.stdout and set(asked) <= {""}


def test_docs_prints_pages_and_lists_them(mantisreed: Command) -> None:
    listed = mantisreed("docs").stdout
    for page in (ROOT / "docs").glob("*.md"):
        assert page.stem in listed
    assert mantisreed("docs", "jobs").stdout == (ROOT / "docs" / "jobs.md").read_text()
    assert mantisreed("docs", "cards").stdout.startswith("# Engine cards")
    assert mantisreed("docs", "nothing").returncode == 2


def test_every_page_ships() -> None:
    settings = (ROOT / "pyproject.toml").read_text()
    for page in (ROOT / "docs").glob("*.md"):
        assert f'"docs/{page.name}" = "mantisreed/docs/{page.name}"' in settings, page.name
