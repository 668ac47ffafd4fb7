"""Sent now and collected later, tried again, called off, forgotten, within a budget: through the
built command.
"""

import csv
import json
import signal
import sqlite3
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest

from cli.ferry import Ferry, outputs
from conftest import KEY, Command, Moody, Standin, free_port
from mantisreed.jobs.records import LEDGER_FILE
from mantisreed.standin.faults import FaultProfile


def jobs(mantisreed: Command, *options: str) -> list[dict[str, object]]:
    found: list[dict[str, object]] = json.loads(mantisreed("jobs", "--json", *options).stdout)[
        "jobs"
    ]
    return found


def heard(address: str) -> dict[str, int]:
    """How often each sound was listened to and answered."""
    with urllib.request.urlopen(f"{address}/tally") as answer:
        counts: dict[str, int] = json.loads(answer.read())["answered"]
    return counts


def kept_replies(folder: Path) -> int:
    with sqlite3.connect(folder / ".mantisreed" / LEDGER_FILE) as connection:
        return int(connection.execute("SELECT count(*) FROM reply").fetchone()[0])


def test_what_is_submitted_can_be_collected_later_and_is_as_if_run(
    mantisreed: Command, moody: Moody, recordings: Path, tmp_path: Path
) -> None:
    with moody(FaultProfile(queue=3600.0)) as address:
        sent = mantisreed("submit", "recordings")
        ids = sent.stdout.split()
        assert sent.returncode == 0 and len(ids) == 2 and "2 working" in sent.stderr
        early = mantisreed("collect", ids[0][:4])
        assert early.returncode == 3 and "1 working" in early.stderr and not outputs(tmp_path)
        assert {job["state"] for job in jobs(mantisreed)} == {"working"}
        urllib.request.urlopen(f"{address}/dipper/rise", data=b"").close()
        late = mantisreed("collect", "--wait", "--json")
        assert late.returncode == 0, late.stderr
        assert [one["state"] for one in json.loads(late.stdout)["recordings"]] == ["done", "done"]
        collected = outputs(tmp_path)
        assert mantisreed("collect").stderr.strip() == "no job to do anything about"
        assert mantisreed("run", "recordings", "--into", "again").returncode == 0
        again = {path.name: path.read_bytes() for path in (tmp_path / "again").iterdir()}
        assert again == collected and set(heard(address).values()) == {1}


def test_two_jobs_for_the_same_sound_wait_for_one_answer(
    mantisreed: Command, moody: Moody, recordings: Path, tmp_path: Path
) -> None:
    (tmp_path / "copy.flac").write_bytes((recordings / "note 0.flac").read_bytes())
    with moody(FaultProfile(queue=3.0)) as address:
        for source, options in (
            ("recordings/note 0.flac", ()),
            ("copy.flac", ("--piece-length", "10min")),
        ):
            assert mantisreed("submit", source, *options).returncode == 0
        assert mantisreed("collect", "--wait").returncode == 0
        assert list(heard(address).values()) == [1]


def test_a_changed_recording_or_card_between_submit_and_collect_is_told_in_a_line(
    mantisreed: Command, moody: Moody, recordings: Path, tmp_path: Path
) -> None:
    with moody(FaultProfile()):
        mantisreed("submit", "recordings/note 0.flac")
        settings = tmp_path / "mantisreed.toml"
        whole = settings.read_text()
        settings.write_text(whole.replace("[engine.dipper", "[engine.diver"))
        gone = mantisreed("collect")
        assert gone.returncode == 1 and "no engine is called 'dipper'" in gone.stderr
        settings.write_text(
            whole.replace('path = "/dives"', 'path = "/dives"\nquery.tide = "high"')
        )
        (recordings / "note 0.flac").write_bytes((recordings / "note 1.flac").read_bytes())
        result = mantisreed("collect", "--wait")
    assert result.returncode == 0, result.stderr
    assert "the settings of dipper were changed since" in result.stderr
    assert "was changed since it was sent; the transcript is of what was sent" in result.stderr
    assert "note 0.txt" in outputs(tmp_path)


