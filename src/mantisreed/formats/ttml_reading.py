"""TTML as it is read: TTML 1 and 2 as they occur.

Times are read as clock times, offsets, frames and ticks. Those of `body`, `div` and `p` add up, in
parallel or, where `timeContainer` is `seq`, one after the other.
"""

import html.entities
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from itertools import chain
from xml.etree import ElementTree as Tree

from mantisreed.errors import InputError
from mantisreed.formats.cue_times import mend_times
from mantisreed.formats.styling import colour_mark
from mantisreed.formats.ttml import NAMESPACE, STYLES, XML
from mantisreed.formats.ttml_times import TtmlClock
from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.marking import Span, lines_with_marks
from mantisreed.subtitles.remarks import Remark, excerpt_of
from mantisreed.subtitles.voices import joined_voices

# Characters that HTML names and XML does not, and ampersands that stand for themselves.
_NO_XML = re.compile(r"&(?!(?:amp|lt|gt|quot|apos);|#)(?:(\w+);)?")
_ANIMATIONS = ("set", "animate")
_METADATA = f"{{{NAMESPACE}#metadata}}"
_PICTURES = ("image", "backgroundImage")
# What elements have from those that they stand in, and from their region (TTML2, 8.4.4.2).
_INHERITED = ("color", "fontStyle", "fontWeight", "textDecoration", "visibility")
_LONGEST_ENDLESS = 5.0  # seconds for which the last cue stands that says no end


def read_ttml(text: str) -> Subtitles:
    """The cues, with what is bold, in italics or underlined.

    Raises:
        InputError: it is no well-formed XML, or not TTML.
    """
    # Entities can make gigabytes of a few bytes.
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise InputError("XML with declarations of its own is not read")
    plain = re.sub(r"^\s*<\?xml[^>]*\?>", "", text)
    remark = None
    try:
        root = Tree.fromstring(plain)  # noqa: S314 - declarations are refused
    except Tree.ParseError as error:
        remark = _NO_XML.search(plain)
        try:
            root = Tree.fromstring(_NO_XML.sub(_as_xml, plain))  # noqa: S314 - as above
        except Tree.ParseError:
            raise InputError(f"this is no well-formed XML ({error})") from error
    if _local(root.tag) != "tt":
        raise InputError("this is no TTML: its root is not tt")
    reader = _TtmlReader(root)
    if remark:
        reader.remark("characters were written as in HTML", remark[0], "&#...; or &amp;", 0.0)
    return reader.read()


def _as_xml(found: re.Match[str]) -> str:
    """A character of HTML as itself, and an ampersand that begins none as XML has it."""
    name = found[1]
    if name is None or f"{name};" not in html.entities.html5:
        return f"&amp;{found[0][1:]}"
    return html.entities.html5[f"{name};"]


@dataclass(frozen=True, slots=True)
class _Around:
    """What an element has from those that it stands in.

    Attributes:
        begin, end: seconds; infinite where nothing says an end.
        region: the name of the region; empty for none.
        align: as `tts:textAlign` has it.
        style: what is inherited of it.
    """

    begin: float = 0.0
    end: float = float("inf")
    region: str = ""
    align: str = ""
    style: Mapping[str, str] = field(default_factory=dict)


