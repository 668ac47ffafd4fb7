"""The cards of the benchmarks are cards, and every benchmark runs."""

import ast
import os
import subprocess
import sys
from pathlib import Path

import pytest

from mantisreed.workspace import open_workspace

# Nobody runs these by themselves.
LIBRARIES = ("database_server.py", "judge.py", "outages.py", "sizes.py")
BENCHMARKS = Path(__file__).parent.parent / "benchmarks"
FILLED = {
    "url": "postgresql://marsh@127.0.0.1/ledger",
    "port": "80",
    "pace": "15",
    "window": "20",
    "at_once": "4",
    "PORT": "80",
}


def cards() -> list[tuple[str, str]]:
    """Every text with a card in it, with the file that it is in."""
    found = []
    for file in sorted(BENCHMARKS.glob("*.py")):
        nodes = ast.walk(ast.parse(file.read_text()))
        texts = [node.value for node in nodes if isinstance(node, ast.Constant)]
        found += [
            (file.name, text) for text in texts if isinstance(text, str) and "\n[engine." in text
        ]
    return found


@pytest.mark.parametrize(("name", "text"), cards())
def test_the_card_of_a_benchmark_can_be_read(name: str, text: str, tmp_path: Path) -> None:
    is_format = "{{" in text
    for key, value in FILLED.items():
        text = (
            text.replace(f"{{{key}}}", value) if is_format else text.replace(f":{key}", f":{value}")
        )
    file = tmp_path / "mantisreed.toml"
    file.write_text(text.replace("{{", "{").replace("}}", "}") if is_format else text)
    assert open_workspace(file).engines


# Several start servers and a dozen processes, which a busy machine gives little time.
@pytest.mark.timeout(300)
@pytest.mark.smoke
@pytest.mark.parametrize("file", sorted(BENCHMARKS.glob("*.py")), ids=lambda file: file.stem)
def test_a_benchmark_runs(file: Path, tmp_path: Path) -> None:
    if file.name in LIBRARIES:
        pytest.skip("it is no program")
    folders = {"TMPDIR": str(tmp_path), "XDG_CONFIG_HOME": str(tmp_path / "config")}
    result = subprocess.run(
        [sys.executable, file, "--smoke"],
        env={**os.environ, **folders},
        capture_output=True,
        text=True,
    )
    assert result.returncode == 0, result.stderr
    assert result.stdout.strip()
