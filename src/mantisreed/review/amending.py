"""A corrected text laid over its transcript: what was not touched keeps its times, what was changed
gets some.
"""

import statistics
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import msgspec
from rapidfuzz.distance import Indel

from mantisreed.errors import InputError
from mantisreed.review.aligning import aligned_runs
from mantisreed.review.normalising import key_of
from mantisreed.transcript.document import Doubt, Passage, Transcript, Word, speakers_of
from mantisreed.transcript.estimate import estimated_words, passages_over_speech, spoken_length
from mantisreed.transcript.punctuation import ends_sentence
from mantisreed.transcript.writing import joined, words_of

# Case and marks may be corrected without any other time; these may not.
_AS_WRITTEN = (
    "numbers",
    "hesitations",
)
_LEAST_SHARED = 0.3  # share of the words; a text with less is of something else
_LONGEST_RUN = 2000  # words that differ in a row; time and memory grow with the square
_SHORTEST_SPEECH = 0.12  # seconds that can hold a word
# share of the time that words usually take, for which there has to be speech between their
# neighbours
_ENOUGH = 0.6
_USUAL_PACE = 0.12  # seconds for a unit of spoken length, where no word has a time


@dataclass(frozen=True, slots=True)
class Paragraph:
    """A piece of corrected text.

    Attributes:
        text: as people corrected it.
        speaker: who says it; None where the correction does not say.
    """

    text: str
    speaker: str | None = None


@dataclass(slots=True)
class Changes:
    """What a correction changed, in words.

    Attributes:
        kept: words that were not touched, or of which only case or marks were.
        changed, inserted, deleted: others.
        speakers: words that went to another speaker.
        pairs: runs of words that became others, before and after, and how often.
    """

    kept: int = 0
    changed: int = 0
    inserted: int = 0
    deleted: int = 0
    speakers: int = 0
    pairs: Counter[tuple[str, str]] = field(default_factory=Counter)


@dataclass(slots=True)
class _Placed:
    """A corrected word, with where it stands.

    Attributes:
        text: as it is written now.
        paragraph: its number in the correction.
        passage: the number of the transcript's passage that it belongs to.
        word: it with times; None until it has some.
    """

    text: str
    paragraph: int
    passage: int = 0
    word: Word | None = None


def amended(
    transcript: Transcript,
    corrected: Sequence[Paragraph],
    *,
    keeps_passages: bool = False,
    speech: Sequence[tuple[float, float]] = (),
) -> tuple[Transcript, Changes]:
    """The transcript with a corrected text.

    Words that were not touched keep their times and confidences. A word that became another has the
    time of the one it replaces; several share the time of those that they replace, by how long they
    take to say. What was put in stands between its neighbours, and moves neither.

    Args:
        transcript: with times of words.
        corrected: all of its text, in order.
        keeps_passages: whether passages stay as they are, as where cues were corrected, which say
            nothing of passages; otherwise each paragraph is a passage.
        speech: where somebody speaks, in order, so that what was put in stands where it was said;
            empty where nobody knows.

    Raises:
        InputError: the text has hardly a word in common with the transcript.
    """
    passages_before = passages_over_speech(transcript.passages, ())
    transcript = msgspec.structs.replace(transcript, passages=tuple(passages_before))
    before = _old_words(transcript)
    after = _new_words(corrected, transcript.language)
    changes = Changes()
    touched: list[tuple[float, float]] = []
    pace = _pace_of([word for word, _ in before])
    for run in _runs([word.text for word, _ in before], [placed.text for placed in after]):
        old, new = before[run.first : run.last], after[run.begin : run.end]
        _count(changes, run, old, new)
        if old and not run.is_kept:
            touched.append((old[0][0].start, max(word.end for word, _ in old)))
        _share_times(run, old, new)
    if not before or changes.kept < _LEAST_SHARED * max(len(before), 1):
        raise InputError(
            "the corrected text has hardly a word in common with the transcript",
            advice="is it the text of this transcript, and all of it?",
        )
    _time_the_rest(after, pace, transcript.recording.duration, speech)
    if keeps_passages:
        passages = _as_they_were(transcript, after, corrected, changes)
    else:
        passages = _as_paragraphs(transcript, after, corrected, changes)
    note = (
        f"amended: {changes.changed} words changed, {changes.inserted} inserted, "
        f"{changes.deleted} deleted, {changes.kept} kept"
    )
    anew = msgspec.structs.replace(
        transcript,
        passages=passages,
        speakers=speakers_of(passages),
        notes=(*transcript.notes, note),
        doubts=_doubts_outside(transcript.doubts, touched),
    )
    return anew, changes


