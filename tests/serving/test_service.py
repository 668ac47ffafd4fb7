"""The service, as programs use it: the built command on loopback, asked over HTTP."""

import base64
import contextlib
import hashlib
import hmac
import http.server
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from contextlib import closing
from pathlib import Path
from urllib import request

import pytest
import soundfile
from openapi_spec_validator import validate

from browser import wait_until
from conftest import Note, free_port
from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.jobs.ledger import Ledger
from mantisreed.serving.routes import description
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from mantisreed.transcript.document import from_json
from postgres import new_database
from serving.running import Answer, Running, made, serving, standins


def test_one_request_in_text_out(service: Running, note: Note) -> None:
    answer = service.send(note.path, "/jobs?wait=60s&name=note.wav")
    assert answer.status == 200 and answer.headers["content-type"] == "text/plain; charset=utf-8"
    said = [spoken.phrase.text for spoken in note.composition.truth]
    assert answer.body.decode().split() == " ".join(said).split()
    for kind, form in (
        ("text/vtt", "vtt"),
        ("application/x-subrip", "srt"),
        ("application/ttml+xml", "ttml"),
    ):
        answer = service.send(note.path, "/jobs?wait=60s", Accept=kind)
        assert answer.status == 200 and OUTPUT_FORMATS[form].read(answer.body).cues
    transcript = service.send(note.path, "/jobs?wait=60s", Accept="application/json")
    assert from_json(transcript.body).recording.duration == 15.0
    assert service.send(note.path, "/jobs?wait=60s", Accept="image/png").status == 406


def test_curl_sends_a_form_and_a_job_is_told_at_once(service: Running, note: Note) -> None:
    curl = shutil.which("curl")
    if curl is None:
        pytest.skip("no curl is installed")
    form = [
        "-F",
        f"recording=@{note.path}",
        "-F",
        "language=en",
        "-F",
        "to=srt,txt",
        "-F",
        "name=tide\n../../x.wav",
    ]
    command = [curl, "-s", "-D", "head.txt", *form, f"{service.address}/jobs"]
    shown = subprocess.run(command, capture_output=True, text=True, cwd=service.folder)
    head = (service.folder / "head.txt").read_text()
    job = json.loads(shown.stdout)
    assert f"location: /jobs/{job['id']}" in head.lower() and job["recording"] == "x.wav"
    told = service.ended(job["id"])
    assert (
        told["state"] == "done" and told["words"] > 10 and told["doubts"] == 0 and told["cost"] > 0
    )
    assert told["details"]["pieces"][0]["attempts"][0]["outcome"] is not None
    for form_name in ("srt", "vtt", "md", "json"):
        assert service.ask("GET", f"/jobs/{job['id']}/outputs/{form_name}").status == 200
    assert service.ask("GET", f"/jobs/{job['id']}/outputs/pdf").status == 422


def test_jobs_are_listed_by_pages_and_filters(service: Running, note: Note) -> None:
    ids = [
        service.send(note.path, f"/jobs?name=page-{number}.wav").json["id"] for number in range(5)
    ]
    for job in ids:
        service.ended(job)
    first = service.ask("GET", "/jobs?recording=page-&limit=2").json
    assert [job["id"] for job in first["jobs"]] == ids[:-3:-1] and first["count"] == 5
    second = service.ask("GET", first["next"]).json
    assert [job["id"] for job in second["jobs"]] == ids[2:0:-1]
    assert service.ask("GET", "/jobs?state=failed&recording=page-").json["jobs"] == []
    assert service.ask("GET", "/jobs?state=sunny").status == 400
    assert service.ask("DELETE", f"/jobs/{ids[0]}").status == 204
    assert service.ask("GET", f"/jobs/{ids[0]}").status == 404
    assert not list(service.folder.glob(f".mantisreed/serve/recordings/{ids[0]}"))


def test_events_tell_the_text_so_far_of_an_answer_that_comes_bit_by_bit(
    service: Running, note: Note
) -> None:
    job = service.send(note.path, "/jobs?engine=bittern:lines").json["id"]
    with request.urlopen(f"{service.address}/jobs/{job}/events", timeout=60) as stream:
        told = stream.read().decode()
    said = note.composition.words[0].text
    assert f'"stage": "hearing ({said}' in told.replace('":"', '": "'), told


