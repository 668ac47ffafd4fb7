"""A second opinion on what is doubtful: which stretches are asked about, and which reading is kept.

The rule: in a doubtful stretch the new reading is taken when the doubts that would remain there
weigh less than half of those that were there. Where both readings say the same, the doubt is gone
and the text stays.
"""

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import chain

import msgspec

from mantisreed.review.doubts import doubts_of, in_order
from mantisreed.review.normalising import normalised
from mantisreed.transcript.document import (
    Doubt,
    Passage,
    Replacement,
    Transcript,
    Word,
    speakers_of,
)
from mantisreed.transcript.estimate import passages_over_speech
from mantisreed.transcript.timing import LONGEST_PAUSE
from mantisreed.transcript.writing import excerpt, joined
from mantisreed.units import count_of

RULE = "the doubts that remain weigh less than half"
"""Why a reading was taken, as the transcript says it."""

# Where times run away, the text is there and only its times are wrong: asking again would pay for
# all of it.
_ASKED = (
    "silence",
    "missing",
    "loop",
    "pace",
    "script",
    "language",
    "confidence",
    "seam",
    "disagreement",
)
_MARGIN = 0.8  # seconds of sound on both sides, so that the engine hears the words whole
_PAUSE = 0.15  # seconds without speech in which a clip can begin or end
_REACH = 3.0  # seconds beyond the margin that a pause is looked for
_LONGEST_CLIP = 120.0  # seconds; neighbours are not put together beyond it
_REMAINS = 0.5  # share of the doubts' weight that may remain
_CONTEXT = 90.0  # seconds of the transcript on both sides that a new reading is judged with
_SHORTEST_WORD = 0.1  # seconds that a word counts at least
_EDGE = 0.12  # seconds by which two engines set the edges of a word differently
_NOT_OF_THE_TEXT = ("seam", "disagreement")
_CONFIRMED = ("confidence", "seam", "language", "script", "disagreement", "loop")

Span = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Clip:
    """A stretch of sound that somebody else is asked about; `doubts` are what is doubtful in it."""

    start: float
    end: float
    doubts: tuple[Doubt, ...]

    @property
    def length(self) -> float:
        """Seconds."""
        return self.end - self.start


def clips_of(transcript: Transcript, speech: Sequence[Span], duration: float) -> list[Clip]:
    """The stretches of a recording to ask about, in order and apart, that begin and end in pauses.

    Args:
        transcript: with its doubts.
        speech: where somebody speaks, in order; empty where nobody knows.
        duration: of the recording, in seconds.
    """
    asked = [doubt for doubt in transcript.doubts_worth_hearing if doubt.kind in _ASKED]
    clips: list[Clip] = []
    for doubt in in_order(asked):
        start = _pause_near(max(0.0, doubt.start - _MARGIN), -1, speech)
        end = _pause_near(min(duration, doubt.end + _MARGIN), 1, speech)
        start, end = max(0.0, round(start, 2)), min(duration, round(end, 2))
        if end - start < 0.1:
            continue
        if clips and start <= clips[-1].end:
            last = clips[-1]
            joined_end = max(last.end, end)
            if joined_end - last.start <= _LONGEST_CLIP or end <= last.end:
                clips[-1] = Clip(last.start, joined_end, (*last.doubts, doubt))
                continue
            start = last.end
            if end - start < 0.1:
                continue
        clips.append(Clip(start, end, (doubt,)))
    return clips


def _pause_near(moment: float, direction: int, speech: Sequence[Span]) -> float:
    """The nearest moment in a pause, away from a doubt; the moment itself where there is none
    within reach.
    """
    ends = [end for _, end in speech]
    at = bisect_left(ends, moment)
    if at == len(speech) or moment < speech[at][0]:
        return moment  # nobody speaks there
    if direction > 0:
        while at < len(speech) and speech[at][1] - moment <= _REACH:
            if at + 1 < len(speech):
                after = speech[at + 1][0]
            else:
                after = speech[at][1] + 2 * _PAUSE
            if after - speech[at][1] >= _PAUSE:
                return speech[at][1] + min(_PAUSE, (after - speech[at][1]) / 2)
            at += 1
        return moment
    while at >= 0 and moment - speech[at][0] <= _REACH:
        if at:
            before = speech[at - 1][1]
        else:
            before = speech[at][0] - 2 * _PAUSE
        if speech[at][0] - before >= _PAUSE:
            return speech[at][0] - min(_PAUSE, (speech[at][0] - before) / 2)
        at -= 1
    return moment


