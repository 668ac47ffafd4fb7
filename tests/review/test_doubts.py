"""Faults that engines are known for are doubts, and good transcripts have none."""

import json
import random
import re

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
from mantisreed.review.likelihood import unlikely_stretches
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.ear import HeardWord
from mantisreed.standin.habits import Habits, Planter
from mantisreed.standin.lines import Line
from mantisreed.transcript.document import (
    SCHEMA,
    WORTH_HEARING,
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
    # Where it is so all along, it is said once.
    (whole,) = doubts_of(transcript(timed(GOOD, sure=0.4)))
    assert (whole.start, whole.kind) == (0.0, "confidence")


def shuffled(text: str, times: int = 1) -> str:
    words = text.replace(".", "").split() * times
    return " ".join(random.Random(5).sample(words, len(words)))


SALAD = {
    "en": "river of green quickly the table because seven loud beneath was never orange which into "
    "spoon running them slow a window chair between happy not sand the to be of and letter",
    "de": "Tisch der grün langsam weil sieben unter war niemals die Orange welche in Löffel rennen "
    "ihnen ein Fenster Stuhl zwischen nicht Sand zu sein und Brief des laut dem",
    "fr": "table verte le vite parce que sept sous était jamais une orange laquelle dans cuillère "
    "courir leur lent la fenêtre chaise entre heureux pas sable de être et lettre des du",
}


@pytest.mark.parametrize("language", SALAD)
@pytest.mark.parametrize("tagged", [True, False])
def test_words_without_sense_are_a_doubt_where_the_engine_is_less_sure(
    language: str, tagged: bool
) -> None:
    told = transcript(timed(SALAD[language], sure=0.64), language=language if tagged else None)
    found = [one for one in doubts_of(told) if one.kind == "unlikely"]
    assert len(found) == 1 and language in found[0].why
    assert found[0].grade >= WORTH_HEARING


def test_the_same_words_in_another_order_are_a_doubt_however_sure_the_engine_is() -> None:
    assert not [one for one in doubts_of(transcript(timed(GOOD))) if one.kind == "unlikely"]
    told = transcript(timed(shuffled(GOOD, 4), sure=0.97))
    assert "unlikely" in [one.kind for one in doubts_of(told)]


@pytest.mark.parametrize(
    "said",
    [
        "one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen",
        "redshank greenshank curlew whimbrel dunlin sanderling knot oystercatcher avocet lapwing "
        "teal wigeon mallard pintail shoveler gadwall pochard goldeneye smew merganser",
        "ring alpha three nine nine zero two four wing seventy one mass eighteen point four fat "
        "two muscle three age four sex male redshank ring alpha three nine nine zero two five",
        "yeah so I mean you know like I was going down there and um well we had the nets up by "
        "six and then uh it started raining so we furled them all you know and went back",
    ],
    ids=["numbers", "birds", "rings", "talk"],
)
def test_lists_and_talk_that_the_engine_is_sure_of_make_sense(said: str) -> None:
    assert doubts_of(transcript(timed(said))) == []


def test_phrases_of_every_learned_language_make_sense(bank: tuple[Phrase, ...]) -> None:
    for language in ("en", "de"):
        words = [word for one in bank if one.language == language for word in one.text.split()]
        assert list(unlikely_stretches(words, [False] * len(words), language)) == []
    assert list(unlikely_stretches(SALAD["en"].split(), [True] * 32, "cy")) == []


def test_low_confidence_over_a_stretch_is_a_doubt_in_any_recording() -> None:
    (whole,) = doubts_of(transcript(timed(GOOD, sure=0.6)))
    assert whole.kind == "confidence" and whole.why.startswith("confidence 0.60 over ")
    (short,) = doubts_of(transcript(timed("The owl was back again.", sure=0.35)))
    assert short.kind == "confidence" and short.grade >= WORTH_HEARING
    assert doubts_of(transcript(timed("Owl.", sure=0.45))) == []
    mixed = [*timed(GOOD[:80], sure=0.9), *timed("over the grey mud at night", 30.0, sure=0.4)]
    (found,) = doubts_of(transcript(mixed))
    assert (found.start, found.kind) == (30.0, "confidence")


def test_a_doubt_about_pace_never_contradicts_itself() -> None:
    for seed in range(300):
        chance = random.Random(seed)
        words, at = [], 0.0
        for _ in range(60):
            lasts = chance.choice((0.05, 0.1, 0.2, 0.3, 0.6))
            text = "x" * chance.randint(1, 12)
            words.append(Word(text, at, at + lasts, 0.9))
            at += lasts + chance.choice((0.0, 0.0, 0.1))
        for doubt in doubts_of(transcript(words)):
            if doubt.kind == "pace":
                pace, limit = re.findall(r"([\d.]+) characters.*faster than ([\d.]+)", doubt.why)[0]
                assert float(pace) > float(limit)


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
    shares = dict.fromkeys(
        ("silence", "loop", "missing", "script", "pace", "unsure", "salad"), 0.05
    )
    planter = Planter(Habits(**shares), bank, random.Random(2))
    spoiled = planter.spoiled(lines, composition.duration, language)
    words = [[Word(w.text, w.start, w.end, w.confidence) for w in line.words] for line in spoiled]
    speech = [(one.start, one.end) for one in speech_map(composition.blocks())]
    doubts = doubts_of(transcript(*words, language=language), speech)
    called = {"unsure": "confidence", "salad": "unlikely"}
    assert {one.kind for one in planter.planted} == set(shares)
    for fault in planter.planted:
        kind = called.get(fault.kind, fault.kind)
        assert any(
            doubt.kind == kind and doubt.start < fault.end and doubt.end > fault.start
            for doubt in doubts
        )
