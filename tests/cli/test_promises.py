"""Promises of the README, attacked: what is paid stays paid, one failure stops nothing, nobody's
files are lost.
"""

import json
import os
import random
import resource
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from cli.ferry import Ferry, outputs
from conftest import Command
from mantisreed.audio.encode import Encoder, open_encoder
from mantisreed.files import file_digest
from mantisreed.pipeline.assembling import Assembled, transcript_of
from mantisreed.pipeline.outputs import Outputs
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.transcript.document import RecordingFacts

RUN = ("run", "recordings/note 0.flac", "--piece-length", "15s")

EDITS_THAT_DO_NOT_REACH_THE_ENGINE: dict[str, tuple[str, str]] = {
    "time limit": (
        '[engine.ferry.send]\nraw = "{audio}"',
        '[engine.ferry.send]\nraw = "{audio}"\ntimeout = "9 min"',
    ),
    "most bytes": (
        'formats = ["flac"]\n[engine.ferry.price]',
        'formats = ["flac"]\nmax_bytes = "20 MB"\n[engine.ferry.price]',
    ),
    "longest": (
        'formats = ["flac"]\n[engine.ferry.price]',
        'formats = ["flac"]\nmax_duration = "40 min"\n[engine.ferry.price]',
    ),
    "languages": (
        'formats = ["flac"]\n[engine.ferry.price]',
        'formats = ["flac"]\nlanguages = ["en"]\n[engine.ferry.price]',
    ),
    "errors": (
        "[engine.ferry.reply]",
        "[engine.ferry.errors]\nrefused.statuses = [498]\n[engine.ferry.reply]",
    ),
    "price": ('per_minute = "0.01"', 'per_minute = "0.02"'),
    "billing step": ('per_minute = "0.01"', 'per_minute = "0.01"\nbilling_step = "1 min"'),
    "pace": (
        "[engine.ferry.price]",
        "[engine.ferry.rate_limit]\nrequests = 900\n[engine.ferry.price]",
    ),
    "about": ("[engine.ferry]", '[engine.ferry]\nabout = "across the creek"'),
    "name": ("ferry", "punt"),
    "poll limit": ('interval = "100 ms"', 'interval = "100 ms"\nlimit = "9 h"'),
    "poll waiting": ('waiting = ["afloat"]', 'waiting = ["afloat", "becalmed"]'),
}


def asked(ferry: Ferry) -> int:
    return sum(ferry.asked.values())


@pytest.mark.parametrize("edit", EDITS_THAT_DO_NOT_REACH_THE_ENGINE)
@pytest.mark.parametrize("engine", ["ferry", "barge"])
def test_what_does_not_reach_the_engine_is_no_reason_to_pay_again(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path, edit: str, engine: str
) -> None:
    with ferry.sailing(tmp_path):
        assert mantisreed(*RUN, "--engine", engine).returncode == 0
        before, job = asked(ferry), json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["id"]
        settings = tmp_path / "mantisreed.toml"
        old, new = EDITS_THAT_DO_NOT_REACH_THE_ENGINE[edit]
        assert old in settings.read_text()
        count = -1 if edit == "name" else 1
        settings.write_text(settings.read_text().replace(old, new, count))
        name = engine.replace(old, new) if edit == "name" else engine
        again = mantisreed(*RUN, "--engine", name)
        assert again.returncode == 0, again.stderr
        assert asked(ferry) == before
        jobs = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
        paid = [one["id"] for one in jobs if one["cost"]]
        # A card of another name has a job of its own, which costs nothing.
        assert paid == [job] and len(jobs) == (1 if name == engine else 2)


