"""TTML: written as IMSC 1.1 Text (https://www.w3.org/TR/ttml-imsc1.1/), read as TTML 1 and 2 occur.

Times are read as clock times, offsets, frames and ticks; the times of `body`, `div` and `p` add up, as the standard
wants for time containers in parallel.
"""

import re
from collections.abc import Iterable, Iterator
from xml.etree import ElementTree as Tree
from xml.sax.saxutils import escape, quoteattr

from mantisreed.errors import InputError
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.srt import order_notes
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
             tts:backgroundColor="black" tts:textAlign="center"/>
    </styling>
    <layout>
      <region xml:id="below" tts:origin="10% 80%" tts:extent="80% 15%" tts:displayAlign="after" style="plain"/>
    </layout>
  </head>
  <body region="below">
    <div>
"""
_TAIL = "    </div>\n  </body>\n</tt>\n"
_NOT_IN_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")

_CLOCK = re.compile(r"(\d{2,}):(\d\d):(\d\d)(?:\.(\d+)|:(\d{2,})(?:\.\d+)?)?$")
_OFFSET = re.compile(r"(\d+(?:\.\d+)?)(h|ms|m|s|f|t)$")


def write_ttml(cues: Iterable[Cue], language: str | None = None) -> str:
    """The whole document, with speakers as agents."""
    cues = list(cues)
    speakers = list(dict.fromkeys(cue.speaker for cue in cues if cue.speaker is not None))
    agents = "".join(
        f'<ttm:agent xml:id="voice{number}" type="person"><ttm:name type="full">{_text(name)}</ttm:name></ttm:agent>'
        for number, name in enumerate(speakers, 1)
    )
    head = _HEAD.format(namespace=NAMESPACE, profile=PROFILE, language=quoteattr(language or ""), agents=agents)
    return head + "".join(_paragraph(cue, speakers) for cue in cues) + _TAIL


def read_ttml(text: str) -> tuple[list[Cue], list[str]]:
    """The cues, and what was mended.

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
    reader = _Reader(root)
    cues = list(reader.cues())
    return cues, list(dict.fromkeys([*reader.notes, *order_notes(cues)]))


def _paragraph(cue: Cue, speakers: list[str]) -> str:
    agent = "" if cue.speaker is None else f' ttm:agent="voice{speakers.index(cue.speaker) + 1}"'
    text = "<br/>".join(_text(line) for line in cue.lines)
    return f'      <p begin="{clock(cue.start)}" end="{clock(cue.end)}"{agent}>{text}</p>\n'


def _text(text: str) -> str:
    """Escaped, without what XML cannot hold."""
    return escape(_NOT_IN_XML.sub("\ufffd", text))


class _Reader:
    def __init__(self, root: Tree.Element) -> None:
        self._root = root
        self.notes: list[str] = []
        rate = float(self._parameter("frameRate") or 30)
        numerator, _, denominator = (self._parameter("frameRateMultiplier") or "1 1").partition(" ")
        self._frames = rate * float(numerator) / float(denominator or 1)
        self._ticks = float(self._parameter("tickRate") or (self._frames if self._parameter("frameRate") else 1))
        self._agents = {
            agent.get(f"{{{_XML}}}id", ""): " ".join("".join(agent.itertext()).split())
            for agent in root.iter()
            if _local(agent.tag) == "agent"
        }

    def cues(self) -> Iterator[Cue]:
        body = next((child for child in self._root if _local(child.tag) == "body"), None)
        if body is not None:
            yield from self._inside(body, 0.0, float("inf"))

    def _inside(self, element: Tree.Element, begin: float, end: float) -> Iterator[Cue]:
        begin, end = self._span(element, begin, end)
        if _local(element.tag) != "p":
            for child in element:
                yield from self._inside(child, begin, end)
            return
        lines = tuple(" ".join(line.split()) for line in self._shown(element).split("\n"))
        lines = tuple(line for line in lines if line)
        if not lines:
            return
        spans = [child for child in element.iter() if _local(child.tag) == "span" and child.get("begin")]
        if end == float("inf") and not spans:
            self.notes.append(f"a cue without an end was left out: {lines[0][:60]!r}")
            return
        if spans and end == float("inf"):
            times = [self._span(span, begin, end) for span in spans]
            begin, end = min(first for first, _ in times), max(last for _, last in times)
        agent = next((value for name, value in element.attrib.items() if _local(name) == "agent"), None)
        begin, end = round(begin, 3), round(end, 3)
        yield Cue(begin, max(begin, end), lines, self._agents.get(agent, agent) if agent else None)

    def _shown(self, element: Tree.Element) -> str:
        parts = [_spaced(element.text)]
        for child in element:
            name = _local(child.tag)
            parts.append("\n" if name == "br" else "" if name == "metadata" else self._shown(child))
            parts.append(_spaced(child.tail))
        return "".join(parts)

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
            return whole + (float(f"0.{fraction}") if fraction else int(frames or 0) / self._frames)
        if found := _OFFSET.match(text.strip()):
            number = float(found[1])
            units = {"h": 3600.0, "m": 60.0, "s": 1.0, "ms": 0.001, "f": 1 / self._frames, "t": 1 / self._ticks}
            return number * units[found[2]]
        self.notes.append(f"a time could not be read: {text[:30]!r}")
        return None

    def _parameter(self, name: str) -> str | None:
        return next((value for key, value in self._root.attrib.items() if _local(key) == name), None)


def _spaced(text: str | None) -> str:
    return re.sub(r"\s+", " ", text or "")


def _local(name: object) -> str:
    return str(name).rpartition("}")[2]
