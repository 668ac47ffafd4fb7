"""How a process signs what it has under way, so that others can tell whether it still lives."""

import os
import socket
import time
from pathlib import Path


def own_name() -> str:
    """This process's: host, number, when it was started, and the moment."""
    pid = os.getpid()
    return f"{socket.gethostname()}:{pid}:{_birth(pid)}:{time.time_ns():x}"


def is_gone(owner: str) -> bool:
    """Whether a process of this machine has surely ended."""
    host, pid, birth, _ = owner.rsplit(":", 3)
    if host != socket.gethostname():
        return False
    try:
        os.kill(int(pid), 0)
    except ProcessLookupError:
        return True
    except PermissionError:
        return False
    return birth != _birth(int(pid))


def _birth(pid: int) -> str:
    """When a process was started, in ticks, where the system tells; numbers of processes come again."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
