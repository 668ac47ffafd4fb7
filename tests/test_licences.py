"""What is installed is listed with its licence, and the versions that were tested are recorded."""

import re
import tomllib
from importlib import metadata
from pathlib import Path

from packaging.requirements import Requirement

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


def test_an_installation_is_small() -> None:
    """Counted as pip would install it here: what the README says of it is true."""
    needed: set[str] = set()
    wanted = ["mantisreed"]
    while wanted:
        name = wanted.pop().lower().replace("_", "-")
        if name in needed:
            continue
        needed.add(name)
        for text in metadata.requires(name) or ():
            requirement = Requirement(text)
            if requirement.marker is None or requirement.marker.evaluate({"extra": ""}):
                wanted.append(requirement.name)
    told = re.findall(r"and (\d+) packages", (ROOT / "README.md").read_text())
    assert len(needed) - 1 <= int(told[0]) <= 55
    assert not {"scipy", "matplotlib", "keyring", "sqlalchemy", "pandas"} & needed
