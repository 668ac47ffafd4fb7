"""One transcript out of several."""

import random

import pytest

from mantisreed.errors import InputError
from mantisreed.exports.script import bare_transcript
from mantisreed.review.scoring import scored, tokens_of
from mantisreed.review.voting import voted
from mantisreed.transcript.document import Passage, Transcript, Word


def talk(
    text: str, *, sure: float | None = None, speaker: str | None = None, timing: str = "engine"
) -> Transcript:
    words = tuple(
        Word(word, at * 0.4, at * 0.4 + 0.3, sure) for at, word in enumerate(text.split())
    )
    passage = Passage(0.0, words[-1].end if words else 0.0, text, speaker, timing, words)  # type: ignore[arg-type]
    return bare_transcript([passage], language="en")


def said(transcript: Transcript) -> str:
    return " ".join(word.text for word in transcript.words)


TEXT = "We saw two old terns near the hut, and a heron came over at noon."


def test_the_majority_wins_word_by_word() -> None:
    result = voted(
        [
            talk(TEXT.replace("two", "too")),
            talk(TEXT.replace("heron", "herring")),
            talk(TEXT.replace(" old", "").replace("noon", "moon")),
        ]
    )
    assert said(result.transcript) == TEXT and result.overruled == [1, 1, 1]
    assert result.disputed == 4 and "voted by 3" in result.transcript.notes[0]


def test_what_only_one_made_up_is_not_taken() -> None:
    result = voted([talk(TEXT), talk(TEXT), talk(TEXT.replace("terns", "terns terns terns maybe"))])
    assert said(result.transcript) == TEXT


def test_case_and_marks_are_those_of_the_majority() -> None:
    result = voted([talk(TEXT.lower().replace(",", "")), talk(TEXT), talk(TEXT)])
    assert said(result.transcript) == TEXT


def test_times_are_those_of_the_best_timed_reading_and_speakers_are_kept() -> None:
    exact = talk(TEXT)
    late = talk(TEXT, speaker="Ada", timing="estimated")
    shifted = [Word(word.text, word.start + 0.2, word.end + 0.2) for word in late.words]
    late = bare_transcript(
        [Passage(0.2, 6.0, TEXT, "Ada", "estimated", tuple(shifted))], language="en"
    )
    result = voted([late, exact, late])
    assert [word.start for word in result.transcript.words] == [word.start for word in exact.words]
    assert result.transcript.speakers == ("Ada",)


def heard(true: list[str], rate: float, chance: random.Random) -> Transcript:
    words: list[Word] = []
    for number, word in enumerate(true):
        at, roll = 0.4 * number, chance.random()
        good, poor = chance.uniform(0.8, 1.0), chance.uniform(0.4, 0.9)
        if roll < 0.5 * rate:
            words.append(Word(f"{word}{chance.choice('aeiou')}x", at, at + 0.3, poor))
        elif roll < 0.75 * rate:
            continue
        else:
            words.append(Word(word, at, at + 0.3, good))
            if roll < rate:
                words.append(Word(chance.choice(true), at + 0.3, at + 0.35, poor))
    text = " ".join(word.text for word in words)
    return bare_transcript(
        [Passage(words[0].start, words[-1].end, text, words=tuple(words))], language="en"
    )


@pytest.mark.parametrize(
    ("rates", "at_most"),
    [((0.1, 0.1, 0.1), 0.6), ((0.1, 0.1, 0.4), 1.0), ((0.05, 0.1, 0.4), 1.0), ((0.1, 0.1), 1.0)],
)
def test_a_vote_has_fewer_errors_than_the_best_of_them(
    rates: tuple[float, ...], at_most: float
) -> None:
    chance = random.Random(3)
    true = [
        f"{chance.choice('btgm')}{chance.choice('aeiou')}rd{chance.randrange(150)}q"
        for _ in range(2500)
    ]
    transcripts = [heard(true, rate, chance) for rate in rates]
    reference = tokens_of(talk(" ".join(true)))
    best = min(scored(reference, tokens_of(one)).words.count for one in transcripts)
    result = voted(transcripts)
    assert scored(reference, tokens_of(result.transcript)).words.count <= at_most * best
    starts = [word.start for word in result.transcript.words]
    assert starts == sorted(starts)


def test_what_cannot_be_voted_on_is_refused() -> None:
    for transcripts, told in (
        ([talk(TEXT)], "two transcripts"),
        ([talk(TEXT), talk("")], "transcript 2 has no words"),
        (
            [talk(TEXT), talk(TEXT), talk("Nothing of this was ever there, nobody said it")],
            "transcript 3 has hardly",
        ),
    ):
        with pytest.raises(InputError, match=told):
            voted(transcripts)
