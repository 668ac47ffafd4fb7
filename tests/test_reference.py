"""The pages that are looked up, and the man page, are what the code gives today."""

import re
import subprocess
import sys
from pathlib import Path

import reference

ROOT = Path(__file__).parents[1]


def test_the_pages_made_from_the_code_are_of_today() -> None:
    # In a process of its own: help is folded by variables of the environment.
    command = [sys.executable, str(ROOT / "tools" / "reference.py"), "--check"]
    checked = subprocess.run(command, capture_output=True, text=True, check=False)
    assert checked.returncode == 0, f"{checked.stdout}run python tools/reference.py"


def test_every_command_is_on_the_page_of_commands_and_in_the_man_page() -> None:
    pages = {page.name: page.read_text() for page in (ROOT / "docs").glob("commands*.md")}
    manual = (ROOT / "docs" / "mantisreed.1").read_text()
    for name in reference.commands():
        (place,) = re.findall(rf"\[`{name}`\]\((commands-\w+\.md)#{name}\)", pages["commands.md"])
        assert f"## {name}\n" in pages[place] and f'.SS "mantisreed {name}"' in manual
    assert "\\-\\-engine NAME" in manual
