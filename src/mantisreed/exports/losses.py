"""What a format cannot say of cues that another could: told by kind and cue, so that nothing is
lost silently.
"""

from collections.abc import Iterable, Iterator, Sequence

from mantisreed.formats.styling import colour_of
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.marking import STYLES

_TELLS = 3  # cues that are named; of more their number is said
_SUBTITLES = frozenset(("srt", "vtt", "ttml", "ebuttd"))


def losses(cues: Sequence[Cue], head: Sequence[str], name: str) -> list[str]:
    """What is dropped where cues are written in a format, such as `dropped: font colour (cue 1),
    position (cue 2)`.

    Args:
        cues: as they were read.
        head: WebVTT blocks of styles, regions and comments.
        name: of the format.
    """
    kinds: dict[str, list[int]] = {}
    for number, cue in enumerate(cues, 1):
        for kind in dict.fromkeys(_kinds_of(cue, name)):
            kinds.setdefault(kind, []).append(number)
    parts = [f"{kind} ({_cues(numbers)})" for kind, numbers in kinds.items()]
    if name != "vtt":
        blocks = {block.split(None, 1)[0] for block in head}
        named = [("STYLE", "style sheets"), ("NOTE", "comments")]
        if name != "ttml":
            named.append(("REGION", "regions"))
        parts += [kind for word, kind in named if word in blocks]
    if parts:
        return [f"dropped: {', '.join(parts)}"]
    return []


def _kinds_of(cue: Cue, name: str) -> Iterator[str]:
    """Kinds of what a format cannot say of a cue."""
    if name == "vtt":
        return
    if name not in _SUBTITLES:
        if cue.marks:
            yield from _kinds_of_marks(cue.marks)
        if cue.settings:
            yield "position"
        return
    yield from _kinds_of_marks(mark for mark in cue.marks if not _is_shared(mark))
    settings = dict(part.partition(":")[::2] for part in cue.settings.split())
    if "vertical" in settings:
        yield "vertical text"
    if "size" in settings:
        yield "width of the cue"
    if "region" in settings and name != "ttml":
        yield "region"
    if cue.inner:
        yield "times inside the cue"


def _is_shared(mark: Mark) -> bool:
    """Whether all formats of subtitles can say it."""
    return mark.tag in STYLES or colour_of(mark.tag) is not None


def _kinds_of_marks(marks: Iterable[Mark]) -> Iterator[str]:
    for mark in marks:
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
