"""Descriptions of sounds, such as `[a door slams]` or `♪ ...`, told apart from words."""

from collections.abc import Sequence

from mantisreed.transcript.punctuation import ends_clause, ends_sentence

_OPENING, _CLOSING = {"[": "]", "［": "］"}, "]］"
MUSIC = "♪♫"
"""Note signs, around what is sung."""
_LONGEST = 12  # words; what nobody closes is no description


def sound_parts(texts: Sequence[str]) -> list[tuple[int, int]]:
    """Where descriptions of sounds stand: places [first, last) of their words.

    A description stands in square brackets, or between notes of music. One inside of a sentence is
    a part of that sentence, as in `we saw [unclear] gulls`, and is not told apart.

    Args:
        texts: the words of a passage, with their marks.
    """
    found, at = [], 0
    while at < len(texts):
        last = _end_of_sound(texts, at)
        if last and _is_apart(texts, at, last):
            found.append((at, last))
            at = last
        else:
            at += 1
    return found


def _end_of_sound(texts: Sequence[str], first: int) -> int:
    """The place after the last word of a description that begins with a word; 0 where none does."""
    text = texts[first]
    if closing := _OPENING.get(text[:1]):
        for last in range(first, min(len(texts), first + _LONGEST)):
            if texts[last].rstrip(".!?…")[-1:] == closing:
                return last + 1
    if text[:1] in MUSIC:
        # A single note is a description of its own; text between two is sung.
        for last in range(first, len(texts)):
            if texts[last][-1:] in MUSIC and (last > first or len(text) > 1):
                return last + 1
        return first + 1
    return 0


def _is_apart(texts: Sequence[str], first: int, last: int) -> bool:
    """Whether no sentence goes on over a description."""
    before = texts[first - 1] if first else ""
    goes_on = bool(before) and not (
        ends_sentence(before) or ends_clause(before) or before[-1] in _CLOSING + MUSIC
    )
    if last < len(texts):
        following = texts[last].lstrip("\"'“„«¿¡(")[:1]
    else:
        following = ""
    return not goes_on and not (first > 0 and following.islower())
