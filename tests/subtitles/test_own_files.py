"""What we write ourselves is read and written again as it was, and what is written is shown."""

from dataclasses import replace
from xml.etree import ElementTree as Tree

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.exports.script import Script, WriteOptions, bare_transcript
from mantisreed.formats.ttml import NAMESPACE
from mantisreed.subtitles.cues import Cue, Turn
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
from mantisreed.transcript.document import Passage
from strategies import passages

_ID = "{http://www.w3.org/XML/1998/namespace}id"
_PLACES = ("", "line:0", "line:50%,center", "align:start", "line:0 align:end")


def shown_by_renderer(document: str) -> list[tuple[str, str]]:
    """What a renderer shows, by region: TTML 2, 11.3.1.3, `construct intermediate document`.

    For each region, an element is pruned that names another one, that has no region while no
    ancestor and no descendant names this one, or that stands in one that is pruned.
    """
    root = Tree.fromstring(document.partition("?>")[2])
    body = root.find(f"{{{NAMESPACE}}}body")
    assert body is not None
    shown = []
    for region in root.iter(f"{{{NAMESPACE}}}region"):
        name = region.get(_ID)
        shown += [(str(name), text) for text in _in_region(body, str(name), is_inside=False)]
    return shown


def _in_region(element: Tree.Element, region: str, *, is_inside: bool) -> list[str]:
    named = element.get("region")
    if named is not None and named != region:
        return []
    is_inside = is_inside or named == region
    if element.tag == f"{{{NAMESPACE}}}p":
        return ["".join(element.itertext())] if is_inside else []
    found = []
    for child in element:
        found += _in_region(child, region, is_inside=is_inside)
    return found


def placed(cues: list[Cue], places: list[str]) -> list[Cue]:
    return [replace(cue, settings=places[number % len(places)]) for number, cue in enumerate(cues)]


@given(
    st.lists(passages(), max_size=3),
    st.sampled_from(sorted(LAYOUTS)),
    st.sampled_from(("dash", "dash-each", "name", "none")),
    st.lists(st.sampled_from(_PLACES), min_size=1, max_size=4),
)
@settings(max_examples=60)
def test_whatever_is_written_is_read_and_written_again_as_it_was(
    given_passages: list[Passage], layout: str, speakers: str, places: list[str]
) -> None:
    rules = msgspec.structs.replace(LAYOUTS[layout], speakers=speakers)
    options = WriteOptions(rules=rules)
    for name in ("srt", "vtt", "ttml", "ebuttd"):
        form = OUTPUT_FORMATS[name]
        cues = Script(bare_transcript(given_passages)).laid_out(rules, mark_speakers=name != "vtt")
        script = Script(None, tuple(placed(list(cues), places)))
        written = form.write(script, options)
        once = form.read(written)
        again = form.read(form.write(once, options))
        assert again.cues == once.cues, name
        assert name != "vtt" or len(once.cues or ()) == len(cues)


@given(st.lists(passages(), max_size=3), st.lists(st.sampled_from(_PLACES), min_size=1))
@settings(max_examples=40)
@pytest.mark.parametrize("form", ["ttml", "ebuttd"])
def test_each_text_is_shown_once_by_a_renderer(
    form: str, given_passages: list[Passage], places: list[str]
) -> None:
    cues = Script(bare_transcript(given_passages)).laid_out(LayoutRules(), mark_speakers=True)
    script = Script(None, tuple(placed(list(cues), places)))
    document = OUTPUT_FORMATS[form].write(script, WriteOptions()).decode()
    assert len(shown_by_renderer(document)) == document.count("<p ")


def test_a_text_in_another_region_than_its_body_is_shown_nowhere() -> None:
    """So that the test above can fail."""
    document = OUTPUT_FORMATS["ttml"].write(
        Script(None, (Cue(0.0, 1.0, ("Tern",), settings="line:0"),)), WriteOptions()
    )
    broken = document.decode().replace("<body>", '<body region="below">')
    assert shown_by_renderer(document.decode()) == [("above", "Tern")]
    assert shown_by_renderer(broken) == []


@pytest.mark.parametrize("form", ["vtt", "ttml"])
def test_two_speakers_of_a_cue_stay_in_it(form: str) -> None:
    cue = Cue(1.0, 3.0, ("Any tern?", "None here."), "Ada", turns=(Turn("Ada", 0), Turn("Ben", 0)))
    one = OUTPUT_FORMATS[form]
    read = one.read(one.write(Script(None, (cue,)), WriteOptions(rules=LAYOUTS["broadcast"])))
    assert read.cues is not None and len(read.cues) == 1
    assert [turn.speaker for turn in read.cues[0].turns] == ["Ada", "Ben"]
    assert [passage.speaker for passage in read.passages] == ["Ada", "Ben"]


@pytest.mark.parametrize("form", ["ttml", "ebuttd", "srt"])
def test_a_name_behind_a_dash_is_not_written_again(form: str) -> None:
    """As two speakers in one cue have it, whom the format does not keep apart."""
    cues = (
        Cue(0.0, 3.0, ("- Ada: any tern?", "- Ben: none here."), "Ada"),
        Cue(3.0, 4.0, ("Ben: none.",), "Ben"),
    )
    options = WriteOptions(rules=msgspec.structs.replace(LAYOUTS["broadcast"], speakers="name"))
    one = OUTPUT_FORMATS[form]
    once = one.read(one.write(Script(None, cues), options))
    assert once.cues is not None
    assert once.cues[0].lines == ("- Ada: any tern?", "- Ben: none here.")