def _old_words(transcript: Transcript) -> list[tuple[Word, int]]:
    """Each word with the number of its passage."""
    words = []
    for at, passage in enumerate(transcript.passages):
        words += [(word, at) for word in passage.words]
    return words


def _new_words(corrected: Sequence[Paragraph], language: str | None) -> list[_Placed]:
    words = []
    for at, paragraph in enumerate(corrected):
        words += [_Placed(text, at) for text in words_of(paragraph.text, language)]
    return words


def _doubts_outside(
    doubts: Sequence[Doubt], touched: Sequence[tuple[float, float]]
) -> tuple[Doubt, ...]:
    """Those that are left: who corrected a stretch has listened to it."""

    def is_touched(doubt: Doubt) -> bool:
        return any(start < doubt.end and end > doubt.start for start, end in touched)

    return tuple(doubt for doubt in doubts if not is_touched(doubt))


@dataclass(frozen=True, slots=True)
class _ChangedRun:
    """Words [first, last) of the transcript that became words [begin, end) of the correction.

    `is_kept` says that they are the same, one by one.
    """

    is_kept: bool
    first: int
    last: int
    begin: int
    end: int


def _runs(old: Sequence[str], new: Sequence[str]) -> Iterator[_ChangedRun]:
    """How one text became the other, with as many words kept as can be.

    First by the words as they are written, which tells neighbours apart that differ in case only;
    then, inside of what differs, by the longest common subsequence of the words without case and
    marks. The distance alone would sooner change three words than find that the one in the middle
    only moved by one.
    """
    first = begin = 0
    for same in aligned_runs(old, new):
        if same.tag != "equal":
            continue
        yield from _runs_inside(old, new, _ChangedRun(False, first, same.first, begin, same.begin))
        yield _ChangedRun(True, same.first, same.last, same.begin, same.end)
        first, begin = same.last, same.end
    yield from _runs_inside(old, new, _ChangedRun(False, first, len(old), begin, len(new)))


def _runs_inside(old: Sequence[str], new: Sequence[str], run: _ChangedRun) -> Iterator[_ChangedRun]:
    """A run of words that differ, parted at those that only differ in case or marks."""
    first, begin = run.first, run.begin
    if run.last > first and run.end > begin and run.last - first <= _LONGEST_RUN:
        old_keys = [key_of(text, None, _AS_WRITTEN) for text in old[run.first : run.last]]
        new_keys = [key_of(text, None, _AS_WRITTEN) for text in new[run.begin : run.end]]
        for code in Indel.opcodes(old_keys, new_keys):
            if code.tag != "equal":
                continue
            source, target = run.first + code.src_start, run.begin + code.dest_start
            if source > first or target > begin:
                yield _ChangedRun(False, first, source, begin, target)
            first, begin = run.first + code.src_end, run.begin + code.dest_end
            yield _ChangedRun(True, source, first, target, begin)
    if run.last > first or run.end > begin:
        yield _ChangedRun(False, first, run.last, begin, run.end)


def _count(
    changes: Changes, run: _ChangedRun, old: Sequence[tuple[Word, int]], new: Sequence[_Placed]
) -> None:
    if run.is_kept:
        changes.kept += len(new)
        return
    changes.changed += min(len(old), len(new))
    changes.inserted += max(0, len(new) - len(old))
    changes.deleted += max(0, len(old) - len(new))
    if old and new:
        said, now = " ".join(word.text for word, _ in old), " ".join(placed.text for placed in new)
        changes.pairs[said, now] += 1


def _share_times(run: _ChangedRun, old: Sequence[tuple[Word, int]], new: Sequence[_Placed]) -> None:
    """The times of words for those that they became: one by one, or all of them together."""
    if not old or not new:
        return
    if len(old) == len(new):
        for placed, (word, number) in zip(new, old, strict=True):
            placed.passage = number
            placed.word = Word(
                placed.text, word.start, word.end, word.confidence if run.is_kept else None
            )
        return
    start = old[0][0].start
    whole = [(start, max(start + 0.001, *(word.end for word, _ in old)))]
    for placed, word in zip(new, estimated_words([one.text for one in new], whole), strict=True):
        placed.passage = old[0][1]
        placed.word = Word(placed.text, round(word.start, 3), round(word.end, 3))


def _pace_of(words: Sequence[Word]) -> float:
    """Seconds for a unit of spoken length."""
    paces = [
        (word.end - word.start) / spoken_length(word.text)
        for word in words
        if word.end > word.start
    ]
    if paces:
        return statistics.median(paces)
    return _USUAL_PACE


