"""A transcript as a web page by itself, and its chapters."""

import html
from collections.abc import Iterable, Sequence
from importlib.resources import files

from mantisreed.exports.doubtful import (
    DoubtRun,
    DoubtsByTime,
    doubts_worth_showing,
    gaps_before,
    runs_of,
)
from mantisreed.exports.readings import other_readings
from mantisreed.exports.script import Script
from mantisreed.subtitles.cues import Cue
from mantisreed.transcript.document import Doubt, Passage
from mantisreed.transcript.writing import is_right_to_left
from mantisreed.units import clock, count_of, counts_of

# Seconds of a chapter; its end is the longest pause between these.
_SHORTEST, _LONGEST = (
    120.0,
    300.0,
)
_TITLE = 60  # characters of a chapter's title

_PAGE = """\
<!DOCTYPE html>
<html{attributes}>
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>{title}</title>
<style>
{style}</style>
</head>
<body>
<main>
<h1>{title}</h1>
{main}</main>
</body>
</html>
"""

_STYLE = """\
:root { color-scheme: light dark; --ink: #1c2328; --paper: #fdfdfb; --quiet: #5b6770;
  --mark: #e4eef6;
  --doubt: #ffd9a8; }
@media (prefers-color-scheme: dark) {
  :root { --ink: #e4e8ea; --paper: #14191d; --quiet: #9aa7b0; --mark: #21384a;
    --doubt: #6b4413; }
}
body { margin: 0 auto; padding: 2rem 1rem 4rem; max-width: 44rem; color: var(--ink);
  background: var(--paper);
  font: 1.05rem/1.6 system-ui, sans-serif; }
h1 { font-size: 1.5rem; overflow-wrap: anywhere; }
p { margin: 0 0 1.1rem; padding: .15rem .4rem; border-radius: .3rem; }
p:target { background: var(--mark); }
a { color: var(--quiet); font-size: .85rem; font-variant-numeric: tabular-nums;
  text-decoration: none; }
a:hover, a:focus-visible { text-decoration: underline; }
b { margin: 0 .4rem; }
mark { color: inherit; background: var(--doubt); border-radius: .2rem; padding: 0 .1rem; }
.doubts { color: var(--quiet); font-size: .9rem; }
details { margin: -.8rem 0 1.1rem; padding: 0 .4rem; color: var(--quiet); font-size: .9rem; }
ol { margin: .2rem 0; }
.gap { color: var(--quiet); font-size: .9rem; border-left: .25rem solid var(--doubt);
  border-radius: 0; }
"""


def whole_page(title: str, style: str, main: str, attributes: str = "") -> str:
    """A page by itself: offline, without scripts, and nothing from elsewhere.

    Args:
        title: as plain text.
        style: its style sheet.
        main: what stands under the title, as HTML.
        attributes: of the root, as HTML, with a space before each.
    """
    return _PAGE.format(title=html.escape(title), style=style, main=main, attributes=attributes)


def part_of(package: str, name: str) -> str:
    """A part of a page that lies beside its module, as it is."""
    return (files(package) / name).read_text(encoding="utf-8")


def style_of(package: str, name: str) -> str:
    """The style sheet of a page that is worked with: what all of them have in common, and then its
    own.
    """
    return part_of("mantisreed.exports", "page.css") + part_of(package, name)


def filled(page: str, parts: Iterable[tuple[str, str]]) -> str:
    """A page with its parts in their places, which are named `@so@`, in the order in which they
    stand in it.

    One after the other, so that nothing in one part is taken for the place of another.
    """
    pieces = []
    for name, content in parts:
        before, _, page = page.partition(f"@{name}@")
        pieces += [before, content]
    return "".join([*pieces, page])


def write_page(script: Script, title: str) -> str:
    """A page with each passage under an anchor of its time, `#t=62.500`, offline and without
    scripts.

    Args:
        script: with its passages.
        title: of the page.
    """
    language = script.tongue
    if language:
        tag = f' lang="{html.escape(language)}"'
    else:
        tag = ""
    # As much as tells the direction of the script; a transcript may be long.
    text = "".join(passage.text for passage in script.passages[:50])
    if is_right_to_left(text, language):
        direction = ' dir="rtl"'
    else:
        direction = ""
    doubts = doubts_worth_showing(script)
    by_time = DoubtsByTime(doubts)
    gaps = gaps_before(script.passages, doubts)
    parts = [_legend(doubts)] if doubts else []
    for passage, missing in zip(script.passages, gaps, strict=False):
        parts += [*map(_missing, missing), _paragraph(passage, by_time), _readings(passage)]
    passages = "".join([*parts, *map(_missing, gaps[-1])])
    return whole_page(" ".join(title.split()) or "Transcript", _STYLE, passages, tag + direction)


def _legend(doubts: Sequence[Doubt]) -> str:
    """How many stretches are coloured, by kind."""
    count = count_of(len(doubts), "stretch", "stretches")
    listed = counts_of(html.escape(doubt.kind) for doubt in doubts)
    return f'<p class="doubts">{count} to listen to: {listed}</p>\n'


def _missing(doubt: Doubt) -> str:
    return f'<p class="gap">{clock(doubt.start)[:8]} {html.escape(doubt.why)}</p>\n'


def _run(run: DoubtRun) -> str:
    text = html.escape(run.text)
    if not run.doubts:
        return text
    after = " " if text.endswith(" ") else ""
    return f'<mark title="{html.escape(run.why)}">{text.rstrip()}</mark>{after}'


def _readings(passage: Passage) -> str:
    """Other readings of a passage, folded."""
    readings = other_readings(passage)
    if not readings:
        return ""
    items = "".join(f"<li>{html.escape(reading)}</li>" for reading in readings)
    head = count_of(len(readings), "other reading")
    return f"<details><summary>{head}</summary><ol>{items}</ol></details>\n"


def _paragraph(passage: Passage, doubts: DoubtsByTime) -> str:
    name = f"t={passage.start:.3f}"
    if passage.speaker is not None:
        speaker = f"<b>{html.escape(passage.speaker)}</b>"
    else:
        speaker = ""
    text = "".join(map(_run, runs_of(passage, doubts)))
    time = f'<a href="#{name}">{clock(passage.start)[:8]}</a>'
    return f'<p id="{name}">{time} {speaker}{text}</p>\n'


def chapters(passages: Sequence[Passage]) -> list[Cue]:
    """Chapters of two to five minutes that end in the longest pause there is, named by what is said
    first.
    """
    if not passages:
        return []
    starts = [0]
    while True:
        first = starts[-1]
        ways = [
            (passages[at].start - passages[at - 1].end, -at)
            for at in range(first + 1, len(passages))
            if _SHORTEST <= passages[at].start - passages[first].start <= _LONGEST
        ]
        # What is left of a recording is no chapter if it is short.
        ways = [way for way in ways if passages[-1].end - passages[-way[1]].start >= _SHORTEST / 2]
        if not ways:
            break
        starts.append(-max(ways)[1])
    ends = [*starts[1:], len(passages)]
    return [
        Cue(
            passages[first].start,
            max(passages[last - 1].end, passages[first].start),
            (_title_of(passages[first]),),
        )
        for first, last in zip(starts, ends, strict=True)
    ]


def _title_of(passage: Passage) -> str:
    """The first sentence of a passage, or as many words of it as a title may have."""
    flat = " ".join(passage.text.split())
    if len(flat) <= _TITLE:
        return flat
    cut = flat[:_TITLE]
    for mark in (". ", "? ", "! "):
        if mark in cut:
            return cut[: cut.index(mark) + 1]
    return f"{cut.rsplit(' ', 1)[0]} …"
