"""Every format written and read back, by ourselves and by others, and read however it occurs in the
wild.
"""

import io
import re
from contextlib import suppress
from xml.etree import ElementTree as Tree

import av
import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import InputError
from mantisreed.exports.changes import joined_scripts, part, retimed
from mantisreed.exports.formats import FORMATS, OUTPUT_FORMATS, format_of
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.formats.srt import read_srt, write_srt
from mantisreed.formats.ttml import NAMESPACE, PROFILE, write_ttml
from mantisreed.formats.ttml_reading import read_ttml
from mantisreed.formats.vtt import read_webvtt
from mantisreed.formats.vtt_writing import write_webvtt
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import Passage, RecordingFacts, Transcript, Word
from strategies import passages, transcripts

READABLE = [form for form in FORMATS if form.read_text is not None]
# Printable text of one line as subtitles hold it, without what SRT has no way to say.
LINES = st.text(
    st.characters(exclude_categories=("Cs", "Cc", "Zl", "Zp", "Cn", "Co", "Cf")),
    min_size=1,
    max_size=30,
)


@st.composite
def marks_of(draw: st.DrawFn, lines: tuple[str, ...]) -> tuple[Mark, ...]:
    """One mark inside another, in some of the lines."""
    marks = []
    for number, line in enumerate(lines):
        first = draw(st.integers(0, len(line) - 1))
        last = draw(st.integers(first + 1, len(line)))
        tags = draw(st.permutations(["b", "i", "u"]))[: draw(st.integers(0, 2))]
        spans = [(first, last), (first, draw(st.integers(first + 1, last)))]
        marks += [Mark(number, *span, tag) for span, tag in zip(spans, tags, strict=False)]
    return tuple(marks)


@st.composite
def cue_lists(draw: st.DrawFn) -> list[Cue]:
    at, cues = 0, []
    for lines in draw(st.lists(st.lists(LINES, min_size=1, max_size=3), max_size=5)):
        shown = tuple(flat for line in lines if (flat := " ".join(line.split())))
        if not shown:
            continue
        at += draw(st.integers(0, 2000))
        length = draw(st.integers(1, 9000))
        name = " ".join(draw(LINES).split())
        speaker = draw(st.none() | st.just(name or "x"))
        cues.append(
            Cue(at / 1000, (at + length) / 1000, shown, speaker, marks=draw(marks_of(shown)))
        )
        at += length
    return cues


@given(cue_lists())
def test_webvtt_is_read_back_as_it_was_written(cues: list[Cue]) -> None:
    found = read_webvtt(write_webvtt(cues))
    assert found.cues == cues and found.remarks == []


@given(cue_lists())
def test_ttml_is_read_back_as_it_was_written_and_is_imsc_text(cues: list[Cue]) -> None:
    text = write_ttml(cues, "en-GB")
    found = read_ttml(text)
    assert found.cues == cues and found.remarks == []
    root = Tree.fromstring(text.partition("?>")[2])
    assert root.tag == f"{{{NAMESPACE}}}tt"
    assert root.get(f"{{{NAMESPACE}#parameter}}contentProfiles") == PROFILE
    regions = {
        one.get("{http://www.w3.org/XML/1998/namespace}id")
        for one in root.iter(f"{{{NAMESPACE}}}region")
    }
    (body,) = root.iter(f"{{{NAMESPACE}}}body")
    assert body.get("region") is None
    assert {one.get("region") for one in root.iter(f"{{{NAMESPACE}}}p")} <= regions
    styling = f"{{{NAMESPACE}#styling}}"
    (region,) = root.iter(f"{{{NAMESPACE}}}region")
    styles = {
        one.get("{http://www.w3.org/XML/1998/namespace}id"): one
        for one in root.iter(f"{{{NAMESPACE}}}style")
    }
    assert f"{styling}backgroundColor" not in styles[region.get("style", "")].attrib
    for paragraph in root.iter(f"{{{NAMESPACE}}}p"):
        (span,) = list(paragraph)
        assert styles[span.get("style", "")].get(f"{styling}backgroundColor") == "black"


