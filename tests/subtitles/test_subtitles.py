"""Cues, SRT and WebVTT."""

import html
import re
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from mantisreed.subtitles.cues import Cue, LayoutRules, broken_into_lines, in_order, lay_out
from mantisreed.subtitles.srt import write_srt
from mantisreed.subtitles.vtt import write_webvtt
from mantisreed.transcript.document import Passage, Word
from mantisreed.units import parse_duration
from strategies import passages, texts

RULES = LayoutRules()
TIMES = re.compile(r"(\S+) --> (\S+)")


@given(passages())
def test_cues_hold_every_word_once_at_its_time_within_the_rules(passage: Passage) -> None:
    cues = list(lay_out([passage], RULES))
    assert " ".join(line for cue in cues for line in cue.lines).split() == passage.text.split()
    at = 0
    for cue in cues:
        words = passage.words[at : at + len(" ".join(cue.lines).split())]
        at += len(words)
        assert (cue.start, cue.end, cue.speaker) == (words[0].start, words[-1].end, passage.speaker)
        assert len(cue.lines) <= RULES.lines and all(len(line) <= RULES.line_length for line in cue.lines)
        assert cue.end - cue.start <= RULES.longest or len(words) == 1
        assert all(b.start - a.end <= RULES.longest_pause for a, b in pairwise(words))


def test_a_cue_ends_with_its_sentence() -> None:
    words = tuple(
        Word(text, n / 4, n / 4 + 0.2) for n, text in enumerate(["No", "birds.", "Nets", "closed.", "Tea?"])
    )
    cues = list(lay_out([Passage(0, 2, "No birds. Nets closed. Tea?", words=words)]))
    assert [cue.lines for cue in cues] == [("No birds.",), ("Nets closed.",), ("Tea?",)]


def test_a_passage_without_words_is_laid_out_by_its_own_times() -> None:
    (cue,) = lay_out([Passage(3.0, 5.0, "High water at seven.")])
    assert (cue.start, cue.end, cue.lines) == (3.0, 5.0, ("High water at seven.",))


@given(st.lists(texts, min_size=2, max_size=14))
def test_lines_are_balanced_with_the_shorter_above(words: list[str]) -> None:
    lines = broken_into_lines(words, 20)
    assert " ".join(lines) == " ".join(words)
    if len(lines) == 2:
        longest = min(max(len(" ".join(words[:n])), len(" ".join(words[n:]))) for n in range(1, len(words)))
        assert max(map(len, lines)) == longest


@given(st.lists(passages(), max_size=3))
def test_srt_numbers_its_cues_and_keeps_text_and_times(given_passages: list[Passage]) -> None:
    cues = in_order(lay_out(given_passages))
    blocks = write_srt(cues).split("\n\n")[:-1]
    assert len(blocks) == len(cues)
    for number, (block, cue) in enumerate(zip(blocks, cues, strict=True), 1):
        head, times, *lines = block.split("\n")
        assert head == str(number) and tuple(lines) == cue.lines
        assert re.fullmatch(r"\d\d:\d\d:\d\d,\d{3} --> \d\d:\d\d:\d\d,\d{3}", times)
        start, end = TIMES.fullmatch(times).groups()  # type: ignore[union-attr]
        assert abs(parse_duration(start) - cue.start) < 0.001 and abs(parse_duration(end) - cue.end) < 0.001


@given(st.lists(passages(), max_size=3))
def test_webvtt_escapes_text_and_names_speakers(given_passages: list[Passage]) -> None:
    cues = in_order(lay_out(given_passages))
    first, *blocks = write_webvtt(cues).rstrip("\n").split("\n\n") if cues else [write_webvtt(cues).rstrip()]
    assert first == "WEBVTT" and len(blocks) == len(cues)
    for block, cue in zip(blocks, cues, strict=True):
        _, *lines = block.split("\n")
        text = "\n".join(lines)
        voice = re.match(r"<v ([^>]*)>", text)
        assert (html.unescape(voice[1]) if voice else None) == cue.speaker
        bare = text[voice.end() :] if voice else text
        assert "<" not in bare and ">" not in bare
        unescaped = bare.replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&")
        assert tuple(unescaped.split("\n")) == cue.lines


def test_an_arrow_in_the_text_does_not_break_srt() -> None:
    assert "-->" not in write_srt([Cue(0, 1, ("to --> fro",))]).replace("00:00:00,000 --> 00:00:01,000", "")


def test_cues_of_one_speaker_do_not_overlap_and_those_of_two_may() -> None:
    cues = [Cue(2, 4, ("b",), "x"), Cue(0, 3, ("a",), "x"), Cue(3.5, 5, ("c",), "y")]
    assert [(cue.start, cue.end) for cue in in_order(cues)] == [(0, 2), (2, 4), (3.5, 5)]
