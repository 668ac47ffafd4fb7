"""Faults that engines are known for are doubts, and good transcripts have none."""

import json
import random

import jsonschema
import pytest

from mantisreed.audio.speech import speech_map
from mantisreed.exports.script import bare_transcript
from mantisreed.review.doubts import (
    KINDS,
    disagreements,
    doubts_of,
    seam_doubts,
    text_at,
    with_doubts,
)
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.ear import HeardWord
from mantisreed.standin.habits import Habits, Planter
from mantisreed.standin.lines import Line
from mantisreed.transcript.document import (
    SCHEMA,
    Doubt,
    Passage,
    Timing,
    Transcript,
    Word,
    from_json,
    to_json,
)
from mantisreed.transcript.timing import passages_of

GOOD = (
    "We opened the nets at dawn and there were forty dunlin in the bags before the tide came back "
    "over the mud. "
    "Nobody saw the owl again, but a heron was standing near the hut until the boats came in at "
    "noon."
)


def timed(text: str, start: float = 0.0, each: float = 0.4, sure: float = 0.92) -> list[Word]:
    return [
        Word(word, start + at * each, start + at * each + 0.8 * each, sure)
        for at, word in enumerate(text.split())
    ]


def transcript(
    *parts: list[Word], language: str | None = "en", timing: Timing = "engine"
) -> Transcript:
    passages = [
        Passage(
            part[0].start,
            part[-1].end,
            " ".join(one.text for one in part),
            None,
            timing,
            tuple(part),
        )
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
    speech = [
        (said.first / 16000, (said.first + len(said.phrase.samples)) / 16000)
        for said in composition.truth
    ]
    found = doubts_of(bare_transcript(passages_of(words, 1.0), language="en"), speech)
    assert len([doubt for doubt in found if doubt.grade >= 0.3]) == 0


@pytest.mark.parametrize(
    ("text", "times"),
    [("thank you for watching " * 3, 3), ("no " * 7, 7), ("the tide " * 5, 5)],
)
def test_text_that_goes_round_is_a_loop(text: str, times: int) -> None:
    said = transcript(timed(f"We went out. {text}And then home."))
    (doubt,) = doubts_of(said)
    assert doubt.kind == "loop" and f"{times} times" in doubt.why
    assert text_at(said.words, doubt.start, doubt.end).split() == text.split()


def test_what_speech_repeats_is_no_loop() -> None:
    assert (
        doubts_of(
            transcript(
                timed("No, no, no, that was never, never the one that we saw, we saw it before.")
            )
        )
        == []
    )


def test_more_than_anybody_can_say_and_words_that_never_end_are_doubts() -> None:
    fast = timed(GOOD[:90], each=0.05)
    slow = [Word("Tea.", 30.0, 36.0, 0.9)]
    assert kinds(doubts_of(transcript(fast, slow))) == ["pace", "pace"]


def test_two_who_speak_at_once_are_not_one_who_speaks_fast() -> None:
    one, other = timed(GOOD[:90]), timed(GOOD[90:], start=0.2)
    passages = [
        Passage(
            words[0].start,
            words[-1].end,
            " ".join(w.text for w in words),
            speaker,
            words=tuple(words),
        )
        for words, speaker in ((one[:6], "a"), (other[:6], "b"), (one[6:], "a"), (other[6:], "b"))
    ]
    assert doubts_of(bare_transcript(passages, language="en")) == []


def test_another_script_and_another_language_are_doubts() -> None:
    russian = timed("Сегодня утром мы насчитали", 60.0)
    german = timed(
        "und dann haben wir die Netze geschlossen, weil der Wind zu stark war und es in der Nacht "
        "regnete",
        30.0,
    )
    found = doubts_of(transcript(timed(GOOD), german, russian))
    assert (
        kinds(found) == ["language", "script"]
        and "'de'" in found[0].why
        and "Cyrillic" in found[1].why
    )


def test_words_of_which_the_engine_is_less_sure_than_usual_are_doubts() -> None:
    unsure = timed("maybe something else", 20.0, sure=0.35)
    said = transcript(timed(GOOD), unsure)
    (doubt,) = doubts_of(said)
    assert (
        doubt.kind == "confidence"
        and text_at(said.words, doubt.start, doubt.end) == "maybe something else"
    )
    assert doubts_of(transcript(timed(GOOD, sure=0.4))) == []  # it is so all along


def test_text_over_silence_and_speech_without_text_are_doubts() -> None:
    said, made_up = timed(GOOD), timed("thank you all for watching", 60.0)
    speech = [(0.0, said[-1].end), (30.0, 34.0), (70.0, 70.5)]
    silence, missing = sorted(
        doubts_of(transcript(said, made_up), speech), key=lambda one: one.kind, reverse=True
    )
    assert (silence.kind, silence.start) == ("silence", 60.0)
    assert (missing.kind, missing.start, missing.end) == ("missing", 30.0, 34.0)
    (last,) = doubts_of(transcript(said, made_up), [(0.0, said[-1].end)])
    assert last.why == "after the last speech"


def test_times_that_were_estimated_are_a_small_doubt() -> None:
    (doubt,) = doubts_of(transcript(timed(GOOD), timing="estimated"))
    assert doubt.kind == "estimated" and doubt.grade < 0.3 and doubt.kind in KINDS


def test_a_loop_at_the_end_says_so_and_quotes_nothing() -> None:
    (doubt,) = doubts_of(transcript(timed("We went out. " + "goodbye now " * 6)))
    assert doubt.why.endswith("at the end of the text") and "goodbye" not in doubt.why


def test_speech_that_noise_has_broken_into_pieces_is_missed_as_well() -> None:
    said = timed(GOOD)
    speech = [(0.0, said[-1].end), *((30.0 + 0.8 * at, 30.5 + 0.8 * at) for at in range(4))]
    (doubt,) = doubts_of(transcript(said), speech)
    assert (doubt.kind, doubt.start, doubt.end) == ("missing", 30.0, 32.9)


def test_times_that_run_away_are_one_doubt_instead_of_many() -> None:
    chance = random.Random(4)
    speech, words, at = [], [], 0.0
    for _ in range(90):
        lasts = chance.uniform(0.8, 3.0)
        speech.append((at, at + lasts))
        words.append(Word("word", 1.04 * at, 1.04 * (at + lasts), 0.9))
        at += lasts + chance.uniform(0.3, 2.5)
    drifts = [
        doubt
        for doubt in doubts_of(transcript(words), speech)
        if doubt.kind in ("drift", "silence", "missing")
    ]
    late = next(doubt for doubt in drifts if doubt.kind == "drift")
    assert late.end - late.start > 100.0 and late.why.endswith("late against the speech")
    assert not [
        doubt for doubt in drifts if doubt.kind != "drift" and late.start <= doubt.start < late.end
    ]


def test_a_cut_through_a_word_is_a_doubt_and_one_in_a_pause_is_none() -> None:
    words = timed("one two three four five six")
    spans = [(0.0, 1.0), (1.0, 2.4)]
    (doubt,) = seam_doubts(spans, words, [(0.0, 2.4)])
    assert doubt.kind == "seam" and doubt.start <= 1.0 <= doubt.end
    assert seam_doubts(spans, words, [(0.0, 0.9), (1.1, 2.4)]) == []
    assert seam_doubts([(0.0, 1.2), (0.9, 2.4)], words, [(0.0, 2.4)]) == []  # both heard it


def test_what_another_engine_tells_differently_is_a_doubt() -> None:
    one = transcript(timed("the nets were opened at dawn and the birds came in"))
    other = transcript(timed("the nets were closed by noon and the birds came in"))
    (doubt,) = disagreements(one, other)
    assert (
        doubt.kind == "disagreement"
        and text_at(one.words, doubt.start, doubt.end) == "opened at dawn"
    )
    assert disagreements(one, one) == []


def test_a_transcript_keeps_its_doubts_and_the_first_version_is_read() -> None:
    looped = with_doubts(transcript(timed("We went out. " + "goodbye now " * 6)), None)
    assert from_json(to_json(looped)).doubts == looped.doubts != ()
    jsonschema.validate(json.loads(to_json(looped)), json.loads(SCHEMA.read_text()))
    old = json.loads(to_json(transcript(timed(GOOD))))
    old["version"] = 1
    del old["doubts"], old["replacements"]
    assert from_json(json.dumps(old).encode()).doubts == ()


@pytest.mark.parametrize("language", ["en", "de"])
def test_planted_habits_are_found(bank: tuple[Phrase, ...], language: str) -> None:
    spoken = [phrase for phrase in bank if phrase.language == language]
    composition = compose(spoken, seed=3, duration=600.0, pauses=(0.5, 3.0), snr=15)
    lines = [
        Line(
            said.phrase.text,
            None,
            tuple(HeardWord(w.text, w.start, w.end, 0.9) for w in said.words),
        )
        for said in composition.truth
    ]
    shares = dict.fromkeys(("silence", "loop", "missing", "script", "pace", "unsure"), 0.05)
    planter = Planter(Habits(**shares), bank, random.Random(2))
    spoiled = planter.spoiled(lines, composition.duration, language)
    words = [[Word(w.text, w.start, w.end, w.confidence) for w in line.words] for line in spoiled]
    speech = [(one.start, one.end) for one in speech_map(composition.blocks())]
    doubts = doubts_of(transcript(*words, language=language), speech)
    called = {"unsure": "confidence"}
    assert {one.kind for one in planter.planted} == set(shares)
    for fault in planter.planted:
        kind = called.get(fault.kind, fault.kind)
        assert any(
            doubt.kind == kind and doubt.start < fault.end and doubt.end > fault.start
            for doubt in doubts
        )
