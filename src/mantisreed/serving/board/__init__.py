"""The board: one page, offline, without a build step; its HTML, CSS and JavaScript lie beside this
module.
"""

import html
from functools import lru_cache

from mantisreed.exports.pages import filled, part_of, style_of


@lru_cache(16)
def board_page(prefix: str = "") -> str:
    """The whole page, for whoever reaches the service under a prefix of paths."""
    parts = (
        ("prefix", html.escape(prefix)),
        ("style", style_of(__name__, "board.css")),
        ("script", part_of(__name__, "board.js")),
    )
    return filled(part_of(__name__, "board.html"), parts)
