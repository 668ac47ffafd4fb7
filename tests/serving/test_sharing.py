"""The service, where several want the same, change their minds, or say a thing twice."""

import contextlib
import http.server
import json
import shutil
import threading
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from browser import wait_until
from conftest import Note
from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from mantisreed.transcript.document import from_json
from serving.running import Answer, Running, made, serving, standins


def asked(service: Running, where: str, wanted: dict[str, object], **headers: str) -> Answer:
    return service.ask(
        "POST", where, json.dumps(wanted).encode(), Content_Type="application/json", **headers
    )


def text(service: Running, job: str) -> str:
    return service.ask("GET", f"/jobs/{job}/text").body.decode()


def test_the_same_recording_wanted_several_times_at_once_has_a_result_for_each(
    service: Running, english: list[Phrase]
) -> None:
    path = service.folder / "allowed" / "shared.wav"
    composition = compose(english, seed=77, duration=15)  # nobody else has had it transcribed
    composition.write(path)
    wanted: list[dict[str, object]] = [
        {},
        {},
        {"language": "en"},
        {"language": "de"},
        {"redact": True},
    ]
    jobs = [
        asked(service, "/jobs", {"path": str(path), **options}).json["id"] for options in wanted
    ]
    told = [service.ended(job) for job in jobs]
    assert [one["state"] for one in told] == ["done", "done", "done", "no speech", "done"]
    assert [one["language"] for one in told] == ["en", "en", "en", "de", "en"]
    # What one of them was answered, whichever came first, is not paid for again by another that
    # wants the same.
    costs = sorted(told[number]["cost"] for number in (0, 1, 4))
    assert costs[:2] == [0, 0] and costs[2] > 0 and told[2]["cost"] > 0
    # Nor by one that comes later, when those are forgotten.
    for number in (0, 1, 4):
        assert service.ask("DELETE", f"/jobs/{jobs[number]}").status == 204
    later = asked(service, "/jobs", {"path": str(path)}).json["id"]
    assert service.ended(later)["cost"] == 0
    jobs[0] = later
    # Each keeps its own: none was written over by a later one.
    said = [spoken.phrase.text for spoken in composition.truth]
    assert (
        text(service, jobs[0]).split() == " ".join(said).split()
        and text(service, jobs[3]).split() == []
    )


def test_an_upload_stays_until_a_job_is_accepted_and_a_request_that_comes_twice_finds_it(
    service: Running, note: Note
) -> None:
    begun = service.ask(
        "POST", "/uploads?name=tide.wav", note.path.read_bytes(), Content_Type="x/y"
    )
    upload = begun.headers["location"].removeprefix("/uploads/")
    assert asked(service, "/plan", {"upload": upload}).json["cost"] > 0
    assert asked(service, "/jobs", {"upload": upload, "engine": "nobody"}).status == 422
    assert asked(service, "/jobs", {"upload": upload, "layout": "nothing"}).status == 422
    wanted: dict[str, object] = {"upload": upload}
    # Keys have no spaces.
    assert asked(service, "/jobs", wanted, Idempotency_Key="uploaded once").status == 400
    first = asked(service, "/jobs", wanted, Idempotency_Key="uploaded-once")
    assert first.status == 202 and service.ask("HEAD", f"/uploads/{upload}").status == 404
    again = asked(service, "/jobs", wanted, Idempotency_Key="uploaded-once")
    assert again.status == 202 and again.json["id"] == first.json["id"]
    assert (
        asked(
            service, "/jobs", {**wanted, "language": "de"}, Idempotency_Key="uploaded-once"
        ).status
        == 422
    )
    assert asked(service, "/jobs", wanted).status == 404
    assert service.ended(first.json["id"])["state"] == "done"


def test_a_key_that_was_used_for_another_recording_is_told(
    service: Running, note: Note, tmp_path: Path
) -> None:
    other = tmp_path / "other.wav"
    other.write_bytes(note.path.read_bytes() + b"note\x02\0\0\0\x01\0")
    first = service.send(note.path, "/jobs?name=same.wav", Idempotency_Key="two-recordings")
    assert first.status == 202
    assert (
        service.send(other, "/jobs?name=same.wav", Idempotency_Key="two-recordings").status == 422
    )
    assert (
        service.send(note.path, "/jobs?name=same.wav", Idempotency_Key="two-recordings").json["id"]
        == (first.json["id"])
    )
    assert len(list((service.folder / ".mantisreed/serve/recordings").glob("*/same.wav"))) == 1