class _TtmlReader:
    def __init__(self, root: Tree.Element) -> None:
        self._root = root
        self._found = Subtitles()
        self._styles = {
            one.get(f"{{{XML}}}id", ""): one.attrib
            for one in root.iter()
            if _local(one.tag) == "style"
        }
        parameters = {_local(key): value for key, value in root.attrib.items()}
        self._clock = TtmlClock(parameters)
        if self._clock.misread:
            self.remark("a rate could not be read", self._clock.misread, "a number above 0", 0.0)
        animation = next((one for one in root.iter() if _local(one.tag) in _ANIMATIONS), None)
        if animation is not None:
            self.remark("an animation was left out", f"<{_local(animation.tag)}>", "", 0.0)
        self._regions = {
            one.get(f"{{{XML}}}id", ""): self._set_by_region(one)
            for one in root.iter()
            if _local(one.tag) == "region"
        }
        self._agents = {
            agent.get(f"{{{XML}}}id", ""): " ".join("".join(agent.itertext()).split())
            for agent in root.iter()
            if _local(agent.tag) == "agent"
        }

    def read(self) -> Subtitles:
        self._found.language = self._root.get(f"{{{XML}}}lang") or None
        if f"{{{XML}}}lang" not in self._root.attrib:
            self._found.remarks.append(Remark("the language is not declared", "", "xml:lang on tt"))
        body = next((child for child in self._root if _local(child.tag) == "body"), None)
        if body is not None:
            for cue in self._inside(body, _Around()):
                self._found.cues.append(cue)
        self._check_pictures()
        self._end_endless()
        mend_times(self._found)
        return self._found

    def remark(self, what: str, found: str, allowed: str, begin: float) -> None:
        """Note something about the cue that comes next."""
        self._found.remarks.append(
            Remark(what, excerpt_of(found), allowed, 0, len(self._found.cues) + 1, begin)
        )

    def _check_pictures(self) -> None:
        """See that there are not only pictures of text, which nobody here can read.

        Raises:
            InputError: there are.
        """
        if self._found.cues:
            return
        if any(_is_picture(element) for element in self._root.iter()):
            raise InputError(
                "it holds pictures of its text and no text",
                advice="ask for the same subtitles as text, such as IMSC Text or SRT",
            )

    def _end_endless(self) -> None:
        """Give cues that say no end the start of the next one, or a while."""
        cues = self._found.cues
        for at, cue in enumerate(cues):
            if cue.end < float("inf"):
                continue
            # Until the next one: a cue that stays would lie over all others.
            later = [other.start for other in cues if other.start > cue.start]
            end = min(later, default=cue.start + _LONGEST_ENDLESS)
            cues[at] = replace(cue, end=end)
            self._found.remarks.append(
                Remark(
                    "a cue has no end, and got one",
                    excerpt_of(cue.text),
                    "an end or a duration",
                    0,
                    at + 1,
                    cue.start,
                )
            )

    def _inside(self, element: Tree.Element, outer: _Around) -> Iterator[Cue]:
        own = self._set_by(element)
        around = self._around(element, outer, own)
        if self._is_left_out(element, own, around.begin):
            return
        if _local(element.tag) == "p":
            yield from self._of_paragraph(element, around)
            return
        stray = "".join([element.text or "", *(child.tail or "" for child in element)])
        if stray.strip() and _local(element.tag) in ("body", "div"):
            what = "text outside of a paragraph was left out"
            self.remark(what, stray, "text in p", around.begin)
        is_sequence = element.get("timeContainer") == "seq"
        begin = around.begin
        for child in element:
            if _is_metadata(child):
                continue
            yield from self._inside(child, replace(around, begin=begin))
            if is_sequence:
                # The next one begins where this one has ended.
                ended = self._span(child, begin, around.end)[1]
                begin = ended if ended < float("inf") else begin

    def _around(self, element: Tree.Element, outer: _Around, own: Mapping[str, str]) -> _Around:
        """What counts inside of an element, which sets something of its own."""
        begin, end = self._span(element, outer.begin, outer.end)
        region = element.get("region") or outer.region
        align = own.get("textAlign", outer.align)
        return _Around(begin, end, region, align, {**outer.style, **_inherited(own)})

    def _is_left_out(self, element: Tree.Element, own: Mapping[str, str], begin: float) -> bool:
        """Whether an element is not displayed by what it sets, which is told where it holds
        text.
        """
        if own.get("display") != "none" and not re.fullmatch(r"0(\.0*)?", own.get("opacity", "")):
            return False
        self._tell_unseen("".join(element.itertext()), begin)
        return True

    def _tell_unseen(self, text: str, begin: float) -> None:
        if text.strip():
            what = "text that is not displayed was left out"
            self.remark(what, text, "text that is displayed", begin)

    def _of_paragraph(self, element: Tree.Element, around: _Around) -> Iterator[Cue]:
        timed = [
            child
            for child in element
            if _local(child.tag) == "span" and (child.get("begin") or child.get("dur"))
        ]
        # Only where the spans hold all of the text: else it stands there without them too.
        said = "".join("".join(span.itertext()) for span in timed)
        if len(timed) > 1 and "".join(said.split()) == "".join("".join(element.itertext()).split()):
            # Each part of the text has a time of its own.
            is_sequence = element.get("timeContainer") == "seq"
            begin = around.begin
            for span in timed:
                outer = replace(around, begin=begin)
                inner = self._around(span, outer, self._set_by(span))
                yield from self._cue_of(element, span, inner)
                begin = inner.end if is_sequence and inner.end < float("inf") else begin
            return
        voices = _voices_of(element)
        if len(voices) > 1:
            found = list(
                chain.from_iterable(self._cue_of(element, voice, around) for voice in voices),
            )
            if found:
                yield joined_voices(found)
            return
        yield from self._cue_of(element, element, around)

    def _cue_of(
        self, paragraph: Tree.Element, element: Tree.Element, around: _Around
    ) -> Iterator[Cue]:
        """The cue of a paragraph, or of what one of its speakers says."""
        begin, end = around.begin, around.end
        spelled: list[Span] = []
        shown = _Shown(begin)
        of_region = self._regions.get(around.region, {})
        own = _inherited(self._set_by(element))
        style = {**_inherited(of_region), **around.style, **own}
        if of_region.get("display") == "none":
            self._tell_unseen("".join(element.itertext()), begin)
            return
        self._show(element, shown, spelled, {}, style)
        lines, marks = lines_with_marks("".join(shown.parts), spelled)
        if not lines:
            return
        spans = [
            child for child in element.iter() if _local(child.tag) == "span" and child.get("begin")
        ]
        # Times that only its spans have.
        if spans and end == float("inf"):
            times = [self._span(span, begin, end) for span in spans]
            begin, end = min(first for first, _ in times), max(last for _, last in times)
        agent = _agent_of(element) or _agent_of(paragraph)
        begin = round(begin, 3)
        if end != float("inf"):
            end = round(end, 3)
        if end <= begin:
            self.remark(
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
            settings=self._place_of(around),
        )

    def _show(
        self,
        element: Tree.Element,
        shown: "_Shown",
        spans: list[Span],
        outer: Mapping[str, str],
        style: Mapping[str, str],
    ) -> None:
        """Add the text of an element to what is shown; spans are added, outer ones first.

        Args:
            element: it.
            shown: what is shown before it.
            spans: of marks.
            outer: the style around it, which is marked already.
            style: inside of it.
        """
        first, at, since = shown.length, len(spans), len(shown.unmarked)

        def add(text: str | None) -> None:
            if style.get("visibility") != "hidden":
                shown.add(text)
            elif text:
                self._tell_unseen(text, shown.begin)

        add(element.text)
        for child in element:
            name = _local(child.tag)
            if name == "br":
                shown.add_break()
            elif not _is_metadata(child):
                own = self._set_by(child)
                if not self._is_left_out(child, own, shown.begin):
                    self._show(child, shown, spans, style, {**style, **_inherited(own)})
            add(child.tail)
        tags, around = _tags(style), _tags(outer)
        shown.unmarked += [(first, shown.length, tag) for tag in around - tags]
        # In front of those inside: outer marks come first.
        for tag in sorted(tags - around, key=_order_of, reverse=True):
            spans[at:at] = shown.spans_with(tag, first, since)

    def _set_by_region(self, region: Tree.Element) -> dict[str, str]:
        """What a region sets, by itself or by styles in it."""
        set_to: dict[str, str] = {}
        for one in (region, *(child for child in region if _local(child.tag) == "style")):
            set_to.update(self._set_by(one))
        return set_to

    def _settings_of(self, region: str) -> str:
        """The WebVTT settings of a region's place, by the row of the screen that it is in."""
        set_to = self._regions.get(region, {})
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

    def _set_by(self, element: Tree.Element) -> dict[str, str]:
        """What an element's styles, and those that they refer to, and itself set."""
        set_to: dict[str, str] = {}
        for style in (*self._chained(element.get("style")), element.attrib):
            set_to.update({_local(key): value for key, value in style.items()})
        return set_to

    def _chained(
        self, names: str | None, seen: frozenset[str] = frozenset()
    ) -> Iterator[Mapping[str, str]]:
        """Styles by name, those that they refer to before them."""
        for name in (names or "").split():
            style = self._styles.get(name)
            # A style that leads to itself.
            if style is None or name in seen:
                continue
            yield from self._chained(style.get("style"), seen | {name})
            yield style

    def _place_of(self, around: _Around) -> str:
        """WebVTT settings of a region and an alignment."""
        align = {
            "start": "align:start",
            "left": "align:start",
            "end": "align:end",
            "right": "align:end",
        }
        parts = (self._settings_of(around.region), align.get(around.align, ""))
        return " ".join(part for part in parts if part)

    def _span(self, element: Tree.Element, begin: float, end: float) -> tuple[float, float]:
        own = {name: self._seconds(element.get(name)) for name in ("begin", "end", "dur")}
        # All times count from the beginning of what is around (TTML2, 12.2.4).
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
        seconds = self._clock.seconds(text.strip())
        if seconds is None:
            self.remark("a time could not be read", text, "a clock time or an offset", 0.0)
        return seconds


