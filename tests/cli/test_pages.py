"""The commands on the pages are commands of the program, and their options are there."""

import re
import shlex
from itertools import chain
from pathlib import Path

import pytest
from prose import measured, pages, printed

from advice import options_of
from mantisreed.cli.main import COMMANDS

ROOT = Path(__file__).parent.parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
_LONGEST_PAGE = 200  # lines
_LONGEST_README = 150  # lines


def commands_on(page: Path) -> list[str]:
    """Each command of ours in a block or in backquotes, up to a pipe or a comment."""
    text = page.read_text(encoding="utf-8")
    blocks = re.findall(r"```sh\n(.*?)```", text, re.DOTALL)
    lines = list(chain.from_iterable(block.replace("\\\n", " ").splitlines() for block in blocks))
    lines += re.findall(r"`(mantisreed [^`]+)`", text)
    found = []
    for line in lines:
        parts = re.split(r"\s(?:\|\||&&|\\?\|)\s|;\s|\s#\s", line)
        found += [part.strip() for part in parts if re.match(r"\s*mantisreed\s", part)]
    return found


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_each_command_on_a_page_is_one_with_these_options(page: Path) -> None:
    for command in commands_on(page):
        words = shlex.split(command.replace("...", ""), comments=True)
        name = words[1] if len(words) > 1 else ""
        if name.startswith("-") or name in ("COMMAND", ""):
            continue
        assert name in COMMANDS, command
        known = options_of(name)
        for word in words[2:]:
            option = word.partition("=")[0]
            if option.startswith("--"):
                assert option in known, command


def test_the_readme_is_short_and_names_every_page() -> None:
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    assert len(text.splitlines()) <= _LONGEST_README
    # The page of commands leads to those of each group.
    leading = {True: (ROOT / "docs" / "commands.md").read_text(encoding="utf-8"), False: text}
    for page in (ROOT / "docs").glob("*.md"):
        assert page.name in leading[page.name.startswith("commands-")], page.name
    pictures = (ROOT / "docs" / "pictures.md").read_text(encoding="utf-8")
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"screenshots/{picture.name}" in pictures, picture.name


def test_pages_are_short() -> None:
    lines = {
        page.stem: len(page.read_text(encoding="utf-8").splitlines())
        for page in (ROOT / "docs").glob("*.md")
    }
    assert {name for name, count in lines.items() if count > _LONGEST_PAGE} == set()


@pytest.mark.parametrize("page", pages(), ids=lambda page: page.stem)
def test_pages_are_easy_to_read(page: Path) -> None:
    found = measured(page)
    assert not found.problems, (found.problems, found.worst(5))


def test_what_the_program_prints_is_easy_to_read() -> None:
    found = printed()
    assert len(found.sentences) > 800
    assert not found.problems, (found.problems, found.worst(20))


def test_a_page_that_is_hard_to_read_is_told(tmp_path: Path) -> None:
    page = tmp_path / "hard.md"
    page.write_text("What is sent is kept, and whoever asks is told what was heard by it.\n")
    assert len(measured(page).problems) == 2


def test_messages_that_are_explained_are_ones_of_the_program() -> None:
    page = (ROOT / "docs" / "troubleshooting.md").read_text(encoding="utf-8")
    messages = [
        message
        for row in re.findall(r"(?m)^\| (\".*?) \|", page)
        for message in re.findall(r'"([^"]+)"', row)
    ]
    sources = [path.read_text(encoding="utf-8") for path in (ROOT / "src").rglob("*.py")]
    told = re.sub(r'"\s*\n\s*f?"|\{[^{}]*\}', "", "\n".join(sources))
    assert len(messages) >= 14
    for message in messages:
        assert message.replace("mantisreed.toml", "") in told, message


def anchors(page: Path) -> set[str]:
    """The names by which a page's headings are led to."""
    headings = re.findall(r"(?m)^#+ (.*)$", page.read_text(encoding="utf-8"))
    return {re.sub(r"[^\w\- ]", "", heading.lower()).replace(" ", "-") for heading in headings}


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_links_lead_somewhere(page: Path) -> None:
    for target, place in re.findall(
        r"\]\(([^)#]*)(?:#([^)]*))?\)", page.read_text(encoding="utf-8")
    ):
        if "://" in target:
            continue
        there = page.parent / target if target else page
        assert there.exists(), target
        if place and there.suffix == ".md":
            assert place in anchors(there), f"{target}#{place}"
