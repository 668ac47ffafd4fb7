"""Jobs that survive: failing engines, damaged and kept replies."""

import json
from collections import Counter
from contextlib import closing
from pathlib import Path

import pytest

from cli.ferry import Ferry, outputs
from conftest import Command
from mantisreed.jobs.jobs import JobToOpen
from mantisreed.jobs.ledger import Ledger
from mantisreed.state import make_folder


def test_faults_that_pass_are_tried_again_and_everything_ends_well(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        ferry.faults = ["503", "cut", "429", "503"]
        result = mantisreed("run", "recordings", "--piece-length", "30s", "--json")
        assert result.returncode == 0, result.stderr
        assert {one["state"] for one in json.loads(result.stdout)["recordings"]} == {"done"}
    assert "attempt 2 of 5" in result.stderr
    assert set(ferry.answered.values()) == {1}
    assert sum(ferry.asked.values()) == len(ferry.answered) + 4


@pytest.mark.parametrize("fault", ["html", "empty"])
def test_a_damaged_reply_is_kept_and_counted_and_costs_nothing_to_read_again(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path, fault: str
) -> None:
    with ferry.sailing(tmp_path):
        ferry.faults = [fault] * 9
        for _ in range(2):
            result = mantisreed("run", "recordings/note 0.flac", "--spend-limit", "0.015")
            assert result.returncode == 1 and "its reply is not as its card says" in result.stderr
        assert sum(ferry.asked.values()) == 1
        (job,) = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
        assert job["state"] == "failed" and job["cost"] == pytest.approx(0.0097, abs=0.0005)
        kept = list((tmp_path / ".mantisreed" / "unreadable").glob("*.reply"))
        assert (len(kept) == 1 and kept[0].name in result.stderr) or fault == "empty"
        ferry.faults = []
        limited = mantisreed("run", "recordings/note 0.flac", "--afresh", "--spend-limit", "0.015")
        assert limited.returncode == 3 and "over the limit" in limited.stderr
        assert mantisreed("retry", "--afresh", "--spend-limit", "1").returncode == 0
    assert sum(ferry.asked.values()) == 2


def test_a_reply_is_read_again_at_no_cost_when_the_card_is_mended(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        right = settings.read_text()
        settings.write_text(right.replace('text = "says"', 'text = "say"'))
        assert mantisreed("run", "recordings/note 0.flac").returncode == 1
        settings.write_text(right)
        for command in (("run", "recordings/note 0.flac"), ("retry",)):
            assert mantisreed(*command).returncode == 0
    assert sum(ferry.asked.values()) == 1 and len(outputs(tmp_path)) == 2


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
        assert costs["costs"][0]["cost"] == pytest.approx(
            costs["costs"][0]["billed_seconds"] / 60 * 0.01
        )
        assert mantisreed("run", "recordings/note 0.flac", "--afresh").returncode == 0
        assert sum(ferry.asked.values()) == 2
        assert json.loads(mantisreed("costs", "--json", "--by", "month").stdout)["costs"][0][
            "cost"
        ] == pytest.approx(2 * costs["costs"][0]["cost"])


def test_an_engine_that_refuses_the_key_is_left_alone_and_the_rest_waits(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    for number in range(2, 12):
        (recordings / f"note {number}.flac").write_bytes(
            (recordings / "note 0.flac").read_bytes() + bytes([number])
        )
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


def test_jobs_and_costs_can_be_read(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path, tries=1):
        assert (
            "no job yet" in mantisreed("jobs").stderr
            and "no charge yet" in mantisreed("costs").stderr
        )
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
    assert (
        failed_one["error"].startswith("ferry: it broke (HTTP 503)") and good_one["error"] is None
    )
    assert "minutes billed, 0.0097 credits" in shown and "failed: " in shown and "done" in shown
    assert "credits" in mantisreed("costs").stdout
    assert mantisreed("jobs", "zzz").returncode == 2


def test_a_long_list_is_printed_as_it_is_read_and_is_one_table_and_one_document(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        state = tmp_path / ".mantisreed"
        make_folder(state)
        with closing(Ledger(state)) as ledger, ledger.together():
            for number in range(2500):
                name = f"net {number}{' at the far end' * (number == 2400)}.wav"
                engine = "marsh" if number else "a-very-long-engine-name"
                ledger.jobs.open(JobToOpen(f"{number:016x}", name, f"sha256:{number}", engine))
        listed = json.loads(mantisreed("jobs", "--json", "--limit", "0").stdout)
        assert len(listed["jobs"]) == listed["count"] == 2500
        assert len({one["id"] for one in listed["jobs"]}) == 2500 and "under_way" in listed
        shown = mantisreed("jobs", "--limit", "0")
        heading, *rows = shown.stdout.splitlines()
        assert heading.split() == ["job", "when", "engine", "state", "pieces", "cost", "recording"]
        assert len(rows) == 2500 and sum("at the far end" in row for row in rows) == 1
        # Columns never become narrower from one page to the next.
        at = [row.index("net ") for row in rows]
        assert at == sorted(at) and len(set(at)) <= 2
        few = mantisreed("jobs", "--limit", "700")
        assert len(few.stdout.splitlines()) == 701
        assert "the newest 700 of 2500; --limit 0 lists all" in few.stderr
