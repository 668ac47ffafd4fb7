"""Faults that engines are known for are doubts, and good transcripts have none."""

import pytest

from mantisreed.exports.script import bare_transcript
from mantisreed.review.doubts import KINDS, Doubt, doubts_of
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.transcript.document import Passage, Transcript, Word
from mantisreed.transcript.timing import passages_of

GOOD = (
    "We opened the nets at dawn and there were forty dunlin in the bags before the tide came back over the mud. "
    "Nobody saw the owl again, but a heron was standing near the hut until the boats came in at noon."
)


def timed(text: str, start: float = 0.0, each: float = 0.4, sure: float = 0.92) -> list[Word]:
    return [
        Word(word, start + at * each, start + at * each + 0.8 * each, sure) for at, word in enumerate(text.split())
    ]


def transcript(*parts: list[Word], language: str | None = "en", timing: str = "engine") -> Transcript:
    passages = [
        Passage(part[0].start, part[-1].end, " ".join(one.text for one in part), None, timing, tuple(part))  # type: ignore[arg-type]
        for part in parts
    ]
    return bare_transcript(passages, language=language)


def kinds(doubts: list[Doubt]) -> list[str]:
    return [doubt.kind for doubt in doubts]


def test_a_good_transcript_has_no_doubts() -> None:
    words = timed(GOOD)
    assert doubts_of(transcript(words), [(0.0, words[-1].end)]) == []


def test_what_is_composed_and_heard_right_has_hardly_any(english: list[Phrase]) -> None:
    composition = compose(english, seed=2, duration=240.0, pauses=(0.4, 1.5))
    words = [Word(word.text, word.start, word.end, 0.9) for word in composition.words]
    speech = [(said.first / 16000, (said.first + len(said.phrase.samples)) / 16000) for said in composition.truth]
    found = doubts_of(bare_transcript(passages_of(words, 1.0), language="en"), speech)
    assert len([doubt for doubt in found if doubt.grade >= 0.3]) == 0


@pytest.mark.parametrize(
    ("text", "times"),
    [("thank you for watching " * 3, 3), ("no " * 7, 7), ("the tide " * 5, 5)],
)
def test_text_that_goes_round_is_a_loop(text: str, times: int) -> None:
    (doubt,) = doubts_of(transcript(timed(f"We went out. {text}And then home.")))
    assert doubt.kind == "loop" and f"{times} times" in doubt.why and doubt.text.split() == text.split()


def test_what_speech_repeats_is_no_loop() -> None:
    assert (
        doubts_of(transcript(timed("No, no, no, that was never, never the one that we saw, we saw it before."))) == []
    )


def test_more_than_anybody_can_say_and_words_that_never_end_are_doubts() -> None:
    fast = timed(GOOD[:90], each=0.05)
    slow = [Word("Tea.", 30.0, 36.0, 0.9)]
    assert kinds(doubts_of(transcript(fast, slow))) == ["pace", "pace"]


def test_another_script_and_another_language_are_doubts() -> None:
    russian = timed("Сегодня утром мы насчитали", 60.0)
    german = timed(
        "und dann haben wir die Netze geschlossen, weil der Wind zu stark war und es in der Nacht regnete", 30.0
    )
    found = doubts_of(transcript(timed(GOOD), german, russian))
    assert kinds(found) == ["language", "script"] and "'de'" in found[0].why and "Cyrillic" in found[1].why


def test_words_of_which_the_engine_is_less_sure_than_usual_are_doubts() -> None:
    unsure = timed("maybe something else", 20.0, sure=0.35)
    (doubt,) = doubts_of(transcript(timed(GOOD), unsure))
    assert doubt.kind == "confidence" and doubt.text == "maybe something else"
    assert doubts_of(transcript(timed(GOOD, sure=0.4))) == []  # it is so all along


def test_text_over_silence_and_speech_without_text_are_doubts() -> None:
    said, made_up = timed(GOOD), timed("thank you all for watching", 60.0)
    speech = [(0.0, said[-1].end), (30.0, 34.0), (70.0, 70.5)]
    silence, missing = sorted(doubts_of(transcript(said, made_up), speech), key=lambda one: one.kind, reverse=True)
    assert (silence.kind, silence.start) == ("silence", 60.0)
    assert (missing.kind, missing.start, missing.end) == ("missing", 30.0, 34.0)
    (last,) = doubts_of(transcript(said, made_up), [(0.0, said[-1].end)])
    assert last.why == "after the last speech"


def test_times_that_were_estimated_are_a_small_doubt() -> None:
    (doubt,) = doubts_of(transcript(timed(GOOD), timing="estimated"))
    assert doubt.kind == "estimated" and doubt.grade < 0.3 and doubt.kind in KINDS