@given(cue_lists())
def test_srt_keeps_times_and_text(cues: list[Cue]) -> None:
    plain = [
        Cue(
            cue.start,
            cue.end,
            tuple(re.sub(r"[<{>}&\\-]|^\d", "x", line) for line in cue.lines),
            marks=cue.marks,
        )
        for cue in cues
    ]
    found = read_srt(write_srt(plain))
    assert found.cues == plain and found.remarks == []


@pytest.mark.parametrize(
    ("form", "demuxer", "codecs"), [("srt", "srt", "srt subrip"), ("vtt", "webvtt", "webvtt")]
)
def test_another_reader_finds_the_same_cues(form: str, demuxer: str, codecs: str) -> None:
    """FFmpeg's demuxers, as PyAV ships them."""
    said = ["Nets", "&", "rings", "<", "3", "mm", ">", "none.", "Tea?"]
    words = tuple(Word(text, n * 0.4, n * 0.4 + 0.3) for n, text in enumerate(said))
    script = Script(
        cues=tuple(lay_out([Passage(0.0, 4.0, "", words=words)], LayoutRules(line_length=16)))
    )
    found, plain = [], WriteOptions(inner_times=False)
    with av.open(
        io.BytesIO(OUTPUT_FORMATS[form].write(script, plain)), "r", format=demuxer
    ) as container:
        assert container.streams.subtitles[0].codec_context.name in codecs.split()
        for packet in container.demux():
            if packet.size and packet.pts is not None and packet.time_base is not None:
                start = float(packet.pts * packet.time_base)
                end = start + float((packet.duration or 0) * packet.time_base)
                found.append((round(start, 3), round(end, 3), bytes(packet).decode()))
    assert [one[:2] for one in found] == [
        (round(cue.start, 3), round(cue.end, 3)) for cue in script.cues or ()
    ]
    for (_, _, text), cue in zip(found, script.cues or (), strict=True):
        shown = (
            text.replace("&amp;", "&").replace("&lt;", "<").replace("&gt;", ">")
            if form == "vtt"
            else text
        )
        assert shown == "\n".join(cue.lines)


@given(transcripts)
def test_what_any_format_writes_it_reads_with_all_its_words(transcript: Transcript) -> None:
    script = Script(transcript)
    for form in READABLE:
        for rows in ("words", "passages", "cues") if form.name in ("csv", "tsv") else (None,):
            back = form.read(
                form.write(
                    script, WriteOptions(rows=rows, rules=LayoutRules(speakers="none")), "note"
                )
            )
            if form.name in ("json", "csv", "tsv", "vtt"):
                # Passages may overlap, and cues stand in the order of their times.
                said = "".join("".join(one.text.split()) for one in script.passages)
                assert sorted(
                    "".join("".join(one.text.split()) for one in back.passages)
                ) == sorted(said)


@given(st.binary(max_size=400), st.sampled_from(READABLE))
def test_no_bytes_make_a_reader_fail_in_another_way_than_by_saying_so(
    content: bytes, form: object
) -> None:
    try:
        script = form.read(content)  # type: ignore[attr-defined]
    except InputError:
        return
    for cue in script.cues or ():
        assert cue.end >= cue.start


PARTS = (
    *(
        "WEBVTT",
        "\n",
        "\n\n",
        "00:01.000 --> 00:02.000",
        "1",
        "-->",
        "<v A>",
        "<",
        "NOTE",
        "&amp;",
        "STYLE",
        "**",
    ),
    *(
        "99:59:59,999",
        "<00:01.5>",
        "tern",
        "\r",
        "\ufeff",
        "<tt",
        "<p begin='1s'",
        ">",
        "</p>",
        "</tt>",
        "[01:02] ",
    ),
)
PIECES = st.lists(st.sampled_from(PARTS), max_size=30).map("".join)


