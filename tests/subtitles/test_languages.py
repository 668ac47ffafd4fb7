"""Limits and breaks by language, sounds apart from words, pauses, words a minute."""

import pytest

from mantisreed.subtitles.check import check_cues
from mantisreed.subtitles.cues import Cue, text_width
from mantisreed.subtitles.language.break_place import LOOSE, UNIT
from mantisreed.subtitles.language.breaks import break_penalties
from mantisreed.subtitles.language.languages import words_of_language
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
from mantisreed.subtitles.sounds import sound_parts
from mantisreed.transcript.document import Passage, Word

BROADCAST = LAYOUTS["broadcast"]


def passage_of(text: str, each: float = 0.4, start: float = 0.0) -> Passage:
    words = tuple(
        Word(word, start + at * each, start + at * each + 0.8 * each)
        for at, word in enumerate(text.split())
    )
    return Passage(words[0].start, words[-1].end, text, None, "engine", words)


@pytest.mark.parametrize(
    ("language", "sample", "columns", "speed"),
    [
        ("en", "", 42, 17.0),
        ("ja-JP", "", 32, 8.0),
        ("zh", "", 32, 18.0),
        ("ko", "", 32, 24.0),
        (None, "今朝は風が強かったです", 32, 8.0),
        (None, "오늘 아침 바람이 강했어요", 32, 24.0),
        (None, "Сегодня утром", 42, 17.0),
    ],
)
def test_limits_are_those_of_the_language(
    language: str | None, sample: str, columns: int, speed: float
) -> None:
    rules = BROADCAST.for_language(language, sample)
    assert (rules.line_length, rules.speed) == (columns, speed)


def test_a_limit_that_is_set_by_hand_holds_in_any_language() -> None:
    rules = BROADCAST.changed({"line_length": 40}).for_language("ja")
    assert (rules.line_length, rules.speed) == (40, 8.0)
    assert LayoutRules().for_language("ja") == LayoutRules()
    assert (
        LAYOUTS["phone"].for_language("ja").line_length == 22
        and LAYOUTS["children"].speed < BROADCAST.speed
    )


def test_japanese_is_laid_out_in_sixteen_full_width_characters() -> None:
    text = "今日は潮が九時半に変わるので、早めに網を閉じて小屋に戻ることにしました。"
    cues = lay_out(
        [Passage(0.0, 12.0, text, words=(Word(text, 0.0, 12.0),))], BROADCAST, language="ja"
    )
    assert all(text_width(line) <= 32 for cue in cues for line in cue.lines)


def test_speed_may_be_said_in_words_a_minute() -> None:
    rules = LayoutRules(max_wpm=150)
    assert rules.speed == 15.0
    (finding,) = check_cues([Cue(0.0, 1.0, ("x" * 16,))], rules)
    assert (finding.rule, finding.value, finding.limit, finding.unit) == (
        "max-wpm",
        160.0,
        150.0,
        "words_per_minute",
    )


@pytest.mark.parametrize(
    ("texts", "parts"),
    [
        ("[a door slams] Who is there?", [(0, 3)]),
        ("Who is there? [a door slams]", [(3, 6)]),
        ("We saw [unclear] gulls.", []),
        ("♪ Over the marsh ♪ We sing.", [(0, 5)]),
        ("♪ Nobody sings.", [(0, 1)]),
        ("[nobody closes this at all", []),
    ],
)
def test_descriptions_of_sounds_are_told_apart_from_words(
    texts: str, parts: list[tuple[int, int]]
) -> None:
    assert sound_parts(texts.split()) == parts


def test_sounds_have_cues_of_their_own_or_are_dropped() -> None:
    passage = passage_of("[a door slams] Who is there?")
    assert [cue.text for cue in lay_out([passage], BROADCAST)] == [
        "[a door slams]",
        "Who is there?",
    ]
    assert [cue.text for cue in lay_out([passage], LayoutRules(sounds="drop"))] == ["Who is there?"]


def test_a_pause_inside_a_sentence_is_not_bridged_when_that_gives_away_what_comes() -> None:
    start = ["And", "the", "winner", "this", "year", "is"]
    words = [Word(text, at * 0.3, at * 0.3 + 0.25) for at, text in enumerate(start)]
    words += [Word("nobody", 3.0, 3.4), Word("at", 3.4, 3.6), Word("all.", 3.6, 4.0)]
    passage = Passage(0.0, 4.0, " ".join(word.text for word in words), words=tuple(words))
    assert len(lay_out([passage], BROADCAST, language="en")) == 2
    assert (
        len(
            lay_out(
                [passage_of("And the winner this year is nobody.", 0.3)], BROADCAST, language="en"
            )
        )
        == 1
    )


@pytest.mark.parametrize("tongue", ["en", "de", "fr", "es", "it", "pt", "nl", "pl"])
def test_each_language_has_its_tables(tongue: str) -> None:
    known = words_of_language(tongue)
    for name in (
        "determiners",
        "prepositions",
        "conjunctions",
        "coordinating",
        "pronouns",
        "auxiliaries",
        "numbers",
    ):
        assert getattr(known, name), name
    article = min(known.determiners)
    assert break_penalties(["x", article, "nest"], tongue)[2] == UNIT


@pytest.mark.parametrize(
    ("language", "said", "least"),
    [
        ("en", "three hundred and | twelve birds", UNIT),
        ("en", "at 6 | a.m. we left", UNIT),
        ("en", "two years | ago we left", UNIT),
        ("en", "he asked | her about it", LOOSE),
        ("en", "we were going | out at noon", LOOSE),
        ("en", "and | then we left", LOOSE),
        ("fr", "vous venez | ?", UNIT),
        ("fr", "« Oui | »", UNIT),
        ("de", "am 3. | Februar kamen sie", UNIT),
        ("de", "ein kleiner | Vogel sang", LOOSE),
        ("es", "no | sé nada", LOOSE),
    ],
)
def test_a_break_inside_of_what_belongs_together_is_penalised(
    language: str, said: str, least: float
) -> None:
    before, _, after = said.partition(" | ")
    words = [*before.split(), *after.split()]
    assert break_penalties(words, language)[len(before.split())] >= least


def test_only_the_places_that_are_asked_for_are_judged() -> None:
    words = [
        "We",
        "counted",
        "all",
        "of",
        "them",
        "before",
        "the",
        "tide",
        "came",
        "back",
        "over",
        "the",
        "mud",
    ]
    whole, some = break_penalties(words, "en"), break_penalties(words, "en", places={5})
    assert some[5] == whole[5] and set(some[1:5] + some[6:]) == {0.0}