def test_events_tell_of_a_job_until_it_has_ended(service: Running, note: Note) -> None:
    job = service.send(note.path, "/jobs?name=events.wav").json["id"]
    with request.urlopen(f"{service.address}/jobs/{job}/events", timeout=60) as stream:
        assert stream.headers["content-type"].startswith("text/event-stream")
        events = stream.read().decode().split("\n\n")
    told = [
        json.loads(line[6:])
        for event in events
        for line in event.splitlines()
        if line.startswith("data: ")
    ]
    assert told[-1]["state"] == "done" and all(one["id"] == job for one in told)


def test_a_plan_costs_nothing_and_leaves_nothing(service: Running, note: Note) -> None:
    before = service.ask("GET", "/jobs").json["count"]
    plan = service.send(note.path, "/plan").json
    assert plan["engine"] == "brook" and plan["cost"] > 0 and plan["pieces"]
    assert service.ask("GET", "/jobs").json["count"] == before


def test_an_upload_that_broke_off_is_gone_on_with(service: Running, note: Note) -> None:
    content = note.path.read_bytes()
    begun = service.ask(
        "POST",
        "/uploads?name=tide.wav",
        content[:100_000],
        Upload_Complete="?0",
        Content_Type="x/y",
    )
    assert begun.status == 201 and begun.headers["upload-offset"] == "100000"
    place = begun.headers["location"]
    host, port = service.address.removeprefix("http://").split(":")
    with socket.create_connection(
        (host, int(port))
    ) as line:  # a connection that breaks in the middle
        lines = (
            f"PATCH {place} HTTP/1.1",
            f"Host: {host}:{port}",
            "Upload-Offset: 100000",
            "Content-Length: 300000",
        )
        head = "\r\n".join([*lines, "", ""])
        line.sendall(head.encode() + content[100_000:150_000])
        time.sleep(0.5)
    asked = service.ask("HEAD", place)
    assert asked.status == 204, (asked.status, asked.body, begun.headers)
    wait_until(lambda: int(service.ask("HEAD", place).headers["upload-offset"]) == 150_000)
    # The request that broke off may still be putting its last bytes on disk.
    wait_until(
        lambda: (
            "goes on at" in service.ask("PATCH", place, b"x", Upload_Offset="120000").json["detail"]
        )
    )
    wrong = service.ask("PATCH", place, content[150_000:], Upload_Offset="120000")
    assert wrong.status == 409 and wrong.headers["upload-offset"] == "150000"
    early = service.ask(
        "POST", "/jobs", json.dumps({"upload": place[9:]}).encode(), Content_Type="application/json"
    )
    assert early.status == 409
    done = service.ask(
        "PATCH", place, content[150_000:], Upload_Offset="150000", Upload_Complete="?1"
    )
    assert done.status == 204 and done.headers["upload-complete"] == "?1"
    sent = service.ask(
        "POST",
        "/jobs?wait=60s",
        json.dumps({"upload": place[9:]}).encode(),
        Content_Type="application/json",
    )
    assert sent.status == 200 and sent.body == service.send(note.path, "/jobs?wait=60s").body
    assert service.ask("HEAD", place).status == 404


def test_a_request_that_comes_twice_is_one_job(service: Running, note: Note) -> None:
    first = service.send(note.path, "/jobs?name=twice.wav", Idempotency_Key="tide-1")
    second = service.send(note.path, "/jobs?name=twice.wav", Idempotency_Key="tide-1")
    assert first.json["id"] == second.json["id"]
    other = service.send(note.path, "/jobs?name=twice.wav&language=de", Idempotency_Key="tide-1")
    assert other.status == 422
    assert service.ask("GET", "/jobs?recording=twice").json["count"] == 1


def test_paths_and_links_lead_nowhere_else(service: Running, note: Note, tmp_path: Path) -> None:
    shutil.copy(note.path, service.folder / "allowed" / "note.wav")
    (service.folder / "allowed" / "out.wav").symlink_to(note.path)

    def sent(**given: str) -> Answer:
        return service.ask(
            "POST", "/jobs?wait=60s", json.dumps(given).encode(), Content_Type="application/json"
        )

    assert sent(path=str(service.folder / "allowed" / "note.wav")).status == 200
    for path in (
        str(note.path),
        str(service.folder / "allowed" / "out.wav"),
        "/etc/passwd",
        f"{service.folder}/allowed/../mantisreed.toml",
    ):
        assert sent(path=path).status == 403, path
    for link in (
        "http://127.0.0.1:1/a.mp3",
        "http://localhost/a.mp3",
        "http://[::1]/a.mp3",
        "http://169.254.169.254/latest",
    ):
        answer = sent(link=link)
        assert answer.status == 403 and "private" in answer.json["detail"], link
    assert sent(link="file:///etc/passwd").status == 400
    assert sent(link="http://a.example/x.mp3", webhook="http://127.0.0.1:1/").status == 403


