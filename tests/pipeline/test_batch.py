"""A batch of recordings against a scripted engine and a clock of our own."""

import asyncio
import json
import time
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import Note
from engines.cards import brook_card, workspace_of
from mantisreed.cards.requests import HttpRequest
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import ScriptedTransport
from mantisreed.errors import TooBigError, UnreachableError
from mantisreed.exports.formats import chosen_formats
from mantisreed.jobs.gate import Time
from mantisreed.jobs.jobs import JobStore, JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.pipeline.batch import Batch, BatchServices
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.options import RunOptions, TranscriptionOptions
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.preparing.cut_limits import PieceOptions
from mantisreed.secrets import Secret
from mantisreed.sources.recordings import Source

SPOKEN = {
    "says": "Tea?",
    "stretches": [
        {
            "from": 1,
            "till": 2,
            "says": "Tea?",
            "words": [{"w": "Tea?", "from": 1, "till": 2, "sure": 0.5}],
        }
    ],
}
SILENT = {"says": "", "stretches": []}


class Clock:
    """Time that passes only when somebody sleeps."""

    def __init__(self) -> None:
        self.now = 0.0
        self.wakings: list[float] = []

    async def sleep(self, seconds: float) -> None:
        waking = self.now + seconds
        self.wakings.append(waking)
        # Everybody else has a moment to do what they do; then the first to wake up wakes up.
        await self._moment()
        while waking > min(self.wakings):
            await self._moment()
        self.now = max(self.now, waking)
        self.wakings.remove(waking)

    async def _moment(self) -> None:
        """Longer where the machine is busy, as the slowness of a thread that does nothing tells."""
        began = time.monotonic()
        await asyncio.to_thread(int)
        await asyncio.sleep(max(0.03, 5 * (time.monotonic() - began)))


class Bench:
    """A batch with everything around it."""

    def __init__(
        self, folder: Path, answers: dict[str, object], old: str = "", new: str = ""
    ) -> None:
        folder.mkdir(exist_ok=True)
        self.options = TranscriptionOptions(
            RunOptions(), brook_card(folder, old, new), {"key": Secret("hush")}
        )
        self.folder = folder
        self.events: list[Event] = []
        self.clock = Clock()
        self.sent_at: list[float] = []
        self.transport = ScriptedTransport(self.answer)
        self.answers = answers

    def answer(self, request: HttpRequest) -> HttpAnswer:
        self.sent_at.append(self.clock.now)
        size = str(len(request.parts[0].content))
        document = self.answers.get(size, self.answers[""])
        status, body = (
            document if isinstance(document, tuple) else (200, json.dumps(document).encode())
        )
        return HttpAnswer(status, {}, body)

    def run(self, recordings: list[Path]) -> list[Outcome]:
        outputs = Outputs(
            self.folder / "out", self.folder / ".hidden", chosen_formats(["txt", "json"])
        )

        async def go() -> list[Outcome]:
            services = BatchServices(
                self.transport,
                lambda: Ledger(self.folder / ".hidden", clock=lambda: self.clock.now),
                self.folder / ".hidden",
                on_event=self.events.append,
                time=Time(lambda: self.clock.now, self.clock.sleep),
            )
            self.batch = Batch(self.options, outputs, services)
            return await self.batch.run([Source(path) for path in recordings])

        return asyncio.run(go())


def copies(note: Note, folder: Path, count: int) -> list[Path]:
    paths = [folder / f"note {number}.wav" for number in range(count)]
    for number, path in enumerate(paths):
        # One more chunk, so that each is a recording of its own.
        path.write_bytes(note.path.read_bytes() + b"note\x02\0\0\0" + number.to_bytes(2, "little"))
    return paths


