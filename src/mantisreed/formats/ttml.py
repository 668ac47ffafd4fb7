"""TTML: written as IMSC 1.1 Text (https://www.w3.org/TR/ttml-imsc1.1/), read as TTML 1 and 2 occur.

Times are read as clock times, offsets, frames and ticks; the times of `body`, `div` and `p` add up,
as the standard wants for time containers in parallel.
"""

import html
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import chain
from xml.etree import ElementTree as Tree

from mantisreed.errors import InputError
from mantisreed.formats.srt import order_remarks
from mantisreed.formats.styling import (
    Region,
    colour_mark,
    colour_of,
    keypad_of_settings,
    regions_of,
)
from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.frames import seconds_of_drop_frame
from mantisreed.subtitles.marking import Span, lines_with_marks, marked_lines
from mantisreed.subtitles.remarks import Remark, excerpt_of
from mantisreed.subtitles.voices import joined_voices
from mantisreed.transcript.writing import is_right_to_left
from mantisreed.units import clock

PROFILE = "http://www.w3.org/ns/ttml/profile/imsc1.1/text"
NAMESPACE = "http://www.w3.org/ns/ttml"
_PARAMETER, _METADATA = f"{NAMESPACE}#parameter", f"{NAMESPACE}#metadata"
_XML = "http://www.w3.org/XML/1998/namespace"

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

