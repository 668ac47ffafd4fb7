"""TTML as it is written: IMSC 1.1 Text (https://www.w3.org/TR/ttml-imsc1.1/)."""

import html
import re
from collections.abc import Iterable, Mapping
from itertools import chain

from mantisreed.formats.styling import (
    Region,
    colour_of,
    regions_of,
)
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.marking import marked_lines
from mantisreed.subtitles.places import keypad_of_settings
from mantisreed.transcript.writing import is_right_to_left
from mantisreed.units import clock

PROFILE = "http://www.w3.org/ns/ttml/profile/imsc1.1/text"
NAMESPACE = "http://www.w3.org/ns/ttml"
XML = "http://www.w3.org/XML/1998/namespace"

_HEAD = """\
<?xml version="1.0" encoding="UTF-8"?>
<tt xmlns="{namespace}" xmlns:ttp="{namespace}#parameter" xmlns:tts="{namespace}#styling"
    xmlns:ttm="{namespace}#metadata" ttp:timeBase="media" ttp:contentProfiles="{profile}" xml:lang={language}>
  <head>
    <metadata>{agents}</metadata>
    <styling>
      <style xml:id="plain" tts:fontFamily="proportionalSansSerif" tts:fontSize="100%" tts:color="white"
             tts:textAlign="center"/>
      <style xml:id="box" tts:backgroundColor="black"/>
    </styling>
    <layout>
      <region xml:id="below" tts:origin="10% 60%" tts:extent="80% 35%" tts:displayAlign="after"
              tts:showBackground="whenActive" style="plain"/>{regions}
    </layout>
  </head>
  <body{direction}>
    <div>
"""  # noqa: E501
_TAIL = "    </div>\n  </body>\n</tt>\n"
_NOT_IN_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")

STYLES = (
    ("b", "fontWeight", "bold"),
    ("i", "fontStyle", "italic"),
    ("u", "textDecoration", "underline"),
)

_REGION = """
      <region xml:id="{name}" tts:origin="{origin}" tts:extent="{extent}" tts:displayAlign="{align}"
              tts:showBackground="whenActive" style="plain"/>"""
_ROWS = (
    (1, "middle", {"origin": "10% 30%", "extent": "80% 40%", "align": "center"}),
    (2, "above", {"origin": "10% 5%", "extent": "80% 35%", "align": "before"}),
)
_SAMPLE = 50  # cues that tell the direction of a script


def write_ttml(cues: Iterable[Cue], language: str | None = None, head: Iterable[str] = ()) -> str:
    """The whole document, with speakers as agents.

    Args:
        cues: by start.
        language: a tag; None leaves it empty.
        head: WebVTT blocks; the regions that cues are in become regions of this document.
    """
    cues = list(cues)
    of_webvtt = {one.name: one for one in regions_of(head)}
    names = []
    for cue in cues:
        named = (cue.speaker, *(turn.speaker for turn in cue.turns))
        names += [name for name in named if name]
    speakers = {name: n for n, name in enumerate(dict.fromkeys(names), 1)}
    agents = "".join(
        f'<ttm:agent xml:id="voice{number}" type="person">'
        f'<ttm:name type="full">{xml_text(name)}</ttm:name></ttm:agent>'
        for name, number in speakers.items()
    )
    from xml.sax.saxutils import quoteattr  # takes long to import

    # Required by the standard; empty where it is not known.
    tag = quoteattr(_NOT_IN_XML.sub("", language or ""))
    rows = {(keypad_of_settings(cue.settings) - 1) // 3 for cue in cues if cue.settings}
    regions = "".join(
        _REGION.format(name=name, **place) for row, name, place in _ROWS if row in rows
    )
    is_reversed = is_right_to_left(
        "".join(chain.from_iterable(cue.lines for cue in cues[:_SAMPLE])), language
    )
    direction = ' tts:direction="rtl"' if is_reversed else ""
    regions += "".join(
        _REGION.format(name=f"of-{one.name}", origin=one.origin, extent=one.extent, align="after")
        for one in of_webvtt.values()
    )
    start = _HEAD.format(
        namespace=NAMESPACE,
        profile=PROFILE,
        language=tag,
        agents=agents,
        regions=regions,
        direction=direction,
    )
    return start + "".join(_paragraph(cue, speakers, of_webvtt) for cue in cues) + _TAIL


def _paragraph(cue: Cue, speakers: Mapping[str, int], regions: Mapping[str, Region]) -> str:
    lines = marked_lines(cue, xml_text, _tags_of)
    if cue.turns:
        voices = zip(cue.turns, lines, strict=True)
        lines = [f"<span{_agent(turn.speaker, speakers)}>{line}</span>" for turn, line in voices]
    agent = "" if cue.turns else _agent(cue.speaker, speakers)
    text = "<br/>".join(lines)
    # A background is not inherited, and a region's would stand there also when nobody speaks.
    span = f'<span style="box">{text}</span>' if text else ""
    return (
        f'      <p begin="{clock(cue.start)}" '
        f'end="{clock(cue.end)}"{agent}{_place(cue, regions)}>{span}</p>\n'
    )


def _place(cue: Cue, regions: Mapping[str, Region]) -> str:
    """Region and alignment of a paragraph.

    Each paragraph names its region, and nothing around it does: whatever has another region than
    what it stands in is shown in neither (TTML 2, 11.3.1.3).
    """
    if not cue.settings:
        return ' region="below"'
    settings = dict(part.partition(":")[::2] for part in cue.settings.split())
    if settings.get("region") in regions:
        return f' region="of-{settings["region"]}"'
    row, column = divmod(keypad_of_settings(cue.settings) - 1, 3)
    region = f' region="{("below", "middle", "above")[row]}"'
    return region + {0: ' tts:textAlign="start"', 1: "", 2: ' tts:textAlign="end"'}[column]


def _agent(speaker: str | None, speakers: Mapping[str, int]) -> str:
    if speaker:
        return f' ttm:agent="voice{speakers[speaker]}"'
    return ""


def xml_text(text: str) -> str:
    """Escaped, without what XML cannot hold."""
    return html.escape(_NOT_IN_XML.sub("\ufffd", text), quote=False)


def _tags_of(tag: str) -> tuple[str, str] | None:
    style = next((f'tts:{name}="{value}"' for key, name, value in STYLES if key == tag), None)
    if style is None and (colour := colour_of(tag)):
        style = f'tts:color="{colour}"'
    if style is None:
        return None
    return (f"<span {style}>", "</span>")
