"""Finding passages in a document by a card's paths, and laying speakers' turns over words."""

import math
from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from itertools import chain, groupby
from typing import Any

import msgspec

from mantisreed.cards.paths import ReplyPath
from mantisreed.engines.card import PassagePaths, Reply, TrackPaths
from mantisreed.engines.reading.unpacking import UnexpectedReplyError
from mantisreed.engines.reading.word_times import SLACK, ReplyContext, spans_of
from mantisreed.engines.reading.words import (
    FoundWords,
    TimedText,
    WordFinder,
    confidence_of,
    label_of,
    listed,
)
from mantisreed.limits import MOST_SPEAKERS
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.timing import LONGEST_PAUSE
from mantisreed.transcript.writing import excerpt, joined

# seconds that a word may stand out of its passage: engines round one to words, the other to
# sentences
_OUTSIDE = 0.25


class DocumentReader:
    """Reads the documents of one reply.

    Attributes:
        events: sounds that are no speech, as they were found.
    """

    def __init__(self, reply: Reply, context: ReplyContext) -> None:
        self._reply, self._context = reply, context
        self._words: WordFinder | None = None
        if reply.words:
            whole = reply.passages.text if reply.passages else reply.text
            self._words = WordFinder(reply.words, context, whole)
        self.events: list[TimedText] = []

    def passages(self, documents: Sequence[Any]) -> list[Passage]:
        """The passages in all documents; those without words have none, and need estimated ones.

        Raises:
            UnexpectedReplyError: the reply is not as the card says.
        """
        reply = self._reply
        names = self._names(documents)
        turns = self._turns(documents)
        each: ReplyPath | None = None
        if reply.passages is not None:
            each = reply.passages.each
        elif reply.words:
            each = reply.words.each
        if reply.tracks is not None:
            found = list(self._on_tracks(reply.tracks, documents, turns))
            return self._in_time(found, names)
        if reply.format in ("lines", "events") and each is not None:
            # Some of them say other things: that it begins, how far it is, what it cost.
            documents = [
                document for document in documents if each.find(document) is not None
            ] or documents
        return self._in_time(self._in_documents(documents, turns), names)

    def _in_documents(self, documents: Sequence[Any], turns: "_Turns | None") -> list[Passage]:
        paths = self._reply.passages
        if paths is None:
            return list(_grouped(self._in_order(self._all_words(documents), turns)))
        found = (self._in_document(paths, document, turns) for document in documents)
        return list(chain.from_iterable(found))

    def _on_tracks(
        self, paths: TrackPaths, documents: Sequence[Any], turns: "_Turns | None"
    ) -> Iterator[Passage]:
        """The passages of all tracks, one track after the other."""
        number = 0
        for document in documents:
            for item in listed(paths.each, document, "reply.tracks.each", self._context.duration):
                label = _optional(paths.speaker, item) or str(number)
                # By its place: two tracks without names are two speakers.
                number += 1
                for passage in self._in_documents([item], turns):
                    speaker = passage.speaker or label
                    yield msgspec.structs.replace(passage, speaker=speaker)

    def _in_time(self, found: Sequence[Passage], names: Mapping[str, str]) -> list[Passage]:
        # Sorting is stable: of passages that begin at once the order of the reply stays.
        return sorted(
            (_named(passage, names) for passage in found if passage.text), key=lambda one: one.start
        )

    def text(self, documents: Sequence[Any]) -> str:
        """The whole text, its white space folded.

        Raises:
            UnexpectedReplyError: no document has one.
        """
        path = self._reply.text
        assert path is not None
        parts = [found for document in documents if isinstance(found := path.find(document), str)]
        if not parts:
            if documents:
                found = path.find(documents[0])
            else:
                found = None
            if len(documents) < 2:
                where = ""
            else:
                where = f" in any of {len(documents)} {self._reply.format}"
            raise UnexpectedReplyError(
                f"reply.text ({path}) finds {'nothing' if found is None else 'no text'}{where}"
            )
        if self._reply.is_whole_text:
            return " ".join(parts[-1].split())
        # Lines and events bring the text bit by bit; pages of a document each bring a part of it.
        if self._reply.format in ("lines", "events"):
            separator = ""
        else:
            separator = " "
        return " ".join(separator.join(parts).split())

    def language(self, documents: Sequence[Any]) -> str | None:
        """The language heard, as the engine calls it."""
        path = self._reply.language
        if path is None:
            return None
        found = next((value for document in documents if (value := path.find(document))), None)
        if found is None:
            return None
        return label_of(found)

    def _all_words(self, documents: Sequence[Any]) -> list[TimedText]:
        """The words of all documents: one may end in the next document, or have its mark there."""
        assert self._words is not None
        items, cursor = [], 0.0
        for document in documents:
            some = self._words.items(document, start=cursor, end=self._context.duration)
            items += some
            cursor = max((item.end for item in some if math.isfinite(item.end)), default=cursor)
        found = self._words.put_together(items)
        self.events += found.events
        return found.words

    def _found(self, within: Any, start: float, end: float) -> FoundWords:
        assert self._words is not None
        found = self._words.words(within, start=start, end=end)
        self.events += found.events
        return found

    def _in_document(
        self, paths: PassagePaths, document: Any, turns: "_Turns | None"
    ) -> Iterator[Passage]:
        items = listed(paths.each, document, "reply.passages.each", self._context.duration)
        raw = [
            tuple(_value(paths, name, item) for name in ("start", "end", "length"))
            for item in items
        ]
        unit = paths.times or self._context.times
        whole = (0.0, 0.0, self._context.duration)
        spans = spans_of(raw, paths, unit, self._context, whole, "passages")
        for item, (start, end) in zip(items, spans, strict=True):
            yield from self._passage(paths, item, start, end, turns)

    def _passage(
        self, paths: PassagePaths, item: Any, start: float, end: float, turns: "_Turns | None"
    ) -> Iterator[Passage]:
        has_time = math.isfinite(start)
        low, high = 0.0, self._context.duration
        if has_time:
            low = start
        if has_time and math.isfinite(end):
            high = end
        words: list[TimedText] = []
        if self._words:
            words = self._found(item, low, high).words
        if has_time:
            self._check_place(words, low, high)
        words = self._in_order(words, turns)
        if not has_time and paths.has_times and not words:
            raise UnexpectedReplyError("reply.passages: a passage has neither a time nor words")
        text = self._text_of(paths, item, words)
        words = self._with_confidence(paths, item, words)
        if not has_time and words:
            low, high = _reach(words, low, high)
        yield from self._by_speaker(
            Passage(
                low, high, text, _optional(paths.speaker, item), alternatives=_others(paths, item)
            ),
            words,
        )

    def _by_speaker(self, whole: Passage, words: Sequence[TimedText]) -> Iterator[Passage]:
        """The passage with its words; several where its words have several speakers."""
        # Words that know their speaker are surer than the passage around them.
        voices = {word.speaker for word in words}
        if not words:
            yield whole
        elif len(voices) < 2 or (whole.speaker is not None and voices <= {None}):
            speaker = whole.speaker
            if speaker is None:
                (speaker,) = voices
            yield msgspec.structs.replace(whole, speaker=speaker, words=_words(words))
        else:
            yield from _split_by_speaker(whole.text, words, whole.speaker)

    def _text_of(self, paths: PassagePaths, item: Any, words: Sequence[TimedText]) -> str:
        if paths.text is None:
            return joined(word.text for word in words)
        found = paths.text.find(item)
        if found is None and isinstance(item, str) and paths.text.source == "text":
            found = item
        if not isinstance(found, str):
            raise UnexpectedReplyError(
                f"reply.passages.text ({paths.text}) finds "
                f"{'nothing' if found is None else 'no text'}"
            )
        text = " ".join(found.split())
        self._context.oddities.look_at(text, is_word=False)
        return text

    def _with_confidence(
        self, paths: PassagePaths, item: Any, words: Sequence[TimedText]
    ) -> list[TimedText]:
        if paths.confidence is None:
            return list(words)
        context = self._context
        shared = confidence_of(paths.confidence.find(item), context.scale, context.oddities)
        return [_sure(word, shared) if word.confidence is None else word for word in words]

    def _check_place(self, words: Sequence[TimedText], start: float, end: float) -> None:
        for word in words:
            if word.start < start - _OUTSIDE or word.end > end + _OUTSIDE:
                place = (
                    f"{word.text!r} at {word.start:g} s, in a passage from {start:g} to {end:g} s"
                )
                self._context.oddities.note("outside passage", place)

    def _in_order(self, words: Sequence[TimedText], turns: "_Turns | None") -> list[TimedText]:
        """Words with their speakers; what is out of order is told, and put in order."""
        oddities = self._context.oddities
        if self._words_have_times:
            untimed = [word for word in words if not math.isfinite(word.start)]
            # Some have times and some have none: these are estimated.
            if untimed:
                oddities.note("untimed", repr(untimed[0].text), len(untimed))
        if turns is not None:
            words = list(map(turns.labelled, words))
        latest: dict[str | None, float] = {}
        is_ordered = True
        for word in words:
            # Of each speaker by itself: two may speak at once, and each is in order.
            before = latest.get(word.speaker, -1.0)
            if word.start < before - SLACK:
                oddities.note(
                    "out of order", f"{word.text!r} at {word.start:g} s follows one at {before:g} s"
                )
                is_ordered = False
            if math.isfinite(word.start):
                latest[word.speaker] = max(before, word.start)
            else:
                latest[word.speaker] = before
        if is_ordered or not all(math.isfinite(word.start) for word in words):
            return list(words)
        # Telling is not enough here: cues would run backwards.
        return sorted(words, key=lambda word: word.start)

    @property
    def _words_have_times(self) -> bool:
        return self._reply.words is not None and self._reply.words.has_times

    def _names(self, documents: Sequence[Any]) -> Mapping[str, str]:
        """From what the reply calls speakers to what people do."""
        speakers = self._reply.speakers
        if speakers is None:
            return {}
        names: dict[str, str] = {}
        for document in documents:
            found = speakers.each.find(document)
            for place, item in enumerate(found if isinstance(found, (list, dict)) else ()):
                if speakers.id is None:
                    known = place
                else:
                    known = speakers.id.find(item)
                name = speakers.name.find(item)
                if known is not None and name not in (None, ""):
                    names[label_of(known)] = label_of(name)
        if not names:
            self._context.oddities.note("lacking", f"reply.speakers.each ({speakers.each})")
        return names

    def _turns(self, documents: Sequence[Any]) -> "_Turns | None":
        paths = self._reply.turns
        if paths is None:
            return None
        found: list[tuple[float, float, str]] = []
        for document in documents:
            items = paths.each.find(document)
            if items is None and len(documents) > 1:
                continue  # of several documents only some bring turns
            items = listed(paths.each, document, "reply.turns.each", self._context.duration)
            raw = [
                tuple(_value(paths, name, item) for name in ("start", "end", "length"))
                for item in items
            ]
            unit, whole = paths.times or self._context.times, (0.0, 0.0, self._context.duration)
            spans = spans_of(raw, paths, unit, self._context, whole, "turns")
            for item, (start, end) in zip(items, spans, strict=True):
                label = paths.speaker.find(item)
                if label is not None and math.isfinite(start):
                    found.append((start, end, label_of(label)))
        return _Turns(found, self._context)