def test_what_was_cancelled_on_its_way_is_no_result_and_is_whole_when_it_is_tried_again(
    listener: Listener, english: list[Phrase], trusting: Path
) -> None:
    composition = compose(english, seed=31, duration=90, pauses=(0.8, 1.6))
    composition.write(trusting / "round.wav")
    with standins(listener, trusting, FaultProfile(queue=0.8)), serving(trusting) as service:
        whole = "/jobs?engine=dipper&piece_length=5s"
        job = service.send(trusting / "round.wav", whole).json["id"]
        wait_until(lambda: service.ask("GET", f"/jobs/{job}").json["stage"] is not None)
        assert service.ask("POST", f"/jobs/{job}/cancel").json["state"] == "cancelled"
        assert service.ask("POST", f"/jobs/{job}/cancel").status == 409
        assert service.ask("GET", f"/jobs/{job}/text").status == 409
        again = service.ask("POST", f"/jobs/{job}/retry")
        assert again.json.get("state") == "waiting", again
        told = service.ended(job)
        said = " ".join(spoken.phrase.text for spoken in composition.truth).split()
        whole_text = from_json(service.ask("GET", f"/jobs/{job}/outputs/json").body)
        assert told["state"] == "done" and [word.text for word in whole_text.words] == said
        # And many that are still waiting for their turn are not sent at all.
        several = [
            service.send(trusting / "round.wav", f"{whole}&language=en&afresh=true")
            for _ in range(12)
        ]
        jobs = [answer.json["id"] for answer in several]
        # A slow machine may have done the first of them before it comes to cancelling.
        wanted = [
            "cancelled" if service.ask("POST", f"/jobs/{job}/cancel").status == 200 else "done"
            for job in jobs
        ]
        assert "cancelled" in wanted
        wait_until(lambda: "mantisreed_queue 0.0" in service.ask("GET", "/metrics").body.decode())
        states = [service.ask("GET", f"/jobs/{job}").json["state"] for job in jobs]
        assert states == wanted
        # What has to be paid all the same is noted before a job is forgotten.
        assert {service.ask("DELETE", f"/jobs/{job}").status for job in jobs} <= {204, 409}
        wait_until(
            lambda: all(service.ask("DELETE", f"/jobs/{job}").status in (204, 404) for job in jobs),
            60.0,
        )
        last = service.send(trusting / "round.wav", "/jobs?wait=60s")
        assert last.status == 200  # nothing that was cancelled is in the way of others


def test_a_corrected_transcript_of_a_job_is_laid_out_and_redacted_as_the_job_is(
    service: Running, note: Note
) -> None:
    job = service.send(note.path, "/jobs?name=corrected.wav&to=srt&layout=phone&redact=true").json[
        "id"
    ]
    service.ended(job)
    before = service.ask("GET", f"/jobs/{job}/outputs/srt").body
    document = service.ask("GET", f"/jobs/{job}/outputs/json").json
    assert service.save(job, document).status == 200
    written = next((service.folder / "transcripts").glob("corrected*.srt"))
    assert written.read_bytes() == before and OUTPUT_FORMATS["srt"].read(before).cues
    word = document["passages"][0]["words"][0]
    document["passages"][0]["text"] = document["passages"][0]["text"].replace(
        word["text"], "hut@marsh.example", 1
    )
    word["text"] = "hut@marsh.example"
    assert service.save(job, document).status == 200
    assert b"hut@marsh" not in written.read_bytes() and "hut@marsh" not in text(service, job)


