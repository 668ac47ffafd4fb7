"""Laying words out in cues: rules, breaks, scripts of all kinds, times."""

from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.exports.losses import losses
from mantisreed.formats.srt import read_srt
from mantisreed.subtitles.cues import Cue, Turn, text_width
from mantisreed.subtitles.language.break_place import LOOSE, UNIT
from mantisreed.subtitles.language.breaks import break_penalties
from mantisreed.subtitles.layout import CUE_BREAK, lay_out
from mantisreed.subtitles.lines import broken_into_lines
from mantisreed.subtitles.overlaps import without_overlaps
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.writing import joined
from strategies import passages, texts

RULES = LayoutRules()


def passage_of(
    text: str, *, start: float = 0.0, each: float = 0.3, speaker: str | None = None
) -> Passage:
    words = tuple(
        Word(word, round(start + at * each, 3), round(start + at * each + each * 0.9, 3))
        for at, word in enumerate(text.split())
    )
    return Passage(words[0].start, words[-1].end, text, speaker, "engine", words)


def laid(text: str, rules: LayoutRules = RULES, **options: object) -> list[tuple[str, ...]]:
    return [cue.lines for cue in lay_out([passage_of(text, **options)], rules, language="en")]  # type: ignore[arg-type]


@given(passages(), st.sampled_from(list(LAYOUTS.values())))
def test_cues_hold_every_word_once_and_in_order_within_the_rules(
    passage: Passage, rules: LayoutRules
) -> None:
    cues = lay_out([passage], rules)
    assert "".join("".join(cue.lines) for cue in cues).replace(" ", "") == passage.text.replace(
        " ", ""
    )
    for cue in cues:
        assert cue.start <= cue.end and cue.speaker == passage.speaker
        # It may begin as much later as the cue before needs for its last word and the gap.
        assert cue.words[0].start <= cue.start <= cue.words[0].start + rules.gap + 0.05 + 1e-6
        if len(cue.words) > 1:
            assert len(cue.lines) <= rules.lines and all(
                text_width(line) <= rules.line_length for line in cue.lines
            )
            assert cue.words[-1].end - cue.start <= rules.longest + 1e-6
        assert all(
            later.start - earlier.end <= rules.longest_pause
            for earlier, later in pairwise(cue.words)
        )
    for cue, following in pairwise(cues):
        assert cue.end <= following.start + 1e-6
        between = following.start - cue.end
        # Nothing flickers, but where a cue stands as long as it may.
        stands = cue.end - cue.start
        assert (
            between <= rules.gap + 1e-6
            or between >= rules.flicker - 1e-6
            or stands >= rules.longest - 1e-6
        )


@given(passages(), st.sampled_from(list(LAYOUTS.values())))
def test_no_cue_goes_out_before_its_last_word_unless_words_overlap(
    passage: Passage, rules: LayoutRules
) -> None:
    for cue, following in pairwise(lay_out([passage], rules)):
        overlap = max(word.end for word in cue.words) - following.words[0].start
        assert cue.end >= max(word.end for word in cue.words) - 1e-6 or overlap > 0.05 - 1e-6


@given(passages())
def test_rules_are_broken_by_little_more_than_any_other_layout_would(passage: Passage) -> None:
    """Against all layouts of a few words: speed is worth a torn phrase only where it is far beyond
    its limit.
    """
    words = passage.words[:7]
    short = Passage(
        words[0].start, words[-1].end, joined(word.text for word in words), None, "engine", words
    )
    found = lay_out([short], RULES)
    least = min(
        excess(cues)
        for cues in all_layouts(words)
        if all(len(cue.lines) <= RULES.lines for cue in cues)
    )
    assert excess(found) <= least + 0.5 * len(words)
    if least == 0.0 and all(word.text.endswith(".") for word in words):
        assert excess(found) == 0.0


def excess(cues: list[Cue]) -> float:
    """By how much cues are too fast and too short, as shares of what is allowed."""
    total = 0.0
    for cue in cues:
        stands = max(cue.end - cue.start, 1e-9)
        total += max(0.0, sum(map(text_width, cue.lines)) / stands / RULES.max_cps - 1.0 - 1e-6)
        total += max(0.0, 1.0 - stands / RULES.shortest - 1e-6)
    return total


