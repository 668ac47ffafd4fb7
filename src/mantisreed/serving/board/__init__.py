"""The board: one page, offline, without a build step; its HTML, CSS and JavaScript lie beside this module."""

from functools import cache
from importlib.resources import files


@cache
def board_page() -> str:
    """The whole page."""
    page = _part("board.html")
    for name in ("style", "script"):
        before, _, page_after = page.partition(f"@{name}@")
        page = before + _part({"style": "board.css", "script": "board.js"}[name]) + page_after
    return page


def _part(name: str) -> str:
    return (files("mantisreed.serving.board") / name).read_text(encoding="utf-8")
