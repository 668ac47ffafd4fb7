"""Where a transcript is doubtful: what engines make up, repeat, leave out or hear in another
language, and why.
"""

import math
import statistics
import unicodedata
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, pairwise

import msgspec
import numpy as np
from numpy.typing import NDArray

from mantisreed.review.aligning import aligned_runs
from mantisreed.review.drift import drifts_of
from mantisreed.review.language import language_findings
from mantisreed.review.normalising import key_of
from mantisreed.review.runs import runs_where
from mantisreed.transcript.document import WORTH_HEARING, Doubt, Passage, Transcript, Word
from mantisreed.transcript.estimate import passages_over_speech

KINDS = {
    "silence": "text where nobody speaks",
    "missing": "speech without text",
    "loop": "text that goes round",
    "drift": "times that have run away from the speech",
    "pace": "faster than anybody speaks, or a word that never ends",
    "script": "another script than the rest",
    "language": "another language than the rest",
    "unlikely": "words that hardly make sense in their language",
    "confidence": "words of which the engine is not sure",
    "seam": "a cut went through speech, and the words beside it may be broken",
    "disagreement": "another engine tells it differently",
    "estimated": "times that the engine did not tell",
}
"""The kinds of doubts, in the order in which they stand where they begin together."""

_LONGEST_LOOP = 12  # words that are said again and again
# How often, by their number; speech says `no, no, no`, but hardly any three words thrice.
_REPEATED = {
    1: 5,
    2: 4,
}
_REPEATED_MORE = 3  # times in a row, of runs longer than those above
# Words, and characters a second over so many; the fastest speakers reach 25.
_PACES = (
    (8, 30.0),
    (4, 45.0),
)
_SLOWEST_WORD = 4.0  # seconds; nobody draws a word so long
_COVERED = 0.2  # share of a word that has to be over speech
_UNHEARD = 1.2  # seconds of speech without a word
# Confidence, and how many times the usual spread below the usual one.
_LEAST_CONFIDENT, _SPREADS = 0.65, 3.5
_ENOUGH_WORDS = 20  # to tell what confidence is usual in a recording
# Words, and the mean confidence over so many below which a stretch is doubtful in any recording.
_UNSURE = ((12, 0.65), (4, 0.5))
_SURE = 0.75  # words at the edge of such a stretch that are as sure do not belong to it
_AT_EDGE = (
    0.12  # seconds from the edge of a piece within which a word may be the rest of one that was cut
)
_IN_SPEECH = 0.04  # seconds of speech on both sides of a cut that went through a sound
_DIFFERING = 2  # words; a single one that differs is a matter of spelling more often than not
_FEW_WORDS = 1.0  # seconds
_SAID_OF_ALL = ("silence", "loop", "script", "language", "unlikely")

Span = tuple[float, float]


def doubts_of(transcript: Transcript, speech: Sequence[Span] | None = None) -> list[Doubt]:
    """All doubts that one transcript gives by itself, by time.

    Args:
        transcript: any.
        speech: where somebody speaks, in seconds, in order; None leaves out what needs it.
    """
    passages = passages_over_speech(transcript.passages, ())
    words = list(chain.from_iterable(passage.words for passage in passages))
    found = list(chain.from_iterable(map(_paces, _by_speaker(passages))))
    found += [*_loops(words), *_scripts(words), *_languages(passages, transcript.language)]
    found += [*_unsure(words), *_estimated(passages)]
    if speech is not None:
        # Where times have run away, text over silence and speech without text only say so again.
        drifts = [
            doubt_of("drift", start, end, _drifted(by), 0.5 + abs(by) / 4)
            for start, end, by in drifts_of(words, speech, transcript.recording.duration)
        ]
        found += drifts
        spans = [(doubt.start, doubt.end) for doubt in drifts]
        over = [*_over_silence(words, speech), *_unheard(words, speech)]
        found += [
            doubt for doubt in over if not any(start <= doubt.start < end for start, end in spans)
        ]
    return in_order(_without_repeats(found))


def _drifted(seconds: float) -> str:
    """What is said of times that have run away by so much."""
    way = "late" if seconds > 0 else "early"
    return f"the times are up to {abs(seconds):.1f} s {way} against the speech"


def _without_repeats(doubts: Sequence[Doubt]) -> list[Doubt]:
    """The doubts without those about confidence that only say again of a few words what is said of
    all of them.
    """
    told = [(doubt.start, doubt.end) for doubt in doubts if doubt.kind in _SAID_OF_ALL]
    return [
        doubt
        for doubt in doubts
        if doubt.kind != "confidence"
        or doubt.end - doubt.start >= _FEW_WORDS
        or not any(start <= doubt.start and doubt.end <= end for start, end in told)
    ]