def test_retry_sends_what_is_missing_as_it_was_ordered(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path, tries=1):
        ferry.faults, ferry.slowness = ["503"], 0.8
        command = ("run", "recordings", "--to", "srt", "--into", "cues", "--piece-length", "20s")
        assert mantisreed(*command).returncode == 1
        ferry.slowness = 0.0
        sent = sum(ferry.asked.values())
        # What was on its way when one failed was waited for.
        assert sum(ferry.answered.values()) == sent - 1
        assert "unconfirmed" not in mantisreed("jobs").stdout
        again = mantisreed("retry", "--report", "report.csv")
        assert again.returncode == 0, again.stderr
        assert set(ferry.answered.values()) == {1} and sum(ferry.asked.values()) > sent
        assert sorted(path.name for path in (tmp_path / "cues").iterdir()) == [
            "note 0.srt",
            "note 1.srt",
        ]
        (row,) = csv.DictReader((tmp_path / "report.csv").read_text().splitlines())
        assert row["state"] == "done" and row["files"].endswith(".srt") and float(row["cost"]) > 0
        assert {job["state"] for job in jobs(mantisreed)} == {"done"}
        ferry.faults = ["503"]
        mantisreed("run", "recordings/note 0.flac", "--hint", "tern")
        (recordings / "note 0.flac").write_bytes((recordings / "note 1.flac").read_bytes())
        changed = mantisreed("retry")
        assert changed.returncode == 1 and "was changed since it was sent" in changed.stderr


def test_a_cancelled_job_is_called_off_at_the_engine_and_not_collected(
    mantisreed: Command, moody: Moody, recordings: Path, tmp_path: Path
) -> None:
    with moody(FaultProfile(queue=60.0)) as address:
        first, second = mantisreed("submit", "recordings").stdout.split()
        called_off = mantisreed("cancel", first)
        assert called_off.returncode == 0 and "cancelled at the engine too" in called_off.stdout
        assert [job["id"] for job in jobs(mantisreed, "--state", "cancelled")] == [first]
        assert mantisreed("collect").returncode == 3
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(
            settings.read_text().replace('[engine.dipper.cancel]\npath = "/dives/{dive}"\n', "")
        )
        assert "its answer will not be used" in mantisreed("cancel", second[:5]).stdout
        assert "is cancelled already" in mantisreed("cancel", second).stdout
        assert mantisreed("collect").stderr.strip() == "no job to do anything about"
        assert heard(address) == {}