def with_second_opinion(
    transcript: Transcript, clips: Iterable[Clip], second: Transcript, speech: Sequence[Span] | None
) -> Transcript:
    """The transcript with the better readings in it, the doubts that are left, and what was
    replaced.

    Args:
        transcript: with its doubts.
        clips: that the second engine was given.
        second: what it heard in them, with the recording's times.
        speech: where somebody speaks, in order.
    """
    passages = list(passages_over_speech(transcript.passages, ()))
    theirs = list(
        chain.from_iterable(passage.words for passage in passages_over_speech(second.passages, ()))
    )
    settled: list[Doubt] = []  # those about which both say the same, and those whose text is gone
    replacements = []
    for clip in clips:
        for start, end, own in _stretches(clip):
            here, there = _words_in(passages, start, end), _between(theirs, start, end)
            if _said(here, transcript.language) == _said(there, transcript.language):
                settled += [doubt for doubt in own if here and doubt.kind in _CONFIRMED]
                continue
            anew = _replaced(passages, start, end, there)
            left = _remaining(transcript, anew, start, end, speech)
            if _weight(left, there, start, end) >= _REMAINS * _weight(own, here, start, end):
                continue
            before, after = joined(word.text for word in here), joined(word.text for word in there)
            why = f"{RULE}: {_kinds(own)}"
            replacements.append(
                Replacement(round(start, 3), round(end, 3), before, after, second.engine, why)
            )
            passages = anew
            settled += own
    notes = transcript.notes
    if replacements:
        count = count_of(len(replacements), "doubtful stretch has", "doubtful stretches have")
        notes = (*notes, f"{count} the reading of {second.engine}")
    final = msgspec.structs.replace(transcript, passages=tuple(passages))
    # What the text does not show by itself stays, where nothing was settled about it.
    found = [
        *doubts_of(final, speech),
        *(doubt for doubt in transcript.doubts if doubt.kind in _NOT_OF_THE_TEXT),
    ]
    return msgspec.structs.replace(
        final,
        speakers=speakers_of(passages),
        doubts=tuple(in_order(doubt for doubt in found if doubt not in settled)),
        replacements=(*transcript.replacements, *replacements),
        notes=notes,
    )


def _kinds(doubts: Sequence[Doubt]) -> str:
    return ", ".join(dict.fromkeys(doubt.kind for doubt in doubts))


def _stretches(clip: Clip) -> list[tuple[float, float, list[Doubt]]]:
    """The doubtful stretches of a clip, those that touch as one: one reading has to be taken for
    all of it.
    """
    found: list[tuple[float, float, list[Doubt]]] = []
    for doubt in in_order(clip.doubts):
        start, end = max(clip.start, doubt.start), min(clip.end, doubt.end)
        if found and start <= found[-1][1] + _EDGE:
            first, last, own = found[-1]
            found[-1] = first, max(last, end), [*own, doubt]
        else:
            found.append((start, end, [doubt]))
    return found


def _middle(word: Word) -> float:
    return (word.start + word.end) / 2


def _words_in(passages: Iterable[Passage], start: float, end: float) -> list[Word]:
    near = (passage for passage in passages if passage.end >= start and passage.start <= end)
    return list(chain.from_iterable(_between(passage.words, start, end) for passage in near))


def _between(words: Iterable[Word], start: float, end: float) -> list[Word]:
    return [word for word in words if start - _EDGE <= _middle(word) <= end + _EDGE]


def _said(words: Sequence[Word], language: str | None) -> list[str]:
    return normalised(" ".join(word.text for word in words), language)


def _replaced(
    passages: Sequence[Passage], start: float, end: float, words: Sequence[Word]
) -> list[Passage]:
    """The passages with other words in a stretch of time.

    The words go into the passage that is there; where there is none, into one of their own.
    """
    heard = chain.from_iterable(passage.words for passage in passages)
    kept = [word for word in heard if not _is_between(word, start, end)]
    # A word that both engines hear at the edge is only there once.
    fresh = [
        word for word in words if not any(_is_same(word, other) for other in _near(kept, word))
    ]
    anew: list[Passage] = []
    is_put = not fresh
    for passage in passages:
        if passage.end < start - _EDGE or passage.start > end + _EDGE:
            if not is_put and passage.start > end:
                anew.append(_own_passage(fresh, anew[-1:], passage))
                is_put = True
            anew.append(passage)
            continue
        first, last = _stretch_of_words(passage, start, end)
        put: Sequence[Word] = () if is_put or _is_apart(passage, first, last, fresh) else fresh
        if not put and first == last:
            anew.append(passage)
            continue
        is_put = True
        changed = _with_words(passage, first, last, put)
        if changed is not None:
            anew.append(changed)
    if not is_put:
        anew.append(_own_passage(fresh, anew[-1:], None))
    return sorted(anew, key=lambda passage: passage.start)


