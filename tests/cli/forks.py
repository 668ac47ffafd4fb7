"""A program that runs the command again and again, each time in a process of its own, without
importing it anew.

    python -m cli.forks FOLDER

It reads JSON from standard input, a line for each group of processes that are to run at once: a
list of {"arguments": [...], "dies_at": N or null}. A process dies by SIGKILL at its N-th step:
before and after each commit of the ledger, and before and after each file that is put in its place.
It answers with a line for each group: a list of [exit status, number of steps that were made]. What
the processes say is in `said-N.txt` in the folder.
"""

import json
import os
import signal
import sys
from pathlib import Path
from typing import Any

import num2words  # noqa: F401

# What the commands need is loaded once, and not by each process.
import mantisreed.cards.wire.transport
import mantisreed.cli.main
import mantisreed.cli.outcomes
import mantisreed.cli.transcribing.arguments
import mantisreed.cli.transcribing.retry
import mantisreed.cli.transcribing.run
import mantisreed.cli.transcribing.sending
import mantisreed.files
import mantisreed.jobs.ledger
import mantisreed.pipeline.followups.follow_ups
from decoding import lend_forked_worker
from mantisreed.jobs.store.sqlite import SqliteDatabase


class Steps:
    """Counts steps, and ends the process at one of them."""

    def __init__(self, dies_at: int | None) -> None:
        self.count, self._dies_at = 0, dies_at

    def step(self) -> None:
        if self.count == self._dies_at:
            os.kill(os.getpid(), signal.SIGKILL)
        self.count += 1

    def watch(self) -> None:
        """From now on, count."""
        commit, replace, link = SqliteDatabase._commit, Path.replace, os.link

        def watched_commit(database: Any) -> None:
            self.step()
            commit(database)
            self.step()

        def watched_replace(path: Path, target: Path) -> Path:
            self.step()
            replace(path, target)
            self.step()
            return target

        def watched_link(source: str, target: str, **options: Any) -> None:
            self.step()
            link(source, target, **options)
            self.step()

        SqliteDatabase._commit = watched_commit  # type: ignore[method-assign, assignment]
        Path.replace = watched_replace  # type: ignore[method-assign, assignment]
        os.link = watched_link  # type: ignore[assignment]


def run(arguments: list[str], dies_at: int | None, told: int, said: Path) -> None:
    """One process: run the command, tell how many steps it made, and end; what it says goes into a
    file.
    """
    lend_forked_worker()
    steps = Steps(dies_at)
    steps.watch()
    null = os.open(os.devnull, os.O_RDWR)
    saying = os.open(said, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
    for stream, target in ((0, null), (1, saying), (2, saying)):
        os.dup2(target, stream)
    code = mantisreed.cli.main.main(arguments)
    os.write(told, str(steps.count).encode())
    os._exit(code)


def main() -> None:
    os.chdir(sys.argv[1])
    for line in sys.stdin:
        running = []
        for number, process in enumerate(json.loads(line)):
            told, tell = os.pipe()
            child = os.fork()
            if child == 0:
                os.close(told)
                try:
                    run(process["arguments"], process["dies_at"], tell, Path(f"said-{number}.txt"))
                finally:
                    os._exit(70)
            os.close(tell)
            running.append((child, told))
        results = []
        for child, told in running:
            _, status = os.waitpid(child, 0)
            made = os.read(told, 100)
            os.close(told)
            results.append([os.waitstatus_to_exitcode(status), int(made or 0)])
        sys.stdout.write(json.dumps(results) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
