"""A part of the attacks and of what the fuzzers make; all of them are in `tools/`."""

import subprocess
import sys
from pathlib import Path

import pytest

TOOLS = Path(__file__).parents[1] / "tools"


def ended(*arguments: str, folder: Path) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, str(TOOLS / arguments[0]), *arguments[1:]]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=300)


@pytest.mark.timeout(300)
def test_one_attack_of_each_kind_is_held(tmp_path: Path) -> None:
    result = ended("attack.py", "--one-of-each", "--jobs", "2", folder=tmp_path)
    assert result.returncode == 0, result.stdout
    assert result.stdout.count("held  ") >= 15


@pytest.mark.timeout(300)
def test_one_attack_of_each_kind_on_flows_is_held(tmp_path: Path) -> None:
    result = ended(
        "attack_flows.py", "--only", "flow", "--one-of-each", "--jobs", "2", folder=tmp_path
    )
    assert result.returncode == 0, result.stdout
    assert result.stdout.count("held  ") == 5


@pytest.mark.timeout(300)
@pytest.mark.parametrize(("kind", "count"), [("state", 2), ("content", 1), ("keys", 1)])
def test_one_attack_of_each_kind_on_what_comes_along_is_held(
    tmp_path: Path, kind: str, count: int
) -> None:
    result = ended(
        "attack_state.py", "--only", kind, "--one-of-each", "--jobs", "2", folder=tmp_path
    )
    assert result.returncode == 0, result.stdout
    assert result.stdout.count("held  ") == count


@pytest.mark.timeout(300)
@pytest.mark.parametrize(
    ("fuzzer", "inputs"), [("fuzz_replies.py", "1500"), ("fuzz_readers.py", "4000")]
)
def test_broken_inputs_end_in_time_and_in_words(tmp_path: Path, fuzzer: str, inputs: str) -> None:
    result = ended(fuzzer, "--inputs", inputs, "--seed", "3", folder=tmp_path)
    assert result.returncode == 0, result.stderr
    assert "none failed" in result.stdout
