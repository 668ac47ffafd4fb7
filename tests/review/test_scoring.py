"""Word and character error rates, speakers, times, confidences."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import InputError
from mantisreed.exports.script import bare_transcript
from mantisreed.review.normalising import SETS, normalised
from mantisreed.review.reports import alignment_lines, alignment_page, described_score
from mantisreed.review.scoring import (
    ScoredToken,
    aligned,
    calibration,
    over_time,
    scored,
    tokens_of,
)
from mantisreed.transcript.document import Passage, Word


def said(
    text: str, speaker: str | None = None, start: float = 0.0, sure: float | None = None
) -> Passage:
    words = tuple(
        Word(word, start + at, start + at + 0.5, sure) for at, word in enumerate(text.split())
    )
    return Passage(start, start + len(words), text, speaker, "engine", words)


def tokens(*passages: Passage, language: str = "en") -> list[ScoredToken]:
    return tokens_of(bare_transcript(passages, language=language))


@pytest.mark.parametrize(
    ("text", "language", "words"),
    [
        ("The Nets, are OPEN!", "en", "the nets are open"),
        ("23 dunlin", "en", "twenty three dunlin"),
        ("2,350 geese", "en", "two thousand three hundred fifty geese"),
        ("62.4 g", "en", "sixty two point four g"),
        ("the 10th word1", "en", "the tenth word1"),
        ("in 1984 and 2024", "en", "in nineteen eighty four and twenty twenty four"),
        ("1,984 or 2009", "en", "one thousand nine hundred eighty four or two thousand nine"),
        ("3.142 m", "en", "three point one four two m"),
        ("3.142 m", "de", "dreitausendeinhundertzweiundvierzig m"),
        ("2,5 m", "de", "zwei komma fünf m"),
        ("12% or 12 % or %", "en", "twelve percent or twelve percent or percent"),
        ("12 %", "de", "zwölf prozent"),
        ("um 7:30", "de", "um sieben dreissig"),
        ("007", "en", "zero zero seven"),
        ("21 Vögel", "de", "einundzwanzig vögel"),
        ("It’s, uh, fine", "en", "its fine"),
        ("äh, ja", "de", "ja"),
        ("twenty-six", "en", "twenty six"),
        ("网都开了。", "zh", "网 都 开 了"),
        ("« Oui »", "fr", "oui"),
        ("12345678901234567890", "en", "one two three four five six seven eight nine zero " * 2),
    ],
)
def test_what_nobody_hears_is_no_difference(text: str, language: str, words: str) -> None:
    assert normalised(text, language) == words.split()


def test_each_set_can_be_switched_off() -> None:
    text = "Um, it’s 3 Nets."
    assert normalised(text, "en", SETS) == text.split()
    assert normalised(text, "en", ["case"])[-1] == "Nets"
    assert "3" in normalised(text, "en", ["numbers"])
    assert "um" in normalised(text, "en", ["hesitations"])
    assert "it’s" in normalised(text, "en", ["apostrophes"])


@pytest.mark.parametrize(
    ("true", "heard"),
    [
        ("a hundred and five geese", "a hundred 5 geese"),
        ("we saw 105", "we saw one hundred and five"),
        ("we saw one hundred and five", "we saw one hundred five"),
        ("since nineteen eighty four", "since 1984"),
        ("twenty-one at seven thirty", "21 at 7:30"),
        ("twelve percent of them", "12% of them"),
        ("twelve percent of them", "12 % of them"),
    ],
)
def test_numbers_that_are_spoken_are_those_that_are_written(true: str, heard: str) -> None:
    for one, other in ((true, heard), (heard, true)):
        assert scored(tokens(said(one)), tokens(said(other))).words.count == 0


def test_and_between_other_words_is_a_word() -> None:
    score = scored(
        tokens(said("terns and geese and a hundred and more")),
        tokens(said("terns geese a hundred more")),
    )
    assert score.words.deletions == 3


def test_a_word_that_is_said_in_parts_is_shown_once() -> None:
    score = scored(
        tokens(said("twenty-one birds at 7:30 today")),
        tokens(said("21 terns at seven thirty today")),
    )
    (worst,) = score.worst
    assert (
        worst.said == "twenty-one birds at 7:30 today"
        and worst.heard == "21 terns at seven thirty today"
    )
    (line,) = alignment_lines(score.steps)
    assert line.split("  ", 1)[1] == "twenty-one [birds -> terns] at 7:30 today"
    assert alignment_page(score, "a page").count("7:30") == 1


def test_errors_are_counted_by_kind() -> None:
    score = scored(
        tokens(said("we saw two old terns today")), tokens(said("we saw too terns today again"))
    )
    assert (score.words.substitutions, score.words.deletions, score.words.insertions) == (1, 1, 1)
    assert score.words.rate == pytest.approx(3 / 6)
    assert 0.0 < score.characters.rate < 1.0
    assert score.confusions in ((("two", "too", 1),), (("old", "too", 1),))


def test_a_reference_without_words_is_refused_and_an_empty_transcript_is_all_deletions() -> None:
    with pytest.raises(InputError):
        scored([], tokens(said("x")))
    assert scored(tokens(said("two terns")), []).words.deletions == 2


def test_another_recording_is_doubtful() -> None:
    score = scored(
        tokens(said("we saw two old terns today")), tokens(said("nothing of this was ever there"))
    )
    assert score.is_doubtful


def test_speakers_are_compared_under_the_best_permutation() -> None:
    true = tokens(
        said("any birds today", "Ada"),
        said("none at all", "Ben", 5.0),
        said("tea then", "Ada", 9.0),
    )
    heard = tokens(
        said("none at all", "1", 5.0), said("any birds", "2"), said("tea then", "2", 9.0)
    )
    score = scored(true, heard)
    assert score.names == {"1": "Ben", "2": "Ada"}
    assert score.permuted is not None and score.permuted.count == 1
    assert (score.speakers["Ada"].deletions, score.speakers["Ben"].count) == (1, 0)
    assert scored(true, tokens(said("none"))).permuted is None


def test_overlap_is_no_error_where_speakers_are_known() -> None:
    true = tokens(said("one two three four", "Ada"), said("five six", "Ben", 1.0))
    heard = tokens(said("five six", "x", 1.0), said("one two three four", "y"))
    score = scored(true, heard)
    assert score.permuted is not None and score.permuted.count == 0 and score.words.count > 0


def test_times_worst_passages_and_calibration() -> None:
    true = tokens(said("we saw terns"), said("and then gulls came over", start=10.0))
    heard = tokens(
        said("we saw terns", start=0.2, sure=0.95),
        said("and ten girls come over", start=10.2, sure=0.35),
    )
    score = scored(true, heard)
    assert set(score.time_errors) == {0.2}
    assert score.worst[0].errors == 3 and score.worst[0].start == 10.0
    assert [(round(sure, 2), right, count) for sure, right, count in calibration(score.steps)] == [
        (0.35, 0.4, 5),
        (0.95, 1.0, 3),
    ]
    assert over_time(score.steps, 10.0) == [(0.0, 0.0), (10.0, 0.6)]
    described = described_score(score)
    assert described["start_errors"]["median_shift_seconds"] == 0.2
    assert {"wer", "cer", "substitutions", "deletions", "insertions"} <= set(described)


def test_an_alignment_can_be_read() -> None:
    score = scored(
        tokens(said("we saw two old terns")), tokens(said("we saw too old gulls and terns"))
    )
    (line,) = alignment_lines(score.steps)
    assert line.startswith("00:00:00  we saw [two -> too] old") and "[+" in line
    page = alignment_page(score, "<talk>")
    assert (
        "<del>two</del> <ins>too</ins>" in page and "&lt;talk&gt;" in page and "http:" not in page
    )


words = st.lists(st.sampled_from(["tern", "gull", "net", "mud"]), max_size=12)


@given(words, words)
def test_an_alignment_holds_both_texts_and_as_few_errors_as_can_be(
    true: list[str], heard: list[str]
) -> None:
    one, other = (
        tokens(said(" ".join(true))) if true else [],
        tokens(said(" ".join(heard))) if heard else [],
    )
    steps = list(aligned(one, other))
    assert [step.reference.text for step in steps if step.reference] == true
    assert [step.heard.text for step in steps if step.heard] == heard
    errors = sum(step.kind != "equal" for step in steps)
    assert errors <= max(len(true), len(heard)) and (errors == 0) == (true == heard)
    back = sum(step.kind != "equal" for step in aligned(other, one))
    assert errors == back


def test_errors_that_were_planted_are_found() -> None:
    chance = random.Random(4)
    true = [f"word{chance.randrange(400)}" for _ in range(3000)]
    heard, planted = [], 0
    for word in true:
        if chance.random() < 0.05:
            planted += 1
            heard += [[], ["other"], [word, "more"]][chance.randrange(3)]
        else:
            heard.append(word)
    score = scored(tokens(said(" ".join(true))), tokens(said(" ".join(heard))))
    assert 0.95 * planted <= score.words.count <= planted
