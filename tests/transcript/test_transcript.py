"""The document, times for words, comparing word sequences."""

import json
from itertools import pairwise

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import InputError
from mantisreed.transcript.alignment import comparable, word_errors
from mantisreed.transcript.document import SCHEMA, Transcript, Word, from_json, to_json
from mantisreed.transcript.estimate import words_over_speech
from mantisreed.transcript.timing import passages_of
from mantisreed.transcript.writing import words_of
from strategies import texts, timed_words, transcripts


@given(transcripts)
def test_a_transcript_is_read_back_as_it_was_written_and_fits_its_schema(
    transcript: Transcript,
) -> None:
    content = to_json(transcript)
    assert from_json(content) == transcript
    jsonschema.validate(json.loads(content), json.loads(SCHEMA.read_text()))


@pytest.mark.parametrize(
    "content", [b"", b"[]", b"{}", b'{"format": "something-else", "version": 1}', b"\xff"]
)
def test_what_is_no_transcript_is_refused(content: bytes) -> None:
    with pytest.raises(InputError, match="not a transcript"):
        from_json(content)


@given(transcripts)
def test_a_newer_version_is_refused_with_advice(transcript: Transcript) -> None:
    newer = to_json(transcript).replace(b'"version": 2', b'"version": 3')
    with pytest.raises(InputError, match="version 3") as caught:
        from_json(newer)
    assert caught.value.advice == "install a newer mantisreed"


@given(timed_words())
def test_passages_hold_every_word_and_break_only_at_long_pauses(words: list[Word]) -> None:
    passages = list(passages_of(words, longest_pause=0.5))
    assert [word for passage in passages for word in passage.words] == words
    for passage in passages:
        pauses = [b.start - a.end for a, b in pairwise(passage.words)]
        assert all(pause <= 0.5 for pause in pauses)
    for before, after in pairwise(passages):
        assert after.start - before.end > 0.5


spans = st.lists(st.tuples(st.integers(20, 400), st.integers(15, 300)), min_size=1, max_size=12)


@given(st.lists(texts, min_size=1, max_size=60).map(" ".join), spans)
def test_estimated_words_are_all_there_in_order_and_never_in_silence(
    text: str, lengths: list[tuple[int, int]]
) -> None:
    at, speech = 0.0, []
    for spoken, silent in lengths:
        speech.append((at, at + spoken / 100))
        at += (spoken + silent) / 100

    passages = words_over_speech(text, speech, at)

    words = [word for passage in passages for word in passage.words]
    assert [word.text for word in words] == words_of(text)
    assert "".join("".join(passage.text.split()) for passage in passages) == "".join(text.split())
    assert {passage.timing for passage in passages} == {"estimated"}
    edges = [edge for word in words for edge in (word.start, word.end)]
    assert all(before <= after + 1e-6 for before, after in pairwise(edges))
    for word in words:
        assert any(start - 1e-6 <= word.start and word.end <= end + 1e-6 for start, end in speech)


def test_sentences_go_to_the_stretches_that_fit_them() -> None:
    text = "Nets closed. The water in the eastern pool is lower than it has ever been. Tea?"
    speech = [(0.5, 1.4), (3.0, 7.2), (9.0, 9.4)]
    passages = words_over_speech(text, speech, 10.0)
    assert [passage.text.split()[0] for passage in passages] == ["Nets", "The", "Tea?"]


def test_word_errors_are_counted_by_kind() -> None:
    true = comparable("The curlew, we think, was nineteen YEARS old!")
    heard = comparable("the curlew we thing was was nineteen years")
    errors = word_errors(true, heard)
    assert (errors.words, errors.substituted, errors.missing, errors.added) == (8, 1, 1, 1)
    assert errors.rate == 3 / 8


@given(st.lists(texts, max_size=30), st.lists(texts, max_size=30))
def test_word_errors_are_none_only_for_the_same_words(true: list[str], heard: list[str]) -> None:
    errors = word_errors(true, heard)
    assert (errors.rate == 0) == (true == heard)
    assert len(true) - errors.missing + errors.added == len(heard)
