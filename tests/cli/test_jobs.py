"""Jobs that survive: killed programs, failing engines, kept replies, through the built command."""

import json
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path

import pytest

from cli.ferry import Ferry, outputs
from conftest import Command


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
        while kills < 6:
            process = subprocess.Popen(
                [sys.executable, "-m", "mantisreed", *command], cwd=tmp_path, stderr=subprocess.PIPE, text=True
            )
            assert process.stderr is not None
            for line in process.stderr:
                if "sending" in line:
                    break
            time.sleep(chance.random() * 0.8)
            process.send_signal(signal.SIGKILL)
            process.communicate()
            kills += 1
        last = mantisreed(*command)
        assert last.returncode == 0, last.stderr
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
        for options in ((), ("--to", "srt"), ("--overwrite",)):
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
