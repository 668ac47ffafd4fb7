"""Where recordings are cut."""

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from mantisreed.audio.cuts import CutRules, Span, SpanChooser, choose_spans, smaller_spans


@st.composite
def speech_and_duration(
    draw: st.DrawFn, shortest_pause: int = 15
) -> tuple[list[tuple[float, float]], float]:
    at, speech = 0, []
    for pause, spoken in draw(
        st.lists(
            st.tuples(st.integers(shortest_pause, 800), st.integers(10, 2500)),
            min_size=1,
            max_size=40,
        )
    ):
        speech.append(((at + pause) / 100, (at + pause + spoken) / 100))
        at += pause + spoken
    return speech, (at + draw(st.integers(0, 500))) / 100


def cut_through(spans: list[Span], speech: list[tuple[float, float]]) -> list[float]:
    """Seconds at which an edge goes through speech."""
    edges = [edge for span in spans for edge in (span.start, span.end)]
    return [
        edge for edge in edges if any(start + 1e-6 < edge < end - 1e-6 for start, end in speech)
    ]


@given(speech_and_duration(), st.integers(20, 120))
def test_spans_hold_all_speech_and_none_is_too_long(
    given_speech: tuple[list[tuple[float, float]], float], longest: int
) -> None:
    speech, duration = given_speech
    spans = choose_spans(speech, duration, CutRules(longest))
    assert all(
        0 <= span.start < span.end <= duration and span.length <= longest + 1e-6 for span in spans
    )
    for start, end in speech:
        covered = sorted(
            (max(start, span.start), min(end, span.end)) for span in spans if span.end > start
        )
        reached = start
        for left, right in covered:
            assert left <= reached + 1e-6 or left >= end
            reached = max(reached, right)
        assert reached >= end - 1e-6


@given(speech_and_duration(shortest_pause=51), st.integers(30, 120))
def test_a_cut_never_falls_inside_speech_that_fits_a_piece(
    given_speech: tuple[list[tuple[float, float]], float], longest: int
) -> None:
    speech, duration = given_speech
    spans = choose_spans(speech, duration, CutRules(longest))
    assert not cut_through(spans, speech)
    assert not any(span.overlaps for span in spans)


def test_around_a_pause_that_may_be_none_the_pieces_overlap() -> None:
    first, second = choose_spans([(0.0, 20.0), (20.15, 40.0)], 40.0, CutRules(30.0))
    assert second.overlaps and first.end - second.start > 1.0


def test_long_pauses_are_cut_and_short_ones_are_not() -> None:
    # A longer pause after each fourth.
    speech = [(n * 5.0, n * 5.0 + (4.8 if n % 4 else 3.0)) for n in range(24)]
    spans = choose_spans(speech, 120.0, CutRules(30.0))
    assert len(spans) <= 6
    for before, after in pairwise(spans):
        assert after.start - before.end > 1.0


def test_leading_trailing_and_long_inner_silence_is_left_out() -> None:
    spans = choose_spans([(100.0, 110.0), (500.0, 520.0)], 900.0, CutRules(60.0))
    assert [(span.start, span.end) for span in spans] == [(99.7, 110.3), (499.7, 520.3)]


def test_speech_without_pauses_is_cut_with_an_overlap() -> None:
    spans = choose_spans([(0.0, 100.0)], 100.0, CutRules(40.0))
    assert len(spans) == 3 and all(span.overlaps for span in spans[1:])
    assert all(abs(before.end - after.start - 4.5) < 0.6 for before, after in pairwise(spans))


@given(speech_and_duration(), st.integers(20, 120))
def test_kept_silence_is_in_the_spans_and_cut_in_its_middle(
    given_speech: tuple[list[tuple[float, float]], float], longest: int
) -> None:
    speech, duration = given_speech
    spans = choose_spans(speech, duration, CutRules(longest, keeps_silence=True))
    assert spans[0].start == 0.0 and spans[-1].end == duration
    assert all(after.start <= before.end for before, after in pairwise(spans))
    assert all(span.length <= longest + 1e-6 for span in spans)


