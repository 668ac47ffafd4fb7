"""Killed at each step, and several processes at once: nothing is lost, and nothing is paid for
twice.
"""

import json
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from cli.ferry import Ferry, outputs
from conftest import Command
from mantisreed.jobs.ledger import Ledger
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.mailbox import mailbox

Results = list[tuple[int, int]]
RunAtOnce = Callable[..., Results]


pytestmark = pytest.mark.timeout(400)  # each of them runs the command some fifty times


@pytest.fixture
def at_once(tmp_path: Path) -> Iterator[RunAtOnce]:
    """Runs the same command in several processes at once; gives exit codes and steps."""
    command = [sys.executable, "-m", "cli.forks", str(tmp_path)]
    tests = Path(__file__).parents[1]
    with subprocess.Popen(
        command, cwd=tests, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as forks:
        assert forks.stdin is not None and forks.stdout is not None

        def run(*arguments: str, dies_at: tuple[int | None, ...] = (None,)) -> Results:
            assert forks.stdin is not None and forks.stdout is not None
            group = [
                {
                    "arguments": [one.replace("{number}", str(number)) for one in arguments],
                    "dies_at": step,
                }
                for number, step in enumerate(dies_at)
            ]
            forks.stdin.write(json.dumps(group) + "\n")
            forks.stdin.flush()
            return [(code, steps) for code, steps in json.loads(forks.stdout.readline())]

        yield run
        forks.stdin.close()


@pytest.fixture
def recordings(english: list[Phrase], tmp_path: Path) -> Path:
    """Two recordings that are too short for a decoding process of their own, which would take long
    to start.
    """
    folder = tmp_path / "recordings"
    folder.mkdir()
    for number in range(2):
        composition = compose(english, seed=210 + number, duration=30, pauses=(0.8, 1.5))
        composition.write(folder / f"note {number}.flac")
    return folder


def clear(folder: Path, ferry: Ferry) -> None:
    for name in (".mantisreed", "transcripts"):
        shutil.rmtree(folder / name, ignore_errors=True)
    ferry.forget()


def unconfirmed(folder: Path) -> int:
    with closing(Ledger(folder / ".mantisreed")) as ledger:
        return sum(job.unconfirmed for job in ledger.listing.jobs())


@pytest.mark.parametrize("engine", ["ferry", "barge"])
def test_killed_at_every_step_it_goes_on_where_it_was_and_pays_for_nothing_twice(
    ferry: Ferry, at_once: RunAtOnce, recordings: Path, tmp_path: Path, engine: str
) -> None:
    with ferry.sailing(tmp_path):
        command = ("run", "recordings/note 0.flac", "--piece-length", "20s", "--engine", engine)
        ((code, steps),) = at_once(*command)
        assert code == 0 and steps >= 16
        whole, pieces = outputs(tmp_path), len(ferry.answered)
        assert pieces == 2 and set(ferry.answered.values()) == {1}
        doubtful = 0
        for step in range(steps):
            clear(tmp_path, ferry)
            at_once(*command, dies_at=(step,))
            assert at_once(*command)[0][0] == 0, step
            assert outputs(tmp_path) == whole, step
            doubts = unconfirmed(tmp_path)
            assert sum(ferry.answered.values()) - pieces <= doubts, step
            doubtful += doubts
        assert doubtful  # some of the steps are between sending and noting the answer


@pytest.mark.parametrize("engine", ["ferry", "barge"])
@pytest.mark.parametrize("count", [2, 4])
def test_several_processes_with_the_same_command_pay_for_nothing_twice(
    ferry: Ferry, at_once: RunAtOnce, recordings: Path, tmp_path: Path, engine: str, count: int
) -> None:
    ferry.slowness = 0.1
    with ferry.sailing(tmp_path):
        for round_ in range(2):
            clear(tmp_path, ferry)
            results = at_once(
                *("run", "recordings", "--piece-length", "6s", "--engine", engine),
                dies_at=(None,) * count,
            )
            said = [(tmp_path / f"said-{number}.txt").read_text() for number in range(count)]
            assert [code for code, _ in results] == [0] * count, (round_, said)
            assert set(ferry.answered.values()) == {1} and len(ferry.answered) >= 10
            assert set(ferry.asked.values()) == {1}
            assert len(outputs(tmp_path)) == 4


def test_processes_together_send_no_more_at_once_than_the_card_says(
    ferry: Ferry, at_once: RunAtOnce, english: list[Phrase], tmp_path: Path
) -> None:
    for number in range(4):
        composition = compose(english, seed=230 + number, duration=30, pauses=(0.8, 1.5))
        (tmp_path / f"hide {number}").mkdir()
        composition.write(tmp_path / f"hide {number}" / f"note {number}.flac")
    ferry.slowness = 0.1
    with ferry.sailing(tmp_path):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(
            settings.read_text().replace("[engine.ferry]\n", "[engine.ferry]\nmax_concurrent = 2\n")
        )
        results = at_once(
            *("run", "--piece-length", "6s", "--engine", "ferry", "hide {number}"),
            dies_at=(None,) * 4,
        )
    said = [(tmp_path / f"said-{number}.txt").read_text() for number in range(4)]
    assert [code for code, _ in results] == [0] * 4, said
    assert ferry.most_at_once <= 2 and sum(ferry.answered.values()) >= 16
    assert "takes 2 at once, and other processes are sending to it" in "".join(said)


def test_when_one_of_several_processes_is_killed_the_others_do_its_work(
    mantisreed: Command, ferry: Ferry, at_once: RunAtOnce, recordings: Path, tmp_path: Path
) -> None:
    ferry.slowness = 0.1
    with ferry.sailing(tmp_path):
        for step in (5, 12, 19, 30):
            clear(tmp_path, ferry)
            command = ("run", "recordings", "--piece-length", "6s")
            results = at_once(*command, dies_at=(step, None))
            assert results[1][0] == 0, (step, (tmp_path / "said-1.txt").read_text())
            extra = sum(ferry.answered.values()) - len(ferry.answered)
            assert extra <= unconfirmed(tmp_path) and len(outputs(tmp_path)) == 4


def test_killed_at_every_step_of_a_flow_nothing_is_delivered_twice_and_retry_does_the_rest(
    mantisreed: Command, ferry: Ferry, at_once: RunAtOnce, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path), mailbox(tmp_path / "box") as (server, box):
        settings = tmp_path / "mantisreed.toml"
        settings.write_text(
            f"""{settings.read_text()}
[follow_up.rows]
rows = {{ file = "kept.csv", columns = {{ recording = "recording" }} }}
[follow_up.mail]
needs = ["rows"]
mail = {{ server = "{server}", sender = "hut@marsh.example", to = ["warden@marsh.example"] }}
"""
        )
        command = ("run", "recordings/note 0.flac", "--to", "txt")
        ((code, steps),) = at_once(*command)
        assert code == 0 and len(box.messages) == 1
        doubtful = 0
        for step in range(steps - 12, steps):
            clear(tmp_path, ferry)
            (tmp_path / "kept.csv").unlink(missing_ok=True)
            before = len(box.messages)
            at_once(*command, dies_at=(step,))
            ((code, _),) = at_once(*command)
            sent = len(box.messages) - before
            doubtful += code == 1
            # What may have been sent is not sent again by itself; the exit code tells of it.
            assert (code, sent) in ((0, 1), (1, 0), (1, 1)), step
            if code == 1:
                assert at_once("retry")[0][0] == 0, step
            assert (tmp_path / "kept.csv").read_text().count("\n") == 2, step
            assert at_once(*command)[0][0] == 0 and len(box.messages) - before <= sent + (
                code == 1
            ), step
        assert doubtful
