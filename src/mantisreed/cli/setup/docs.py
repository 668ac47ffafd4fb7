"""`mantisreed docs`: a page of the manual in the terminal."""

from dataclasses import dataclass
from pathlib import Path

import mantisreed
from mantisreed.cli.console import Console
from mantisreed.errors import InputError


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `docs` is asked for; its arguments tell the same."""

    topic: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Print a page, or the names of all."""
    known = pages()
    if asked.topic is None:
        width = max(map(len, known))
        for name, page in known.items():
            console.result(f"{name.ljust(width)}  {_title_of(page)}")
        return 0
    # `mantisreed docs card` finds `engine-cards` where it is the only one.
    close = [name for name in known if asked.topic.lower() in name]
    if asked.topic not in known and len(close) != 1:
        raise InputError(
            f"there is no page {asked.topic!r}",
            advice=f"`mantisreed docs` lists them: {', '.join(close or known)}",
        )
    page = known.get(asked.topic) or known[close[0]]
    console.result(page.read_text(encoding="utf-8").rstrip())
    return 0


def pages() -> dict[str, Path]:
    """The pages of the manual by their names."""
    return {page.stem: page for page in sorted(_folder().glob("*.md"))}


def _folder() -> Path:
    """Where the pages are: in the package where it is installed, beside it in a working copy."""
    package = Path(mantisreed.__file__).parent
    inside = package / "docs"
    # Beside the package where it runs from a checkout.
    return inside if inside.is_dir() else package.parent.parent / "docs"


def _title_of(page: Path) -> str:
    with page.open(encoding="utf-8") as lines:
        return next(lines, "").lstrip("# ").strip()