DEEP = b'{"to":' * 50_000 + b"1" + b"}" * 50_000


@pytest.mark.parametrize(
    ("path", "headers", "body", "status"),
    [
        ("/jobs", {}, b"this is no recording", 422),
        ("/jobs", {}, b"", 400),
        ("/jobs?shoes=12", {}, None, 400),
        ("/jobs?language=marsh mud", {}, None, 422),
        ("/jobs?engine=nobody", {}, None, 422),
        ("/jobs?to=pdf", {}, None, 422),
        ("/jobs?wait=soon", {}, None, 400),
        ("/jobs?spend_limit=much", {}, None, 400),
        ("/jobs", {"Content-Type": "application/json"}, b"[1]", 400),
        ("/jobs", {"Content-Type": "application/json"}, b"{", 400),
        ("/jobs", {"Content-Type": "application/json"}, b"{}", 400),
        ("/jobs", {"Content-Type": "application/json"}, b'{"to":' + b"[" * 100_000, 400),
        ("/jobs", {"Content-Type": "application/json"}, DEEP, 400),
        ("/jobs", {"Content-Type": "multipart/form-data; boundary=x"}, b"--x\r\nnonsense", 400),
        ("/jobs", {"Content-Type": "application/x-www-form-urlencoded"}, b"a=b", 415),
        ("/jobs", {}, b"0" * 4_500_000, 413),
        ("/uploads", {"Upload-Length": "9999999999"}, b"", 413),
        ("/jobs/none/cancel", {}, b"", 404),
        ("/calls/forged", {}, b"{}", 404),
        ("/nowhere", {}, b"", 404),
    ],
)  # fmt: skip
def test_what_is_wrong_is_one_problem_document_and_leaves_nothing(
    service: Running,
    note: Note,
    path: str,
    headers: dict[str, str],
    body: bytes | None,
    status: int,
) -> None:
    recordings = service.folder / ".mantisreed" / "serve" / "recordings"
    before = sorted(recordings.iterdir())
    content = note.path.read_bytes() if body is None else body
    answer = service.ask(
        "POST",
        path.replace(" ", "%20"),
        content,
        **{"Content-Type": "application/octet-stream", **headers},
    )
    assert answer.status == status, answer.body
    assert answer.headers["content-type"] == "application/problem+json"
    assert (
        answer.json["status"] == status
        and answer.json["detail"]
        and len(answer.json["detail"].splitlines()) == 1
    )
    assert sorted(recordings.iterdir()) == before


def test_the_description_is_valid_and_names_what_there_is(service: Running) -> None:
    document = service.ask("GET", "/openapi.json").json
    validate(document)
    assert {
        "/jobs",
        "/jobs/{job}/events",
        "/uploads/{upload}",
        "/costs",
        "/engines",
        "/plan",
    } <= set(document["paths"])
    assert document["paths"]["/jobs"]["post"]["responses"]["4XX"]
    assert "text/vtt" in document["paths"]["/jobs"]["post"]["responses"]["200"]["content"]
    assert document["components"]["securitySchemes"]["token"]["scheme"] == "bearer"


def test_the_description_names_every_option_and_every_header_that_is_read(
    service: Running,
) -> None:
    document = json.dumps(service.ask("GET", "/openapi.json").json).lower()
    # Those of HTTP itself are not described: authorization, content-type, accept, host, origin.
    of_http = {"authorization", "content-type", "accept", "host", "origin"}
    for file in Path(description.__file__).parent.glob("*_routes.py"):
        read = re.findall(
            r'headers(?:\.get\(|\[)"([a-z-]+)"|_number\(request, "(.*?)"', file.read_text()
        )
        for name in {one or other for one, other in read} - of_http:
            assert f'"name": "{name}"' in document, f"{file.name}: {name}"


