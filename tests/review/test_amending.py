"""A corrected text laid over its transcript."""

import random

import pytest

from mantisreed.errors import InputError
from mantisreed.exports.script import bare_transcript
from mantisreed.review.amending import Paragraph, amended
from mantisreed.transcript.document import Passage, Transcript, Word


def talk(*texts: tuple[str, str | None]) -> Transcript:
    passages, at = [], 1.0
    for text, speaker in texts:
        words = []
        for word in text.split():
            words.append(Word(word, round(at, 3), round(at + 0.3, 3), 0.9))
            at += 0.35
        passages.append(
            Passage(words[0].start, words[-1].end, text, speaker, "engine", tuple(words))
        )
        at += 1.0
    return bare_transcript(passages, language="en")


TALK = talk(("We saw too old terns.", "Ada"), ("And a heron came over at noon.", "Ben"))


def times_of(transcript: Transcript) -> dict[str, tuple[float, float]]:
    return {word.text: (word.start, word.end) for word in transcript.words}


def test_words_that_were_not_touched_keep_their_times_and_the_others_get_some() -> None:
    corrected = [Paragraph("We saw two very old terns!"), Paragraph("And a heron came at noon.")]
    anew, changes = amended(TALK, corrected)
    before, after = times_of(TALK), times_of(anew)
    for word in ("We", "saw", "old", "And", "a", "heron", "came", "at", "noon."):
        assert after[word] == before[word]
    assert after["terns!"] == before["terns."]
    assert before["saw"][1] <= after["two"][0] <= after["very"][0] <= before["old"][0]
    assert (changes.deleted, changes.changed + changes.inserted) == (1, 2)
    assert [passage.text for passage in anew.passages] == [one.text for one in corrected]
    assert [passage.speaker for passage in anew.passages] == ["Ada", "Ben"]
    assert "amended: " in anew.notes[-1]


def test_what_was_put_in_stands_with_its_sentence() -> None:
    corrected = [
        Paragraph("We saw too old terns. Yes."),
        Paragraph("Then and a heron came over at noon."),
    ]
    anew, _ = amended(TALK, corrected)
    after = times_of(anew)
    assert after["terns."][1] <= after["Yes."][0] and after["Then"][1] <= after["and"][0]
    assert after["Then"][0] >= after["Yes."][0]


def test_paragraphs_are_split_joined_and_given_to_others() -> None:
    (one,) = amended(
        TALK, [Paragraph("We saw too old terns. And a heron came over at noon.", "Ada")]
    )[0].passages
    assert one.speaker == "Ada" and len(one.words) == 12
    anew, changes = amended(
        TALK,
        [Paragraph("We saw too old terns.", "Cleo"), Paragraph("And a heron came over at noon.")],
    )
    assert (anew.passages[0].speaker, anew.speakers, changes.speakers) == (
        "Cleo",
        ("Cleo", "Ben"),
        5,
    )


def test_cues_say_nothing_of_passages() -> None:
    lines = [
        Paragraph("We saw too"),
        Paragraph("old terns. And"),
        Paragraph("a heron came"),
        Paragraph("over at nine."),
    ]
    anew, changes = amended(TALK, lines, keeps_passages=True)
    assert [passage.text for passage in anew.passages] == [
        "We saw too old terns.",
        "And a heron came over at nine.",
    ]
    assert changes.pairs == {("noon.", "nine."): 1}


def test_a_text_of_something_else_is_refused() -> None:
    for text in ("Nothing of this was ever there, and nobody said it", ""):
        with pytest.raises(InputError, match="hardly a word in common"):
            amended(TALK, [Paragraph(text)] if text else [])


@pytest.mark.parametrize("seed", range(5))
def test_edits_at_random_move_no_word_that_was_not_touched(seed: int) -> None:
    chance = random.Random(seed)
    transcript = talk(
        *((" ".join(f"word{chance.randrange(200)}" for _ in range(30)), None) for _ in range(20))
    )
    kept, texts = [], []
    for passage in transcript.passages:
        words: list[str] = []
        for word in passage.words:
            match chance.random():
                case roll if roll < 0.02:
                    words.append("other")
                case roll if roll < 0.04:
                    words += [word.text, "more"]
                    kept.append(word)
                case roll if roll < 0.06:
                    pass
                case _:
                    words.append(word.text)
                    kept.append(word)
        texts.append(" ".join(words))
    anew, _ = amended(transcript, [Paragraph(text) for text in texts])
    by_text = {(word.text, word.start, word.end) for word in anew.words}
    assert all((word.text, word.start, word.end) in by_text for word in kept)
    starts = [word.start for word in anew.words]
    assert starts == sorted(starts) and all(word.end >= word.start for word in anew.words)
    assert [passage.text for passage in anew.passages] == texts


def test_what_was_put_in_stands_where_somebody_speaks() -> None:
    # Between the two sentences, which end at 2.7 and begin at 3.75, somebody says something at 3.2.
    corrected = [
        Paragraph("We saw too old terns. Yes."),
        Paragraph("And a heron came over at noon."),
    ]
    speech = [(1.0, 2.7), (3.2, 3.55), (3.75, 9.0)]
    heard, _ = amended(TALK, corrected, speech=speech)
    assert times_of(heard)["Yes."] == (3.2, 3.55)
    alone, _ = amended(TALK, corrected)
    assert times_of(alone)["Yes."] != (3.2, 3.55)
    assert {k: v for k, v in times_of(heard).items() if k != "Yes."} == times_of(TALK)