def test_what_a_link_leads_to_has_the_limits_of_what_is_sent(
    listener: Listener, note: Note, trusting: Path
) -> None:
    class Shelf(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Length", str(note.path.stat().st_size))
            self.end_headers()
            with contextlib.suppress(OSError):
                self.wfile.write(note.path.read_bytes())

        def log_message(self, *_: object) -> None:
            pass

    with (
        http.server.ThreadingHTTPServer(("127.0.0.1", 0), Shelf) as shelf,
        standins(listener, trusting),
    ):
        threading.Thread(target=shelf.serve_forever, daemon=True).start()
        wanted: dict[str, object] = {
            "link": f"http://127.0.0.1:{shelf.server_address[1]}/note.wav",
            "webhook": "",
        }
        # Fmt: skip.
        tokens = [
            made(trusting, name, *limit)
            for name, limit in (
                ("short", ("--max-length", "10s")),
                ("small", ("--max-size", "100 KB")),
                ("any", ()),
            )
        ]
        with serving(trusting, "--allow-private-links") as service:
            bearers = [f"Bearer {token}" for token in tokens]
            answers = [
                asked(service, "/jobs?wait=60s", wanted, Authorization=bearer) for bearer in bearers
            ]
        shelf.shutdown()
    assert [answer.status for answer in answers] == [422, 422, 200], [
        answer.body for answer in answers
    ]
    assert "15 s" in answers[0].json["detail"] and "larger than" in answers[1].json["detail"]


@pytest.mark.parametrize("where", ["query", "form", "body"])
def test_how_long_to_wait_may_stand_wherever_options_do(
    service: Running, note: Note, where: str
) -> None:
    content = note.path.read_bytes()
    if where == "query":
        answer = service.ask("POST", "/jobs?wait=60s", content, Content_Type="audio/wav")
    elif where == "form":
        field = 'Content-Disposition: form-data; name="{}"'
        parts = [
            f"--x\r\n{field.format('wait')}\r\n\r\n60s\r\n".encode(),
            # left empty, as forms of browsers do
            f"--x\r\n{field.format('language')}\r\n\r\n\r\n".encode(),
            f'--x\r\n{field.format("recording")}; filename="note.wav"\r\n\r\n'.encode()
            + content
            + b"\r\n--x--\r\n",
        ]
        answer = service.ask(
            "POST", "/jobs", b"".join(parts), Content_Type="multipart/form-data; boundary=x"
        )
    else:
        path = service.folder / "allowed" / "waiting.wav"
        shutil.copy(note.path, path)
        answer = asked(service, "/jobs", {"path": str(path), "wait": "60s"})
    assert answer.status == 200 and answer.headers["content-type"] == "text/plain; charset=utf-8"


def test_a_form_that_is_not_right_leaves_nothing(service: Running, note: Note) -> None:
    recordings = service.folder / ".mantisreed" / "serve" / "recordings"
    before = sorted(recordings.iterdir())
    content = note.path.read_bytes()
    part = (
        b'--x\r\nContent-Disposition: form-data; name="recording"; filename="a.wav"\r\n\r\n'
        + content
        + b"\r\n"
    )
    elsewhere = part.replace(b'"recording"', b'"sound"')
    for body, status in ((part + part + b"--x--", 400), (elsewhere + b"--x--", 400), (part, 400)):
        answer = service.ask("POST", "/jobs", body, Content_Type="multipart/form-data; boundary=x")
        assert answer.status == status and answer.json["detail"], answer.body
    large = part.replace(content, content * 20)
    answer = service.ask(
        "POST", "/jobs", large + b"--x--", Content_Type="multipart/form-data; boundary=x"
    )
    assert answer.status == 413
    assert sorted(recordings.iterdir()) == before


@pytest.mark.parametrize(
    "wanted",
    [
        {"link": "http://["},
        {"link": ["http://a.example/x.wav"]},
        {"link": "http://a.example:99999999/x.wav"},
        {"link": "http://a.example/x.wav", "name": 5},
        {"link": "http://a.example/x.wav", "webhook": "http://["},
        {"link": "http://a.example/x.wav", "webhook": {"to": "http://a.example"}},
        {"link": "http://a.example/x.wav", "profile": ["live"]},
        {"link": "http://a.example/x.wav", "redact": "perhaps"},
        {"link": "http://a.example/x.wav", "spend_limit": -1},
        {"link": "http://a.example/x.wav", "piece_length": "0s"},
        {"link": "http://a.example/x.wav", "layout": "nothing"},
        {"link": "http://a.example/x.wav", "wait": "soon"},
        {"path": "x" * 5000},
        {"path": 5},
        {"path": "a\0b"},
        {"upload": {"id": "x"}},
        {"upload": "../../etc"},
        {"upload": "ab\0"},
    ],
)
def test_whatever_a_request_says_is_answered_with_what_is_wrong_about_it(
    service: Running, wanted: dict[str, object]
) -> None:
    answer = asked(service, "/jobs", wanted)
    assert 400 <= answer.status < 500, answer.body
    assert answer.headers["content-type"] == "application/problem+json" and answer.json["detail"]


_TEXTS = st.one_of(
    st.text(max_size=20),
    st.sampled_from(["", "brook", "30s", "en", "mix", "live", "http://a.example/x"]),
)
# Fmt: skip.
_VALUES = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(),
    st.floats(allow_nan=False, allow_infinity=False),
    _TEXTS,
    st.lists(_TEXTS, max_size=3),
    st.dictionaries(_TEXTS, _TEXTS, max_size=2),
)
# Fmt: skip.
_NAMES = st.sampled_from(
    [
        "engine",
        "language",
        "translate_to",
        "hints",
        "to",
        "channels",
        "piece_length",
        "layout",
        "second_opinion",
        "redact",
        "spend_limit",
        "afresh",
        "name",
        "wait",
        "webhook",
        "profile",
        "link",
        "path",
        "upload",
        "recording",
        "shoes",
    ]
)


@given(st.dictionaries(_NAMES, _VALUES, max_size=8), st.sampled_from(["/jobs", "/plan"]))
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_no_request_is_an_error_of_ours(
    service: Running, wanted: dict[str, object], where: str
) -> None:
    wanted.pop("wait", None) if wanted.get("wait") == "30s" else None  # nobody has so much time
    answer = asked(service, where, wanted)
    assert answer.status < 500, (wanted, answer.body)
    assert answer.status < 400 or answer.json["status"] == answer.status


def test_a_host_that_cannot_be_is_a_failed_job_and_no_internal_error(service: Running) -> None:
    job = asked(service, "/jobs", {"link": f"http://{'m' * 300}.example/x.wav"}).json["id"]
    told = service.ended(job)
    assert told["state"] == "failed" and "internal" not in told["error"]["what"]
    waited = asked(service, "/jobs?wait=60s", {"link": "http://nobody.invalid/x.wav"})
    # It is not the engine that failed.
    assert waited.status == 422 and "cannot be fetched" in waited.json["detail"]


def test_whoever_only_looks_whether_it_is_there_may(service: Running) -> None:
    assert [service.ask("HEAD", path).status for path in ("/", "/health", "/ready")] == [200] * 3
    for _ in range(3):
        service.ask("MUDLARK", "/jobs")
    counted = service.ask("GET", "/metrics").body.decode()
    assert "MUDLARK" not in counted and 'method="other"' in counted