def test_a_job_may_name_the_track(service: Running, note: Note) -> None:
    job = service.send(note.path, "/jobs?track=1").json["id"]
    assert service.ended(job)["state"] == "done"
    job = service.send(note.path, "/jobs?track=7").json["id"]
    told = service.ended(job)
    assert told["state"] == "failed" and "track" in told["error"]["what"]
    assert service.send(note.path, "/jobs?track=0").status == 400
    assert service.send(note.path, "/jobs?track=two").status == 400


def test_the_rest_is_told(service: Running, note: Note) -> None:
    assert service.send(note.path, "/jobs?wait=60s").status == 200
    assert service.ask("GET", "/health").json == {"state": "running"}
    assert service.ask("GET", "/ready").json == {"state": "ready"}
    assert "mantisreed_requests_total" in service.ask("GET", "/metrics").body.decode()
    assert "brook" in [engine["name"] for engine in service.ask("GET", "/engines").json["engines"]]
    assert service.ask("GET", "/costs").json["costs"][0]["engine"] == "brook"
    board = service.ask("GET", "/")
    assert (
        board.headers["content-type"].startswith("text/html")
        and "connect-src 'self'" in board.headers["content-security-policy"]
    )
    assert (
        board.headers["x-content-type-options"] == "nosniff"
        and "access-control-allow-origin" not in board.headers
    )


def test_pages_of_other_places_may_do_nothing(service: Running) -> None:
    assert service.ask("GET", "/jobs", Origin="https://elsewhere.example").status == 403
    assert service.ask("GET", "/jobs", Host="elsewhere.example").status == 403
    assert service.ask("GET", "/jobs", Origin=service.address).status == 200


def test_a_corrected_transcript_is_saved_into_the_outputs(service: Running, note: Note) -> None:
    job = service.send(note.path, "/jobs?name=review.wav&to=srt,txt").json["id"]
    service.ended(job)
    opened = service.ask("POST", f"/jobs/{job}/review").json["url"]
    page = service.ask("GET", opened)
    assert page.status == 200 and f"/jobs/{job}/sound" in page.body.decode()
    document = service.ask("GET", f"/jobs/{job}/outputs/json").json
    word = document["passages"][0]["words"][0]
    document["passages"][0]["text"] = document["passages"][0]["text"].replace(
        word["text"], "Puffin", 1
    )
    word["text"] = "Puffin"
    saved = service.save(job, document)
    assert saved.status == 200 and len(saved.json["files"]) == 3
    assert service.ask("GET", f"/jobs/{job}/text").body.decode().startswith("Puffin")
    played = service.ask("GET", opened.replace("/review?", "/sound?"))
    assert played.headers["content-type"] == "audio/wav" and played.body == note.path.read_bytes()
    part = service.ask("GET", opened.replace("/review?", "/sound?"), Range="bytes=100-199")
    assert part.status == 206 and part.body == note.path.read_bytes()[100:200]
    document["recording"]["digest"] = "sha256:" + "0" * 64
    assert service.save(job, document).status == 422
    assert service.save(job, {}).status == 422


def test_what_browsers_do_not_play_is_played_from_a_copy(
    service: Running, note: Note, tmp_path: Path
) -> None:
    copy = tmp_path / "round.aiff"
    sound, rate = soundfile.read(note.path)
    soundfile.write(copy, sound, rate)
    job = service.send(copy, "/jobs?name=round.aiff").json["id"]
    service.ended(job)
    page = service.ask("GET", service.ask("POST", f"/jobs/{job}/review").json["url"])
    assert page.status == 200
    played = service.ask("GET", f"/jobs/{job}/sound")
    assert played.headers["content-type"] == "audio/webm" and played.body[:4] == b"\x1aE\xdf\xa3"