def in_order(doubts: Iterable[Doubt]) -> list[Doubt]:
    """By time; of those that begin together by kind."""
    places = {kind: place for place, kind in enumerate(KINDS)}
    return sorted(
        doubts, key=lambda doubt: (doubt.start, places.get(doubt.kind, len(places)), doubt.end)
    )


def worth_hearing(doubts: Iterable[Doubt], least: float = WORTH_HEARING) -> list[Doubt]:
    """Those that have at least this grade."""
    return [doubt for doubt in doubts if doubt.grade >= least]


def with_doubts(
    transcript: Transcript, speech: Sequence[Span] | None, more: Iterable[Doubt] = ()
) -> Transcript:
    """The transcript with its doubts in it; `more` are those that its text alone does not show."""
    doubts = in_order([*doubts_of(transcript, speech), *more])
    return msgspec.structs.replace(transcript, doubts=tuple(doubts))


def text_at(words: Sequence[Word], start: float, end: float) -> str:
    """The words the middles of which lie in a stretch of time."""
    return " ".join(word.text for word in words if start <= (word.start + word.end) / 2 <= end)


def seam_doubts(
    spans: Sequence[Span], words: Sequence[Word], speech: Sequence[Span]
) -> list[Doubt]:
    """Seams at which a cut went through speech and words touch it: either side may have half of a
    word.

    Args:
        spans: of the pieces of one channel, in seconds, in order. Pieces that overlap heard the
            seam twice, and stitching tells where they differ.
        words: of the transcript, in order.
        speech: where somebody speaks, in order.
    """
    ends, starts = [end for _, end in speech], [word.start for word in words]
    found = []
    for (_, edge), (begin, _) in pairwise(spans):
        if abs(edge - begin) > 0.02:
            continue
        around = _overlap((edge - _IN_SPEECH, edge + _IN_SPEECH), speech, ends)
        near = words[max(0, bisect_left(starts, edge) - 3) : bisect_left(starts, edge) + 3]
        touching = [
            word for word in near if word.start < edge + _AT_EDGE and word.end > edge - _AT_EDGE
        ]
        if around > 1.9 * _IN_SPEECH and touching:
            why = "the recording was cut here in the middle of speech, as there was no pause"
            found.append(_doubt("seam", touching, why, 0.5))
    return found


def differing_seam(start: float, end: float) -> Doubt:
    """A seam whose two readings differ, in seconds."""
    return doubt_of("seam", start, end, "two pieces heard these seconds, and differ", 0.6)


def disagreements(transcript: Transcript, other: Transcript) -> list[Doubt]:
    """Passages that another transcript of the same recording tells differently, at the first one's
    times.
    """
    ours, theirs = transcript.words, other.words
    keys = [key_of(word.text) for word in ours]
    their_keys = [key_of(word.text) for word in theirs]
    name = other.engine or other.recording.name or "the other one"
    found = []
    for (first, last), (begin, finish) in _changes(keys, their_keys):
        if max(last - first, finish - begin) < _DIFFERING:
            continue
        here, there = ours[first:last], theirs[begin:finish]
        start = min(word.start for word in (*here, *there))
        end = max(word.end for word in (*here, *there))
        why = _told(name, len(here), len(there))
        grade = 0.4 + 0.05 * max(len(here), len(there))
        found.append(doubt_of("disagreement", start, end, why, grade))
    return found


def _told(name: str, ours: int, theirs: int) -> str:
    """How another one tells a passage of so many words with so many."""
    if not theirs:
        return f"{name} has nothing here"
    if ours == theirs:
        return f"{name} has other words here"
    counts = "1 word" if theirs == 1 else f"{theirs} words"
    return f"{name} has {counts} here instead of {ours}"


def _changes(ours: Sequence[str], theirs: Sequence[str]) -> Iterator[tuple[tuple[int, int], ...]]:
    """Runs of words [first, last) and [begin, end) that differ; a single word that is the same does
    not part them.
    """
    runs: list[list[int]] = []
    for run in aligned_runs(ours, theirs):
        if run.tag == "equal":
            continue
        if runs and run.first - runs[-1][1] <= 1:
            runs[-1][1], runs[-1][3] = run.last, run.end
        else:
            runs.append([run.first, run.last, run.begin, run.end])
    for first, last, begin, end in runs:
        yield (first, last), (begin, end)


def doubt_of(kind: str, start: float, end: float, why: str, grade: float) -> Doubt:
    """A doubt about a stretch, in seconds, to the millisecond; its grade is kept between 0 and
    1.
    """
    return Doubt(kind, round(start, 3), round(end, 3), why, round(min(1.0, max(0.0, grade)), 2))