def all_layouts(words: tuple[Word, ...]) -> list[list[Cue]]:
    """Every way to cut words into cues, with ends as late as the rules and the next cue allow."""
    layouts = []
    for chosen in range(1 << (len(words) - 1)):
        edges = [0, *(at + 1 for at in range(len(words) - 1) if chosen >> at & 1), len(words)]
        groups = [words[first:last] for first, last in pairwise(edges)]
        if any(
            group[-1].end - group[0].start > RULES.longest for group in groups if len(group) > 1
        ):
            continue
        if any(
            b.start - a.end > RULES.longest_pause for group in groups for a, b in pairwise(group)
        ):
            continue
        cues = []
        for group, following in zip(groups, [*groups[1:], None], strict=True):
            lines = broken_into_lines([word.text for word in group], [0.0] * len(group), RULES)
            latest = group[0].start + RULES.longest
            end = latest if following is None else min(latest, following[0].start - RULES.gap)
            cues.append(
                Cue(group[0].start, max(end, group[-1].end) if following is None else end, lines)
            )
        layouts.append(cues)
    return layouts or [[]]


@pytest.mark.parametrize(
    ("text", "lines"),
    [
        (
            "We ringed forty dunlin before the tide came in and went home at noon.",
            [("We ringed forty dunlin before the tide", "came in and went home at noon.")],
        ),
        (
            "The nets were open from dawn, but the wind was far too strong for the small waders.",
            [
                ("The nets were open from dawn,", "but the wind was far too strong"),
                ("for the small waders.",),
            ],
        ),
        ("Nets closed. Tea?", [("Nets closed. Tea?",)]),
    ],
)
def test_lines_break_where_language_breaks(text: str, lines: list[tuple[str, ...]]) -> None:
    joined_lines = [line for cue in laid(text) for line in cue]
    assert " ".join(joined_lines) == text
    for line in joined_lines[:-1]:
        assert line.split()[-1].lower() not in ("the", "a", "of", "for", "and", "but")
    if text.startswith("Nets"):
        assert laid(text) == lines


@pytest.mark.parametrize(
    "pair",
    ["the | heron", "an | oystercatcher", "12 | grams", "1 | 000", "Ada | Marsh", "(low | water)"],
)
def test_what_belongs_together_is_not_broken(pair: str) -> None:
    left, right = pair.split(" | ")
    words = ["we", "saw", left, right, "there"]
    assert break_penalties(words, "en")[3] >= LOOSE
    if left != "Ada":
        assert break_penalties(["wir", "sahen", "den", "Reiher"], "de")[3] == UNIT


@given(st.lists(texts.filter(lambda text: text_width(text) > 0), min_size=2, max_size=14))
def test_lines_hold_all_and_are_as_few_as_can_be(words: list[str]) -> None:
    rules = LayoutRules(line_length=20)
    lines = broken_into_lines(words, [0.0] * len(words), rules)
    assert "".join(lines).replace(" ", "") == "".join(words)
    for line, following in pairwise(lines):
        assert text_width(line) <= 20 or line in words
        assert text_width(line) + text_width(following) >= 20 or len(lines) == 2


def test_of_two_lines_the_shorter_is_above_where_language_does_not_care() -> None:
    above, below = broken_into_lines(
        ["one", "two", "three", "four", "five", "six", "seven", "eight", "nine"], [0.0] * 9, RULES
    )
    assert len(above) <= len(below)


def test_a_cue_stands_longer_for_its_reader_where_there_is_time() -> None:
    alone = lay_out([passage_of("Good morning everyone out there.", each=0.1)], RULES)[0]
    assert alone.end == pytest.approx(alone.start + 32 / RULES.max_cps)
    first, second = lay_out(
        [passage_of("Good morning everyone.", each=0.1), passage_of("Tea?", start=1.0)], RULES
    )
    assert first.end == pytest.approx(second.start - RULES.gap) and second.end == pytest.approx(2.0)


def test_a_quick_exchange_shares_a_cue_with_a_dash_for_each_speaker() -> None:
    exchange = [
        passage_of("Any birds", speaker="a"),
        passage_of("None", start=0.7, speaker="b"),
        passage_of("x", start=9, speaker="a"),
    ]
    shared, alone = lay_out(exchange, RULES, mark_speakers=True)
    assert shared.lines == ("- Any birds", "- None") and shared.turns == (
        Turn("a", 2),
        Turn("b", 1),
    )
    assert alone.lines == ("x",) and not alone.turns


