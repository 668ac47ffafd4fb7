"""Where a transcript is doubtful: what engines make up, repeat, leave out or hear in another
language, and why.
"""

import re
import statistics
import unicodedata
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Container, Iterable, Iterator, Sequence
from functools import cache
from itertools import accumulate, pairwise

import msgspec
import numpy as np
from numpy.typing import NDArray

from mantisreed.review.aligning import aligned_runs
from mantisreed.review.normalising import key_of, normalised_word
from mantisreed.review.runs import runs_where
from mantisreed.subtitles.languages import words_of_language
from mantisreed.transcript.document import WORTH_HEARING, Doubt, Passage, Transcript, Word
from mantisreed.transcript.estimate import passages_over_speech
from mantisreed.transcript.punctuation import ends_sentence

KINDS = {
    "silence": "text where nobody speaks",
    "missing": "speech without text",
    "loop": "text that goes round",
    "drift": "times that have run away from the speech",
    "pace": "faster than anybody speaks, or a word that never ends",
    "script": "another script than the rest",
    "language": "another language than the rest",
    "confidence": "words of which the engine is less sure than usual",
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
_REPEATED_MORE = 3
# Words, and characters a second over so many; the fastest speakers reach 25.
_PACES = (
    (8, 30.0),
    (4, 45.0),
)
_SLOWEST_WORD = 4.0  # seconds; nobody draws a word so long
_COVERED = 0.2  # share of a word that has to be over speech
_UNHEARD = 1.2  # seconds of speech without a word
_SHORTEST_SENTENCE = 4  # words; of fewer nobody knows the language
# Words, and how much more small words another language has among them.
_LANGUAGE_WINDOW, _CLEARLY = (
    12,
    0.25,
)
_SMALL_WORDS = 0.3  # share of small words from which a window is of a language
# Confidence, and how many times the usual spread below the usual one.
_LEAST_CONFIDENT, _SPREADS = (
    0.65,
    3.5,
)
# Shapes of words that the other languages hardly have; short sentences may have few small words.
_SHAPES = {
    "en": "th|^wh|ight|ough|[a-z]{2}ing$|[^aeiou]y$|"
    "^(?:one|two|four|five|six|seven|nine|ten|eleven|twelve)$",
    "de": "[äöüß]|sch|cht|pf|ung$|keit$|tz|"
    "^(?:eins|zwei|drei|vier|fünf|sechs|sieben|acht|neun|zehn|elf)$",
    "fr": "[èêùçœ]|é|eux$|eau|[a-z]+ent$|^(?:[ldjncmts]|qu)['’]",
    "es": "ñ|ción$|[áíóú]|ll|dad$|^qu",
    "it": "zion[ei]$|gli|[àèìòù]$|cch|tt[aoie]$",
    "pt": "[ãõ]|ç|nh|lh|dade$",
    "nl": "ij|[a-z]oe|aa|uu|eeuw|sch",
    "pl": "[ąćęłńśźż]|sz|cz|rz|ów$",
}
_LANGUAGES = tuple(_SHAPES)
_AT_EDGE = (
    0.12  # seconds from the edge of a piece within which a word may be the rest of one that was cut
)
_IN_SPEECH = 0.04  # seconds of speech on both sides of a cut that went through a sound
_DIFFERING = 2  # words; a single one that differs is a matter of spelling more often than not
# seconds; this and what follows was tuned on the drifting recordings of benchmarks/doubting.py
_GRID = 0.1
_DRIFT_WINDOW, _DRIFT_STEP, _FARTHEST = 250, 100, 150  # steps of the grid
_CARRIED = 6  # windows for which an offset is remembered where none can be told
_LEAST_DRIFT, _LIKE = 4, 15  # steps: the least that is told, and how far neighbours may be apart
_CLEARER, _FITTING = 0.12, 0.76  # shares of the window in which text and speech agree

_FEW_WORDS = 1.0  # seconds
_SAID_OF_ALL = ("silence", "loop", "script", "language")

Span = tuple[float, float]


def doubts_of(transcript: Transcript, speech: Sequence[Span] | None = None) -> list[Doubt]:
    """All doubts that one transcript gives by itself, by time.

    Args:
        transcript: any.
        speech: where somebody speaks, in seconds, in order; None leaves out what needs it.
    """
    passages = passages_over_speech(transcript.passages, ())
    words = [word for passage in passages for word in passage.words]
    found = [doubt for own in _by_speaker(passages) for doubt in _paces(own)]
    found += [*_loops(words), *_scripts(words), *_languages(passages, transcript.language)]
    found += [*_unsure(words), *_estimated(passages)]
    if speech is not None:
        # Where times have run away, text over silence and speech without text only say so again.
        drifts = list(_drifts(words, speech, transcript.recording.duration))
        found += drifts
        spans = [(doubt.start, doubt.end) for doubt in drifts]
        over = [*_over_silence(words, speech), *_unheard(words, speech)]
        found += [
            doubt for doubt in over if not any(start <= doubt.start < end for start, end in spans)
        ]
    return in_order(_without_repeats(found))


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
        counts = f"{len(there)} words" if len(there) != 1 else "1 word"
        why = (
            f"{name} has {counts} here instead of {len(here)}"
            if there
            else f"{name} has nothing here"
        )
        grade = 0.4 + 0.05 * max(len(here), len(there))
        found.append(doubt_of("disagreement", start, end, why, grade))
    return found


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
                said = "one word stands" if size == 1 else f"the same {size} words stand"
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


def _drifts(words: Sequence[Word], speech: Sequence[Span], duration: float) -> Iterator[Doubt]:
    """Stretches in which the text would fit the speech much better some moments earlier or
    later.
    """
    last = max([duration, *(word.end for word in words[-1:]), *(end for _, end in speech[-1:])])
    count = int(last / _GRID) + 1
    if not words or not speech or count < _DRIFT_WINDOW:
        return
    said = _on_grid([(word.start, word.end) for word in words], count)
    heard = _on_grid(speech, count)
    offsets = _supported(_offsets(said, heard))
    for first, after in runs_where([offset != 0 for offset in offsets]):
        start = first * _DRIFT_STEP * _GRID
        end = min(last, ((after - 1) * _DRIFT_STEP + _DRIFT_WINDOW) * _GRID)
        worst = max(offsets[first:after], key=abs) * _GRID
        why = (
            f"the times are up to {abs(worst):.1f} s {'late' if worst > 0 else 'early'} against "
            "the speech"
        )
        yield doubt_of("drift", start, end, why, 0.5 + abs(worst) / 4)


def _supported(offsets: Sequence[int]) -> list[int]:
    """The offsets that a neighbour has as well, or nearly: one window may fit elsewhere by
    chance.
    """
    kept = []
    for at, offset in enumerate(offsets):
        beside = [*offsets[max(0, at - 1) : at], *offsets[at + 1 : at + 2]]
        near = [other for other in beside if other and abs(other - offset) <= _LIKE]
        kept.append(offset if abs(offset) >= _LEAST_DRIFT and near else 0)
    return kept


def _on_grid(spans: Sequence[Span], count: int) -> NDArray[np.bool_]:
    steps = np.zeros(count + 1, np.int32)
    edges = np.clip(np.round(np.array(spans) / _GRID).astype(int), 0, count)
    np.add.at(steps, edges[:, 0], 1)
    np.add.at(steps, edges[:, 1], -1)
    return np.cumsum(steps[:-1]) > 0


def _offsets(said: NDArray[np.bool_], heard: NDArray[np.bool_]) -> list[int]:
    """For each window by how many steps of the grid its text is late; 0 where it fits or nothing
    can be told.

    It is looked for around no offset, and around that of the window before: times may run away
    without end.
    """
    text, speech = np.where(said, 1.0, -1.0), np.where(heard, 1.0, -1.0)
    offsets: list[int] = []
    for first in range(0, len(said) - _DRIFT_WINDOW + 1, _DRIFT_STEP):
        window = text[first : first + _DRIFT_WINDOW]
        before = next((offset for offset in reversed(offsets[-_CARRIED:]) if offset), 0)
        near = _agreement(window, speech, first)
        found = [
            (float(near[_FARTHEST - offset]), offset) for offset in range(-_FARTHEST, _FARTHEST + 1)
        ]
        if abs(before) > _FARTHEST // 2:
            around = _agreement(window, speech, first - before)
            found += [
                (float(around[_FARTHEST - by]), before + by)
                for by in range(-_FARTHEST, _FARTHEST + 1)
            ]
        most, best = max(found, key=lambda one: (one[0], -abs(one[1])))
        is_clear = most >= _FITTING and most - near[_FARTHEST] >= _CLEARER
        offsets.append(best if is_clear else 0)
    return offsets


def _agreement(
    window: NDArray[np.float64], speech: NDArray[np.float64], first: int
) -> NDArray[np.float64]:
    """In what share of a window text and speech agree when it begins up to `_FARTHEST` steps from a
    place.

    What is outside of the recording agrees with nothing and differs from nothing.
    """
    begin, end = first - _FARTHEST, first + _FARTHEST + len(window)
    inside = speech[max(0, begin) : max(0, end)]
    left = max(0, min(-begin, end - begin))
    around = np.zeros(end - begin)
    around[left : left + len(inside)] = inside[: len(around) - left]
    sums = np.correlate(around, window, mode="valid")
    shares: NDArray[np.float64] = (1.0 + sums / len(window)) / 2.0
    return shares


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
    for count, fastest in _PACES:
        for at in range(len(words) - count + 1):
            length = words[at + count - 1].end - words[at].start
            if letters[at + count] - letters[at] > fastest * length:
                is_fast[at : at + count] = [True] * count
    usual = _PACES[0][1]
    for first, last in runs_where(is_fast):
        run = words[first:last]
        pace = float(letters[last] - letters[first]) / max(0.01, run[-1].end - run[0].start)
        why = f"{min(pace, 999):.0f} characters a second; nobody speaks faster than {usual:.0f}"
        yield _doubt("pace", run, why, pace / (2 * usual))
    for word in words:
        if word.end - word.start > _SLOWEST_WORD:
            yield _doubt("pace", [word], f"one word lasts {word.end - word.start:.1f} s", 0.6)


def _script_of(text: str) -> str:
    """The script of a word's first letter, as Unicode names it; empty where it has none."""
    letter = next((sign for sign in text if sign.isalpha()), "")
    name = unicodedata.name(letter, "").split(" ")[0] if letter else ""
    return "CJK" if name in ("CJK", "HIRAGANA", "KATAKANA") else name


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
    """Windows and sentences that have more small words of another language than of their own."""
    words = [word for passage in passages for word in passage.words]
    ends = set(accumulate(len(passage.words) for passage in passages))
    small = {tongue: _small_words(tongue) for tongue in _LANGUAGES}
    keys = ["".join(normalised_word(word.text)) for word in words]
    shapes = {tongue: re.compile(shape) for tongue, shape in _SHAPES.items()}
    different = list(dict.fromkeys(keys))
    of_tongue = {
        tongue: {key for key in different if key in known or shapes[tongue].search(key)}
        for tongue, known in small.items()
    }
    flags = {
        tongue: np.array([key in known for key in keys], np.int64)
        for tongue, known in of_tongue.items()
    }
    own = (language or "").split("-")[0].lower()
    if own not in small:
        own = max(flags, key=lambda tongue: int(flags[tongue].sum()))
    tongues = [tongue for tongue in _LANGUAGES if tongue != own]
    sums = {tongue: np.concatenate([[0], np.cumsum(one)]) for tongue, one in flags.items()}
    is_other = [""] * len(words)
    for first, last in _language_windows(words, ends):
        counts = {tongue: int(sums[tongue][last] - sums[tongue][first]) for tongue in tongues}
        best = max(tongues, key=lambda tongue: counts[tongue])
        if _is_another(counts[best], int(sums[own][last] - sums[own][first]), last - first):
            for place in range(first, last):
                is_other[place] = is_other[place] or best
    for first, last in runs_where([bool(one) for one in is_other]):
        why = f"looks like {is_other[first]!r}, the rest is {own!r}"
        yield _doubt("language", words[first:last], why, 0.8)


def _language_windows(words: Sequence[Word], ends: Container[int]) -> Iterator[tuple[int, int]]:
    """Windows of words [first, last), and sentences that are shorter; a passage's end is one of a
    sentence too.
    """
    begin = 0
    for at, word in enumerate(words, 1):
        if at in ends or ends_sentence(word.text):
            if _SHORTEST_SENTENCE <= at - begin < 2 * _LANGUAGE_WINDOW:
                yield begin, at
            begin = at
        if at >= _LANGUAGE_WINDOW:
            yield at - _LANGUAGE_WINDOW, at


def _is_another(theirs: int, own: int, count: int) -> bool:
    """Whether so many small words of another language, and so many of one's own, among so many say
    that it is it.

    A sentence of one's own may have none of its small words, such as one that only lists numbers;
    one in another language has two or more of that one's. Some words are small in several
    languages.
    """
    if (
        count >= _LANGUAGE_WINDOW
        and theirs - own >= _CLEARLY * count
        and theirs >= _SMALL_WORDS * count
    ):
        return True
    is_most = theirs >= 0.4 * count and theirs - own >= max(3, 2 * own)
    return is_most or (theirs >= 0.2 * count and own == 0 and theirs >= 2)


@cache
def _small_words(tongue: str) -> frozenset[str]:
    """Articles, prepositions, conjunctions, pronouns and auxiliaries: half of any text, and its
    language's own.
    """
    known = words_of_language(tongue)
    return (
        known.determiners
        | known.prepositions
        | known.conjunctions
        | known.coordinating
        | known.pronouns
    ) | known.auxiliaries


def _unsure(words: Sequence[Word]) -> Iterator[Doubt]:
    """Runs of words of which the engine is much less sure than it usually is in this recording."""
    known = [word.confidence for word in words if word.confidence is not None]
    if len(known) < 20:
        return
    usual = statistics.median(known)
    spread = max(0.03, 1.4826 * statistics.median(abs(one - usual) for one in known))
    limit = min(_LEAST_CONFIDENT, usual - _SPREADS * spread)
    for first, last in runs_where(
        [word.confidence is not None and word.confidence < limit for word in words]
    ):
        run = words[first:last]
        mean = statistics.fmean(word.confidence or 0.0 for word in run)
        why = f"confidence {mean:.2f}, usually {usual:.2f} in this recording"
        yield _doubt("confidence", run, why, (usual - mean) / max(usual, 0.01))


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
        why = "after the last speech" if is_after else "nobody speaks there"
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