def test_tokens_tell_tenants_apart_and_keep_them_to_their_limits(
    listener: Listener, note: Note, trusting: Path
) -> None:
    with standins(listener, trusting):
        hut = made(trusting, "hut")
        boat = made(trusting, "boat", "--spend-limit", "0.0015")
        reader = made(trusting, "reader", "--scopes", "read", "--requests-per-minute", "8")
        admin = made(trusting, "admin", "--scopes", "admin")
        state = trusting / ".mantisreed"
        kept = b"".join(file.read_bytes() for file in state.glob("ledger.sqlite*"))
        assert b"reader" in kept
        assert all(token.encode() not in kept for token in (hut, boat, reader, admin))
        assert state.stat().st_mode & 0o077 == 0
        with serving(trusting) as service:
            assert service.ask("GET", "/jobs").status == 401
            assert service.ask("GET", "/jobs", token="mr_wrong").status == 401
            job = service.send(note.path, "/jobs?wait=60s", Authorization=f"Bearer {hut}").headers[
                "location"
            ]
            assert service.ask("GET", job, token=hut).json["state"] == "done"
            assert (
                service.ask("GET", job, token=boat).status
                == service.ask("GET", f"{job}/text", token=boat).status
                == 404
            )
            assert service.ask("GET", "/jobs", token=boat).json["count"] == 0
            assert service.ask("GET", job, token=admin).status == 200
            assert service.send(note.path, Authorization=f"Bearer {reader}").status == 403
            assert service.ask("GET", "/costs", token=hut).status == 403
            # What was paid for by another is not paid again, and what is new is.
            for wanted in ("/jobs?wait=60s", "/jobs?wait=60s&language=en"):
                assert service.send(note.path, wanted, Authorization=f"Bearer {boat}").status == 200
            over = service.send(note.path, Authorization=f"Bearer {boat}")
            assert over.status == 403 and "may spend" in over.json["detail"]
            paid, kept_reply = service.ask("GET", "/jobs", token=boat).json["jobs"]
            assert paid["cost"] > 0 and kept_reply["cost"] == 0
            assert service.ask("DELETE", f"/jobs/{paid['id']}", token=boat).status == 204
            assert (
                service.send(note.path, Authorization=f"Bearer {boat}").status == 403
            )  # it is spent all the same
            # What a second opinion will cost nobody knows beforehand: the job may cost what is
            # left, and no more.
            guest = made(trusting, "guest", "--spend-limit", "0.002")
            sent = service.send(
                note.path, "/jobs?second_opinion=heron", Authorization=f"Bearer {guest}"
            )
            with closing(Ledger(state)) as ledger:
                (kept_order,) = ledger.served.some([sent.json["id"]])
            assert json.loads(kept_order.body or b"")["options"]["spend_limit"] == "0.002"
            answers = [service.ask("GET", "/jobs", token=reader) for _ in range(12)]
            assert {answer.status for answer in answers} == {200, 429} and "retry-after" in answers[
                -1
            ].headers
            revoke = [sys.executable, "-m", "mantisreed", "tokens", "revoke", "hut"]
            subprocess.run(revoke, cwd=trusting, capture_output=True, check=True)
            # It looks again within a second.
            wait_until(lambda: service.ask("GET", job, token=hut).status == 401, 5.0)


def test_whoever_wants_it_is_called_when_a_job_has_ended(
    listener: Listener, note: Note, trusting: Path
) -> None:
    calls: list[tuple[dict[str, str], bytes]] = []

    class Hook(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["content-length"]))
            calls.append(({name.lower(): value for name, value in self.headers.items()}, body))
            self.send_response(500 if len(calls) == 1 else 204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    key = base64.b64encode(b"a key of the marsh").decode()
    (trusting / "call.key").write_text(f"whsec_{key}")
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Hook) as hook:
        threading.Thread(target=hook.serve_forever, daemon=True).start()
        address = f"http://127.0.0.1:{hook.server_address[1]}/done"
        more = '[serve]\nwebhook_secret = "file:call.key"\n'
        with (
            standins(listener, trusting, more=more),
            serving(trusting, "--allow-private-links") as service,
        ):
            job = service.send(note.path, f"/jobs?webhook={address}").json["id"]
            wait_until(
                lambda: service.ask("GET", f"/jobs/{job}").json["webhook"]["state"] == "done", 60.0
            )
        hook.shutdown()
    (first, _), (headers, body) = calls
    assert first["webhook-id"] == headers["webhook-id"]  # it is known again
    signed = f"{headers['webhook-id']}.{headers['webhook-timestamp']}.".encode() + body
    expected = base64.b64encode(hmac.digest(base64.b64decode(key), signed, hashlib.sha256)).decode()
    assert headers["webhook-signature"] == f"v1,{expected}"
    assert json.loads(body)["job"]["id"] == job and json.loads(body)["profile"] == "live"