def test_one_failure_does_not_stop_the_others(tmp_path: Path, note: Note) -> None:
    bad = tmp_path / "bad.wav"
    bad.write_text("not sound")
    first, last = copies(note, tmp_path, 2)
    outcomes = Bench(tmp_path, {"": SPOKEN}).run([first, bad, last])
    assert [outcome.state for outcome in outcomes] == ["done", "failed", "done"]
    assert (tmp_path / "out" / "note 1.txt").read_text() == "Tea?\n"
    assert not (tmp_path / "out" / "bad.txt").exists()


def test_what_fails_while_its_job_is_being_opened_is_failed_in_the_ledger_too(
    tmp_path: Path, note: Note, monkeypatch: pytest.MonkeyPatch
) -> None:
    def open_slowly(jobs: JobStore, job: JobToOpen) -> bool:
        time.sleep(0.3)
        return opening(jobs, job)

    opening = JobStore.open
    monkeypatch.setattr(JobStore, "open", open_slowly)
    bench = Bench(tmp_path, {"": SPOKEN})
    bench.options = replace(bench.options, wanted=RunOptions(pieces=PieceOptions(track=7)))
    (outcome,) = bench.run([note.path])
    assert outcome.state == "failed" and "track 7" in str(outcome.error)
    (record,) = Ledger(tmp_path / ".hidden").listing.jobs()
    assert record.state == "failed" and "track 7" in (record.reason or "")


def test_no_speech_is_told_apart_from_failure(tmp_path: Path, note: Note) -> None:
    (outcome,) = Bench(tmp_path, {"": SILENT}).run([note.path])
    assert outcome.state == "no speech" and outcome.transcript is not None
    assert outcome.transcript.notes == ("no speech",)
    (outcome,) = Bench(tmp_path / "other", {"": (500, b"flooded")}).run([note.path])
    assert outcome.state == "failed" and "flooded" in str(outcome.error)


@pytest.mark.parametrize("how", ["one recording is stopped", "all is interrupted"])
def test_what_is_stopped_between_two_pieces_is_not_taken_for_the_whole(
    tmp_path: Path, note: Note, how: str
) -> None:
    bench = Bench(tmp_path, {"": SPOKEN}, "about =", "max_concurrent = 1\nabout =")
    bench.options = replace(bench.options, wanted=RunOptions(pieces=PieceOptions(piece_length=5.0)))
    answer = bench.answer

    def answer_and_stop(request: HttpRequest) -> HttpAnswer:
        if not bench.sent_at:
            bench.batch.interrupt() if how == "all is interrupted" else bench.batch.stop_recording(
                str(note.path)
            )
        return answer(request)

    bench.transport = ScriptedTransport(answer_and_stop)
    (outcome,) = bench.run([note.path])
    assert outcome.state == "waiting" and outcome.transcript is None
    assert not list((tmp_path / "out").iterdir())
    sent = len(bench.sent_at)
    bench.transport = ScriptedTransport(answer)
    (outcome,) = bench.run([note.path])
    assert outcome.state == "done" and outcome.transcript is not None
    assert len(bench.sent_at) > sent and len(outcome.transcript.passages) == len(bench.sent_at)


def test_the_pace_is_kept_and_waits_are_shown_with_their_reason(tmp_path: Path, note: Note) -> None:
    bench = Bench(tmp_path, {"": SPOKEN}, "requests = 120", "requests = 2")
    bench.run(copies(note, tmp_path, 5))
    assert bench.sent_at == sorted(bench.sent_at)
    assert all(
        later - earlier >= 60
        for earlier, later in zip(bench.sent_at, bench.sent_at[2:], strict=False)
    )
    notes = [event.text() for event in bench.events if event.stage == "waiting"]
    assert "waiting (brook allows 2 per 60 s: next in 60 s)" in notes


def test_the_next_format_is_taken_when_the_first_does_not_fit(tmp_path: Path, note: Note) -> None:
    bench = Bench(tmp_path, {"": SPOKEN}, '"16 MiB"', '"100 KiB"')
    (outcome,) = bench.run([note.path])
    assert outcome.state == "done"
    assert bench.transport.asked[0].parts[0].file_name == "piece.opus"


