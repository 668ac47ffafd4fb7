"""Where a transcript is doubtful: what engines make up, repeat, leave out or hear in another language, and why."""

import statistics
import unicodedata
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mantisreed.review.normalising import normalised_word
from mantisreed.subtitles.languages import words_of_language
from mantisreed.transcript.document import Passage, Transcript, Word
from mantisreed.transcript.estimate import passages_over_speech

KINDS = ("silence", "missing", "loop", "pace", "script", "language", "confidence", "estimated")
"""Text where nobody speaks; speech without text; text that goes round; faster than anybody speaks; another script, or
language, than the rest; words of which the engine is less sure than usual; times that were estimated."""

_LONGEST_LOOP = 12  # words that are said again and again
_REPEATED = {1: 5, 2: 4}  # how often, by their number; speech says `no, no, no`, but hardly any three words thrice
_REPEATED_MORE = 3
_WINDOW = 8  # words over which pace is measured
_FASTEST = 30.0  # characters a second; the fastest speakers reach 25
_SLOWEST_WORD = 4.0  # seconds; nobody draws a word so long
_COVERED = 0.2  # share of a word that has to be over speech
_UNHEARD = 1.2  # seconds of speech without a word
_LANGUAGE_WINDOW, _CLEARLY = 12, 0.25  # words, and how much more small words another language has among them
_SMALL_WORDS = 0.3  # share of small words from which a window is of a language
_LEAST_CONFIDENT, _SPREADS = 0.65, 3.5  # confidence, and how many times the usual spread below the usual one
_LANGUAGES = ("en", "de", "fr", "es", "it", "pt", "nl", "pl")

Span = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Doubt:
    """A stretch of a transcript that somebody should listen to.

    Attributes:
        kind: one of `KINDS`.
        start, end: seconds.
        why: in words.
        grade: how sure it is that something is wrong, 0 to 1.
        text: of the stretch.
    """

    kind: str
    start: float
    end: float
    why: str
    grade: float
    text: str = ""


def doubts_of(transcript: Transcript, speech: Sequence[Span] | None = None) -> list[Doubt]:
    """All doubts, by time.

    Args:
        transcript: any.
        speech: where somebody speaks, in seconds, in order; None leaves out what needs it.
    """
    passages = passages_over_speech(transcript.passages, ())
    words = [word for passage in passages for word in passage.words]
    found = [*_loops(words), *_paces(words), *_scripts(words), *_languages(words, transcript.language)]
    found += [*_unsure(words), *_estimated(passages)]
    if speech is not None:
        found += [*_over_silence(words, speech), *_unheard(words, speech)]
    return sorted(found, key=lambda doubt: (doubt.start, KINDS.index(doubt.kind)))


def _doubt(kind: str, words: Sequence[Word], why: str, grade: float) -> Doubt:
    text = " ".join(word.text for word in words)
    end = max(word.end for word in words)
    return Doubt(kind, words[0].start, end, why, round(min(1.0, max(0.0, grade)), 2), text)