@pytest.mark.parametrize("speakers", ["none", "name"])
def test_speakers_share_no_cue_where_no_dash_would_tell_them_apart(speakers: str) -> None:
    rules = LayoutRules(speakers=speakers)  # type: ignore[arg-type]
    exchange = [passage_of("Any birds", speaker="a"), passage_of("None", start=0.7, speaker="b")]
    assert [cue.speaker for cue in lay_out(exchange, rules, mark_speakers=True)] == ["a", "b"]


def test_cues_never_cross_a_long_pause_or_a_speaker_who_waits() -> None:
    exchange = [passage_of("Any birds", speaker="a"), passage_of("None", start=1.3, speaker="b")]
    assert [cue.lines for cue in lay_out(exchange, RULES)] == [("Any birds",), ("None",)]
    alone = [passage_of("Any birds"), passage_of("None", start=9)]
    assert [cue.lines for cue in lay_out(alone, RULES)] == [("Any birds",), ("None",)]
    named = LayoutRules(speakers="name")
    assert lay_out([passage_of("Any", speaker="Ada")], named, mark_speakers=True)[0].lines == (
        "Ada: Any",
    )
    each = LayoutRules(speakers="dash-each")
    assert lay_out([passage_of("Any", speaker="Ada")], each, mark_speakers=True)[0].lines == (
        "- Any",
    )


def test_scripts_without_spaces_are_laid_out_in_columns_and_never_inside_a_character() -> None:
    chinese = "今天早上我们在盐沼上放飞了四十二只黑腹滨鹬，风很大，但是大家都很高兴。"
    (passage,) = [Passage(0.0, 12.0, chinese, words=(Word(chinese, 0.0, 12.0),))]
    cues = lay_out([passage], RULES, language="zh")
    assert "".join(line for cue in cues for line in cue.lines) == chinese
    for cue in cues:
        assert all(text_width(line) <= 42 and line[0] not in "，。" for line in cue.lines)
    thai = "นกชายเลนกลับมาที่หนองน้ำเค็มเมื่อน้ำขึ้นในตอนเช้าตรู่ของวันนี้พร้อมลมแรงจากทะเลเหนือ"
    lines = [
        line
        for cue in lay_out([Passage(0, 9, thai, words=(Word(thai, 0, 9),))], RULES)
        for line in cue.lines
    ]
    import unicodedata

    assert "".join(lines) == thai and not any(
        unicodedata.category(line[0]).startswith("M") for line in lines
    )


def test_right_to_left_text_keeps_its_order() -> None:
    text = "הציפורים חזרו אל הביצה המלוחה עם הגאות של הבוקר"
    assert " ".join(line for cue in laid(text) for line in cue) == text


def test_a_passage_without_words_is_laid_out_by_its_own_times() -> None:
    (cue,) = lay_out([Passage(3.0, 5.0, "High water at seven.")])
    assert (cue.start, cue.lines) == (3.0, ("High water at seven.",)) and cue.end >= 5.0


def test_cues_of_one_speaker_do_not_overlap_and_those_of_two_may() -> None:
    def said(text: str, start: float, end: float, speaker: str) -> Passage:
        return Passage(start, end, text, speaker, "engine", (Word(text, start, end),))

    cues = lay_out([said("a", 0, 3, "x"), said("b", 2, 4, "x"), said("c", 3.5, 5, "y")], RULES)
    assert [(cue.start, cue.end) for cue in cues] == [(0, 2 - RULES.gap), (2, 5 + RULES.linger)]
    assert cues[1].lines == ("- b", "- c")
    apart = LayoutRules(speakers="none")
    cues = lay_out([said("a", 0, 3, "x"), said("b", 2, 4, "x"), said("c", 3.5, 5, "y")], apart)
    assert [(cue.start, cue.end) for cue in cues] == [
        (0, 2 - RULES.gap),
        (2, 4),
        (3.5, 5 + RULES.linger),
    ]


def test_crosstalk_makes_no_cues_that_overlap_in_srt() -> None:
    long = "Somebody is telling a very long story about the nets tonight"
    talk = [
        passage_of(long, speaker="a"),
        passage_of("Which nets do you mean there", start=1.2, speaker="b"),
    ]
    talk += [
        passage_of("Mine", start=1.5, speaker="c"),
        passage_of("And mine", start=1.6, speaker="a"),
    ]
    cues = without_overlaps(lay_out(talk, RULES), RULES)
    assert all(later.start >= earlier.end for earlier, later in pairwise(cues))
    said = " ".join(line.removeprefix("- ") for cue in cues for line in cue.lines).split()
    assert sorted(said) == sorted(word.text for passage in talk for word in passage.words)


