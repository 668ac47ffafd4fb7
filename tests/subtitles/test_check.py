"""The checker: what breaks a rule, and what does not."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.formats.srt import read_srt
from mantisreed.subtitles.check import check_cues, check_format, check_speech, reading_speed
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.fixing import fixed
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
from mantisreed.transcript.document import Passage, Word
from strategies import texts

RULES = LayoutRules()


@pytest.mark.parametrize(
    ("cues", "rules"),
    [
        ([Cue(0, 2, ("Tea?",))], []),
        ([Cue(0, 2, ())], ["text"]),
        ([Cue(0, 2, ("a", "b", "c"))], ["lines"]),
        ([Cue(0, 6, ("x" * 43,))], ["line-length"]),
        ([Cue(0, 6, ("潮" * 21,)), Cue(7, 13, ("潮" * 22,))], ["line-length"]),
        ([Cue(0, 0.9, ("Tea?",))], ["shortest"]),
        ([Cue(0, 7.1, ("Tea?",))], ["longest"]),
        ([Cue(0, 1, ("x" * 18,))], ["max-cps"]),
        ([Cue(0, 0, ("Tea?",))], ["max-cps", "shortest"]),
        ([Cue(0, 2, ("a",)), Cue(2.05, 4, ("b",))], ["gap"]),
        ([Cue(0, 2, ("a",)), Cue(1.5, 4, ("b",))], ["overlap"]),
        ([Cue(0, 2, ("a",), "Ada"), Cue(1.5, 4, ("b",), "Ben")], []),
        ([Cue(3, 5, ("a",)), Cue(0, 2, ("b",))], ["order"]),
        ([Cue(0, 2, ("a",)), Cue(2.3, 4, ("b",))], ["flicker"]),
        ([Cue(0, 2, ("- Tea?",))], ["dash"]),
        ([Cue(0, 2, ("- Tea?", "- No."))], []),
    ],
)
def test_each_rule_is_found_by_its_name(cues: list[Cue], rules: list[str]) -> None:
    assert sorted(finding.rule for finding in check_cues(cues, RULES)) == rules


def test_a_finding_says_where_what_and_what_is_allowed() -> None:
    (finding,) = check_cues([Cue(0, 2, ("a",)), Cue(3, 11, ("Tea at the hut?",))], RULES)
    assert (finding.cue, finding.start, finding.found, finding.allowed) == (
        2,
        3,
        "8.00 s",
        "7 s or less",
    )
    assert (finding.value, finding.limit, finding.unit) == (8.0, 7.0, "seconds")
    assert finding.text == "Tea at the hut?" and reading_speed(Cue(0, 0, ("a",))) == float("inf")


@pytest.mark.parametrize("rules", LAYOUTS.values(), ids=LAYOUTS)
def test_calm_speech_is_laid_out_without_a_finding(rules: LayoutRules) -> None:
    text = (
        "We opened the nets at dawn, and by noon there were forty dunlin in the bags, all of them "
        "ringed. " * 5
    )
    words = tuple(Word(word, n * 0.6, n * 0.6 + 0.5) for n, word in enumerate(text.split()))
    passage = Passage(0.0, words[-1].end, text.strip(), None, "engine", words)
    assert check_cues(lay_out([passage], rules, language="en"), rules) == []


def test_what_a_format_does_not_allow_is_a_finding_and_what_it_allows_is_none() -> None:
    found = read_srt(
        "1\n00:00:01.000 --> 00:00:02,000\n<font>Tern</font>\n\n3\n00:00:03,000 --> "
        "00:00:04,000\nAuk\n"
    )
    dot, number = check_format(found.remarks)
    assert (dot.cue, dot.start, dot.rule, dot.line) == (
        1,
        1.0,
        "format",
        2,
    ) and dot.found.startswith("00:00:01.000")
    assert (number.cue, number.found, number.allowed) == (2, "3", "2")


@pytest.mark.parametrize(
    ("lines", "rule"),
    [
        (("We saw the", "heron at dawn."), "split"),
        (("We have", "never seen it again."), "stranded"),
        (("Ask Mr.", "Reed about the nets."), "split"),
        (("The warden told the children stories", "again."), "orphan"),
        (("We took all of them", "to the old hut."), None),
    ],
)
def test_lines_that_their_language_would_not_break_are_found(
    lines: tuple[str, ...], rule: str | None
) -> None:
    cues = [Cue(0.0, 4.0, lines)]
    assert [finding.rule for finding in check_cues(cues, RULES, "en")] == ([rule] if rule else [])
    assert check_cues(cues, RULES) == [] and check_cues(cues, RULES, "xx") == []
    if rule:
        (anew,) = fixed(cues, RULES, "en")
        assert (
            check_cues([anew], RULES, "en") == []
            and anew.text == cues[0].text
            and anew.start == 0.0
        )


def test_cues_that_go_out_before_the_speech_ends_or_come_late_are_found() -> None:
    speech = [(1.0, 3.0), (5.0, 8.0)]
    cues = [Cue(1.0, 2.5, ("Any tern?",)), Cue(5.5, 8.1, ("None.",))]
    assert [(finding.cue, finding.rule) for finding in check_speech(cues, speech)] == [
        (1, "early-out"),
        (2, "late-in"),
    ]
    assert (
        check_speech([Cue(1.1, 3.0, ("a",)), Cue(5.0, 6.5, ("b",)), Cue(6.6, 8.0, ("c",))], speech)
        == []
    )


def test_only_a_cue_that_breaks_a_rule_is_changed() -> None:
    good = Cue(
        0.0,
        3.0,
        ("The nets are open.",),
        marks=(Mark(0, 4, 8, "i"),),
        settings="line:0",
        name="first",
    )
    long = Cue(
        5.0,
        12.0,
        ("Forty dunlin were ringed before the tide came back, and then it was all over.",),
    )
    close = Cue(12.02, 14.0, ("Tea?",), "Ben")
    long = replace(
        long, marks=(Mark(0, 6, 12, "i"), Mark(0, 36, 45, "b")), settings="line:0", name="second"
    )
    laid = fixed([close, good, long], RULES)
    assert laid[0] == good and laid[-1] == close and len(laid) == 3
    marked = [laid[1].lines[mark.line][mark.first : mark.last] for mark in laid[1].marks]
    assert marked == ["dunlin", "tide came"] and (laid[1].settings, laid[1].name) == (
        "line:0",
        "second",
    )
    assert laid[1].text == long.text and laid[1].start == 5.0 and check_cues(laid, RULES) == []


def test_lines_of_two_speakers_are_never_merged() -> None:
    talk = Cue(0.0, 0.5, ("- Any birds in the nets?", "- None."))
    (anew,) = fixed([talk], RULES)
    assert anew.lines == talk.lines and anew.end > 0.5
    long = Cue(
        0.0, 6.0, ("- Did anybody see where the warden put the keys to the old boat?", "- No.")
    )
    (anew,) = fixed([long], RULES)
    assert anew.lines[-1] == "- No."


@given(st.lists(st.tuples(st.integers(0, 4000), st.integers(0, 900), texts), max_size=8))
def test_no_start_is_moved_and_no_text_is_lost(drawn: list[tuple[int, int, str]]) -> None:
    cues, at = [], 0.0
    for pause, length, text in drawn:
        at += pause / 1000
        lines = tuple(line for line in text.splitlines() if line.strip())
        cues.append(Cue(at, at + length / 100, tuple(" ".join(line.split()) for line in lines)))
    starts = {cue.start for cue in cues if cue.lines}
    anew = fixed(cues, RULES)
    assert starts <= {cue.start for cue in anew}
    said = "".join("".join(cue.lines) for cue in cues if cue.lines)
    kept = "".join("".join(cue.lines) for cue in anew)
    assert sorted(said.replace(" ", "")) == sorted(kept.replace(" ", ""))
    ok = {finding.cue for finding in check_cues([cue for cue in cues if cue.lines], RULES)}
    for number, cue in enumerate((cue for cue in cues if cue.lines), 1):
        if number not in ok and number + 1 not in ok:
            assert cue in anew


def test_captions_in_capitals_and_sung_lines_are_no_torn_names() -> None:
    cues = [
        Cue(1.0, 3.5, ("♪ Row the boat", "into the bay ♪")),
        Cue(3.58, 6.0, ("THE SALT MARSH", "BIRD STATION")),
        Cue(6.08, 8.5, ("♪ Row it home ♪",)),
    ]
    assert not check_cues(cues, LayoutRules(), "en")
    torn = [Cue(1.0, 4.0, ("WE COUNTED ALL OF THE", "BIRDS BEFORE THE TIDE."))]
    assert [one.rule for one in check_cues(torn, LayoutRules(), "en")] == ["split"]
