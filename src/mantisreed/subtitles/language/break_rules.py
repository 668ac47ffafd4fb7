"""How tightly two words belong together: one rule a row, in the order in which they count.

The first rule that has something to say of a place decides. A rule that begins with the name of a
word list is asked only where the word is in that list of the language (`languages.toml`).
"""

from collections.abc import Container, Sequence
from functools import cache

from mantisreed.subtitles.language.break_place import (
    BreakPlace,
    Rule,
)
from mantisreed.subtitles.language.following_rules import FOLLOWING
from mantisreed.subtitles.language.languages import words_of_language
from mantisreed.subtitles.language.preceding_rules import PRECEDING

Compiled = Sequence[tuple[Container[str] | None, Rule]]
"""Rules of one language, each with the words that it is asked about."""


def tied_to_following(place: BreakPlace) -> float:
    """How tightly the word before a place belongs to what comes; 0 where nothing ties it."""
    return _decided(_compiled(place.tongue)[0], place, place.before.tail)


def tied_to_preceding(place: BreakPlace) -> float:
    """How tightly the word behind a place belongs to the one before it."""
    return _decided(_compiled(place.tongue)[1], place, place.word.head)


def _decided(rules: Compiled, place: BreakPlace, word: str) -> float:
    for words, rule in rules:
        if words is None or word in words:
            tie = rule(place)
            if tie is not None:
                return tie
    return 0.0


@cache
def _compiled(tongue: str) -> tuple[Compiled, Compiled]:
    """The rules of a language, with its lists in place of their names."""
    known = words_of_language(tongue)
    following, preceding = (
        [
            (None if row.words is None else getattr(known, row.words), row.rule)
            for row in rows
            if row.tongues is None or tongue in row.tongues
        ]
        for rows in (FOLLOWING, PRECEDING)
    )
    return following, preceding