def _others(paths: PassagePaths, item: Any) -> tuple[str, ...]:
    """Other readings of a passage."""
    if not paths.alternatives:
        return ()
    found = paths.alternatives.find(item)
    if isinstance(found, str):
        found = [found]
    return tuple(" ".join(other.split()) for other in found or () if isinstance(other, str))


class _Turns:
    """Who spoke when."""

    def __init__(self, turns: Sequence[tuple[float, float, str]], context: ReplyContext) -> None:
        self._turns = sorted(turns)
        self._starts = [start for start, _, _ in self._turns]
        self._context = context
        # Each speaker's own turns, those that touch as one: they are in order then, and none has to
        # be looked for behind a long one that began before.
        self._of_speakers: dict[str, list[tuple[float, float]]] = {}
        for start, end, label in self._turns:
            own = self._of_speakers.setdefault(label, [])
            if own and start <= own[-1][1]:
                # Turns of one speaker may lie within each other.
                own[-1] = (own[-1][0], max(own[-1][1], end))
            else:
                own.append((start, end))
        if len(self._of_speakers) > MOST_SPEAKERS:
            raise UnexpectedReplyError(f"reply.turns finds {len(self._of_speakers)} speakers")

    def labelled(self, word: TimedText) -> TimedText:
        """The word with the speaker in whose turns most of it lies; the nearest one's where it lies
        in none.
        """
        if word.speaker is not None or not self._turns or not math.isfinite(word.start):
            return word
        best, shared = None, 0.0
        for label, own in self._of_speakers.items():
            common = _common(own, word)
            if common > shared:
                best, shared = label, common
        if best is None:
            best = self._nearest(word)
            self._context.oddities.note("speaker", f"{word.text!r} at {word.start:g} s")
        return TimedText(word.text, word.start, word.end, word.confidence, best)

    def _nearest(self, word: TimedText) -> str:
        middle = (word.start + word.end) / 2
        near = bisect_right(self._starts, middle)
        # The turns around it: of those before, the last two may end nearest.
        candidates = self._turns[max(0, near - 2) : near + 1]
        return min(candidates, key=lambda turn: max(turn[0] - middle, middle - turn[1]))[2]


