"""The board: one page, offline, without a build step; its HTML, CSS and JavaScript lie beside this module."""

from functools import cache
from importlib.resources import files

from mantisreed.exports.pages import filled


@cache
def board_page() -> str:
    """The whole page."""
    return filled(_part("board.html"), (("style", _part("board.css")), ("script", _part("board.js"))))


def _part(name: str) -> str:
    return (files("mantisreed.serving.board") / name).read_text(encoding="utf-8")