@given(speech_and_duration(), st.integers(20, 120))
def test_each_span_repeats_the_end_of_the_one_before_when_asked(
    given_speech: tuple[list[tuple[float, float]], float], longest: int
) -> None:
    speech, duration = given_speech
    spans = choose_spans(speech, duration, CutRules(longest, overlap=4.0, repeats=True))
    assert all(span.length <= longest + 1e-6 for span in spans)
    for before, after in pairwise(spans):
        pause = next((b[0] - a[1] for a, b in pairwise(speech) if a[1] <= before.end <= b[0]), 0.0)
        assert after.overlaps or pause >= min(10.0, longest / 4) - 1e-6
        assert (
            not after.overlaps
            or before.end - after.start >= 4.0 - 1e-6
            or after.start == before.start
        )


def test_kept_silence_behind_a_long_run_fits_into_a_span_with_it() -> None:
    spans = choose_spans([(0.15, 20.27), (28.27, 46.67)], 66.67, CutRules(40.0, keeps_silence=True))
    assert max(span.length for span in spans) <= 40.0 and spans[-1].end == 66.67


def test_a_span_that_repeats_more_than_the_one_before_is_no_longer_than_it_may_be() -> None:
    speech = [(0.15, 0.25), (0.4, 0.5), (6.01, 9.7), (13.3, 13.41), (17.01, 25.41)]
    spans = choose_spans(speech, 25.71, CutRules(20.0, overlap=4.0, repeats=True))
    assert max(span.length for span in spans) <= 20.0


@given(speech_and_duration(), st.integers(20, 120), st.booleans())
def test_spans_leave_while_the_recording_is_heard(
    given_speech: tuple[list[tuple[float, float]], float], longest: int, keeps_silence: bool
) -> None:
    speech, duration = given_speech
    chooser = SpanChooser(CutRules(longest, keeps_silence=keeps_silence))
    spans: list[Span] = []
    heard = 0.0
    while heard < duration:
        now = min(duration, heard + 10.0)
        needed = chooser.needed_from
        fresh = chooser.hear(
            [stretch for stretch in speech if heard < stretch[1] <= now],
            min([now] + [start for start, end in speech if start < now < end]),
        )
        assert all(span.start >= needed - 1e-6 for span in fresh)
        spans += fresh
        heard = now
        assert heard - chooser.needed_from <= 2 * longest + 60.0
    spans += chooser.finish(duration)
    for start, end in speech:
        assert any(span.start <= start + 1e-6 < span.end for span in spans)
        assert any(span.start < end - 1e-6 <= span.end for span in spans)
    assert all(span.length <= longest + 1e-6 for span in spans)


def test_looking_ahead_costs_hardly_more_pieces_than_knowing_all() -> None:
    speech = [(n * 7.0, n * 7.0 + 4.0 + n % 3) for n in range(400)]
    chooser = SpanChooser(CutRules(60.0))
    spans = [
        span for start, end in speech for span in chooser.hear([(start, end)], end)
    ] + chooser.finish(2800.0)
    assert len(spans) <= len(choose_spans(speech, 2800.0, CutRules(60.0))) + 1


@given(speech_and_duration())
def test_a_span_that_is_too_big_becomes_smaller_ones_that_hold_all_of_it(
    given_speech: tuple[list[tuple[float, float]], float],
) -> None:
    speech, duration = given_speech
    whole = Span(0.0, duration + 20.0)
    parts = smaller_spans(whole, speech, whole.length * 0.6)
    assert all(part.length <= 0.6 * whole.length + 1e-6 for part in parts)
    assert parts[0].start == whole.start and parts[-1].end == whole.end
    assert all(after.start <= before.end for before, after in pairwise(parts))