def _common(turns: Sequence[tuple[float, float]], word: TimedText) -> float:
    """Seconds of a word that lie in the one of these turns, in order and apart, that has most of
    it.
    """
    at = bisect_right(turns, (word.start, math.inf))
    best = 0.0
    for start, end in turns[max(0, at - 1) :]:
        if start >= word.end:
            break
        # Of one turn, and not of all together: a word lies in one.
        best = max(best, min(end, word.end) - max(start, word.start))
    return best


def _value(paths: Any, name: str, item: Any) -> Any:
    path: ReplyPath | None = getattr(paths, name)
    if path is None:
        return None
    return path.find(item)


def _optional(path: ReplyPath | None, item: Any) -> str | None:
    found = None if path is None else path.find(item)
    if found is None:
        return None
    return label_of(found)


def _reach(words: Sequence[TimedText], low: float, high: float) -> tuple[float, float]:
    """From where to where words reach."""
    timed = [word for word in words if math.isfinite(word.start)]
    if not timed:
        return low, high
    return timed[0].start, max(word.end for word in timed if math.isfinite(word.end))


def _sure(word: TimedText, confidence: float | None) -> TimedText:
    return TimedText(word.text, word.start, word.end, confidence, word.speaker)


def _words(words: Sequence[TimedText]) -> tuple[Word, ...]:
    """Words as the transcript has them; none of them where none has a time, so that they are
    estimated together.
    """
    if not any(math.isfinite(word.start) for word in words):
        return ()
    return tuple(Word(word.text, word.start, word.end, word.confidence) for word in words)