def test_what_no_format_makes_fit_is_refused_before_sending(tmp_path: Path, note: Note) -> None:
    bench = Bench(tmp_path, {"": SPOKEN}, '"16 MiB"', '"4 KiB"')
    (outcome,) = bench.run([note.path])
    assert (
        isinstance(outcome.error, TooBigError)
        and "even 5 s of the recording are over the 4.0 KiB" in outcome.error.what
    )
    assert bench.transport.asked == []


def test_a_recording_that_breaks_off_is_transcribed_and_marked(tmp_path: Path, note: Note) -> None:
    half = tmp_path / "half.wav"
    half.write_bytes(note.path.read_bytes()[:200_000])
    (outcome,) = Bench(tmp_path, {"": SPOKEN}).run([half])
    assert outcome.state == "incomplete" and outcome.transcript is not None
    assert outcome.transcript.notes == ("the recording breaks off at 6.2 s of 0:15",)
    assert "Tea?" in (tmp_path / "out" / "half.txt").read_text()


def test_the_same_work_has_the_same_address_and_other_work_another(
    tmp_path: Path, note: Note
) -> None:
    def address(old: str = "", new: str = "") -> str:
        (outcome,) = Bench(tmp_path, {"": SPOKEN}, old, new).run([note.path])
        assert outcome.transcript is not None
        return outcome.transcript.job

    assert (
        address()
        == address()
        == address("requests = 120", "requests = 7")
        == address("standin.key", "other.key")
    )
    assert address() != address('"deep"', '"shallow"')


EEL = """
[engine.eel]
url = "http://127.0.0.1:9"
[engine.eel.accepts]
formats = ["flac"]
[engine.eel.steps.start]
path = "/new/{request_id}"
raw = "{audio}"
take.eel = "eel"
[engine.eel.lookup]
path = "/knots/{request_id}"
take.eel = "eel"
[engine.eel.steps.ask]
path = "/eels/{eel}"
state = "mood"
waiting = ["under"]
done = ["up"]
failed = ["gone"]
interval = "100 ms"
[engine.eel.reply]
text = "says"
"""


class MisleadingEels(Bench):
    """The first job's answer is lost, and the second is given the first one's id."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder, {})
        self.options = TranscriptionOptions(
            RunOptions(), workspace_of(folder, EEL).engine("eel"), {}, max_attempts=100
        )
        self.sent: list[str] = []
        self.is_taken = False
        self.looks = 0

    def answer(self, request: HttpRequest) -> HttpAnswer:
        path = request.url.removeprefix("http://127.0.0.1:9")
        if path.startswith("/new/"):
            self.sent.append(path.removeprefix("/new/"))
            if len(self.sent) == 1:
                lost = UnreachableError("no answer", engine="eel")
                lost.was_sent = True
                raise lost
            document = {"eel": str(len(self.sent) - 1)}
        elif path.startswith("/knots/"):
            if path.removeprefix("/knots/") != self.sent[0]:
                return HttpAnswer(404, {}, b"{}")
            if not self.is_taken:
                return HttpAnswer(503, {}, b"{}")
            document = {"eel": "1"}
        elif path == "/eels/1":
            self.is_taken = True
            document = {"mood": "up", "says": "first"}
        else:
            self.looks += 1
            document = {"mood": "under" if self.looks == 1 else "up", "says": "second"}
        return HttpAnswer(200, {}, json.dumps(document).encode())


def test_what_was_given_anothers_reply_is_sent_again_and_waited_for(
    tmp_path: Path, note: Note
) -> None:
    bench = MisleadingEels(tmp_path)
    outcomes = bench.run(copies(note, tmp_path, 2))
    assert [outcome.state for outcome in outcomes] == ["done", "done"], [
        outcome.error for outcome in outcomes
    ]
    said = [
        word.text for outcome in outcomes if outcome.transcript for word in outcome.transcript.words
    ]
    assert sorted(said) == ["first", "second"] and len(bench.sent) == 3 and bench.looks == 2
