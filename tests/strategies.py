"""What property tests share: transcripts and the words in them."""

from hypothesis import strategies as st

from mantisreed.transcript.document import (
    Doubt,
    Passage,
    RecordingFacts,
    Replacement,
    Transcript,
    Word,
)

texts = st.text(st.characters(exclude_categories=("Cs", "Cc", "Z")), min_size=1, max_size=12)


@st.composite
def timed_words(draw: st.DrawFn, most: int = 40) -> list[Word]:
    """Words in order of time, to the millisecond, with pauses of all lengths."""
    at, words = 0, []
    for text in draw(st.lists(texts, min_size=1, max_size=most)):
        at += draw(st.sampled_from([0, 0, 40, 200, 900, 3000]))
        length = draw(st.integers(30, 900))
        confidence = draw(st.none() | st.integers(0, 1000).map(lambda n: n / 1000))
        words.append(Word(text, at / 1000, (at + length) / 1000, confidence))
        at += length
    return words


@st.composite
def passages(draw: st.DrawFn) -> Passage:
    words = draw(timed_words())
    speaker = draw(st.none() | texts)
    return Passage(
        words[0].start,
        words[-1].end,
        " ".join(w.text for w in words),
        speaker,
        "engine",
        tuple(words),
    )


transcripts = st.builds(
    Transcript,
    recording=st.builds(RecordingFacts, texts, st.just("sha256:" + "0" * 64), st.just(60.0)),
    engine=texts,
    job=texts,
    language=st.none() | st.just("en-GB"),
    speakers=st.lists(texts, max_size=2).map(tuple),
    passages=st.lists(passages(), max_size=3).map(tuple),
    notes=st.lists(texts, max_size=2).map(tuple),
    doubts=st.lists(
        st.builds(Doubt, texts, st.just(1.0), st.just(2.5), texts, st.just(0.5)), max_size=2
    ).map(tuple),
    replacements=st.lists(
        st.builds(Replacement, st.just(1.0), st.just(2.5), texts, texts, texts, texts), max_size=2
    ).map(tuple),
)
