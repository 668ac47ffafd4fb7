"""The checker: what breaks a rule, and what does not."""

from dataclasses import replace

import pytest

from mantisreed.exports.mending import mended
from mantisreed.subtitles.check import check_cues, check_format, reading_speed
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
from mantisreed.subtitles.srt import read_srt
from mantisreed.transcript.document import Passage, Word

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
    ],
)
def test_each_rule_is_found_by_its_name(cues: list[Cue], rules: list[str]) -> None:
    assert sorted(finding.rule for finding in check_cues(cues, RULES)) == rules


def test_a_finding_says_where_what_and_what_is_allowed() -> None:
    (finding,) = check_cues([Cue(0, 2, ("a",)), Cue(3, 11, ("Tea at the hut?",))], RULES)
    assert (finding.cue, finding.start, finding.found, finding.allowed) == (2, 3, "8.00 s", "7 s or less")
    assert finding.text == "Tea at the hut?" and reading_speed(Cue(0, 0, ("a",))) == float("inf")


@pytest.mark.parametrize("rules", LAYOUTS.values(), ids=LAYOUTS)
def test_calm_speech_is_laid_out_without_a_finding(rules: LayoutRules) -> None:
    text = "We opened the nets at dawn, and by noon there were forty dunlin in the bags, all of them ringed. " * 5
    words = tuple(Word(word, n * 0.6, n * 0.6 + 0.5) for n, word in enumerate(text.split()))
    passage = Passage(0.0, words[-1].end, text.strip(), None, "engine", words)
    assert check_cues(lay_out([passage], rules, language="en"), rules) == []


def test_what_a_format_does_not_allow_is_a_finding_and_what_it_allows_is_none() -> None:
    found = read_srt("1\n00:00:01.000 --> 00:00:02,000\n<font>Tern</font>\n\n3\n00:00:03,000 --> 00:00:04,000\nAuk\n")
    dot, number = check_format(found.remarks)
    assert (dot.cue, dot.start, dot.rule, dot.line) == (1, 1.0, "format", 2) and dot.found.startswith("00:00:01.000")
    assert (number.cue, number.found, number.allowed) == (2, "3", "2")


def test_only_what_breaks_a_rule_is_laid_out_anew_and_ends_before_what_follows() -> None:
    good = Cue(0.0, 3.0, ("The nets are open.",), marks=(Mark(0, 4, 8, "i"),), settings="line:0", name="first")
    long = Cue(5.0, 12.0, ("Forty dunlin were ringed before the tide came back, and then it was all over.",))
    close = Cue(12.02, 14.0, ("Tea?",), "Ben")
    long = replace(long, marks=(Mark(0, 6, 12, "i"), Mark(0, 36, 45, "b")), settings="line:0")
    laid = mended([close, good, long], RULES)
    assert laid[0] == good and laid[-1].lines == ("Tea?",)
    marked = [cue.lines[mark.line][mark.first : mark.last] for cue in laid[1:-1] for mark in cue.marks]
    assert " ".join(marked) == "dunlin tide came" and {cue.settings for cue in laid[1:-1]} == {"line:0"}
    assert check_cues(laid, RULES) == [] and " ".join(cue.text for cue in laid[1:-1]) == long.text
