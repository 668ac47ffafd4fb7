"""Decoding processes that tests start once and use again: each takes a third of a second of
computing to start, and there are thousands of runs.
"""

import atexit
import os
import signal
import subprocess
from typing import IO, NoReturn

import pytest

from mantisreed.audio import worker, workers
from mantisreed.audio.workers import DecodingWorkers

_kept: list["subprocess.Popen[bytes]"] = []


def keep_workers(patch: pytest.MonkeyPatch) -> None:
    """Let runs in this process give their idle decoding processes to the next run."""
    patch.setattr(workers, "_kept", _kept)
    # It only starts a process early, which most of these short recordings never need.
    patch.setattr(DecodingWorkers, "warm_up", lambda them: None)


@atexit.register
def _end() -> None:
    for process in _kept:
        process.kill()
        process.communicate()


class ForkedWorker:
    """A decoding process forked from this one, which must have a single thread; it has as much of
    `Popen` as the product uses.
    """

    def __init__(self) -> None:
        requests, asking = os.pipe()
        answering, answers = os.pipe()
        self._pid = os.fork()
        if self._pid == 0:
            os.close(asking)
            os.close(answering)
            _decode(requests, answers)
        os.close(requests)
        os.close(answers)
        self.stdin: IO[bytes] = os.fdopen(asking, "wb", buffering=0)
        self.stdout: IO[bytes] = os.fdopen(answering, "rb", buffering=0)
        self._code: int | None = None

    def poll(self) -> int | None:
        """The exit code; None while it runs."""
        return self._ended(os.WNOHANG)

    def wait(self) -> int:
        """Its exit code, when it has ended."""
        code = self._ended(0)
        assert code is not None
        return code

    def _ended(self, how: int) -> int | None:
        if self._code is None:
            pid, status = os.waitpid(self._pid, how)
            self._code = os.waitstatus_to_exitcode(status) if pid else None
        return self._code

    def kill(self) -> None:
        """End it at once."""
        if self.poll() is None:
            os.kill(self._pid, signal.SIGKILL)

    def communicate(self) -> None:
        """Wait for its end, and close what led to it."""
        self.wait()
        self.stdin.close()
        self.stdout.close()


def lend_forked_worker() -> None:
    """Let the first decoding processes of this one be forked from it, while it has a single thread;
    they end when nobody can ask them any more. More than one a core are never at work.
    """
    lent = [ForkedWorker() for _ in range(os.cpu_count() or 1)]
    started = workers._started
    workers._started = lambda: lent.pop() if lent else started()  # type: ignore[assignment, return-value]


def _decode(requests: int, answers: int) -> NoReturn:
    try:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        worker.serve(os.fdopen(requests, "rb"), os.fdopen(answers, "wb"))
    finally:
        os._exit(0)