def _stretch_of_words(passage: Passage, start: float, end: float) -> tuple[int, int]:
    """The words of a passage in a stretch of time: the number of the first one, and of the one
    behind the last; the same number, where words would go, if there are none.
    """
    first = 0
    while first < len(passage.words) and _middle(passage.words[first]) < start - _EDGE:
        first += 1
    last = first
    while last < len(passage.words) and _is_between(passage.words[last], start, end):
        last += 1
    return first, last


def _is_apart(passage: Passage, first: int, last: int, words: Sequence[Word]) -> bool:
    """Whether words that nothing gives way to belong before or behind a passage, with a pause
    between.
    """
    if first < last or not words:
        return False
    is_behind = first == len(passage.words) and words[0].start - passage.end > LONGEST_PAUSE
    return is_behind or (first == 0 and passage.start - words[-1].end > LONGEST_PAUSE)


def _is_between(word: Word, start: float, end: float) -> bool:
    return start - _EDGE <= _middle(word) <= end + _EDGE


def _near(words: Sequence[Word], word: Word) -> list[Word]:
    at = bisect_left([other.start for other in words], word.start)
    return list(words[max(0, at - 2) : at + 2])


def _is_same(one: Word, other: Word) -> bool:
    """Whether two engines mean one word: they overlap by half of it, or are alike and begin nearly
    together.
    """
    shared = min(one.end, other.end) - max(one.start, other.start)
    if shared > 0.5 * max(0.01, min(one.end - one.start, other.end - other.start)):
        return True
    return abs(one.start - other.start) < 0.3 and normalised(one.text) == normalised(other.text)


def _own_passage(
    words: Sequence[Word], before: Sequence[Passage], after: Passage | None
) -> Passage:
    """New words as a passage; its speaker is known where the same one speaks before and after."""
    neighbours = {
        passage.speaker for passage in (*before, *((after,) if after is not None else ()))
    }
    speaker = neighbours.pop() if len(neighbours) == 1 else None
    text = joined(word.text for word in words)
    return Passage(
        words[0].start, max(word.end for word in words), text, speaker, "engine", tuple(words)
    )


def _with_words(passage: Passage, first: int, last: int, words: Sequence[Word]) -> Passage | None:
    """A passage with other words instead of those in [first, last); None where nothing is left of
    it.
    """
    texts = [word.text for word in passage.words]
    head = excerpt(passage.text, texts, 0, first) if first else ""
    if last < len(texts):
        tail = excerpt(passage.text, texts, last, len(texts))
    else:
        tail = ""
    whole = (*passage.words[:first], *words, *passage.words[last:])
    if not whole:
        return None
    text = joined(part for part in (head, joined(word.text for word in words), tail) if part)
    start, end = min(word.start for word in whole), max(word.end for word in whole)
    return Passage(start, end, text, passage.speaker, passage.timing, whole)


def _remaining(
    transcript: Transcript,
    passages: Sequence[Passage],
    start: float,
    end: float,
    speech: Sequence[Span] | None,
) -> list[Doubt]:
    """The doubts that a stretch would have with these passages, judged with what is said around
    it.
    """
    begin, finish = start - _CONTEXT, end + _CONTEXT
    around = [passage for passage in passages if passage.end > begin and passage.start < finish]
    if speech is None:
        spoken = None
    else:
        spoken = [span for span in speech if span[1] > begin and span[0] < finish]
    part = msgspec.structs.replace(
        transcript, passages=tuple(around), doubts=(), language=transcript.language
    )
    found = doubts_of(part, spoken)
    # At the edges of the context there is speech of which the words were left out.
    return [
        doubt
        for doubt in found
        if doubt.start < end
        and doubt.end > start
        and doubt.start >= begin
        and doubt.kind != "drift"
    ]


def _weight(doubts: Iterable[Doubt], words: Sequence[Word], start: float, end: float) -> float:
    """Seconds of doubtful words in a stretch, or of missing ones, each by the doubt's grade; a word
    counts as one.
    """
    total = 0.0
    for doubt in doubts:
        if doubt.kind == "missing":
            seconds = max(0.0, min(end, doubt.end) - max(start, doubt.start))
        else:
            about = [word for word in words if doubt.start <= _middle(word) <= doubt.end]
            seconds = sum(max(_SHORTEST_WORD, word.end - word.start) for word in about)
        total += doubt.grade * seconds
    return total
