"""Who works on a ledger, on which machine, and how much of what was queued is left."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from mantisreed.jobs.store import statements
from mantisreed.jobs.store.database import Database
from mantisreed.jobs.store.ownership import Ownership
from mantisreed.units import count_of

_LATELY_SECONDS = 120.0  # over which the rate is taken


@dataclass(frozen=True, slots=True)
class Process:
    """A process that works with the ledger.

    Attributes:
        host: its machine.
        pid: its number there.
        program: the version of Mantisreed.
        role: `work` or `serve`; None for a command that ends by itself.
        started: seconds since 1970.
        jobs: that it has under way.
    """

    host: str
    pid: int
    program: str
    role: str | None
    started: float
    jobs: int


@dataclass(frozen=True, slots=True)
class UnderWay:
    """What goes on.

    Attributes:
        processes: those that live, the oldest first.
        waiting: queued recordings that nobody has, by engine.
        working: queued recordings that a worker has, by engine.
        per_minute: queued recordings that ended in a minute, lately.
    """

    processes: tuple[Process, ...] = ()
    waiting: Mapping[str, int] = field(default_factory=dict)
    working: Mapping[str, int] = field(default_factory=dict)
    per_minute: float = 0.0

    @property
    def workers(self) -> tuple[Process, ...]:
        """Those that take recordings from the queue."""
        return tuple(one for one in self.processes if one.role == "work")

    @property
    def seconds_left(self) -> float | None:
        """Until the queue is empty at this rate; None where nobody knows."""
        left = sum(self.waiting.values()) + sum(self.working.values())
        if not left or not self.per_minute:
            return None
        return 60 * left / self.per_minute

    def figures(self) -> dict[str, Any]:
        """How much waits and is worked on, and the time that is left, for JSON."""
        return {
            "waiting": dict(self.waiting),
            "working": dict(self.working),
            "per_minute": round(self.per_minute, 2),
            "seconds_left": self.seconds_left,
        }

    def lines(self) -> list[str]:
        """The same for people; nothing where there is no queue and no worker."""
        lines = []
        if self.workers:
            machines = {one.host for one in self.workers}
            told = ", ".join(f"{one.host} ({one.pid}): {one.jobs}" for one in self.workers)
            lines.append(
                f"{count_of(len(self.workers), 'worker')} on {count_of(len(machines), 'machine')}, "
                f"with their recordings: {told}"
            )
        for engine in sorted({*self.waiting, *self.working}):
            waiting, working = self.waiting.get(engine, 0), self.working.get(engine, 0)
            lines.append(f"queue for {engine}: {waiting} waiting, {working} under way")
        if self.seconds_left is not None:
            minutes = math.ceil(self.seconds_left / 60)
            lines.append(f"{self.per_minute:.1f} a minute, about {minutes} min left")
        elif self.waiting and not self.workers:
            lines.append("no worker is there; `mantisreed work` begins one")
        return lines


def under_way(database: Database, ownership: Ownership) -> UnderWay:
    """What goes on with a ledger now."""
    found: dict[tuple[str, int], Process] = {}
    for row in database.execute(statements.PROCESSES_WITH_JOBS):
        if not ownership.is_alive(row["owner"]):
            continue
        process = Process(
            host=row["host"] or "",
            pid=row["pid"] or 0,
            program=row["program"] or "",
            role=row["role"],
            started=row["started"],
            jobs=row["jobs"],
        )
        key = process.host, process.pid
        # A process signs in several times, once for each of its parts.
        if other := found.get(key):
            role, jobs = other.role or process.role, other.jobs + process.jobs
            process = replace(other, role=role, jobs=jobs)
        found[key] = process
    queued = database.execute(statements.QUEUED_JOBS)
    (ended,) = database.execute(statements.ENDED_LATELY, {"seconds": _LATELY_SECONDS})
    return UnderWay(
        tuple(found.values()),
        {row["engine"]: int(row["waiting"]) for row in queued if row["waiting"]},
        {row["engine"]: int(row["working"]) for row in queued if row["working"]},
        60 * ended["number"] / _LATELY_SECONDS,
    )