_STYLES = (
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

_CLOCK = re.compile(r"(\d{2,}):(\d\d):(\d\d)(?:\.(\d+)|:(\d{2,})(?:\.\d+)?)?$")
_OFFSET = re.compile(r"(\d+(?:\.\d+)?)(h|ms|m|s|f|t)$")


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


def read_ttml(text: str) -> Subtitles:
    """The cues, with what is bold, in italics or underlined.

    Raises:
        InputError: it is no well-formed XML, or not TTML.
    """
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise InputError("XML with declarations of its own is not read")
    try:
        root = Tree.fromstring(re.sub(r"^\s*<\?xml[^>]*\?>", "", text))  # noqa: S314 - declarations are refused
    except Tree.ParseError as error:
        raise InputError(f"this is no well-formed XML ({error})") from error
    if _local(root.tag) != "tt":
        raise InputError("this is no TTML: its root is not tt")
    return _TtmlReader(root).read()


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
    style = next((f'tts:{name}="{value}"' for key, name, value in _STYLES if key == tag), None)
    if style is None and (colour := colour_of(tag)):
        style = f'tts:color="{colour}"'
    if style is None:
        return None
    return (f"<span {style}>", "</span>")


class _TtmlReader:
    def __init__(self, root: Tree.Element) -> None:
        self._root = root
        self._found = Subtitles()
        self._styles = {
            one.get(f"{{{_XML}}}id", ""): one.attrib
            for one in root.iter()
            if _local(one.tag) == "style"
        }
        rate = float(self._parameter("frameRate") or 30)
        numerator, _, denominator = (self._parameter("frameRateMultiplier") or "1 1").partition(" ")
        self._frames = rate * float(numerator) / float(denominator or 1)
        self._ticks = float(
            self._parameter("tickRate") or (self._frames if self._parameter("frameRate") else 1)
        )
        self._drops_frames = (self._parameter("dropMode") or "").lower() == "dropntsc"
        self._regions = {
            one.get(f"{{{_XML}}}id", ""): self._settings_of(one)
            for one in root.iter()
            if _local(one.tag) == "region"
        }
        self._agents = {
            agent.get(f"{{{_XML}}}id", ""): " ".join("".join(agent.itertext()).split())
            for agent in root.iter()
            if _local(agent.tag) == "agent"
        }

    def read(self) -> Subtitles:
        self._found.language = self._root.get(f"{{{_XML}}}lang") or None
        if f"{{{_XML}}}lang" not in self._root.attrib:
            self._found.remarks.append(Remark("the language is not declared", "", "xml:lang on tt"))
        body = next((child for child in self._root if _local(child.tag) == "body"), None)
        if body is not None:
            for cue in self._inside(body, 0.0, float("inf")):
                self._found.cues.append(cue)
        self._found.remarks += order_remarks(self._found.cues)
        return self._found

    def _remark(self, what: str, found: str, allowed: str, begin: float) -> None:
        self._found.remarks.append(
            Remark(what, excerpt_of(found), allowed, 0, len(self._found.cues) + 1, begin)
        )

    def _inside(self, element: Tree.Element, begin: float, end: float) -> Iterator[Cue]:
        begin, end = self._span(element, begin, end)
        if _local(element.tag) != "p":
            stray = "".join([element.text or "", *(child.tail or "" for child in element)])
            if stray.strip() and _local(element.tag) in ("body", "div"):
                self._remark("text outside of a paragraph was left out", stray, "text in p", begin)
            for child in element:
                yield from self._inside(child, begin, end)
            return
        voices = _voices_of(element)
        if len(voices) > 1:
            found = list(
                chain.from_iterable(self._cue_of(element, voice, begin, end) for voice in voices),
            )
            if found:
                yield joined_voices(found)
            return
        yield from self._cue_of(element, element, begin, end)

    def _cue_of(
        self, paragraph: Tree.Element, element: Tree.Element, begin: float, end: float
    ) -> Iterator[Cue]:
        """The cue of a paragraph, or of what one of its speakers says."""
        spelled: list[Span] = []
        shown = _Shown()
        self._show(element, shown, spelled)
        lines, marks = lines_with_marks("".join(shown.parts), spelled)
        if not lines:
            return
        spans = [
            child for child in element.iter() if _local(child.tag) == "span" and child.get("begin")
        ]
        if end == float("inf") and not spans:
            self._remark(
                "a cue without an end was left out", lines[0], "an end or a duration", begin
            )
            return
        if spans and end == float("inf"):
            times = [self._span(span, begin, end) for span in spans]
            begin, end = min(first for first, _ in times), max(last for _, last in times)
        agent = _agent_of(element) or _agent_of(paragraph)
        begin, end = round(begin, 3), round(end, 3)
        if end <= begin:
            self._remark(
                "a cue does not end after it begins",
                lines[0],
                "an end after its start",
                begin,
            )
        speaker = self._agents.get(agent, agent) if agent else None
        yield Cue(
            begin,
            max(begin, end),
            lines,
            speaker,
            marks=marks,
            settings=self._place_of(paragraph),
        )

    def _show(self, element: Tree.Element, shown: "_Shown", spans: list[Span]) -> None:
        """Add the text of an element to what is shown; spans are added, outer ones first."""
        first, at = shown.length, len(spans)
        shown.add(element.text)
        for child in element:
            name = _local(child.tag)
            if name == "br":
                shown.add_break()
            elif name != "metadata":
                self._show(child, shown, spans)
            shown.add(child.tail)
        spans[at:at] = [(first, shown.length, tag) for tag in self._tags(element)]

    def _tags(self, element: Tree.Element) -> list[str]:
        """What the element's own style, or one that it refers to, marks."""
        styles = [self._styles.get(name, {}) for name in (element.get("style") or "").split()]
        set_to = {}
        for style in (*styles, element.attrib):
            set_to.update({_local(name): value for name, value in style.items()})
        tags = [tag for tag, name, value in _STYLES if value in set_to.get(name, "").split()]
        if _local(element.tag) == "span":
            colour = colour_mark(set_to.get("color", ""))
        else:
            colour = None
        if colour in (None, "c.white"):
            return tags
        return [*tags, str(colour)]

    def _settings_of(self, region: Tree.Element) -> str:
        """The WebVTT settings of a region's place, by the row of the screen that it is in."""
        inner = [region, *(child for child in region if _local(child.tag) == "style")]
        names = chain.from_iterable((one.get("style") or "").split() for one in inner)
        styles = [self._styles.get(name, {}) for name in names]
        set_to = {}
        for style in (*styles, *(one.attrib for one in inner)):
            set_to.update({_local(name): value for name, value in style.items()})
        height = re.match(r"\S+\s+(\d+(?:\.\d+)?)%", set_to.get("origin", ""))
        top = float(height[1]) if height else None
        if set_to.get("displayAlign") == "center" and top is not None and top < 50.0:
            return "line:50%,center"
        is_above = (
            set_to.get("displayAlign", "before") == "before" and top is not None and top < 30.0
        )
        if is_above:
            return "line:0"
        return ""

    def _place_of(self, paragraph: Tree.Element) -> str:
        """WebVTT settings of a paragraph's region and alignment."""
        name = paragraph.get("region") or ""
        styles = [self._styles.get(one, {}) for one in (paragraph.get("style") or "").split()]
        set_to = {}
        for style in (*styles, paragraph.attrib):
            set_to.update({_local(key): value for key, value in style.items()})
        align = {
            "start": "align:start",
            "left": "align:start",
            "end": "align:end",
            "right": "align:end",
        }
        parts = (self._regions.get(name, ""), align.get(set_to.get("textAlign", ""), ""))
        return " ".join(part for part in parts if part)

    def _span(self, element: Tree.Element, begin: float, end: float) -> tuple[float, float]:
        own = {name: self._seconds(element.get(name)) for name in ("begin", "end", "dur")}
        start = begin + (own["begin"] or 0.0)
        ends = [end]
        if own["end"] is not None:
            ends.append(begin + own["end"])
        if own["dur"] is not None:
            ends.append(start + own["dur"])
        return start, min(ends)

    def _seconds(self, text: str | None) -> float | None:
        if text is None:
            return None
        if found := _CLOCK.match(text.strip()):
            hours, minutes, seconds, fraction, frames = found.groups()
            whole = (int(hours) * 60 + int(minutes)) * 60 + int(seconds)
            if self._drops_frames and frames is not None:
                return seconds_of_drop_frame(int(hours), int(minutes), int(seconds), int(frames))
            return whole + (float(f"0.{fraction}") if fraction else int(frames or 0) / self._frames)
        if found := _OFFSET.match(text.strip()):
            number = float(found[1])
            units = {
                "h": 3600.0,
                "m": 60.0,
                "s": 1.0,
                "ms": 0.001,
                "f": 1 / self._frames,
                "t": 1 / self._ticks,
            }
            return number * units[found[2]]
        self._remark("a time could not be read", text, "a clock time or an offset", 0.0)
        return None

    def _parameter(self, name: str) -> str | None:
        return next(
            (value for key, value in self._root.attrib.items() if _local(key) == name), None
        )


def _agent_of(element: Tree.Element) -> str | None:
    return next((value for name, value in element.attrib.items() if _local(name) == "agent"), None)


def _voices_of(paragraph: Tree.Element) -> list[Tree.Element]:
    """The parts of a paragraph whose speakers are named, where they hold all of its text."""
    voices = [
        child for child in paragraph.iter() if _local(child.tag) == "span" and _agent_of(child)
    ]
    said = "".join("".join(voice.itertext()) for voice in voices)
    whole = "".join(paragraph.itertext())
    if "".join(said.split()) == "".join(whole.split()):
        return voices
    return []


@dataclass(slots=True)
class _Shown:
    """A text that grows by parts: one string would be copied again and again.

    Attributes:
        parts: of it.
        length: of all of them.
        ends_in_space: whether white space that follows says nothing new.
    """

    parts: list[str] = field(default_factory=list)
    length: int = 0
    ends_in_space: bool = True

    def add(self, text: str | None) -> None:
        """A text, in which white space is one space."""
        if not text:
            return
        flat = re.sub(r"\s+", " ", text)
        self._append(flat.lstrip() if self.ends_in_space else flat)

    def add_break(self) -> None:
        """A new line."""
        self._append("\n")

    def _append(self, part: str) -> None:
        if part:
            self.parts.append(part)
            self.length += len(part)
            self.ends_in_space = part[-1].isspace()


def _local(name: object) -> str:
    return str(name).rpartition("}")[2]