def test_nothing_that_was_accepted_is_lost_when_it_is_killed(
    listener: Listener, english: list[Phrase], trusting: Path
) -> None:
    port, accepted = free_port(), []
    for number in range(3):
        compose(english, seed=300 + number, duration=12).write(trusting / f"round-{number}.wav")
    with standins(listener, trusting, FaultProfile(faults=0.2, kinds=("503",))):
        for number in range(3):
            with serving(trusting, port=port) as service:
                sent = service.send(
                    trusting / f"round-{number}.wav", f"/jobs?name=round-{number}.wav"
                )
                assert sent.status == 202
                accepted.append(sent.json["id"])
                time.sleep(0.3 * number)
                os.kill(service.process.pid, signal.SIGKILL)
                service.process.wait(20)
        with serving(trusting, port=port) as service:
            states = [service.ended(job)["state"] for job in accepted]
            assert states == ["done"] * 3


def test_a_service_keeps_its_ledger_on_a_database_server(
    listener: Listener, note: Note, trusting: Path, postgresql: str
) -> None:
    more = f'[ledger]\nurl = "{new_database(postgresql)}"\n'
    port = free_port()
    with standins(listener, trusting, more=more):
        with serving(trusting, port=port) as service:
            assert service.ask("GET", "/ready").status == 200
            job = service.send(note.path, "/jobs?wait=60s").headers["location"]
            told = service.ask("GET", job).json
            assert told["state"] == "done" and told["cost"] > 0 and told["details"]["pieces"]
            lost = service.send(note.path, "/jobs?language=en").json["id"]
            os.kill(service.process.pid, signal.SIGKILL)
            service.process.wait(20)
        with serving(trusting, port=port) as service:
            assert service.ended(lost)["state"] == "done"
            assert service.ask("GET", "/costs").json["costs"][0]["engine"] == "brook"


def test_stopping_finishes_what_is_on_its_way_and_a_new_start_goes_on(
    listener: Listener, note: Note, trusting: Path
) -> None:
    with standins(listener, trusting, FaultProfile(queue=3.0)):
        port = free_port()
        with serving(trusting, port=port) as service:
            job = service.send(note.path, "/jobs?engine=dipper").json["id"]
            time.sleep(1.0)
            service.process.terminate()
            assert service.process.wait(40) == 0
        with serving(trusting, port=port) as service:
            assert service.ended(job)["state"] == "done"


def test_junk_and_silence_do_not_keep_others_out(service: Running, note: Note) -> None:
    host, port = service.address.removeprefix("http://").split(":")
    silent = [socket.create_connection((host, int(port))) for _ in range(200)]
    try:
        for junk in (
            b"\x16\x03\x01" * 50,
            b"GET / HTTP/9.9\r\n\r\n",
            b"POST /jobs HTTP/1.1\r\nHost: x\r\nX: " + b"a" * 100_000,
        ):
            for _ in range(20):
                with (
                    socket.create_connection((host, int(port)), timeout=5) as line,
                    contextlib.suppress(OSError),
                ):
                    line.sendall(junk)
                    line.recv(100)
        started = time.monotonic()
        assert service.ask("GET", "/health").status == 200 and time.monotonic() - started < 10
    finally:
        for line in silent:
            line.close()


def test_what_is_far_too_large_is_refused_before_it_is_read(service: Running) -> None:
    host, port = service.address.removeprefix("http://").split(":")
    with socket.create_connection((host, int(port)), timeout=10) as line:
        kind = "Content-Type: multipart/form-data; boundary=x"
        head = ("POST /jobs HTTP/1.1", f"Host: {host}:{port}", kind, "Content-Length: 80000000000")
        line.sendall("\r\n".join([*head, "", ""]).encode() + b"--x\r\n")
        answer = line.recv(4000)
    assert b" 413 " in answer and b"application/problem+json" in answer


def test_engines_call_back_and_fetch_pieces_on_the_same_address(
    listener: Listener, note: Note, trusting: Path
) -> None:
    port = free_port()
    public = f'public = "http://127.0.0.1:{port}"'
    more = f"[callbacks]\n{public}\n[recording_urls]\n{public}\n"
    with (
        standins(listener, trusting, FaultProfile(queue=1.0), more=more),
        serving(trusting, port=port) as service,
    ):
        called = service.send(note.path, "/jobs?wait=60s&engine=dipper:carrier")
        fetched = service.send(note.path, "/jobs?wait=60s&engine=plover")
        metrics = service.ask("GET", "/metrics").body.decode()
    said = " ".join(spoken.phrase.text for spoken in note.composition.truth).split()
    for answer in (called, fetched):
        assert answer.status == 200 and set(said) <= set(answer.body.decode().split()), answer.body
    assert (
        'mantisreed_requests_total{method="POST",status="204"}' in metrics
    )  # the engine has called
