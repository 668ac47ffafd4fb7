"""Strong words, and corrections by a glossary."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import InputError
from mantisreed.exports.script import Script
from mantisreed.exports.word_lists import Wording, read_glossary, strong_words
from mantisreed.exports.wording import reworded
from mantisreed.subtitles.cues import Cue
from mantisreed.transcript.document import Passage, RecordingFacts, Transcript, Word
from strategies import transcripts


def script_of(text: str) -> Script:
    words = tuple(Word(word, n * 1.0, n + 0.8) for n, word in enumerate(text.split()))
    facts = RecordingFacts("fog.wav", "", 60.0)
    passages = (Passage(0.0, words[-1].end, text, None, "engine", words),)
    return Script(Transcript(recording=facts, engine="", job="", passages=passages))


def changed(text: str, **wording: object) -> tuple[str, list[str]]:
    script, _ = reworded(script_of(text), Wording(**wording))  # type: ignore[arg-type]
    (passage,) = script.passages
    return passage.text, [word.text for word in passage.words]


@pytest.mark.parametrize(
    ("strong", "text"),
    [
        ("keep", "Damn the KETTLE, damned kettles!"),
        ("mask", "D*** the K*****, d***** kettles!"),
        ("drop", "The, kettles!"),
    ],
)
def test_strong_words_are_whole_words_in_any_case_with_the_endings_of_the_list(
    strong: str, text: str
) -> None:
    found, words = changed(
        "Damn the KETTLE, damned kettles!", strong=strong, strong_words=("damn*", "kettle")
    )
    assert found == text and " ".join(words) == text


def test_a_glossary_corrects_words_and_phrases_and_keeps_capitals_and_times() -> None:
    glossary = (("dun lin", "dunlin"), ("marsh hide", "Marsh Hide"), ("terne", "tern"))
    script, counts = reworded(
        script_of("Dun lin and a Terne at the marsh hide."), Wording(glossary=glossary)
    )
    (passage,) = script.passages
    assert passage.text == "Dunlin and a Tern at the Marsh Hide."
    by_text = {word.text: (word.start, word.end) for word in passage.words}
    assert (
        by_text["Dunlin"] == (0.0, 1.8)
        and by_text["and"] == (2.0, 2.8)
        and by_text["Marsh"][0] == 7.0
    )
    assert counts == {"dun lin -> dunlin": 1, "marsh hide -> Marsh Hide": 1, "terne -> tern": 1}


def test_cues_are_changed_as_well_and_go_when_nothing_is_left() -> None:
    script = Script(cues=(Cue(0, 1, ("Damn.",)), Cue(1, 2, ("damn", "the tide"))))
    dropped, _ = reworded(script, Wording("drop", ("damn",)))
    assert [cue.lines for cue in dropped.cues or ()] == [("the tide",)]


@pytest.mark.parametrize(
    ("lines", "left"),
    [
        (("Well, damn, it is cold.",), ("Well, it is cold.",)),
        (("It is bloody damn cold, damn.",), ("It is cold.",)),
        (("Oh hell! Damn. Go home.",), ("Oh! Go home.",)),
        (("Damn, damn, the tide (damn).",), ("The tide.",)),
        (("It was a bloody", "damn cold morning"), ("It was a", "cold morning")),
    ],
)
def test_marks_that_only_dropped_words_needed_go_with_them(
    lines: tuple[str, ...], left: tuple[str, ...]
) -> None:
    strong = Wording("drop", ("damn", "hell", "bloody"))
    script, _ = reworded(Script(cues=(Cue(0, 1, lines),)), strong)
    assert script.cues is not None and script.cues[0].lines == left


@pytest.mark.parametrize(
    ("lines", "wrong", "right", "left"),
    [
        (("the dun", "lin was here"), "dun lin", "dunlin", ("the dunlin", "was here")),
        (("今朝はシギを見た",), "シギ", "鴫", ("今朝は鴫を見た",)),
        (("undone done",), "done", "did", ("undone did",)),
    ],
)
def test_phrases_are_found_across_lines_and_where_no_spaces_are_written(
    lines: tuple[str, ...], wrong: str, right: str, left: tuple[str, ...]
) -> None:
    script, counts = reworded(Script(cues=(Cue(0, 1, lines),)), Wording(glossary=((wrong, right),)))
    assert script.cues is not None and script.cues[0].lines == left and sum(counts.values()) == 1


def test_a_correction_in_a_script_without_spaces_leaves_the_other_words_their_times() -> None:
    words = tuple(
        Word(text, n * 1.0, n + 1.0)
        for n, text in enumerate(("今朝", "は", "シ", "ギ", "を", "見た"))
    )
    passage = Passage(0.0, 6.0, "今朝はシギを見た", words=words)
    transcript = Transcript(
        recording=RecordingFacts("a.wav", "", 6.0), engine="", job="", passages=(passage,)
    )
    script, _ = reworded(Script(transcript), Wording(glossary=(("シギ", "鴫"),)))
    (changed,) = script.passages
    assert changed.text == "今朝は鴫を見た"
    assert changed.words == (*words[:2], Word("鴫", 2.0, 4.0), *words[4:])


@given(transcripts, st.sampled_from(["keep", "mask", "drop"]))
def test_what_is_on_no_list_is_left_as_it_is(transcript: Transcript, strong: str) -> None:
    script = Script(transcript)
    again, counts = reworded(script, Wording(strong, ("a word that nobody says",)))  # type: ignore[arg-type]
    assert not counts
    assert [passage.words for passage in again.passages] == [
        one.words for one in script.passages if one.text.split()
    ]


def test_lists_and_glossaries_are_read_and_what_is_wrong_is_told(tmp_path: Path) -> None:
    assert (
        "kettle" in strong_words("en-GB")
        and "verdammt*" in strong_words("de")
        and strong_words("tlh") == ()
    )
    file = tmp_path / "corrections"
    file.write_text("# slips\nterne -> tern\nold  sluice->Old Sluice # a place\n\n")
    assert read_glossary(file) == (("terne", "tern"), ("old  sluice", "Old Sluice"))
    toml = tmp_path / "corrections.toml"
    toml.write_text('terne = "tern"\n')
    assert read_glossary(toml) == (("terne", "tern"),)
    for content in ("terne = tern", "-> tern"):
        file.write_text(content)
        with pytest.raises(InputError, match="expected: wrong -> right"):
            read_glossary(file)
    with pytest.raises(InputError, match="cannot be read"):
        strong_words("en", tmp_path / "none")