def _loops(words: Sequence[Word]) -> Iterator[Doubt]:
    """Runs of words that are said again and again, the shortest one that explains a stretch."""
    keys = [" ".join(normalised_word(word.text)) or word.text for word in words]
    at = 0
    while at < len(keys):
        for size in range(1, min(_LONGEST_LOOP, (len(keys) - at) // 2) + 1):
            end = at + size
            while end < len(keys) and keys[end] == keys[end - size]:
                end += 1
            times = (end - at) // size
            if times >= _REPEATED.get(size, _REPEATED_MORE):
                again = " ".join(word.text for word in words[at : at + size])
                why = f"{again!r} stands there {times} times in a row"
                yield _doubt("loop", words[at:end], why, 0.5 + 0.1 * times)
                at = end
                break
        else:
            at += 1


def _paces(words: Sequence[Word]) -> Iterator[Doubt]:
    """Windows in which more is said than anybody can say, and words that last too long."""
    at = 0
    while at + _WINDOW <= len(words):
        run = words[at : at + _WINDOW]
        length = run[-1].end - run[0].start
        letters = sum(len(word.text) + 1 for word in run)
        if length <= 0 or letters / length > _FASTEST:
            end = at + _WINDOW
            while end < len(words) and (len(words[end].text) + 1) > _FASTEST * (words[end].end - words[end - 1].end):
                end += 1
            run = words[at:end]
            pace = sum(len(word.text) + 1 for word in run) / max(0.01, run[-1].end - run[0].start)
            why = f"{pace:.0f} characters a second; nobody speaks faster than {_FASTEST:.0f}"
            yield _doubt("pace", run, why, pace / (2 * _FASTEST))
            at = end
        else:
            at += 1
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
    for first, last in _runs_where([bool(script) and script != usual for script in scripts]):
        run = words[first:last]
        why = f"in {scripts[first].capitalize()} script, the rest is in {usual.capitalize()}"
        yield _doubt("script", run, why, 0.5 + 0.15 * len(run))


def _languages(words: Sequence[Word], language: str | None) -> Iterator[Doubt]:
    """Windows that have more small words of another language than of their own."""
    small = {tongue: _small_words(tongue) for tongue in _LANGUAGES}
    keys = ["".join(normalised_word(word.text)) for word in words]
    own = (language or "").split("-")[0].lower()
    if own not in small:
        counts = {tongue: sum(key in known for key in keys) for tongue, known in small.items()}
        own = max(counts, key=lambda tongue: counts[tongue])
    is_other = [""] * len(words)
    for at in range(len(words) - _LANGUAGE_WINDOW + 1):
        window = keys[at : at + _LANGUAGE_WINDOW]
        shares = {tongue: sum(key in known for key in window) / len(window) for tongue, known in small.items()}
        best = max(shares, key=lambda tongue: shares[tongue])
        if shares[best] >= _SMALL_WORDS and shares[best] - shares[own] >= _CLEARLY:
            for place in range(at, at + _LANGUAGE_WINDOW):
                is_other[place] = is_other[place] or best
    for first, last in _runs_where([bool(one) for one in is_other]):
        why = f"looks like {is_other[first]!r}, the rest is {own!r}"
        yield _doubt("language", words[first:last], why, 0.8)


def _small_words(tongue: str) -> frozenset[str]:
    """Articles, prepositions, conjunctions, pronouns and auxiliaries: half of any text, and its language's own."""
    known = words_of_language(tongue)
    return (
        known.determiners | known.prepositions | known.conjunctions | known.coordinating | known.pronouns
    ) | known.auxiliaries


def _unsure(words: Sequence[Word]) -> Iterator[Doubt]:
    """Runs of words of which the engine is much less sure than it usually is in this recording."""
    known = [word.confidence for word in words if word.confidence is not None]
    if len(known) < 20:
        return
    usual = statistics.median(known)
    spread = max(0.03, 1.4826 * statistics.median(abs(one - usual) for one in known))
    limit = min(_LEAST_CONFIDENT, usual - _SPREADS * spread)
    for first, last in _runs_where([word.confidence is not None and word.confidence < limit for word in words]):
        run = words[first:last]
        mean = statistics.fmean(word.confidence or 0.0 for word in run)
        why = f"confidence {mean:.2f}, usually {usual:.2f} in this recording"
        yield _doubt("confidence", run, why, (usual - mean) / max(usual, 0.01))


def _estimated(passages: Sequence[Passage]) -> Iterator[Doubt]:
    for first, last in _runs_where([passage.timing == "estimated" for passage in passages]):
        run = passages[first:last]
        end = max(passage.end for passage in run)
        yield Doubt("estimated", run[0].start, end, "times of words were estimated, not told by the engine", 0.2)


def _over_silence(words: Sequence[Word], speech: Sequence[Span]) -> Iterator[Doubt]:
    """Runs of words where nobody speaks."""
    last_speech = max((end for _, end in speech), default=0.0)
    ends = [end for _, end in speech]
    covered = [_overlap((word.start, word.end), speech, ends) for word in words]
    flags = [part < _COVERED * max(0.02, word.end - word.start) for word, part in zip(words, covered, strict=True)]
    for first, last in _runs_where(flags):
        run = words[first:last]
        # A single short word at the edge of speech is a matter of where voice activity draws its line.
        if len(run) < 2 and run[0].end - run[0].start < 0.5:
            continue
        is_after = run[0].start >= last_speech
        why = "after the last speech" if is_after else "nobody speaks there"
        yield _doubt("silence", run, why, 0.6 + 0.1 * len(run))


def _unheard(words: Sequence[Word], speech: Sequence[Span]) -> Iterator[Doubt]:
    """Speech without text."""
    spans = sorted((word.start, word.end) for word in words)
    starts = [start for start, _ in spans]
    for start, end in speech:
        # A word that began before may reach into the speech; few words are longer than this.
        first_near = bisect_left(starts, start - _SLOWEST_WORD)
        near = spans[first_near : bisect_left(starts, end)]
        for first, last in _gaps(start, end, near):
            if last - first >= _UNHEARD:
                why = f"{last - first:.1f} s of speech without text"
                yield Doubt("missing", round(first, 3), round(last, 3), why, round(min(1.0, (last - first) / 4), 2))


def _gaps(start: float, end: float, spans: Sequence[Span]) -> Iterator[Span]:
    """The parts of a stretch that no span covers."""
    at = start
    for first, last in spans:
        if last <= at:
            continue
        if first >= end:
            break
        if first > at:
            yield at, first
        at = max(at, last)
    if at < end:
        yield at, end


def _overlap(span: Span, speech: Sequence[Span], ends: Sequence[float]) -> float:
    """Seconds of a span that are over speech, of which the ends are given as well."""
    total = 0.0
    for start, end in speech[bisect_left(ends, span[0]) :]:
        if start >= span[1]:
            break
        total += max(0.0, min(span[1], end) - max(span[0], start))
    return total


def _runs_where(flags: Sequence[bool]) -> Iterator[tuple[int, int]]:
    """Runs [first, last) of true flags."""
    first = None
    for at, flag in enumerate([*flags, False]):
        if flag and first is None:
            first = at
        elif not flag and first is not None:
            yield first, at
            first = None
