"""What a token may spend and store holds on every way to send, and whatever a header says."""

import time
from pathlib import Path
from typing import Any

import pytest

from cli.ferry import Ferry
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from serving.running import Running, made, serving


@pytest.fixture
def ferry() -> Ferry:
    return Ferry()


@pytest.fixture
def sound(english: list[Phrase], tmp_path: Path) -> bytes:
    """A FLAC of 60 s; the ferry asks a hundredth of a shell for it."""
    file = tmp_path / "sound.flac"
    compose(english, seed=200, duration=60, pauses=(0.8, 1.5)).write(file)
    return file.read_bytes()


def lying(sound: bytes, seconds: int = 1) -> bytes:
    """The same FLAC, the header of which says that it is so short."""
    told = bytearray(sound)
    samples = 16_000 * seconds
    told[21] = (told[21] & 0xF0) | (samples >> 32)
    told[22:26] = (samples & 0xFFFFFFFF).to_bytes(4, "big")
    return bytes(told)


def sent(service: Running, token: str, body: bytes, query: str = "") -> Any:
    return service.ask(
        "POST", f"/jobs?name=a.flac{query}", body, token, **{"Content-Type": "audio/flac"}
    )


def ended(service: Running, token: str, job: str) -> dict[str, Any]:
    for _ in range(200):
        found: dict[str, Any] = service.ask("GET", f"/jobs/{job}", token=token).json
        if found["state"] not in ("waiting", "sending", "working"):
            return found
        time.sleep(0.1)
    raise AssertionError(found)


def test_trying_again_without_end_does_not_spend_without_end(
    ferry: Ferry, sound: bytes, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path, tries=1):
        token = made(tmp_path, "hut", "--spend-limit", "0.025")
        with serving(tmp_path) as service:
            # Each answer is charged for, and cannot be read.
            ferry.faults = ["html"] * 20
            job = sent(service, token, sound).json["id"]
            for _ in range(6):
                assert ended(service, token, job)["state"] == "failed"
                # There is room for a little more, so that it may begin; each request asks again.
                assert service.ask("POST", f"/jobs/{job}/retry", token=token).status == 202
            assert "over the limit" in ended(service, token, job)["error"]["what"]
            assert sum(ferry.asked.values()) == 2
            # Neither does another job, or one that was cancelled.
            assert sent(service, token, sound + b"\0", "&afresh=true").status == 403
        with serving(tmp_path) as service:
            # Nor a service that was started anew, nor a job that is forgotten.
            assert service.ask("POST", f"/jobs/{job}/retry", token=token).status == 202
            assert "over the limit" in ended(service, token, job)["error"]["what"]
            assert service.ask("DELETE", f"/jobs/{job}", token=token).status == 204
            assert sent(service, token, sound, "&afresh=true").status == 403
        assert sum(ferry.asked.values()) == 2


def test_a_header_that_lies_passes_no_limit(ferry: Ferry, sound: bytes, tmp_path: Path) -> None:
    with ferry.sailing(tmp_path, tries=1):
        poor = made(tmp_path, "poor", "--spend-limit", "0.005")
        short = made(tmp_path, "short", "--max-length", "30s")
        with serving(tmp_path) as service:
            for token, told in ((poor, "limit"), (short, "30 s")):
                accepted = sent(service, token, lying(sound))
                assert accepted.status == 202, accepted.json
                job = ended(service, token, accepted.json["id"])
                assert job["state"] == "failed" and told in job["error"]["what"], job
            assert sum(ferry.asked.values()) == 0
            good = made(tmp_path, "good", "--spend-limit", "0.015", "--max-length", "2min")
            job = ended(service, good, sent(service, good, sound).json["id"])
            assert job["state"] == "done" and sum(ferry.asked.values()) == 1
            # What is left is not enough for the next one.
            assert sent(service, good, sound, "&afresh=true").status == 403


def test_a_revoked_token_spends_nothing_more(ferry: Ferry, sound: bytes, tmp_path: Path) -> None:
    with ferry.sailing(tmp_path, tries=1):
        token = made(tmp_path, "hut", "--spend-limit", "1")
        ferry.faults = ["key"]
        with serving(tmp_path) as service:
            job = sent(service, token, sound).json["id"]
            state = service.ask("GET", f"/jobs/{job}", token=token).json["state"]
            assert state in ("waiting", "sending", "failed")


def test_what_a_token_stores_has_a_limit_with_its_uploads(
    ferry: Ferry, sound: bytes, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        token = made(tmp_path, "hut", "--max-stored", f"{2 * len(sound) + 100}")
        other = made(tmp_path, "boat")
        with serving(tmp_path) as service:
            first = sent(service, token, sound).json["id"]
            part = {"Upload-Complete": "?0"}
            upload = service.ask("POST", "/uploads?name=b.flac", sound[:-50], token, **part)
            assert upload.status == 201
            # Nothing more has room, however it comes; others have their own.
            assert sent(service, token, sound).status == 507
            again = service.ask("POST", "/uploads?name=c.flac", sound, token, **part)
            assert again.status == 507
            more = {"Upload-Offset": str(len(sound) - 50), "Upload-Complete": "?0"}
            place = upload.headers["location"]
            assert service.ask("PATCH", place, sound, token, **more).status == 507
            assert sent(service, other, sound).status == 202
            last = more | {"Upload-Complete": "?1"}
            assert service.ask("PATCH", place, sound[-50:], token, **last).status == 204
            assert service.ask("DELETE", place, token=token).status == 204
            assert ended(service, token, first)["state"] == "done"
            assert service.ask("DELETE", f"/jobs/{first}", token=token).status == 204
            assert sent(service, token, sound).status == 202