def test_crosstalk_in_webvtt_keeps_its_order_and_times_in_srt() -> None:
    text = (
        "WEBVTT\n\n00:01.000 --> 00:04.000\n<v Ada>Any terns on the raft today?\n\n"
        "00:03.000 --> 00:05.000\n<v Ben>Eleven, and all of them asleep.\n"
    )
    script = OUTPUT_FORMATS["vtt"].read(text.encode())
    cues = read_srt(OUTPUT_FORMATS["srt"].write(script).decode()).cues
    assert [(cue.start, cue.end) for cue in cues] == [(1.0, 4.0), (3.0, 5.0)]
    assert script.cues is not None
    (told,) = losses(script.cues, (), OUTPUT_FORMATS["srt"].says)
    overlaps, names = "places of cues that overlap (cue 2)", "names of speakers (cues 1 and 2)"
    assert told == f"dropped: {overlaps}, {names}"


def test_words_without_text_are_passed_over() -> None:
    words = (Word("", 0.0, 0.2), Word("Tea?", 0.3, 0.9), Word(" ", 1.0, 1.1))
    assert [cue.lines for cue in lay_out([Passage(0, 2, "Tea?", words=words)], RULES)] == [
        ("Tea?",)
    ]


def test_the_manual_says_by_how_much_a_break_of_cues_is_worse() -> None:
    page = Path(__file__).parents[2] / "docs" / "subtitles.md"
    assert CUE_BREAK == 3 and "costs three times as much" in page.read_text(encoding="utf-8")


def test_a_sentence_is_rather_parted_between_lines_than_between_cues() -> None:
    """Where a comma ends a cue as well as a line, the line has it."""
    said = "We took the nets down at nine, and the birds flew off to the north."
    words, at = [], 0.0
    for text in said.split():
        words.append(Word(text, at, at + 0.3))
        at += 0.35
    cues = lay_out(
        [Passage(0.0, at, said, words=tuple(words))], LAYOUTS["broadcast"], language="en"
    )
    assert [cue.lines for cue in cues] == [
        ("We took the nets down at nine,", "and the birds flew off to the north.")
    ]


def spoken(text: str, language: str, speed: float, pause: float) -> list[tuple[str, ...]]:
    """Cues of words that take as long as they are, so many characters a second, with a pause behind
    each mark.
    """
    words, at = [], 1.0
    for word in text.split():
        end = at + len(word) / speed
        words.append(Word(word, round(at, 3), round(end, 3)))
        at = end + 0.3 / speed + (pause if word[-1] in ".," else 0.0)
    passage = Passage(words[0].start, words[-1].end, text, None, "engine", tuple(words))
    return [cue.lines for cue in lay_out([passage], RULES, language=language)]


@pytest.mark.parametrize(
    ("text", "language", "speed", "pause", "lines"),
    [
        (  # behind a sentence that is too short for a cue, the next one may be parted
            "Na gut. Ab jetzt schreibe ich es an die Tafel, damit jeder weiß, wo ich bin.",
            "de",
            16.0,
            0.0,
            [
                ("Na gut.", "Ab jetzt schreibe ich es an die Tafel,"),
                ("damit jeder weiß, wo ich bin.",),
            ],
        ),
        (  # 17.3 characters a second are no reason to tear a clause
            "Bel ze dan op en laat ze meteen opsturen, anders kunnen we morgen niet met de "
            "karekieten werken.",
            "nl",
            15.0,
            0.1,
            [
                ("Bel ze dan op en laat ze meteen opsturen,",),
                ("anders kunnen we morgen", "niet met de karekieten werken."),
            ],
        ),
        (  # the end of a torn sentence and the next one share no cue
            "I don't think anyone who was there that night will ever forget the sound of forty "
            "thousand knots taking off at once. Sooner or later somebody is going to ask you why.",
            "en",
            16.0,
            0.2,
            [
                ("I don't think anyone who was there", "that night will ever forget"),
                ("the sound of forty thousand knots", "taking off at once."),
                ("Sooner or later", "somebody is going to ask you why."),
            ],
        ),
    ],
    ids=["short sentence", "hardly too fast", "torn sentence"],
)
def test_cues_of_quick_speech_are_those_of_its_sentences(
    text: str, language: str, speed: float, pause: float, lines: list[tuple[str, ...]]
) -> None:
    assert spoken(text, language, speed, pause) == lines
