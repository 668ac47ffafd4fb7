"""The commands that the manual's pages print."""

import re
from collections.abc import Iterator
from pathlib import Path

DOCS = Path(__file__).parents[2] / "docs"


def commands_of(page: str) -> Iterator[str]:
    """The lines of a page's shell blocks in their order, whole and without their comments."""
    text = (DOCS / f"{page}.md").read_text(encoding="utf-8").replace("\\\n", " ")
    for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL):
        for line in block.splitlines():
            if command := line.partition(" #")[0].strip():
                yield command
