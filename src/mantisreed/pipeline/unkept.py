"""Runs that leave nothing behind: their state is in memory, and goes with them; only what they cost
is noted.
"""

import os
import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path

from mantisreed.folders import IN_MEMORY, TEMPORARY, forget
from mantisreed.jobs.ledger import open_ledger
from mantisreed.workspace import Workspace


@contextmanager
def memory_folder() -> Iterator[Path]:
    """A folder in memory, that only this user can read and that is gone at the end.

    Where the system has no files in memory, it is one for temporary files.
    """
    place = Path(tempfile.gettempdir())
    if os.access(IN_MEMORY, os.W_OK | os.X_OK):
        place = IN_MEMORY
    _sweep(place)
    with tempfile.TemporaryDirectory(prefix=f"mantisreed-{os.getpid()}-", dir=place) as folder:
        yield Path(folder)


def _sweep(place: Path) -> None:
    """Remove what programs of this user have left that were killed."""
    for folder in place.glob("mantisreed-*"):
        found = TEMPORARY.fullmatch(folder.name)
        if found is None or folder.is_symlink():
            continue
        try:
            os.kill(int(found["process"]), 0)
        except ProcessLookupError:
            forget(folder)
        except OSError:  # somebody else's process has that number now
            continue


@contextmanager
def unkept(workspace: Workspace) -> Iterator[Workspace]:
    """The same workspace with its state in memory. At the end what was paid is noted in its ledger,
    and nothing else.
    """
    with memory_folder() as folder:
        inside = replace(workspace, ledger=None, state=folder)
        try:
            yield inside
        finally:
            _note_costs(inside, workspace)


def _note_costs(inside: Workspace, workspace: Workspace) -> None:
    with closing(open_ledger(inside)) as ledger:
        costs = ledger.payments.made()
    if costs:
        with closing(open_ledger(workspace)) as ledger:
            ledger.payments.note(costs)