def _doubt(kind: str, words: Sequence[Word], why: str, grade: float) -> Doubt:
    return doubt_of(kind, words[0].start, max(word.end for word in words), why, grade)


def _loops(words: Sequence[Word]) -> Iterator[Doubt]:
    """Runs of words that are said again and again, the shortest one that explains a stretch."""
    keys = [key_of(word.text) for word in words]
    at = 0
    while at < len(keys):
        for size in range(1, min(_LONGEST_LOOP, (len(keys) - at) // 2) + 1):
            if keys[at + size] != keys[at]:
                continue
            end = at + size
            while end < len(keys) and keys[end] == keys[end - size]:
                end += 1
            times = (end - at) // size
            if times >= _REPEATED.get(size, _REPEATED_MORE):
                if size == 1:
                    said = "one word stands"
                else:
                    said = f"the same {size} words stand"
                place = " at the end of the text" if end == len(keys) else ""
                yield _doubt(
                    "loop",
                    words[at:end],
                    f"{said} there {times} times in a row{place}",
                    0.5 + 0.1 * times,
                )
                at = end
                break
        else:
            at += 1


def _by_speaker(passages: Iterable[Passage]) -> list[list[Word]]:
    """Each speaker's words by time: two who speak at once are not one who speaks fast."""
    rows: dict[str | None, list[Word]] = {}
    for passage in passages:
        rows.setdefault(passage.speaker, []).extend(passage.words)
    return [sorted(words, key=lambda word: word.start) for words in rows.values()]


def _paces(words: Sequence[Word]) -> Iterator[Doubt]:
    """Runs in which more is said than anybody can say, and words that last too long."""
    letters = np.concatenate([[0], np.cumsum([len(word.text) + 1 for word in words])])
    is_fast = [False] * len(words)
    fastest_of = [(0.0, 0, 1.0)] * len(words)  # of the windows that begin there
    for count, fastest in _PACES:
        for at in range(len(words) - count + 1):
            length = words[at + count - 1].end - words[at].start
            pace = float(letters[at + count] - letters[at]) / max(0.01, length)
            if pace > fastest:
                is_fast[at : at + count] = [True] * count
                fastest_of[at] = max(fastest_of[at], (pace, count, fastest))
    for first, last in runs_where(is_fast):
        # A run of fast windows may be slower as a whole than any of them, and than the limit.
        pace, count, limit = max(fastest_of[first:last], key=lambda one: (one[0] / one[2], one[1]))
        shown = min(math.ceil(pace * 10) / 10, 999.0)
        why = (
            f"{shown:g} characters a second over {count} words; nobody speaks faster than {limit:g}"
        )
        yield _doubt("pace", words[first:last], why, pace / (2 * limit))
    for word in words:
        if word.end - word.start > _SLOWEST_WORD:
            yield _doubt("pace", [word], f"one word lasts {word.end - word.start:.1f} s", 0.6)


def _script_of(text: str) -> str:
    """The script of a word's first letter, as Unicode names it; empty where it has none."""
    letter = next((sign for sign in text if sign.isalpha()), "")
    if letter:
        name = unicodedata.name(letter, "").split(" ")[0]
    else:
        name = ""
    if name in ("CJK", "HIRAGANA", "KATAKANA"):
        return "CJK"
    return name


def _scripts(words: Sequence[Word]) -> Iterator[Doubt]:
    """Runs of words in another script than most of them are in."""
    scripts = [_script_of(word.text) for word in words]
    known = Counter(script for script in scripts if script)
    if not known:
        return
    usual = known.most_common(1)[0][0]
    for first, last in runs_where([bool(script) and script != usual for script in scripts]):
        run = words[first:last]
        why = f"in {scripts[first].capitalize()} script, the rest is in {usual.capitalize()}"
        yield _doubt("script", run, why, 0.5 + 0.15 * len(run))


def _languages(passages: Sequence[Passage], language: str | None) -> Iterator[Doubt]:
    """What is in another language than the rest, and what hardly makes sense in its own."""
    words = list(chain.from_iterable(passage.words for passage in passages))
    findings = language_findings(passages, language)
    for one in findings.others:
        why = f"looks like {one.language!r}, the rest is {findings.language!r}"
        yield _doubt("language", words[one.first : one.last], why, 0.8)
    for one in findings.unlikely:
        why = f"{one.last - one.first} words that hardly make sense in {one.language!r}"
        yield _doubt("unlikely", words[one.first : one.last], why, 0.5 + 0.1 * one.excess)


def _unsure(words: Sequence[Word]) -> Iterator[Doubt]:
    """Runs of words of which the engine is much less sure than it usually is in this recording, or
    than it has to be in any.
    """
    sure = [1.0 if word.confidence is None else word.confidence for word in words]
    known = [word.confidence for word in words if word.confidence is not None]
    if len(known) >= _ENOUGH_WORDS:
        usual = statistics.median(known)
    else:
        usual = 0.0
    spread = max(0.03, 1.4826 * statistics.median(abs(one - usual) for one in known or [0.0]))
    limit = min(_LEAST_CONFIDENT, usual - _SPREADS * spread)
    is_low = np.array(sure) < limit
    flags = list(map(bool, is_low | _low_stretches(sure)))
    for first, last in runs_where(flags):
        mean = statistics.fmean(sure[first:last])
        if mean < limit:
            why = f"confidence {mean:.2f}, usually {usual:.2f} in this recording"
            grade = (usual - mean) / usual
        else:
            why = f"confidence {mean:.2f} over {last - first} words"
            grade = 1 - mean
        yield _doubt("confidence", words[first:last], why, grade)


def _low_stretches(sure: Sequence[float]) -> NDArray[np.bool_]:
    """Words in windows of low confidence, without the sure ones at the edges of a stretch."""
    sums = np.concatenate([[0.0], np.cumsum(sure)])
    flags = np.zeros(len(sure), np.bool_)
    for count, least in _UNSURE:
        for first in np.flatnonzero(sums[count:] - sums[:-count] < least * count).tolist():
            flags[first : first + count] = True
    for first, last in runs_where(list(map(bool, flags))):
        unsure = [at for at in range(first, last) if sure[at] < _SURE]
        flags[first:last] = False
        flags[unsure[0] : unsure[-1] + 1] = True
    return flags


def _estimated(passages: Sequence[Passage]) -> Iterator[Doubt]:
    for first, last in runs_where([passage.timing == "estimated" for passage in passages]):
        run = passages[first:last]
        end = max(passage.end for passage in run)
        yield Doubt(
            "estimated",
            run[0].start,
            end,
            "times of words were estimated, not told by the engine",
            0.2,
        )


def _over_silence(words: Sequence[Word], speech: Sequence[Span]) -> Iterator[Doubt]:
    """Runs of words where nobody speaks."""
    last_speech = max((end for _, end in speech), default=0.0)
    ends = [end for _, end in speech]
    covered = [_overlap((word.start, word.end), speech, ends) for word in words]
    flags = [
        part < _COVERED * max(0.02, word.end - word.start)
        for word, part in zip(words, covered, strict=True)
    ]
    for first, last in runs_where(flags):
        run = words[first:last]
        # A single short word at the edge of speech is a matter of where voice activity draws its
        # line.
        if len(run) < 2 and run[0].end - run[0].start < 0.5:
            continue
        is_after = run[0].start >= last_speech
        if is_after:
            why = "after the last speech"
        else:
            why = "nobody speaks there"
        yield _doubt("silence", run, why, 0.6 + 0.1 * len(run))


def _unheard(words: Sequence[Word], speech: Sequence[Span]) -> Iterator[Doubt]:
    """Speech without text, in one gap between words: noise may break it into many short
    stretches.
    """
    if not speech:
        return
    starts, ends = [start for start, _ in speech], [end for _, end in speech]
    last = max(ends)
    for start, end in _gaps(sorted((word.start, word.end) for word in words), last):
        if end - start < _UNHEARD:
            continue
        inside = [
            (max(start, first), min(end, after))
            for first, after in speech[bisect_right(ends, start) : bisect_left(starts, end)]
        ]
        spoken = sum(after - first for first, after in inside)
        if spoken >= _UNHEARD:
            why = f"{spoken:.1f} s of speech without text"
            yield doubt_of("missing", inside[0][0], inside[-1][1], why, spoken / 4)


def _gaps(spans: Sequence[Span], last: float) -> Iterator[Span]:
    """Stretches from 0 to `last` that no span, by start, covers."""
    at = 0.0
    for start, end in spans:
        if start > at:
            yield at, min(start, last)
        at = max(at, end)
        if at >= last:
            return
    yield at, last


def _overlap(span: Span, speech: Sequence[Span], ends: Sequence[float]) -> float:
    """Seconds of a span that are over speech, of which the ends are given as well."""
    total = 0.0
    for start, end in speech[bisect_left(ends, span[0]) :]:
        if start >= span[1]:
            break
        total += max(0.0, min(span[1], end) - max(span[0], start))
    return total
