"""Jobs that survive: killed programs, failing engines, kept replies, through the built command."""

import hashlib
import json
import random
import signal
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from conftest import Command
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose

CARD = """
[settings]
engine = "ferry"
to = ["txt", "json"]
tries = {tries}

[engine.ferry]
address = "http://127.0.0.1:{port}"
[engine.ferry.accepts]
formats = ["flac"]
[engine.ferry.price]
per_minute = "0.01"
currency = "shells"
[engine.ferry.send]
raw = "{{audio}}"
[engine.ferry.reply]
text = "says"
"""


class Ferry:
    """An engine that counts what it was asked, and answers with words made of the sound's digest."""

    def __init__(self) -> None:
        self.asked: Counter[str] = Counter()
        self.answered: Counter[str] = Counter()
        self.faults: list[str] = []
        self.slowness = 0.0

    @contextmanager
    def sailing(self, folder: Path, tries: int = 5) -> Iterator[None]:
        ferry = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                digest = hashlib.sha256(self.rfile.read(int(self.headers["Content-Length"]))).hexdigest()
                ferry.asked[digest] += 1
                time.sleep(ferry.slowness)
                ferry.answer(self, digest)

            def log_message(self, *arguments: object) -> None:
                pass

        with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            (folder / "mantisreed.toml").write_text(CARD.format(port=server.server_address[1], tries=tries))
            try:
                yield
            finally:
                server.shutdown()

    def answer(self, request: BaseHTTPRequestHandler, digest: str) -> None:
        fault = self.faults.pop() if self.faults else ""
        body = json.dumps({"says": " ".join(digest[n : n + 4] for n in range(0, 24, 4))}).encode()
        status, kind = {"503": (503, "text/plain"), "429": (429, "text/plain"), "key": (401, "text/plain")}.get(
            fault, (200, "application/json")
        )
        body = {"truncated": body[:-9], "empty": b"", "html": b"<!DOCTYPE html><p>low tide"}.get(fault, body)
        if not fault:
            self.answered[digest] += 1
        if fault == "cut":
            request.wfile.write(b"HTTP/1.1 200 OK\r\nContent-Length: 999\r\n\r\n{")
            return
        request.send_response(status)
        if fault == "429":
            request.send_header("Retry-After", "0")
        request.send_header("Content-Type", kind)
        request.send_header("Content-Length", str(len(body)))
        request.end_headers()
        request.wfile.write(body)


@pytest.fixture
def ferry() -> Ferry:
    return Ferry()


@pytest.fixture
def recordings(english: list[Phrase], tmp_path: Path) -> Path:
    folder = tmp_path / "recordings"
    folder.mkdir()
    for number in range(2):
        compose(english, seed=200 + number, duration=60, pauses=(0.8, 1.5)).write(folder / f"note {number}.flac")
    return folder


def outputs(folder: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in sorted((folder / "transcripts").iterdir())}


