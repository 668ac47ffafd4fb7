"""What starts the program on a server: its commands are ones that there are."""

import configparser
import json
import re
import shlex
from pathlib import Path

import pytest
import yaml

from mantisreed.cli.main import _parser

ROOT = Path(__file__).parents[2]
DEPLOY = ROOT / "deploy"


def parsed(arguments: list[str]) -> str:
    """The command that these arguments ask for."""
    return str(_parser(arguments).parse_args(arguments).command)


@pytest.mark.parametrize("command", ["serve", "watch", "work"])
def test_units_start_a_command_as_a_user_of_its_own(command: str) -> None:
    unit = configparser.ConfigParser(strict=True, interpolation=None)
    unit.optionxform = str  # type: ignore[assignment, method-assign]
    unit.read(DEPLOY / f"mantisreed-{command}.service")
    service = unit["Service"]
    program, *arguments = shlex.split(service["ExecStart"])
    assert program.endswith("/bin/mantisreed") and parsed(arguments) == command
    assert service["User"] != "root" and service["ReadWritePaths"] == service["WorkingDirectory"]
    assert service["Environment"] == f"MANTISREED_TRUST={service['WorkingDirectory']}"
    assert unit["Install"]["WantedBy"] == "multi-user.target"


def test_the_container_starts_a_command_without_rights_and_with_one_volume() -> None:
    recipe = (DEPLOY / "Dockerfile").read_text()
    said = re.findall(r"^([A-Z]+) (.*)$", recipe, re.MULTILINE)
    lines = dict(said)
    assert json.loads(lines["ENTRYPOINT"]) == ["mantisreed"]
    assert parsed(json.loads(lines["CMD"])) == "serve"
    assert lines["USER"] not in ("root", "0") and lines["VOLUME"] == lines["WORKDIR"]
    assert [name for name, _ in said].count("VOLUME") == 1
    extras = re.findall(r"mantisreed\[(.*?)\]", recipe)[0].split(",")
    project = (ROOT / "pyproject.toml").read_text()
    assert all(f"\n{extra} = [" in project for extra in extras)


def test_a_database_and_a_worker_are_composed_of_the_container() -> None:
    services = yaml.safe_load((DEPLOY / "compose.yaml").read_text())["services"]
    worker = services["worker"]
    assert parsed(worker["command"]) == "work"
    assert (DEPLOY / worker["build"]["context"] / worker["build"]["dockerfile"]).is_file()
    folder = re.findall(r"^WORKDIR (.*)$", (DEPLOY / "Dockerfile").read_text(), re.MULTILINE)[0]
    assert worker["volumes"] == [f"./marsh:{folder}"]
    page = (ROOT / "docs" / "scaling.md").read_text()
    user, database = re.findall(r"postgresql://(\w+)@db\.marsh\.example/(\w+)", page)[0]
    made = services["database"]["environment"]
    assert (made["POSTGRES_USER"], made["POSTGRES_DB"]) == (user, database)
    assert worker["extra_hosts"][0].startswith("db.marsh.example:")


def test_commands_of_the_page_are_ones_that_there_are() -> None:
    page = (ROOT / "docs" / "deploy.md").read_text()
    started = re.findall(r"docker run .*?mantisreed( .+?)?(?:`|\n)", page)
    for arguments in filter(None, started):
        assert parsed(shlex.split(arguments)) in ("serve", "watch", "tokens")
    assert len(started) == 3