def test_forgotten_replies_are_gone_and_what_was_paid_stays_noted(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        mantisreed("run", "recordings")
        first = str(jobs(mantisreed)[0]["id"])
        costs = mantisreed("costs", "--json").stdout
        asked = mantisreed("forget", first)
        assert asked.returncode == 2 and "there is nobody to ask" in asked.stderr
        assert kept_replies(tmp_path) == 2
        assert "1 reply removed" in mantisreed("forget", "--yes", first).stdout
        assert kept_replies(tmp_path) == 1
        assert mantisreed("costs", "--json").stdout == costs
        assert mantisreed("run", "recordings").returncode == 0
    assert sorted(ferry.answered.values()) == [1, 2]


def test_a_spend_limit_stops_before_it_is_passed_and_counts_what_was_spent(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        command = ("run", "recordings", "--piece-length", "20s")
        stopped = mantisreed(*command, "--spend-limit", "0.012")
        assert stopped.returncode == 3 and "over the limit of 0.0120 credits" in stopped.stderr
        for _ in range(2):  # a smaller piece may still have room the second time
            paid = sum(float(str(job["cost"] or 0)) for job in jobs(mantisreed))
            assert 0.006 < paid <= 0.012 and sum(ferry.answered.values()) == sum(
                ferry.asked.values()
            )
            assert mantisreed(*command, "--spend-limit", "0.012").returncode == 3
        assert mantisreed(*command, "--spend-limit", "1").returncode == 0
        settings = tmp_path / "mantisreed.toml"
        priced = '[engine.ferry.price]\nper_minute = "0.01"\ncurrency = "credits"\n'
        assert priced in settings.read_text()
        settings.write_text(settings.read_text().replace(priced, ""))
        assert "names no price" in mantisreed(*command, "--spend-limit", "1").stderr
        assert "an amount such as 2.50" in mantisreed(*command, "--spend-limit", "lots").stderr
    assert set(ferry.answered.values()) == {1}


def test_a_retry_of_some_jobs_keeps_the_limit_of_the_whole_run(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        stopped = mantisreed("run", "recordings", "--piece-length", "20s", "--spend-limit", "0.012")
        assert stopped.returncode == 3
        (waiting, *_) = [job["id"] for job in jobs(mantisreed) if job["state"] == "waiting"]
        for _ in range(2):
            assert "over the limit of 0.0120" in mantisreed("retry", str(waiting)).stderr
        paid = sum(float(str(job["cost"] or 0)) for job in jobs(mantisreed))
        assert paid <= 0.012
        assert mantisreed("retry", "--spend-limit", "1").returncode == 0
    assert set(ferry.answered.values()) == {1}


def test_jobs_that_are_lost_or_fail_are_told_apart(
    mantisreed: Command, moody: Moody, recordings: Path, tmp_path: Path
) -> None:
    with moody(FaultProfile(losing=0.3, seed=41), tries=8):  # the second and the third are lost
        result = mantisreed("run", "recordings", "--piece-length", "30s")
        assert result.returncode == 0, result.stderr
        assert "unconfirmed and may be charged for" in result.stderr
        shown = [
            json.loads(mantisreed("jobs", str(job["id"]), "--json").stdout)
            for job in jobs(mantisreed)
        ]
        attempts = [
            attempt for job in shown for piece in job["pieces"] for attempt in piece["attempts"]
        ]
        errors = [attempt["error"] for attempt in attempts if attempt["error"]]
        assert len(errors) == 2 and all(
            "does not know the job any more" in error for error in errors
        )
    with moody(FaultProfile(failing=1.0)):
        result = mantisreed("run", "recordings/note 0.flac", "--afresh")
        assert (
            result.returncode == 1
            and "the job failed (state 'drowned'), saying: a wave took it" in result.stderr
        )


def test_jobs_are_found_by_recording_engine_state_and_age(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        mantisreed("run", "recordings")
    assert len(jobs(mantisreed, "--name", "NOTE 1")) == 1
    assert (
        len(jobs(mantisreed, "--since", "1h", "--engine", "ferry", "--state", "done,failed")) == 2
    )
    assert jobs(mantisreed, "--before", "2d") == jobs(mantisreed, "--engine", "fer") == []
    listed = mantisreed("jobs", "--limit", "1")
    assert "the newest 1 of 2; --limit 0 lists all" in listed.stderr
    for wrong in (("--state", "sunk"), ("--since", "yesterday")):
        assert mantisreed("jobs", *wrong).returncode == 2


@pytest.mark.parametrize(
    ("engine", "calls"),
    [("dipper", "once"), ("dipper", "twice"), ("dipper", "early"), ("dipper:carrier", "early")],
)
def test_what_engines_call_back_for_is_written_by_the_server(
    mantisreed: Command,
    moody: Moody,
    standin_process: Standin,
    recordings: Path,
    tmp_path: Path,
    engine: str,
    calls: str,
) -> None:
    with moody(FaultProfile(queue=0.5, calls=calls), engine=engine):  # type: ignore[arg-type]
        settings = tmp_path / "mantisreed.toml"
        port = free_port()
        settings.write_text(
            settings.read_text()
            + f'\n[callbacks]\npublic = "http://127.0.0.1:{port}"\nlisten = "127.0.0.1:{port}"\n'
        )
        with standin_process("serve", "--callbacks") as serving:
            sent = mantisreed("submit", "recordings")
            assert sent.returncode == 0, sent.stderr
            if "2 done" not in sent.stderr:
                assert serving.stdout is not None
                told = {
                    serving.stdout.readline().split(maxsplit=1)[0]
                    for _ in range(2 - sent.stderr.count("1 done"))
                }
                assert told <= set(sent.stdout.split())
        shown = [
            json.loads(mantisreed("jobs", str(job["id"]), "--json").stdout)
            for job in jobs(mantisreed)
        ]
        attempts = [[one["outcome"] for one in job["pieces"][0]["attempts"]] for job in shown]
        assert attempts == [["done"], ["done"]] and {job["state"] for job in shown} == {"done"}
    assert len(outputs(tmp_path)) == 8


def test_a_run_takes_what_was_called_for_at_once_and_asks_slowly_when_nobody_calls(
    mantisreed: Command, moody: Moody, standin_process: Standin, recordings: Path, tmp_path: Path
) -> None:
    started = time.monotonic()
    with moody(FaultProfile(queue=0.5, calls="never")):
        settings = tmp_path / "mantisreed.toml"
        text = settings.read_text().replace('slowest = "10 s"', 'slowest = "2 s"')
        settings.write_text(f'{text}\n[callbacks]\npublic = "http://127.0.0.1:9"\n')
        assert mantisreed("run", "recordings/note 0.flac").returncode == 0
    assert time.monotonic() - started >= 2


def test_ctrl_c_once_keeps_what_is_on_its_way(
    ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    ferry.slowness = 1.5
    with ferry.sailing(tmp_path):
        command = [sys.executable, "-m", "mantisreed", "run", "recordings", "--piece-length", "8s"]
        process = subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True)
        assert process.stderr is not None
        while "sending" not in process.stderr.readline():
            pass
        time.sleep(0.3)
        process.send_signal(signal.SIGINT)
        errors = process.communicate(timeout=30)[1]
        assert process.returncode == 130 and "on their way, once more leaves at once" in errors
        answered = sum(ferry.answered.values())
        assert 1 <= answered <= 5
        ferry.slowness = 0.0
        assert subprocess.run(command, cwd=tmp_path, stderr=subprocess.DEVNULL).returncode == 0
    assert set(ferry.answered.values()) == {1} and len(ferry.answered) > answered


def test_what_a_running_command_has_under_way_is_left_to_it(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    ferry.slowness = 4.0
    with ferry.sailing(tmp_path):
        command = [sys.executable, "-m", "mantisreed", "run", "recordings/note 0.flac"]
        process = subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True)
        assert process.stderr is not None
        while "sending" not in process.stderr.readline():
            pass
        collected = mantisreed("collect")
        assert collected.returncode == 3 and "another process has it under way" in collected.stderr
        assert process.communicate(timeout=30) and process.returncode == 0
    assert list(ferry.answered.values()) == [1]


def test_no_secret_is_in_the_ledger_the_log_or_anything_that_is_shown(
    mantisreed: Command, moody: Moody, recordings: Path, tmp_path: Path
) -> None:
    with moody(FaultProfile(faults=0.2, kinds=("500", "truncated", "page"), seed=5), tries=12):
        shown = ""
        for command in ("run", "submit"):
            result = mantisreed(command, "recordings", "-v", "--log-file", "log.txt", "--afresh")
            shown += result.stdout + result.stderr
        shown += mantisreed("jobs", "--json").stdout + mantisreed("collect", "--wait", "-v").stderr
    bell = (tmp_path / "standin.bell").read_text().strip()
    secrets = (KEY, bell, "Bearer ")
    assert "pebbles" in shown and not any(secret in shown for secret in secrets)
    for file in tmp_path.rglob("*"):
        if file.is_file() and file.name not in ("standin.key", "standin.bell", "mantisreed.toml"):
            assert not any(secret.encode() in file.read_bytes() for secret in secrets), file


@pytest.mark.parametrize(
    ("command", "told"),
    [
        (("serve", "--callbacks"), "do not say how engines reach this machine"),
        (
            ("serve", "--callbacks", "--listen", "x"),
            "[callbacks] listen in the settings says where",
        ),
        (("serve", "--listen", "0.0.0.0:8442"), "there is no token"),
        (("tokens", "revoke", "hut"), "there is no token 'hut'"),
        (("serve", "--max-size", "huge"), "a size such as 500 MB"),
        (("tokens", "create", "hut", "--max-size", "huge"), "a size such as 500 MB"),
        (("tokens", "create", "hut", "--spend-limit", "nan"), "an amount such as 2.50"),
        (("tokens", "create", "hut", "--spend-limit", "-5"), "an amount such as 2.50"),
        (("tokens", "create", "hut", "--requests-per-minute", "0"), "1 or more"),
        (("jobs", "--limit", "-5"), "0 or more"),
        (("run", "x.wav", "--newest", "0"), "1 or more"),
        (("plan", "x.wav", "--track", "0"), "1 or more"),
        (("score", "x.txt", "y.txt", "--limit", "-4"), "0 or more"),
        (("compare", "x.wav", "--engines", "ferry,barge", "--limit", "two"), "0 or more"),
        (("doubts", "x.srt", "--min-grade", "nan"), "from 0 to 1"),
        (("serve", "--listen", "127.0.0.1:tide"), "cannot listen on"),
        (("serve", "--shutdown-timeout", "soon"), "--shutdown-timeout"),
        (("serve", "sandwich"), "one argument too many"),
        (("standin", "--faults", "2"), "a share is from 0 to 1"),
        (("standin", "--pace", "often"), "a pace such as 15/60s"),
        (("standin", "--queue", "soon"), "a number with a unit"),
        (("collect", "zzz"), "no job begins with 'zzz'"),
        (("cancel", "zzz"), "no job begins with 'zzz'"),
        (("retry", "zzz"), "no job begins with 'zzz'"),
    ],
)
def test_what_makes_no_sense_is_told_in_two_lines(
    mantisreed: Command, ferry: Ferry, tmp_path: Path, command: tuple[str, ...], told: str
) -> None:
    with ferry.sailing(tmp_path):
        result = mantisreed(*command)
    assert (
        result.returncode == 2 and told in result.stderr and len(result.stderr.splitlines()) <= 2
    ), result.stderr
