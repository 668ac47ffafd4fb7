"""Who works where, and what is left of the queue, is seen by commands and by the service."""

import json
import socket
from contextlib import closing
from pathlib import Path

from browser import Browser, wait_until
from cli.ferry import Ferry
from conftest import Command
from mantisreed.jobs.ledger import open_ledger
from mantisreed.jobs.under_way import Process, UnderWay
from mantisreed.workspace import open_workspace
from serving.running import serving
from working.test_workers import queued, working


def test_jobs_and_doctor_show_workers_and_the_queue(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path
) -> None:
    ferry.slowness = 3.0
    (job, *_) = queued(mantisreed)
    idle = mantisreed("jobs").stderr
    assert "queue for ferry: 6 waiting, 0 under way" in idle and "no worker is there" in idle
    told = mantisreed("doctor").stdout
    assert "no worker is there" in told
    with working(tmp_path, "--max-recordings", "1") as process:
        wait_until(lambda: bool(ferry.asked), 30)
        told = mantisreed("jobs").stderr
        host = socket.gethostname()
        assert f"1 worker on 1 machine, with their recordings: {host} ({process.pid}): 1" in told
        assert "queue for ferry: 5 waiting, 1 under way" in told
        found = json.loads(mantisreed("jobs", "--json").stdout)
        assert found["under_way"]["waiting"] == {"ferry": 5}
        assert [one["pid"] for one in found["under_way"]["workers"]] == [process.pid]
        assert [one["machine"] for one in found["jobs"] if one["id"] == job] == [host]
        assert f"under way on {host}" in mantisreed("jobs", job).stdout
        health = mantisreed("doctor").stdout
        assert f"1 worker on 1 machine, with their recordings: {host}" in health
        process.terminate()
        process.communicate(timeout=60)
    ferry.slowness = 0.0
    assert mantisreed("work", "--until-idle", "12s").returncode == 0
    with closing(open_ledger(open_workspace(workspace))) as ledger:
        now = ledger.under_way()
    assert not now.waiting and not now.working and now.per_minute == 3.0


def test_the_time_that_is_left_is_told_where_it_is_known() -> None:
    worker = Process("reed", 7, "0.1.0", "work", 0.0, 2)
    other = Process("hut", 9, "0.1.0", None, 0.0, 1)
    busy = UnderWay((worker, other), {"ferry": 118}, {"ferry": 2}, 30.0)
    assert busy.seconds_left == 240.0 and busy.workers == (worker,)
    assert busy.lines() == [
        "1 worker on 1 machine, with their recordings: reed (7): 2",
        "queue for ferry: 118 waiting, 2 under way",
        "30.0 a minute, about 4 min left",
    ]
    assert UnderWay((other,)).lines() == [] and UnderWay().seconds_left is None


def test_the_service_tells_it_to_programs_and_on_the_board(
    workspace: Path, notes: Path, ferry: Ferry, mantisreed: Command, tmp_path: Path
) -> None:
    ferry.slowness = 5.0
    queued(mantisreed)
    with working(tmp_path, "--max-recordings", "1") as process, serving(tmp_path) as service:
        wait_until(lambda: bool(ferry.asked), 30)
        host = socket.gethostname()
        found = service.ask("GET", "/work").json
        assert found["waiting"] == {"ferry": 5} and found["working"] == {"ferry": 1}
        (worker,) = found["workers"]
        assert worker["machine"] == host and worker["recordings"] == 1
        counted = service.ask("GET", "/metrics").body.decode()
        assert f'mantisreed_workers{{machine="{host}"}} 1.0' in counted
        assert 'mantisreed_queued{engine="ferry",state="waiting"} 5.0' in counted
        with Browser(tmp_path / "browser") as browser:
            page = browser.open(f"{service.address}/")
            page.wait_for("!document.getElementById('work').hidden")
            shown = page.value("document.getElementById('work').textContent")
            assert shown == f"1 worker on {host}; 5 queued recordings waiting, 1 under way"
        process.kill()
