"""Which stretches a second engine is asked about, and which reading is kept."""

import msgspec

from mantisreed.exports.script import bare_transcript
from mantisreed.review.doubts import with_doubts
from mantisreed.review.opinions import Clip, clips_of, with_second_opinion
from mantisreed.transcript.document import Doubt, Passage, Transcript, Word

GOOD = (
    "We opened the nets at dawn and there were forty dunlin in the bags before the tide came "
    "back over the mud."
)


def timed(text: str, start: float = 0.0, each: float = 0.4, sure: float = 0.92) -> list[Word]:
    return [
        Word(word, start + at * each, start + at * each + 0.3, sure)
        for at, word in enumerate(text.split())
    ]


def transcript(*parts: list[Word], language: str = "en") -> Transcript:
    passages = [
        Passage(part[0].start, part[-1].end, " ".join(w.text for w in part), words=tuple(part))
        for part in parts
    ]
    return bare_transcript(passages, language=language, duration=60.0)


def text_of(one: Transcript) -> str:
    return " / ".join(passage.text for passage in one.passages)


def opined(first: Transcript, second: Transcript, speech: list[tuple[float, float]]) -> Transcript:
    doubted = with_doubts(first, speech)
    return with_second_opinion(doubted, clips_of(doubted, speech, 60.0), second, speech)


def test_text_over_silence_goes_when_nobody_else_hears_it() -> None:
    speech = [(0.0, 9.0)]
    final = opined(
        transcript(timed(GOOD), timed("thank you for watching", 20.0)),
        transcript(timed(GOOD)),
        speech,
    )
    assert text_of(final) == GOOD and final.doubts == ()
    (change,) = final.replacements
    assert (change.before, change.after) == ("thank you for watching", "")


def test_speech_without_text_gets_the_words_that_somebody_else_hears() -> None:
    speech = [(0.0, 9.0), (12.0, 14.0), (16.0, 20.0)]
    more, last = (
        timed("the owl came back", 12.0),
        timed("and the heron left before the boat was in", 16.0),
    )
    final = opined(transcript(timed(GOOD), last), transcript(more), speech)
    assert (
        text_of(final) == f"{GOOD} / the owl came back / and the heron left before the boat was in"
    )
    assert final.doubts == ()


def test_what_both_say_stays_and_is_not_doubted_any_more() -> None:
    speech = [(0.0, 14.0)]
    unsure = timed("maybe something else", 9.0, sure=0.3)
    first = transcript(timed(GOOD) + unsure)
    assert [doubt.kind for doubt in with_doubts(first, speech).doubts if doubt.kind == "confidence"]
    final = opined(first, transcript(timed("Maybe something else.", 9.0)), speech)
    assert text_of(final) == text_of(first) and final.replacements == ()
    assert not [doubt for doubt in final.doubts if doubt.kind == "confidence"]


def test_a_reading_that_is_as_doubtful_is_not_taken() -> None:
    speech = [(0.0, 9.0)]
    first = transcript(timed(GOOD), timed("thank you for watching", 20.0))
    final = opined(first, transcript(timed("subscribe to our channel", 20.0)), speech)
    assert text_of(final) == text_of(first) and final.replacements == ()
    assert [doubt.kind for doubt in final.doubts] == ["silence"]


def test_words_beside_a_stretch_are_neither_lost_nor_doubled() -> None:
    speech = [(0.0, 12.0)]
    loop = timed("We saw " + "the tide " * 6 + "then home we went again", 0.0)
    second = transcript(
        timed(
            "We saw a heron by the old hut and the boat came in again then home we went again", 0.0
        )
    )
    final = opined(transcript(loop), second, speech)
    assert (
        text_of(final).count("home") == 1
        and text_of(final).startswith("We saw")
        and "tide" not in text_of(final)
    )


def test_clips_begin_and_end_in_pauses_and_neighbours_are_one() -> None:
    doubts = [
        Doubt("loop", 10.0, 12.0, "", 1.0),
        Doubt("loop", 13.0, 14.0, "", 1.0),
        Doubt("pace", 40.0, 41.0, "", 1.0),
    ]
    first = bare_transcript([], duration=60.0)
    speech = [(8.5, 14.9), (15.5, 20.0), (39.0, 42.5)]

    clips = clips_of(msgspec.structs.replace(first, doubts=tuple(doubts)), speech, 60.0)
    assert [(clip.start, clip.end, len(clip.doubts)) for clip in clips] == [
        (8.35, 15.05, 2),
        (38.85, 42.65, 1),
    ]


def test_small_doubts_and_drifting_times_are_nobody_elses_to_hear() -> None:

    doubts = (Doubt("estimated", 0.0, 50.0, "", 0.2), Doubt("drift", 0.0, 50.0, "", 1.0))
    first = msgspec.structs.replace(bare_transcript([], duration=60.0), doubts=doubts)
    assert clips_of(first, [(0.0, 50.0)], 60.0) == []
    assert with_second_opinion(first, [Clip(0.0, 50.0, ())], first, None).replacements == ()
