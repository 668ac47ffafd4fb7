"""What an engine itself says that it charges is the same wherever costs are shown."""

import csv
import json
from pathlib import Path

import pytest

from conftest import Command, Note
from mantisreed.standin.hearing import Listener
from serving.running import serving, standins

BILLED = """
[engine.brook.profile.told]
billed.seconds = "lasts"
billed.cost = "lasts"
"""


def test_costs_jobs_report_and_service_say_the_same(
    mantisreed: Command,
    listener: Listener,
    note: Note,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv("MANTISREED_TRUST", str(tmp_path))
    with standins(listener, tmp_path, more=BILLED):
        run = mantisreed("run", note.path, "--engine", "brook:told", "--report", "report.csv")
        assert run.returncode == 0, run.stderr
        (row,) = csv.DictReader((tmp_path / "report.csv").read_text().splitlines())
        (spent,) = json.loads(mantisreed("costs", "--json").stdout)["costs"]
        job = json.loads(mantisreed("jobs", row["job"], "--json").stdout)
        (piece,) = job["pieces"]
        with serving(tmp_path) as service:
            told = service.send(note.path, "/jobs?engine=brook:told").json["id"]
            service.ended(told)
            (cost,) = service.ask("GET", "/costs").json["costs"]
            assert service.ask("GET", f"/jobs/{told}").json["details"]["reported_seconds"] is None
    # Silence at the ends is not sent.
    seconds = spent["reported_seconds"]
    assert 8.0 < seconds < note.composition.duration
    for one in (spent, job, piece["attempts"][0], cost):
        assert one["reported_seconds"] == pytest.approx(seconds)
        assert one["reported_cost"] == pytest.approx(seconds)
        assert one["billed_seconds"] == pytest.approx(float(row["billed_s"]))
    assert float(row["reported_s"]) == pytest.approx(seconds)
    assert float(row["reported_cost"]) == pytest.approx(seconds)
    shown = mantisreed("jobs", row["job"]).stdout
    assert f"; the engine says {seconds / 60:.1f} min, " in shown, shown
