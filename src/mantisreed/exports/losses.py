"""What a format cannot say of cues that another could: told by kind and cue, so that nothing is
lost silently.
"""

from collections.abc import Iterable, Iterator, Sequence, Set

from mantisreed.formats.styling import colour_of
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.marking import STYLES

_TELLS = 3  # cues that are named; of more their number is said

SAID_BY_ALL = frozenset(("bold", "italics", "underlining", "font colour", "position"))
"""What all formats of subtitles can say of a cue."""

NAMES, OVERLAPS = "names of speakers", "places of cues that overlap"

_MORE = (
    NAMES,
    OVERLAPS,
    "class",
    "language",
    "ruby",
    "style",
    "vertical text",
    "width of the cue",
    "region",
    "times inside the cue",
    "style sheets",
    "comments",
    "regions",
)

WITHOUT_PLACES = frozenset(("vertical text", "width of the cue", "region", "times inside the cue"))
"""What need not be told of a format that has no places on a screen: that these are gone goes
without saying.
"""

EVERYTHING = SAID_BY_ALL | frozenset(_MORE)
"""What WebVTT can say, which is all that cues keep."""


def losses(cues: Sequence[Cue], head: Sequence[str], says: Set[str]) -> list[str]:
    """What is dropped where cues are written in a format, such as `dropped: font colour (cue 1),
    position (cue 2)`.

    Args:
        cues: as they were read.
        head: WebVTT blocks of styles, regions and comments.
        says: what the format can say.
    """
    kinds: dict[str, list[int]] = {}
    if OVERLAPS not in says and (overlapping := list(_overlapping(cues))):
        kinds[OVERLAPS] = overlapping
    for number, cue in enumerate(cues, 1):
        for kind in dict.fromkeys(_kinds_of(cue)):
            if kind not in says:
                kinds.setdefault(kind, []).append(number)
    parts = [f"{kind} ({_cues(numbers)})" for kind, numbers in kinds.items()]
    # By the word that a block begins with.
    blocks = {block.split(None, 1)[0] for block in head}
    named = (("STYLE", "style sheets"), ("NOTE", "comments"), ("REGION", "regions"))
    parts += [kind for word, kind in named if word in blocks and kind not in says]
    if parts:
        return [f"dropped: {', '.join(parts)}"]
    return []


def _overlapping(cues: Sequence[Cue]) -> Iterator[int]:
    """Numbers of cues that begin before the one above has ended: players pile them up."""
    latest = 0.0
    for number, cue in enumerate(cues, 1):
        if cue.start < latest:
            yield number
        # A long cue may overlap several that come after.
        latest = max(latest, cue.end)


def _kinds_of(cue: Cue) -> Iterator[str]:
    """Kinds of what a cue has besides its text."""
    yield from _kinds_of_marks(cue.marks)
    if cue.speaker or cue.turns:
        yield NAMES
    if cue.settings:
        yield "position"
    settings = dict(part.partition(":")[::2] for part in cue.settings.split())
    if "vertical" in settings:
        yield "vertical text"
    if "size" in settings:
        yield "width of the cue"
    if "region" in settings:
        yield "region"
    if cue.inner:
        yield "times inside the cue"


def _kinds_of_marks(marks: Iterable[Mark]) -> Iterator[str]:
    for mark in marks:
        # `c.loud` and `lang en` are a class and a language, whatever they are called.
        name = mark.tag.split(".")[0].split()[0]
        if mark.tag in STYLES:
            yield {"b": "bold", "i": "italics", "u": "underlining"}[mark.tag]
        elif colour_of(mark.tag) is not None:
            yield "font colour"
        else:
            yield {"c": "class", "lang": "language", "ruby": "ruby", "rt": "ruby"}.get(
                name, "style"
            )


def _cues(numbers: Sequence[int]) -> str:
    if len(numbers) == 1:
        return f"cue {numbers[0]}"
    if len(numbers) <= _TELLS:
        return f"cues {', '.join(map(str, numbers[:-1]))} and {numbers[-1]}"
    return f"cues {', '.join(map(str, numbers[:_TELLS]))} and {len(numbers) - _TELLS} more"
