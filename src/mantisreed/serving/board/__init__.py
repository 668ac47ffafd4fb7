"""The board: one page, offline, without a build step; its HTML, CSS and JavaScript lie beside this
module.
"""

from functools import cache

from mantisreed.exports.pages import filled, part_of, style_of


@cache
def board_page() -> str:
    """The whole page."""
    parts = (("style", style_of(__name__, "board.css")), ("script", part_of(__name__, "board.js")))
    return filled(part_of(__name__, "board.html"), parts)
