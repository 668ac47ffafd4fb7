"""The README as a package index shows it. No file of the project stands beside it there, so that a
link to a page becomes the command that prints the page, and a picture goes.

The build calls it (`pyproject.toml`); `python tools/index_readme.py` prints what it makes.
"""

import re
import sys
from pathlib import Path

try:
    from hatchling.metadata.plugin.interface import MetadataHookInterface
except ImportError:  # for printing it, nothing of the build is needed
    MetadataHookInterface = object

_ROOT = Path(__file__).resolve().parent.parent
_PICTURE = re.compile(r"^!\[[^\]]*\]\([^)]*\)\n\n?", re.MULTILINE)
_LINK = re.compile(r"\[([^\]]*)\]\((?!https?:|#|mailto:)([^)\s#]+)(?:#[^)\s]*)?\)")
_PAGE = re.compile(r"docs/([\w-]+)\.md")
_CLONE = "git clone <this repository> mantisreed && cd mantisreed\npython -m pip install ."

_MANUAL = """\
## Documentation

The manual comes with the package: `mantisreed docs` lists its pages, `mantisreed docs jobs` prints
one. MIT licence.
"""


class ReadmeHook(MetadataHookInterface):  # type: ignore[misc]
    """Gives the build its readme."""

    PLUGIN_NAME = "custom"

    def update(self, metadata: dict[str, object]) -> None:
        """See `MetadataHookInterface`."""
        text = index_readme((_ROOT / "README.md").read_text(encoding="utf-8"))
        metadata["readme"] = {"content-type": "text/markdown", "text": text}


def index_readme(text: str) -> str:
    """The README without what leads to files of the project.

    Raises:
        ValueError: it does not say how to install from a clone, which is not for an index.
    """
    if _CLONE not in text:
        raise ValueError("the README says otherwise how it is installed")
    text = text.replace(_CLONE, "python -m pip install mantisreed")
    text = text.replace("'.[", "'mantisreed[").partition("## Documentation\n")[0] + _MANUAL
    return _LINK.sub(_told, _PICTURE.sub("", text))


def _told(link: "re.Match[str]") -> str:
    """A link as words: the command that prints the page, or what it said."""
    page = _PAGE.fullmatch(link[2])
    if page is None:
        return link[1]
    return f"{link[1]} (`mantisreed docs {page[1]}`)"


if __name__ == "__main__":
    sys.stdout.write(index_readme((_ROOT / "README.md").read_text(encoding="utf-8")))