def test_what_reaches_the_engine_makes_another_request(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        text = settings.read_text()
        raw = '[engine.ferry.send]\nraw = "{audio}"'
        for number, more in enumerate(
            ('query.tide = "high"', 'headers.X-Tide = "low"', 'path = "/upstream"'), 1
        ):
            assert mantisreed(*RUN).returncode == 0
            settings.write_text(text.replace(raw, f"{raw}\n{more}"))
            assert mantisreed(*RUN).returncode == 0
            assert set(ferry.asked.values()) == {number + 1}


def test_a_job_that_is_partly_answered_keeps_its_cuts_when_the_card_changes(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path, tries=1):
        settings = tmp_path / "mantisreed.toml"
        capped = settings.read_text().replace(
            'formats = ["flac"]\n', 'formats = ["flac"]\nmax_duration = "14 s"\n', 1
        )
        settings.write_text(capped)
        command = ("run", "recordings/note 0.flac")
        ferry.faults = ["503", "", "", ""]
        assert mantisreed(*command).returncode == 1
        answered = dict(ferry.answered)
        assert len(answered) >= 2
        for longest in ("50 s", "15 s", "2 h"):
            settings.write_text(capped.replace('"14 s"', f'"{longest}"'))
            planned = json.loads(mantisreed("plan", "recordings/note 0.flac", "--json").stdout)[
                "recordings"
            ][0]
            assert max(piece["end"] - piece["start"] for piece in planned["pieces"]) <= 14
        assert mantisreed(*command).returncode == 0
        assert set(ferry.answered.values()) == {1} and answered.keys() <= ferry.answered.keys()
        settings.write_text(capped.replace('"14 s"', '"10 s"'))  # now they do not fit any more
        assert mantisreed(*command).returncode == 0


def test_plan_and_run_give_the_same_pieces_however_fast_they_are_encoded(
    mantisreed: Command,
    ferry: Ferry,
    english: list[Phrase],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    compose(english, seed=77, duration=150, pauses=(0.3, 1.2), snr=12).write(tmp_path / "talk.wav")
    chance = random.Random(3)

    def slowed(sink: Any, form: Any, **options: Any) -> Encoder:
        encoder = open_encoder(sink, form, **options)
        write = encoder.write

        def slow_write(block: Any) -> None:
            time.sleep(chance.random() * 0.05)
            write(block)

        encoder.write = slow_write  # type: ignore[method-assign]
        return encoder

    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(
            settings.read_text().replace('["flac"]\n', '["flac"]\nmax_bytes = "300 kB"\n', 1)
        )
        plans = []
        for is_slow in (False, True, True):
            monkeypatch.setattr(
                "mantisreed.pipeline.preparing.encoding.open_encoder",
                slowed if is_slow else open_encoder,
            )
            (plan,) = json.loads(mantisreed("plan", "talk.wav", "--json").stdout)["recordings"]
            plans.append(
                [(piece["start"], piece["end"], piece["bytes"]) for piece in plan["pieces"]]
            )
        assert mantisreed("run", "talk.wav").returncode == 0
        job = json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["id"]
        made = json.loads(mantisreed("jobs", job, "--json").stdout)["pieces"]
    assert plans[0] == plans[1] == plans[2] and len(plans[0]) >= 8
    sent = [(round(p["start"], 3), round(p["end"], 3), p["attempts"][-1]["bytes"]) for p in made]
    assert sent == plans[0]


@pytest.mark.parametrize("command", ["collect", "retry", "run"])
def test_what_a_full_disk_kept_from_being_written_is_written_later_at_no_cost(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path, command: str
) -> None:
    with ferry.sailing(tmp_path):
        (tmp_path / "transcripts").mkdir()
        soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
        handler = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        write = _limit_while_writing(hard)
        try:
            full = write(lambda: mantisreed(*RUN))
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
            signal.signal(signal.SIGXFSZ, handler)
        assert full.returncode == 1 and "cannot be written" in full.stderr, full.stderr
        (job,) = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
        assert job["state"] == "waiting" and "could not be written" in job["reason"]
        sent = asked(ferry)
        arguments = RUN if command == "run" else (command,)
        assert mantisreed(*arguments).returncode == 0
        assert asked(ferry) == sent and len(outputs(tmp_path)) == 2
        assert json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["state"] == "done"


def _limit_while_writing(hard: int) -> Callable[[Callable[[], Any]], Any]:
    """Calls something with no room on the disk from the moment on that outputs are written."""
    write_script = Outputs.write_script

    def without_room(*arguments: Any) -> Any:
        resource.setrlimit(resource.RLIMIT_FSIZE, (10, hard))
        try:
            return write_script(*arguments)
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, (hard, hard))

    def call(work: Callable[[], Any]) -> Any:
        Outputs.write_script = without_room  # type: ignore[method-assign, assignment]
        try:
            return work()
        finally:
            Outputs.write_script = write_script  # type: ignore[method-assign]

    return call


def test_a_recording_that_is_replaced_while_it_is_read_is_noticed_before_anything_of_it_is_sent(
    mantisreed: Command,
    ferry: Ferry,
    recordings: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    note = recordings / "note 0.flac"

    def replaced_meanwhile(path: Path) -> str:
        digest = file_digest(path)
        # At once: whoever reads it at this moment must not find an empty file.
        other = tmp_path / "other.flac"
        other.write_bytes((recordings / "note 1.flac").read_bytes())
        other.replace(note)
        return digest

    monkeypatch.setattr("mantisreed.pipeline.recording.file_digest", replaced_meanwhile)
    with ferry.sailing(tmp_path):
        result = mantisreed(*RUN)
        assert result.returncode == 1 and "was changed while it was read" in result.stderr
    assert asked(ferry) == 0


def test_whatever_goes_wrong_with_one_recording_the_others_are_done(
    mantisreed: Command,
    ferry: Ferry,
    recordings: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    (recordings / "a dangling link.wav").symlink_to("nowhere.wav")
    os.mkfifo(recordings / "a pipe.wav")
    (recordings / "a folder.wav").mkdir()
    (recordings / "no sound.wav").write_bytes(b"RIFF\x24\0\0\0WAVE")
    (recordings / "z unlucky.flac").write_bytes((recordings / "note 1.flac").read_bytes() + b"z")

    def unlucky(options: Any, facts: RecordingFacts, *arguments: Any) -> Assembled:
        if facts.name.startswith("z"):
            raise RecursionError("nobody has thought of this")
        return transcript_of(options, facts, *arguments)

    monkeypatch.setattr("mantisreed.pipeline.recording.transcript_of", unlucky)
    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(
            settings.read_text().replace("[engine.ferry]", "[engine.ferry]\nmax_concurrent = 1")
        )
        result = mantisreed(
            "run", "recordings", "--spend-limit", "1", "--json", "--log-file", "log"
        )
    states = {
        one["recording"].rpartition("/")[2]: one for one in json.loads(result.stdout)["recordings"]
    }
    assert result.returncode == 1 and "Traceback" not in result.stderr
    assert {name: one["state"] for name, one in states.items()} == {
        "a dangling link.wav": "failed",
        "a pipe.wav": "failed",
        "no sound.wav": "failed",
        "note 0.flac": "done",
        "note 1.flac": "done",
        "z unlucky.flac": "failed",
    }
    assert "pipes, sockets and devices are no files" in states["a pipe.wav"]["error"]["what"]
    assert "internal error: RecursionError" in states["z unlucky.flac"]["error"]["what"]
    assert "nobody has thought of this" in (tmp_path / "log").read_text()


def test_a_named_pipe_is_refused_at_once(mantisreed: Command, ferry: Ferry, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    with ferry.sailing(tmp_path):
        for command in ("run", "plan", "inspect"):
            result = mantisreed(command, "pipe")
            assert (
                result.returncode == 2
                and "pipes, sockets and devices are no files" in result.stderr
            )


def test_two_channels_of_opposite_phase_are_heard_and_told(
    mantisreed: Command, ferry: Ferry, english: list[Phrase], tmp_path: Path
) -> None:
    voice = np.concatenate(list(compose(english, seed=12, duration=20).blocks()), axis=1)[0]
    soundfile.write(tmp_path / "inverted.wav", np.stack([voice, -voice], axis=1), 16_000)
    soundfile.write(tmp_path / "plain.wav", np.stack([voice, voice], axis=1), 16_000)
    with ferry.sailing(tmp_path):
        result = mantisreed("run", "inverted.wav", "plain.wav", "--json")
        inverted, plain = json.loads(result.stdout)["recordings"]
    assert result.returncode == 0 and inverted["words"] == plain["words"] > 0
    assert "of opposite phase" in inverted["notes"][0] and not plain["notes"]


def test_a_retry_that_is_interrupted_begins_no_other_batch(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path, tries=1):
        ferry.faults = ["503"] * 9
        for number, hint in enumerate(("tern", "knot")):
            mantisreed("run", f"recordings/note {number}.flac", "--hint", hint)
        before = asked(ferry)
        ferry.faults, ferry.slowness = [], 1.5
        command = [sys.executable, "-m", "mantisreed", "retry"]
        with subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True) as process:
            assert process.stderr is not None
            while "sending" not in process.stderr.readline():
                pass
            time.sleep(0.3)
            process.send_signal(signal.SIGINT)
            process.communicate(timeout=30)
    assert process.returncode == 130 and asked(ferry) == before + 1