@given(
    PIECES, st.sampled_from(READABLE), st.sampled_from(["utf-8", "utf-16", "utf-16-le", "latin-1"])
)
def test_no_mixture_of_what_formats_are_made_of_makes_a_reader_fail(
    text: str, form: object, encoding: str
) -> None:
    with suppress(InputError):
        form.read(text.encode(encoding, "replace"))  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("form", "content", "told"),
    [
        ("srt", "1\n00:00:03,000 --> 00:00:01,000\nTern\n", "ended before it began"),
        ("srt", "1\n00:00:03,000 --> 00:00:03,000\nTern\n", "no length, and got one"),
        ("vtt", "WEBVTT\n\n00:03.000 --> 00:03.000\nTern\n", "no length, and got one"),
        ("ctm", "a 1 0.5 0.3 Tern\na 1 0.8 0.2 <eps>\n", "1 line of silence left out"),
        (
            "srt",
            "A list of terns\n\n1\n00:00:01,000 --> 00:00:02,000\nTern\n",
            "before the first cue was left out",
        ),
        ("srt", "1\n00:00:01,000 --> 00:00:02,000\n<font size=2>Tern</font>\n", "dropped: font"),
        (
            "srt",
            "1\n00:00:01,000 --> 00:00:03,000\nTern\n\n2\n00:00:02,000 --> 00:00:04,000\nAuk\n",
            "overlap",
        ),
        ("vtt", "00:01.000 --> 00:02.000\nTern\n", "first line is not WEBVTT"),
        ("vtt", "WEBVTT\n\n0:1,5 --> 0:2,5\nTern\n", "not written as the standard wants"),
        (
            "vtt",
            "WEBVTT\n\nsome stray text\n\n00:01.000 --> 00:02.000\nTern\n",
            "text without a time",
        ),
        ("vtt", "WEBVTT\n\n00:01.000 --> 00:02.000\nTern <i\n", "a tag does not end"),
        (
            "ttml",
            f'<tt xmlns="{NAMESPACE}"><body><div><p begin="soon" '
            'end="2s">Tern</p></div></body></tt>',
            "a time",
        ),
        ("csv", "start,end,word\n0,1,Tern\nx,y,Auk\n", "row 3 has no times"),
        ("ctm", "note 1 0.0 0.5 Tern\nnonsense\n", "line 2 is not as CTM"),
        ("timed", "stray\n00:01  Tern\n", "before the first time"),
    ],
)
def test_what_is_mended_or_left_out_is_told(form: str, content: str, told: str) -> None:
    script = OUTPUT_FORMATS[form].read(content.encode())
    assert any(told in note for note in script.notes), script.notes
    assert "Tern" in " ".join(passage.text for passage in script.passages)


@pytest.mark.parametrize(
    "encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "latin-1"]
)
def test_text_is_read_in_whatever_it_was_written(encoding: str) -> None:
    content = "1\r\n100:00:01,5 --> 100:00:02,5\r\nMöwe\r\n".encode(encoding)
    script = OUTPUT_FORMATS["srt"].read(content)
    assert script.cues == (Cue(360001.5, 360002.5, ("Möwe",)),)


def test_ttml_times_of_all_kinds_add_up() -> None:
    text = f"""<tt xmlns="{NAMESPACE}" xmlns:ttp="{NAMESPACE}#parameter" ttp:frameRate="25" ttp:tickRate="1000">
    <body begin="10s"><div begin="1m"><p begin="500ms" dur="2s">one<br/>two</p>
    <p begin="00:00:03:05" end="00:00:04.5">three</p><p begin="5000t" end="150f">four</p></div></body></tt>"""  # noqa: E501
    cues = read_ttml(text).cues
    assert [(cue.start, cue.end) for cue in cues] == [(70.5, 72.5), (73.2, 74.5), (75.0, 76.0)]
    assert cues[0].lines == ("one", "two")
    with pytest.raises(InputError, match="declarations"):
        read_ttml('<!DOCTYPE tt [<!ENTITY a "b">]><tt/>')