def _inherited(own: Mapping[str, str]) -> dict[str, str]:
    """What of a style counts for all inside of it."""
    return {name: own[name] for name in _INHERITED if name in own}


def _tags(style: Mapping[str, str]) -> frozenset[str]:
    """The marks of a style."""
    tags = {tag for tag, name, value in STYLES if value in style.get(name, "").split()}
    colour = colour_mark(style.get("color", ""))
    # White is what subtitles have without a word.
    if colour not in (None, "c.white"):
        tags.add(str(colour))
    return frozenset(tags)


def _order_of(tag: str) -> int:
    """Colours come last, inside of all others."""
    return next((at for at, (key, _, _) in enumerate(STYLES) if key == tag), len(STYLES))


def _is_metadata(element: Tree.Element) -> bool:
    return _local(element.tag) == "metadata" or str(element.tag).startswith(_METADATA)


def _is_picture(element: Tree.Element) -> bool:
    return _local(element.tag) in _PICTURES or any(
        _local(name) in _PICTURES for name in element.attrib
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
        begin: when it is shown, in seconds.
        parts: of it.
        length: of all of them.
        ends_in_space: whether white space that follows says nothing new.
        unmarked: where a mark that stands around is taken back.
    """

    begin: float
    parts: list[str] = field(default_factory=list)
    length: int = 0
    ends_in_space: bool = True
    unmarked: list[Span] = field(default_factory=list)

    def spans_with(self, tag: str, first: int, since: int) -> Iterator[Span]:
        """Where a mark counts, from a place to the end of what is shown; only what was taken back
        since then is looked at.
        """
        for begin, end, taken_back in sorted(self.unmarked[since:]):
            if taken_back == tag and begin >= first:
                if begin > first:
                    yield first, begin, tag
                first = end
        if first < self.length:
            yield first, self.length, tag

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
