"""How much a service may answer, all in one place, each with its reason.

An answer is measured before it is interpreted: what is beyond these is an error of this one
request, in bounded time and memory, and never a program that hangs or a machine that swaps.
"""

import math
import re

LARGEST_REPLY = 256 * 1024 * 1024
"""Bytes of a reply at most, packed or not; hours of words with times are a few MB."""

LARGEST_MESSAGE = 16 * 1024 * 1024
"""Bytes of one message of a WebSocket at most; it holds a sentence or two."""

MOST_SPEAKERS = 1_000
"""Speakers in one reply; a reply that has more calls something else so."""

MOST_MONEY = 1e9
"""What an engine may say that one request costs, in any currency; a few characters may be a number
of many.
"""

LONGEST_TIME = 1e11
"""Seconds: of any time or length; the moments of the next three thousand years are below it."""

# For any sound, and for each second of it: a subtitle file with a tag at every word.
_FILE_BYTES = (
    4 << 20,
    20_000,
)
# The same for documents, which may hold many readings of every token.
_DOCUMENT_BYTES = (
    48 << 20,
    200_000,
)
_CHARACTERS = (2_000, 100)  # the fastest speakers say 30 a second
_ITEMS = (20_000, 500)  # words, parts of words, passages: streams repeat what they said before
_NUMBER = re.compile(
    r"[+-]?(?:[0-9]{1,30}(?:\.[0-9]{0,30})?|\.[0-9]{1,30})(?:[eE][+-]?[0-9]{1,2})?"
)


def is_modest_number(text: str) -> bool:
    """Whether a text is a decimal number that can be counted with exactly, without pages of
    digits.
    """
    return _NUMBER.fullmatch(text) is not None


def most_bytes(seconds: float, *, is_document: bool) -> int:
    """Bytes of a reply about so many seconds of sound."""
    return min(LARGEST_REPLY, _most(_DOCUMENT_BYTES if is_document else _FILE_BYTES, seconds))


def most_characters(seconds: float) -> int:
    """Characters of all that is said in so many seconds."""
    return _most(_CHARACTERS, seconds)


def most_items(seconds: float) -> int:
    """Words or passages in so many seconds."""
    return _most(_ITEMS, seconds)


def _most(limit: tuple[int, int], seconds: float) -> int:
    always, each = limit
    return always + math.ceil(each * min(max(seconds, 0.0), 1e6))
