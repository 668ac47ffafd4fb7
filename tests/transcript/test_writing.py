"""Scripts with spaces between words, and without."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.estimate import words_over_speech
from mantisreed.transcript.timing import passages_of
from mantisreed.transcript.writing import excerpt, joined, phrases, spaced, words_of

THAI = "วันนี้เราจับนกชายเลนได้สามตัวที่บึงน้ำเค็ม และใส่ห่วงขาให้ทุกตัวก่อนปล่อยไป"
JAPANESE = "今朝は塩性湿地で三羽のシギを捕まえて、足環をつけてから放しました。"
CHINESE = "今天早上我们在盐沼捕到了三只鹬，给它们戴上脚环之后放飞了。"


@pytest.mark.parametrize(
    ("text", "language", "some"),
    [
        (JAPANESE, None, ["塩性湿地で", "シギを", "捕まえて、", "放しました。"]),
        (CHINESE, "zh", ["今天", "我们", "之后", "放飞"]),
        (THAI.split()[0], "th", ["วัน", "นี้", "เรา", "สาม", "ตัว", "ที่"]),
        ("GPS42号のタグ", None, ["GPS42号の", "タグ"]),
    ],
)
def test_phrases_are_those_of_the_language(
    text: str, language: str | None, some: list[str]
) -> None:
    parts = phrases(text, language)
    assert "".join(parts) == text and set(some) <= set(parts)


@given(st.text(st.sampled_from("ก้ำัเแๆสาน今朝は、。（）盐abc 1ー"), max_size=40))
def test_words_and_phrases_hold_the_whole_text_and_part_nothing_that_stands_together(
    text: str,
) -> None:
    words = words_of(text)
    assert "".join(words) == "".join(text.split())
    for chunk in text.split():
        first, *others = phrases(chunk)
        assert not any(part[0] in "、。）ー้ัๆำา" for part in others)
        assert not any(part[-1] in "เแ（" for part in [first, *others][:-1])


def test_words_of_an_engine_are_joined_as_their_script_is_written() -> None:
    words = [
        Word(sign, n * 0.2, n * 0.2 + 0.2) for n, sign in enumerate("三只鹬 ok".replace(" ", ""))
    ]
    (passage,) = passages_of(words)
    assert (
        passage.text == "三只鹬 o k" and joined(["Two", "", "terns,", "三只"]) == "Two terns, 三只"
    )


def test_a_text_without_spaces_is_laid_over_all_stretches_of_speech() -> None:
    passages = words_over_speech(JAPANESE, [(1.0, 4.0), (8.0, 11.0)], 12.0)
    assert [passage.text for passage in passages] == [JAPANESE[:19], JAPANESE[19:]]
    assert passages[0].start == 1.0 and passages[1].start == 8.0


def test_spaces_that_part_clauses_are_kept_and_those_that_part_words_are_not() -> None:
    passages = words_over_speech(THAI, [(0.0, 9.0)], 9.0)
    assert [passage.text for passage in passages] == [THAI]
    lines = [line for cue in lay_out(passages, LayoutRules(line_length=30)) for line in cue.lines]
    assert [line for line in lines if line.startswith("และ")], lines  # it breaks at the space
    one_line = lay_out([Passage(0, 20, THAI)], LayoutRules(line_length=200, max_cps=99, longest=30))
    assert one_line[0].lines == (THAI,)
    words = words_of(THAI)
    assert not any(spaced(" ".join(words), words))


def test_an_excerpt_has_the_marks_of_its_text() -> None:
    words = ["so", "the", "tide", "turned", "early"]
    text = "So, the tide (at last) turned; early"
    assert excerpt(text.lower(), words, 2, 4) == "tide (at last) turned;"
    assert excerpt(text, words, 0, 2) == "so the"  # not as the words are: they are joined


@pytest.mark.parametrize(
    ("text", "width"), [(THAI.replace(" ", ""), 28), (JAPANESE, 20), (CHINESE, 20)]
)
def test_lines_break_between_phrases(text: str, width: int) -> None:
    cues = lay_out([Passage(0, 12, text)], LayoutRules(line_length=width))
    lines = [line for cue in cues for line in cue.lines]
    starts, at = set(), 0
    for phrase in phrases(text):
        starts.add(at)
        at += len(phrase)
    at = 0
    for line in lines:
        assert at in starts, lines
        at += len(line)
    assert "".join(lines) == text and len(lines) > 1
