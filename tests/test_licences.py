"""What is installed is listed with its licence, and the versions that were tested are recorded."""

import re
import tomllib
from pathlib import Path

ROOT = Path(__file__).parent.parent


def test_every_dependency_has_its_licence_and_a_tested_version() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    extras = project["optional-dependencies"]
    named = ("plot", "keyring", "sql", "postgresql", "queue")
    wanted = [*project["dependencies"], *(one for name in named for one in extras[name])]
    names = {re.split(r"[\[<>=~ ]", requirement)[0].lower() for requirement in wanted}
    listed = set(
        re.findall(
            r"^\| `([a-z0-9-]+)` \|", (ROOT / "docs" / "licences.md").read_text(), re.MULTILINE
        )
    )
    assert names == listed
    lines = (ROOT / "constraints.txt").read_text().lower().splitlines()
    recorded = {line.partition("==")[0].replace("_", "-") for line in lines}
    assert names <= recorded
