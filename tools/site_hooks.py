"""What the static site needs beside the pages in `docs/`: files from elsewhere become pages of it,
and links between them lead to these.
"""

import re
from pathlib import Path
from typing import Any

from mkdocs.structure.files import File

ROOT = Path(__file__).resolve().parent.parent
PAGES = {
    "README.md": "index.md",
    "CHANGELOG.md": "changes.md",
    "benchmarks/README.md": "benchmarks.md",
}
"""Files by their place in the project, and as pages."""

_LINK = re.compile(r"\[([^\]]*)\]\((?!https?:|#|mailto:)([^)\s#]+)(#[^)\s]*)?\)")


def on_files(files: Any, config: Any) -> Any:
    """Add the pages from elsewhere."""
    for source, name in PAGES.items():
        content = (ROOT / source).read_text(encoding="utf-8")
        content = _LINK.sub(lambda link, source=source: _moved(link, source), content)  # type: ignore[misc]
        files.append(File.generated(config, name, content=content))
    return files


def on_page_markdown(markdown: str, page: Any, **_: Any) -> str:
    """Links of the pages in `docs/` to files outside of it."""
    if page.file.src_uri in PAGES.values():
        return markdown
    return str(_LINK.sub(lambda link: _moved(link, f"docs/{page.file.src_uri}"), markdown))


def _moved(link: "re.Match[str]", source: str) -> str:
    """A link of a file of the project, as a link of the site."""
    text, target, place = link[1], link[2], link[3] or ""
    found = (ROOT / source).parent.joinpath(target).resolve()
    name = found.relative_to(ROOT).as_posix()
    if name in PAGES:
        return f"[{text}]({PAGES[name]}{place})"
    if not name.startswith("docs/"):
        return text  # a file of the code, which is no page
    return f"[{text}]({name.removeprefix('docs/')}{place})"
