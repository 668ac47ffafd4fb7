"""The checker: what breaks a rule, and what does not."""

import pytest

from mantisreed.subtitles.check import check_cues, reading_speed
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
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
