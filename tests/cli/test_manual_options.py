"""The manual names commands and options that exist, each option with a command that has it."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from advice import options_of
from mantisreed.cli.main import COMMANDS

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
_OPTION = re.compile(r"(?<![\w-])--[a-z][a-z-]+")
_BLOCK = re.compile(r"^```\w*\n(.*?)^```", re.S | re.M)
_SPAN = re.compile(r"`([^`\n]+)`")

# Of benchmarks and of our own tools, which the manual names as well.
ELSEWHERE = {"--quick", "--time", "--jobs", "--inputs", "--smoke"}


def commands_of(text: str) -> Iterator[str]:
    """Command lines and options of a page: quoted in its sentences, and lines of its blocks."""
    for block in _BLOCK.findall(text):
        for line in block.replace("\\\n", " ").splitlines():
            # What stands behind a mark of the shell is another program's.
            yield from (part for part in re.split(r"[|;#]|&&", line) if "mantisreed " in part)
    yield from _SPAN.findall(_BLOCK.sub("", text))


def unknown_of(line: str) -> list[str]:
    """What a command line or quoted option names that does not exist."""
    _, is_ours, ours = line.partition("mantisreed ")
    words = (ours if is_ours else line).split()
    options = set(_OPTION.findall(" ".join(words))) - ELSEWHERE
    if words and words[0] in COMMANDS:
        return sorted(options - options_of(words[0]))
    if is_ours and words and words[0].isalpha() and words[0].islower():
        return [words[0]]
    is_alone = line.startswith("--")
    everywhere = frozenset().union(*map(options_of, COMMANDS))
    return sorted(options - everywhere) if is_alone else []


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_a_page_names_only_commands_and_options_that_exist(page: Path) -> None:
    unknown = {line: found for line in commands_of(page.read_text()) if (found := unknown_of(line))}
    assert unknown == {}


def test_what_does_not_exist_is_found() -> None:
    assert unknown_of("mantisreed serve --rate 60") == ["--rate"]
    assert unknown_of("serve --rate 60") == ["--rate"]
    assert unknown_of("mantisreed sing dawn.wav") == ["sing"]
    assert unknown_of("--rate-of-nothing") == ["--rate-of-nothing"]
    assert unknown_of("tokens create hut --requests-per-minute 60") == []