def _named(passage: Passage, names: Mapping[str, str]) -> Passage:
    name = names.get(passage.speaker or "")
    if name is None:
        return passage
    return Passage(
        passage.start,
        passage.end,
        passage.text,
        name,
        passage.timing,
        passage.words,
        passage.alternatives,
    )


def _split_by_speaker(
    text: str, words: Sequence[TimedText], speaker: str | None
) -> Iterator[Passage]:
    """A passage in which several people speak, as one for each of them."""
    texts = [word.text for word in words]
    at = 0
    for label, group in groupby(words, key=lambda word: word.speaker):
        run = list(group)
        low, high = _reach(run, 0.0, 0.0)
        said = excerpt(text, texts, at, at + len(run))
        yield Passage(low, high, said, label if label is not None else speaker, words=_words(run))
        at += len(run)


def _grouped(words: Sequence[TimedText]) -> Iterator[Passage]:
    """Words as passages: a new one after a long pause and at a change of speaker."""
    run: list[TimedText] = []
    for word in words:
        # A passage ends with its speaker, or where nobody has spoken for long.
        if run and (word.speaker != run[-1].speaker or word.start - run[-1].end > LONGEST_PAUSE):
            yield _as_passage(run)
            run = []
        run.append(word)
    if run:
        yield _as_passage(run)


def _as_passage(run: Sequence[TimedText]) -> Passage:
    low, high = _reach(run, 0.0, math.inf)
    text = joined(word.text for word in run)
    return Passage(low, high, text, run[0].speaker, words=_words(run))
