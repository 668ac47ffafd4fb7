"""A disk that is full at any moment, for that moment or for good: nothing is lost, locked or paid
for twice without a word, and the same command goes on when there is room.
"""

import errno
import json
import os
import random
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from cli.ferry import Ferry, outputs
from conftest import Command
from faulty_disk import FaultyDisk, faulty_disk

ERRORS = (errno.ENOSPC, errno.EIO, errno.EACCES, errno.EMFILE)
MOMENTS = int(os.environ.get("MOMENTS", "12"))
"""How many moments of a run are tried; more find more."""

RUN = ("run", "recordings", "--piece-length", "30s")


@pytest.fixture
def disk(monkeypatch: pytest.MonkeyPatch) -> Iterator[FaultyDisk]:
    with faulty_disk(monkeypatch) as disk:
        yield disk


def emptied(folder: Path) -> None:
    """The workspace as it was before its first run."""

    for name in (".mantisreed", "transcripts"):
        shutil.rmtree(folder / name, ignore_errors=True)


def jobs(mantisreed: Command) -> list[dict[str, object]]:
    found: list[dict[str, object]] = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    return found


def charged(mantisreed: Command) -> tuple[float, float]:
    """What was charged for sure, and what may have been."""
    costs = json.loads(mantisreed("costs", "--json").stdout)["costs"]
    return sum(one["cost"] for one in costs), sum(one["maybe"] for one in costs)


@pytest.mark.parametrize("engine", ["ferry", "barge"])
@pytest.mark.parametrize("lasts", [False, True])
def test_whenever_the_disk_is_full_the_same_command_goes_on_later(
    mantisreed: Command,
    ferry: Ferry,
    recordings: Path,
    tmp_path: Path,
    disk: FaultyDisk,
    engine: str,
    lasts: bool,
) -> None:
    command = (*RUN, "--engine", engine)
    with ferry.sailing(tmp_path, tries=1):
        assert mantisreed(*command).returncode == 0
        good, every = outputs(tmp_path), len(disk.writes)
        price, _ = charged(mantisreed)
        chance = random.Random(engine + str(lasts))
        moments = sorted(chance.sample(range(1, every + 1), min(every, MOMENTS)))
        for number in moments:
            emptied(tmp_path)
            ferry.forget()
            disk.fill(number, lasts=lasts, error=ERRORS[number % len(ERRORS)])
            first = mantisreed(*command)
            where = (number, disk.writes[number - 1 : number], first.stderr)
            disk.room()
            assert "internal" not in first.stderr and "unexpected" not in first.stderr, where
            again = mantisreed(*command)
            assert again.returncode == 0, (where, again.stderr)
            assert outputs(tmp_path) == good, where
            assert {job["state"] for job in jobs(mantisreed)} == {"done"}, where
            # Whatever was answered more than once is told as perhaps charged for.
            cost, maybe = charged(mantisreed)
            twice = sum(count - 1 for count in ferry.answered.values())
            assert cost == pytest.approx(price) and (maybe > 0) >= (twice > 0), where


# Two attempts: the waits between five of them are a quarter of a minute at each moment.
FLOW = """
[follow_up.kept]
max_attempts = 2
[follow_up.kept.copy]
to = "copies"
files = ["txt"]
[follow_up.row]
max_attempts = 2
[follow_up.row.rows]
file = "rows.csv"
columns = { recording = "recording", words = "words" }
"""


@pytest.mark.parametrize("command", ["run", "watch"])
@pytest.mark.parametrize("lasts", [False, True])
def test_what_follows_a_transcript_is_done_once_whenever_the_disk_is_full(
    mantisreed: Command,
    ferry: Ferry,
    recordings: Path,
    tmp_path: Path,
    disk: FaultyDisk,
    command: str,
    lasts: bool,
) -> None:
    once = (*RUN,) if command == "run" else ("watch", "recordings", "--until-idle", "1s")
    with ferry.sailing(tmp_path, tries=1):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(settings.read_text() + FLOW)
        assert mantisreed(*once).returncode == 0
        copies, every = outputs(tmp_path, "copies"), len(disk.writes)
        rows = sorted((tmp_path / "rows.csv").read_text().splitlines())
        chance = random.Random(command + str(lasts))
        for number in sorted(chance.sample(range(1, every + 1), min(every, MOMENTS // 2))):
            emptied(tmp_path)
            for name in ("copies", "rows.csv"):
                path = tmp_path / name
                shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
            disk.fill(number, lasts=lasts, error=ERRORS[number % len(ERRORS)])
            first = mantisreed(*once)
            where = (number, disk.writes[number - 1 : number], first.stderr)
            disk.room()
            assert "internal" not in first.stderr and "unexpected" not in first.stderr, where
            for again in (RUN if command == "run" else ("run", "recordings"), ("retry",)):
                ended = mantisreed(*again)
                assert ended.returncode == 0, (where, again, ended.stderr)
            assert outputs(tmp_path, "copies") == copies, where
            assert sorted((tmp_path / "rows.csv").read_text().splitlines()) == rows, where