def _time_the_rest(
    after: Sequence[_Placed], pace: float, duration: float, speech: Sequence[tuple[float, float]]
) -> None:
    """Times for words that were put in: where somebody speaks between their neighbours; where
    nobody knows, beside
    them, as long as they take to say, if there is room.
    """
    at = 0
    while at < len(after):
        if after[at].word is not None:
            at += 1
            continue
        last = at
        while last < len(after) and after[last].word is None:
            last += 1
        left = after[at - 1].word if at else None
        right = after[last].word if last < len(after) else None
        texts = [placed.text for placed in after[at:last]]
        needed = pace * sum(map(spoken_length, texts))
        start, end = _room_between(left, right, needed, duration, speech)
        if at:
            passage = after[at - 1].passage
        elif right:
            passage = after[last].passage
        else:
            passage = 0
        stretches = _spoken_between(start, end, speech) or [(start, max(end, start + 0.001))]
        words = estimated_words(texts, stretches)
        for placed, word in zip(after[at:last], words, strict=True):
            placed.word = Word(
                placed.text, round(word.start, 3), round(min(word.end, max(end, start)), 3)
            )
            placed.passage = passage
        at = last


def _room_between(
    left: Word | None,
    right: Word | None,
    needed: float,
    duration: float,
    speech: Sequence[tuple[float, float]],
) -> tuple[float, float]:
    """When words are said that take `needed` seconds, between the word before and the one after."""
    start = left.end if left else 0.0
    end = max(start, right.start if right else max(duration, start))
    heard = _spoken_between(start, end, speech)
    if sum(last - first for first, last in heard) >= _ENOUGH * needed:
        return heard[0][0], heard[-1][1]
    if end - start <= needed:
        return start, end
    # A new sentence stands with what follows it, what goes on with what came before.
    goes_on = left is not None and not ends_sentence(left.text)
    if goes_on or right is None:
        return start, start + needed
    return end - needed, end


def _spoken_between(
    start: float, end: float, speech: Sequence[tuple[float, float]]
) -> list[tuple[float, float]]:
    """The speech between two moments, without what is too short to hold a word."""
    ends = [last for _, last in speech]
    found = []
    for first, last in speech[bisect_right(ends, start) :]:
        if first >= end:
            break
        if min(last, end) - max(first, start) >= _SHORTEST_SPEECH:
            found.append((max(first, start), min(last, end)))
    return found


def _as_paragraphs(
    transcript: Transcript,
    after: Sequence[_Placed],
    corrected: Sequence[Paragraph],
    changes: Changes,
) -> tuple[Passage, ...]:
    """A passage for each paragraph."""
    own: dict[int, list[_Placed]] = {}
    for placed in after:
        own.setdefault(placed.paragraph, []).append(placed)
    passages = []
    for number, words in own.items():
        paragraph = corrected[number]
        was = Counter(transcript.passages[placed.passage].speaker for placed in words).most_common(
            1
        )[0][0]
        speaker = was
        if paragraph.speaker is not None:
            speaker = paragraph.speaker
        changes.speakers += sum(
            transcript.passages[placed.passage].speaker != speaker for placed in words
        )
        origin = transcript.passages[words[0].passage]
        timed = tuple(placed.word for placed in words if placed.word is not None)
        text = " ".join(paragraph.text.split())
        start, end = timed[0].start, max(word.end for word in timed)
        passages.append(Passage(start, end, text, speaker, origin.timing, timed))
    return tuple(passages)


def _as_they_were(
    transcript: Transcript,
    after: Sequence[_Placed],
    corrected: Sequence[Paragraph],
    changes: Changes,
) -> tuple[Passage, ...]:
    """The transcript's passages with their new words; a passage without any is gone."""
    own: dict[int, list[_Placed]] = {}
    for placed in after:
        own.setdefault(placed.passage, []).append(placed)
    passages = []
    for number, words in sorted(own.items()):
        origin = transcript.passages[number]
        named = Counter(corrected[placed.paragraph].speaker for placed in words).most_common(1)[0][
            0
        ]
        speaker = origin.speaker if named is None else named
        if speaker != origin.speaker:
            changes.speakers += len(words)
        timed = tuple(placed.word for placed in words if placed.word is not None)
        is_same = [word.text for word in timed] == [word.text for word in origin.words]
        if is_same:
            text = origin.text
        else:
            text = joined(word.text for word in timed)
        start, end = (
            min(origin.start, timed[0].start),
            max(origin.end, *(word.end for word in timed)),
        )
        passages.append(
            msgspec.structs.replace(
                origin, start=start, end=end, text=text, speaker=speaker, words=timed
            )
        )
    return tuple(passages)