def test_killed_at_any_moment_it_goes_on_where_it_was_and_pays_for_nothing_twice(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    ferry.slowness = 0.25
    with ferry.sailing(tmp_path):
        command = ("run", "recordings", "--piece-length", "8s")
        undisturbed = mantisreed(*command)
        assert undisturbed.returncode == 0, undisturbed.stderr
        whole = outputs(tmp_path)
        pieces = len(ferry.answered)
        assert pieces >= 15 and set(ferry.answered.values()) == {1}
        for path in (tmp_path / ".mantisreed", tmp_path / "transcripts"):
            path.rename(tmp_path / f"{path.name} before")

        ferry.asked.clear()
        ferry.answered.clear()
        chance, kills = random.Random(5), 0
        while kills < 40:
            process = subprocess.Popen(
                [sys.executable, "-m", "mantisreed", *command], cwd=tmp_path, stderr=subprocess.DEVNULL
            )
            try:
                assert process.wait(timeout=1.0 + chance.random() * 1.5) == 0
                break
            except subprocess.TimeoutExpired:
                process.send_signal(signal.SIGKILL)
                process.wait()
                kills += 1
        assert kills >= 2
        assert outputs(tmp_path) == whole
        jobs = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
        shown = [json.loads(mantisreed("jobs", job["id"], "--json").stdout) for job in jobs]
    attempts = [one["outcome"] for job in shown for piece in job["pieces"] for one in piece["attempts"]]
    assert attempts.count("done") == pieces
    assert sum(ferry.answered.values()) - pieces <= attempts.count("in doubt")


def test_faults_that_pass_are_tried_again_and_everything_ends_well(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        ferry.faults = ["503", "truncated", "html", "empty", "cut", "429"]
        result = mantisreed("run", "recordings", "--piece-length", "30s", "--json")
        assert result.returncode == 0, result.stderr
        assert {one["state"] for one in json.loads(result.stdout)["recordings"]} == {"done"}
    assert "try 2 of 5" in result.stderr
    assert set(ferry.answered.values()) == {1}
    assert sum(ferry.asked.values()) == len(ferry.answered) + 6


def test_kept_replies_cost_nothing_until_asked_afresh(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        for options in ((), ("--to", "srt"), ("--replace",)):
            assert mantisreed("run", "recordings/note 0.flac", *options).returncode == 0
        assert sum(ferry.asked.values()) == 1
        copy = tmp_path / "copy.flac"
        copy.write_bytes((recordings / "note 0.flac").read_bytes())
        assert mantisreed("run", "copy.flac").returncode == 0
        assert sum(ferry.asked.values()) == 1
        costs = json.loads(mantisreed("costs", "--json").stdout)
        assert costs["costs"][0]["cost"] == pytest.approx(costs["costs"][0]["billed"] / 60 * 0.01)
        assert mantisreed("run", "recordings/note 0.flac", "--afresh").returncode == 0
        assert sum(ferry.asked.values()) == 2
        assert json.loads(mantisreed("costs", "--json", "--by", "month").stdout)["costs"][0]["cost"] == pytest.approx(
            2 * costs["costs"][0]["cost"]
        )


def test_an_engine_that_refuses_the_key_is_left_alone_and_the_rest_waits(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    for number in range(2, 12):
        (recordings / f"note {number}.flac").write_bytes((recordings / "note 0.flac").read_bytes() + bytes([number]))
    with ferry.sailing(tmp_path):
        ferry.faults = ["key"] * 99
        refused = mantisreed("run", "recordings", "--json")
        states = Counter(one["state"] for one in json.loads(refused.stdout)["recordings"])
        assert refused.returncode == 1 and states["waiting"] >= 3 and states["failed"] < 9
        assert sum(ferry.asked.values()) == states["failed"]
        ferry.faults = []
        assert mantisreed("run", "recordings").returncode == 0
        listed = mantisreed("jobs", "--state", "done")
    assert listed.stdout.count("1 of 1") == 12


def test_jobs_and_costs_can_be_read(mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path) -> None:
    with ferry.sailing(tmp_path, tries=1):
        assert "no job yet" in mantisreed("jobs").stderr and "nothing was paid" in mantisreed("costs").stderr
        ferry.faults = ["503"]
        failed = mantisreed("run", "recordings/note 1.flac")
        assert failed.returncode == 1
        listed = mantisreed("jobs").stdout
        job = listed.splitlines()[1].split()[0]
        assert "failed" in listed and "0 of 1" in listed
        assert mantisreed("run", "recordings/note 1.flac").returncode == 0
        shown = mantisreed("jobs", job[:5]).stdout
        (piece,) = json.loads(mantisreed("jobs", job, "--json").stdout)["pieces"]
    failed_one, good_one = piece["attempts"]
    assert failed_one["error"].startswith("ferry: it broke (HTTP 503)") and good_one["error"] is None
    assert "minutes billed, 0.0097 shells" in shown and "failed: " in shown and "done" in shown
    assert "shells" in mantisreed("costs").stdout
    assert mantisreed("jobs", "zzz").returncode == 2
