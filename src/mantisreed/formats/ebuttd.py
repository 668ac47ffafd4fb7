"""EBU-TT-D, the profile of TTML for distribution (EBU Tech 3380): written here, read as other TTML
is.
"""

from collections.abc import Iterable, Sequence
from itertools import chain, pairwise

from mantisreed.formats.styling import colour_of
from mantisreed.formats.ttml import NAMESPACE, xml_text
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.places import keypad_of_settings
from mantisreed.transcript.writing import is_right_to_left
from mantisreed.units import clock

_HEAD = """\
<?xml version="1.0" encoding="UTF-8"?>
<tt xmlns="{namespace}" xmlns:ttp="{namespace}#parameter" xmlns:tts="{namespace}#styling"
    xmlns:ebuttm="urn:ebu:tt:metadata" ttp:timeBase="media" ttp:cellResolution="50 30" xml:lang={language}>
  <head>
    <metadata>
      <ebuttm:documentMetadata>
        <ebuttm:conformsToStandard>urn:ebu:tt:distribution:2018-04</ebuttm:conformsToStandard>
      </ebuttm:documentMetadata>
    </metadata>
    <styling>
      <style xml:id="plain" tts:fontFamily="proportionalSansSerif" tts:fontSize="160%" tts:lineHeight="125%"
             tts:textAlign="center"{direction}/>
      <style xml:id="text" tts:color="#ffffff" tts:backgroundColor="#000000c2"/>
{styles}    </styling>
    <layout>
      <region xml:id="above" tts:origin="10% 5%" tts:extent="80% 35%" tts:displayAlign="before"/>
      <region xml:id="middle" tts:origin="10% 30%" tts:extent="80% 40%" tts:displayAlign="center"/>
      <region xml:id="below" tts:origin="10% 60%" tts:extent="80% 35%" tts:displayAlign="after"/>
    </layout>
  </head>
  <body>
    <div style="plain">
"""  # noqa: E501
_TAIL = "    </div>\n  </body>\n</tt>\n"
_REGIONS = ("below", "middle", "above")
_ALIGNED = {0: ("start", "start"), 2: ("end", "end")}
_STYLES = {
    "b": ("bold", 'tts:fontWeight="bold"'),
    "i": ("italic", 'tts:fontStyle="italic"'),
    "u": ("underlined", 'tts:textDecoration="underline"'),
}


def write_ebuttd(cues: Iterable[Cue], language: str | None = None) -> str:
    """The whole document. All styles stand in the head, where the profile wants them."""
    cues = list(cues)
    marks = chain.from_iterable(cue.marks for cue in cues)
    tags = dict.fromkeys(mark.tag for mark in marks)
    columns = {(keypad_of_settings(cue.settings) - 1) % 3 for cue in cues if cue.settings}
    styles = dict(filter(None, map(_style_of, tags)))
    styles |= {
        name: f'tts:textAlign="{align}"'
        for column, (name, align) in _ALIGNED.items()
        if column in columns
    }
    written = "".join(f'      <style xml:id="{name}" {value}/>\n' for name, value in styles.items())
    # As much as tells the script; a film may have thousands.
    is_reversed = is_right_to_left(
        "".join(chain.from_iterable(cue.lines for cue in cues[:50])), language
    )
    from xml.sax.saxutils import quoteattr  # takes long to import

    head = _HEAD.format(
        namespace=NAMESPACE,
        language=quoteattr(xml_text(language or "")),
        direction=' tts:direction="rtl"' if is_reversed else "",
        styles=written,
    )
    return head + "".join(_paragraph(number, cue) for number, cue in enumerate(cues, 1)) + _TAIL


def _style_of(tag: str) -> tuple[str, str] | None:
    """Name and value of the style for a mark; None where the profile has none."""
    if tag in _STYLES:
        return _STYLES[tag]
    colour = colour_of(tag)
    if colour:
        return (f"colour-{colour.lstrip('#')}", f'tts:color="{colour}"')
    return None


def _paragraph(number: int, cue: Cue) -> str:
    if cue.settings:
        row, column = divmod(keypad_of_settings(cue.settings) - 1, 3)
    else:
        row, column = (0, 1)
    if column in _ALIGNED:
        style = f' style="{_ALIGNED[column][0]}"'
    else:
        style = ""
    spans = "<br/>".join(
        _line(line, [mark for mark in cue.marks if mark.line == at])
        for at, line in enumerate(cue.lines)
    )
    times = f'begin="{clock(cue.start)}" end="{clock(cue.end)}"'
    return f'      <p xml:id="cue{number}" region="{_REGIONS[row]}" {times}{style}>{spans}</p>\n'


def _line(line: str, marks: Sequence[Mark]) -> str:
    """A line as spans side by side: the profile has none inside others."""
    places = sorted({0, len(line), *(mark.first for mark in marks), *(mark.last for mark in marks)})
    parts = []
    for first, last in pairwise(places):
        found = [_style_of(mark.tag) for mark in marks if mark.first <= first and last <= mark.last]
        # In EBU-TT-D styles are named, and not written at the text.
        names = ["text", *dict.fromkeys(style[0] for style in found if style)]
        parts.append(f'<span style="{" ".join(names)}">{xml_text(line[first:last])}</span>')
    return "".join(parts)