@given(passages())
def test_a_cue_for_each_word_and_times_inside_cues(passage: Passage) -> None:
    transcript = Transcript(
        recording=RecordingFacts("n", "", 1.0), engine="", job="", passages=(passage,)
    )
    single = OUTPUT_FORMATS["vtt"].read(
        OUTPUT_FORMATS["vtt"].write(Script(transcript), WriteOptions(each_word=True))
    )
    assert len(single.cues or ()) >= 1
    inner = OUTPUT_FORMATS["vtt"].write(Script(transcript), WriteOptions(inner_times=True))
    plain = OUTPUT_FORMATS["vtt"].write(Script(transcript))
    assert re.sub(rb"<\d\d:\d\d:\d\d\.\d{3}>|</?c>", b"", inner) == plain


def test_scripts_are_moved_cut_and_joined() -> None:
    cues = (Cue(1.0, 2.0, ("one",)), Cue(3.0, 5.0, ("two",)))
    script = Script(cues=cues)
    later = retimed(script, lambda seconds: seconds * 2 - 3)
    assert [(cue.start, cue.end) for cue in later.cues or ()] == [(0.0, 1.0), (3.0, 7.0)]
    assert [cue.lines for cue in retimed(script, lambda seconds: seconds - 2).cues or ()] == [
        ("two",)
    ]
    assert [(cue.start, cue.end) for cue in part(script, 1.5, 4.0).cues or ()] == [
        (1.5, 2.0),
        (3.0, 4.0),
    ]
    whole = joined_scripts([script, script], [0.0, 10.0])
    assert [cue.start for cue in whole.cues or ()] == [1.0, 3.0, 11.0, 13.0]


def test_a_speakers_mark_is_not_put_before_one_that_stands_there() -> None:
    ttml = OUTPUT_FORMATS["ttml"]
    script = Script(cues=(Cue(1.0, 2.0, ("Tea?",), "Ada"), Cue(3.0, 4.0, ("No.",), "Ben")))
    each = WriteOptions(rules=LayoutRules(speakers="dash-each"))
    once = ttml.write(script, each)
    assert (
        b">- Tea?<" in once
        and b"- " not in ttml.write(script)
        and ttml.write(ttml.read(once), each).count(b"- ") == once.count(b"- ")
    )


def test_a_format_is_known_by_its_ending() -> None:
    from pathlib import Path

    names = {
        "a.transcript.json": "json",
        "a.timed.txt": "timed",
        "b.TTML": "ttml",
        "c.xml": "ttml",
        "d.srt": "srt",
    }
    assert {name: format_of(Path(name)).name for name in names} == names
    with pytest.raises(InputError, match="not known by its ending"):
        format_of(Path("e.doc"))


def test_other_readings_stand_in_markdown_and_pages_and_are_no_text_when_read_again() -> None:
    readings = ("eleven terns", "Eleven turns.", "eleven TURNS", "Seven terns *and* <i>")
    passage = Passage(1.0, 2.0, "Eleven terns.", alternatives=readings)
    facts = RecordingFacts("round.wav", "", 3.0)
    whole = Transcript(
        recording=facts, engine="brook", job="1", language="en", speakers=(), passages=(passage,)
    )
    script = Script(whole)
    markdown, page = (OUTPUT_FORMATS[name].write(script).decode() for name in ("md", "html"))
    assert "\n> 1. Eleven turns.\n> 2. Seven terns \\*and\\* \\<i\\>\n" in markdown
    assert "<summary>2 other readings</summary>" in page
    assert "<li>Eleven turns.</li><li>Seven terns *and* &lt;i&gt;</li>" in page
    assert [one.text for one in OUTPUT_FORMATS["md"].read(markdown.encode()).passages] == [
        "Eleven terns."
    ]
    same = Passage(1.0, 2.0, "Eleven terns.", alternatives=readings[:1])
    bare = Script(msgspec.structs.replace(whole, passages=(same,)))
    assert "reading" not in OUTPUT_FORMATS["html"].write(bare).decode()


