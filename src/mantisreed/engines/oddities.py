"""What a reply holds that its card does not lead one to expect: counted, with the first example of
each kind.
"""

import re
from dataclasses import dataclass, field

# A closed tag or an entity: `<` and `&` alone may well be said.
_MARKUP = re.compile(r"</?[A-Za-z][A-Za-z0-9:._-]*(?:\s[^<>]*)?/?>|&(?:[a-z]+|#\d+);")
_SUBTITLES = re.compile(r"\d:\d\d[.,:]\d+ ?-->|^WEBVTT\b|^\[?\d\d:\d\d[.:]\d\d\]", re.MULTILINE)
_JSON = re.compile(r'^\s*[\[{]\s*["\[{]')
_SUB_WORD = re.compile(r"^(?:▁|Ġ|##)\S|\S(?:@@|</w>)$")
_SOUND = re.compile(r"[\[(<♪*].*[\])>♪*]")
# One look at the signs of a text spares the patterns, which most texts do not need.
_SUSPICIOUS = frozenset("<&▁Ġ#@-[{(♪*W")


@dataclass(frozen=True, slots=True)
class _OddityKind:
    """What is odd, said of one and of several, and whether the transcript is doubtful by it."""

    one: str
    several: str
    is_doubt: bool = True


_KINDS = {
    "outside passage": _OddityKind(
        "word lies outside its passage", "words lie outside their passages"
    ),
    "out of order": _OddityKind(
        "word comes before the one it follows", "words come before those they follow"
    ),
    "markup": _OddityKind("text looks like markup", "texts look like markup"),
    "subtitles": _OddityKind("text looks like a subtitle file", "texts look like subtitle files"),
    "json": _OddityKind("text looks like JSON", "texts look like JSON"),
    "sub-word": _OddityKind(
        "word bears the mark of a part of a word (see reply.words.tokens)",
        "words bear the marks of parts of words (see reply.words.tokens)",
    ),
    "confidence": _OddityKind(
        "confidence is not on its scale (see reply.confidence_scale)",
        "confidences are not on their scale (see reply.confidence_scale)",
    ),
    "speaker": _OddityKind(
        "word is in no speaker's turn", "words are in no speaker's turn", is_doubt=False
    ),
    "kind": _OddityKind("item is of a kind that is no text", "items are of kinds that are no text"),
    "startless": _OddityKind(
        "item has no start, and got the end of the one before",
        "items have no starts, and got the ends of those before",
        is_doubt=False,
    ),
    "endless": _OddityKind("item has no end, and got one", "items have no ends, and got some"),
    "untimed": _OddityKind("word has no time, and got one", "words have no times, and got some"),
    "cue": _OddityKind(
        "thing in its cues was mended or left out",
        "things in its cues were mended or left out",
        is_doubt=False,
    ),
    "unheard": _OddityKind(
        "stream ends before the speech does, and may be incomplete (see reply.complete)",
        "streams end before the speech does, and may be incomplete (see reply.complete)",
    ),
    "lacking": _OddityKind(
        "path finds nothing in the reply", "paths find nothing in the reply", is_doubt=False
    ),
    "sound": _OddityKind(
        "word looks like a sound (reply.words.event_pattern keeps it apart)",
        "words look like sounds (reply.words.event_pattern keeps them apart)",
        is_doubt=False,
    ),
}


@dataclass(slots=True)
class Oddities:
    """What was found odd while a reply was read."""

    _found: dict[str, tuple[int, str]] = field(default_factory=dict)

    def note(self, kind: str, example: str, count: int = 1) -> None:
        """Count something odd.

        Args:
            kind: one of those that have a sentence.
            example: what shows it, for the first of its kind.
            count: how many.
        """
        # The first example: later ones follow from it as often as not.
        before, first = self._found.get(kind, (0, example))
        self._found[kind] = before + count, first

    def look_at(self, text: str, *, is_word: bool) -> None:
        """Note what a text looks like, if it does not look like what somebody said."""
        if _SUSPICIOUS.isdisjoint(text):
            return
        if is_word and _SUB_WORD.search(text):
            self.note("sub-word", repr(text))
        elif _SUBTITLES.search(text):
            self.note("subtitles", _short(text))
        elif _JSON.search(text):
            self.note("json", _short(text))
        elif is_word and _SOUND.fullmatch(text) and "</" not in text:
            self.note("sound", repr(text))
        elif _MARKUP.search(text):
            self.note("markup", _short(text))

    @property
    def doubts(self) -> tuple[str, ...]:
        """Sentences on what makes the transcript doubtful."""
        return tuple(
            _sentence(kind, *found) for kind, found in self._found.items() if _KINDS[kind].is_doubt
        )

    @property
    def remarks(self) -> tuple[str, ...]:
        """Sentences on what a reader may want to know."""
        return tuple(
            _sentence(kind, *found)
            for kind, found in self._found.items()
            if not _KINDS[kind].is_doubt
        )


def _sentence(kind: str, count: int, example: str) -> str:
    said = _KINDS[kind]
    return f"{count} {said.one if count == 1 else said.several}: {example}"


def _short(text: str) -> str:
    return repr(text if len(text) <= 40 else text[:40] + "...")
