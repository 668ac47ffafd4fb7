"""Transcripts side by side."""

import pytest

from mantisreed.errors import InputError
from mantisreed.exports.script import bare_transcript
from mantisreed.review.comparing import compared
from mantisreed.transcript.document import Passage, Transcript, Word

SAID = "the nets were opened at dawn and forty birds came in before the tide turned"


def transcript(text: str) -> Transcript:
    words = tuple(Word(word, 0.4 * at, 0.4 * at + 0.3) for at, word in enumerate(text.split()))
    return bare_transcript(
        [Passage(0.0, words[-1].end, text, words=words)] if words else [], language="en"
    )


def test_differences_are_shown_with_who_stands_alone() -> None:
    one, other = transcript(SAID), transcript(SAID.replace("opened at dawn", "closed by noon"))
    found = compared([one, other, one])
    (difference,) = found.differences
    assert difference.readings == ("opened at dawn", "closed by noon", "opened at dawn")
    assert difference.odd == (False, True, False) and (difference.start, difference.end) == (
        1.2,
        2.3,
    )
    assert found.agreement[0][2] == 1.0 and found.agreement[0][1] == pytest.approx(
        12 / 15, abs=0.001
    )


def test_two_engines_differ_without_a_majority() -> None:
    found = compared([transcript(SAID), transcript(SAID.replace("forty ", ""))])
    (difference,) = found.differences
    assert difference.readings == ("forty", "") and difference.odd == (False, False)
    assert compared([transcript(SAID), transcript(SAID)]).differences == ()


def test_transcripts_of_different_recordings_are_refused() -> None:
    with pytest.raises(InputError, match="hardly a word in common"):
        compared(
            [transcript(SAID), transcript("mud and more mud all over the place where nobody lives")]
        )