def test_a_table_of_a_spreadsheet_that_writes_numbers_with_commas_is_read() -> None:
    table = 'start;end;text\n"0,5";"1,5";Tern\n2;3;"Auk; tern"\n'
    script = OUTPUT_FORMATS["csv"].read(table.encode())
    assert [(cue.start, cue.end, cue.text) for cue in script.cues or ()] == [
        (0.5, 1.5, "Tern"),
        (2.0, 3.0, "Auk; tern"),
    ]


def test_columns_and_times_are_read_as_others_write_them() -> None:
    table = (
        'Begin (s),End_Time,Speaker name,Caption\n"00:00:01,500",00:00:02.250,Tamm,Tern\n'
        "0:03,4.5 s,,Auk\n"
    )
    script = OUTPUT_FORMATS["csv"].read(table.encode())
    assert [(cue.start, cue.end, cue.speaker, cue.text) for cue in script.cues or ()] == [
        (1.5, 2.25, "Tamm", "Tern"),
        (3.0, 4.5, None, "Auk"),
    ]
    # Our own names come first, and a table without a time that can be read is no empty one.
    script = OUTPUT_FORMATS["csv"].read(b"start,begin,end,text\n1,9,2,Tern\n")
    assert [cue.start for cue in script.cues or ()] == [1.0]
    with pytest.raises(InputError, match="no row of the table has times"):
        OUTPUT_FORMATS["csv"].read(b"start,end,text\n00:00:01:12,00:00:02:00,Tern\n")


@pytest.mark.parametrize(
    ("form", "content"),
    [
        ("vtt", "WEBVTT\n\nxx --> yy\nTern\n"),
        ("md", "# Talk\n\n**Tamm** Tern\n"),
        ("timed", "Tern\nAuk\n"),
        ("ctm", "Tern\n"),
        ("srt", "Tern\n"),
    ],
)
def test_text_without_a_time_is_no_empty_file(form: str, content: str) -> None:
    with pytest.raises(InputError, match="no cue could be read in it"):
        OUTPUT_FORMATS[form].read(content.encode())


def test_a_file_that_holds_nothing_is_empty() -> None:
    for form, content in (("vtt", b"WEBVTT\n\nNOTE nobody spoke\n"), ("srt", b""), ("ctm", b"")):
        assert not OUTPUT_FORMATS[form].read(content).passages


def test_a_text_that_begins_as_its_name_says_is_that() -> None:
    script = OUTPUT_FORMATS["vtt"].read(b"WEBVTT\n\n1\n00:00:01,000 --> 00:00:02,000\nA &rarr;\n")
    assert [cue.text for cue in script.cues or ()] == ["A →"]
    assert not any("this is srt" in note for note in script.notes)


@pytest.mark.parametrize("form", ["srt", "vtt"])
def test_a_cue_without_length_is_seen_until_the_next_one(form: str) -> None:
    head, mark = ("WEBVTT\n\n", ".") if form == "vtt" else ("", ",")
    times = ((1, 1), (1.4, 2), (5, 4))
    cues = [
        f"{number}\n{_clock(a, mark)} --> {_clock(b, mark)}\nTern\n"
        for number, (a, b) in enumerate(times, 1)
    ]
    read = OUTPUT_FORMATS[form].read((head + "\n".join(cues)).encode()).cues or ()
    assert [(cue.start, cue.end) for cue in read] == [(1.0, 1.4), (1.4, 2.0), (5.0, 6.0)]


def _clock(seconds: float, mark: str) -> str:
    return f"00:00:{seconds:06.3f}".replace(".", mark)
