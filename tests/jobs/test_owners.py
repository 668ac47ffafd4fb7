"""Whether the process that signed something still lives."""

import subprocess
import sys

from mantisreed.jobs.owners import is_gone, own_name

SIGNED = "from mantisreed.jobs.owners import own_name; print(own_name())"


def test_who_has_ended_is_gone_and_who_is_elsewhere_may_live() -> None:
    own = own_name()
    assert not is_gone(own)
    ended = subprocess.run([sys.executable, "-c", SIGNED], capture_output=True, text=True, check=True).stdout.strip()
    assert is_gone(ended)
    host, pid, birth, moment = own.rsplit(":", 3)
    assert not is_gone(f"elsewhere:{ended.split(':', 1)[1]}")
    assert not birth or is_gone(f"{host}:{pid}:{int(birth) + 1}:{moment}")  # another process had this number
