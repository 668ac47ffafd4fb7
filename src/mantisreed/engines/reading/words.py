"""Finding words, their times, kinds, speakers and confidences in a document by a card's paths."""

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from mantisreed.cards.paths import ReplyPath
from mantisreed.engines.card import TokenMarks, WordPaths
from mantisreed.engines.card_values import ConfidenceScale
from mantisreed.engines.oddities import Oddities
from mantisreed.engines.reading.unpacking import UnexpectedReplyError
from mantisreed.engines.reading.word_times import NAN, ReplyContext, quoted, spans_of
from mantisreed.limits import most_items
from mantisreed.transcript.writing import without_controls

_LETTERS = re.compile(r"\w")
_OPENING = frozenset("([{«„“¿¡‘")
_LONGEST_LABEL = 200  # characters of what a speaker or a language is called
_ON_THE_SCALE = 1e-6  # that a share may be over 1 by rounding


@dataclass(slots=True)
class Item:
    """A word, or a part of one, as the reply has it.

    Attributes:
        text: as it is, blanks included.
        start, end: seconds from the piece's start; not a number where the reply does not say.
        confidence: 0 to 1; None where the reply does not say.
        speaker: as the reply calls them.
        kind: of the item.
        flag: whether a part begins a word, or goes on with one, as the card has it.
    """

    text: str
    start: float = NAN
    end: float = NAN
    confidence: float | None = None
    speaker: str | None = None
    kind: Any = None
    flag: Any = None

    @property
    def has_time(self) -> bool:
        """Whether the reply says when it is said."""
        return self.start == self.start


@dataclass(frozen=True, slots=True)
class TimedText:
    """Something with a text and a place in time: a word, or a sound that is no word."""

    text: str
    start: float
    end: float
    confidence: float | None = None
    speaker: str | None = None


@dataclass(slots=True)
class FoundWords:
    """What was found in one list of words: the words in order, and what is no speech."""

    words: list[TimedText] = field(default_factory=list)
    events: list[TimedText] = field(default_factory=list)


class WordFinder:
    """Finds words as one card says."""

    def __init__(
        self, paths: WordPaths, context: ReplyContext, whole: ReplyPath | None = None
    ) -> None:
        """`whole` is where the text is that words are parts of, where they say only which."""
        self._paths, self._context, self._whole = paths, context, whole
        self._unit = paths.times or context.times

    def words(self, within: Any, *, start: float, end: float) -> FoundWords:
        """The words in a document, or in one of its passages: `items`, put together."""
        return self.put_together(self.items(within, start=start, end=end))

    def items(self, within: Any, *, start: float, end: float) -> "list[Item]":
        """What a list of words holds: words, parts of them, marks and sounds, in their order.

        Args:
            within: the document or passage.
            start, end: seconds in the piece between which they should be.

        Raises:
            UnexpectedReplyError: the reply is not as the card says.
        """
        items = self._listed(within)
        # Some engines count from where the passage begins, most from where the sound does.
        zero = start if self._paths.zero == "passage" else 0.0
        spans = spans_of(
            self._raw_times(items),
            self._paths,
            self._unit,
            self._context,
            (zero, start, end),
            "words",
        )
        return [
            self._item(text, item, span) for (text, item), span in zip(items, spans, strict=True)
        ]

    def put_together(self, items: "list[Item]") -> FoundWords:
        """Words out of parts of words, with their marks; sounds apart."""
        return self._sorted_out(self._whole_words(items))

    def _listed(self, within: Any) -> list[tuple[str, Any]]:
        """Each item's text and the item itself; the texts as they are."""
        paths = self._paths
        if paths.text is None:
            return self._parts_of_text(within)
        if paths.each is None:
            return self._side_by_side(within)
        found = listed(paths.each, within, "reply.words.each", self._context.duration)
        items = []
        for item in found:
            text = paths.text.find(item)
            if text is None and isinstance(item, str) and paths.text.source == "text":
                text = item  # an XML element without attributes is its text
            # A number that was said may be written as one in JSON.
            if isinstance(text, (int, float)) and not isinstance(text, bool):
                text = str(text)
            if not isinstance(text, str):
                if self._is_left_out(item):
                    continue
                raise UnexpectedReplyError(
                    f"reply.words.text ({paths.text}) finds "
                    f"{'nothing' if text is None else 'no text'}"
                )
            items.append((text, item))
        return items

    def _parts_of_text(self, within: Any) -> list[tuple[str, Any]]:
        """Words that say only where in a text they stand."""
        paths = self._paths
        assert paths.each is not None and self._whole is not None
        text = self._whole.find(within)
        if not isinstance(text, str):
            raise UnexpectedReplyError(f"the text that words are parts of ({self._whole}) is none")
        items = []
        for item in listed(paths.each, within, "reply.words.each", self._context.duration):
            first = self._place("text_from", item)
            last = self._place("text_to", item)
            if last is None:
                length = self._place("text_length", item)
                last = None if first is None or length is None else first + length
            if first is None or last is None or not 0 <= first <= last <= len(text):
                raise UnexpectedReplyError(
                    f"reply.words: a word stands from {first} to {last} in a text of {len(text)} "
                    "characters"
                )
            items.append((text[first:last], item))
        return items

    def _place(self, name: str, item: Any) -> int | None:
        found = self._value(name, item)
        if isinstance(found, str) and found.strip().isdecimal():
            return int(found)
        is_whole = isinstance(found, (int, float)) and not isinstance(found, bool)
        return int(found) if is_whole and float(found).is_integer() else None

    def _is_left_out(self, item: Any) -> bool:
        if self._paths.kind:
            kind = self._paths.kind.find(item)
        else:
            kind = None
        return _is_one_of(kind, self._paths.ignored) or _is_one_of(kind, self._paths.events)

    def _side_by_side(self, within: Any) -> list[tuple[str, Any]]:
        """Lists of the same length as a list of items that know their number."""
        columns: dict[str, list[Any]] = {}
        for name in _ITEM_PATHS:
            column = self._column(name, within)
            if column is not None:
                columns[name] = column
        texts = columns["text"]
        if len(texts) > most_items(self._context.duration):
            raise UnexpectedReplyError(
                f"reply.words.text finds {len(texts)} words for {self._context.duration:.3g} s of "
                "sound"
            )
        # Starts may also be bounds: where each word begins, and where the last one ends.
        bounds = columns.get("start", [])
        are_bounds = len(bounds) == len(texts) + 1
        for name, column in columns.items():
            if len(column) != len(texts) and not (name == "start" and are_bounds):
                raise UnexpectedReplyError(
                    f"reply.words.{name} finds {len(column)} items, and reply.words.text "
                    f"{len(texts)}"
                )
        rows = [
            {name: column[number] for name, column in columns.items()}
            for number in range(len(texts))
        ]
        if are_bounds:
            for number, row in enumerate(rows):
                row["end"] = bounds[number + 1]
        return [(str(row["text"]), _Row(row)) for row in rows]

    def _column(self, name: str, within: Any) -> list[Any] | None:
        """What all words have of one kind; None where there is nothing of it."""
        path = getattr(self._paths, name)
        if path is None:
            return None
        value = path.find(within)
        if isinstance(value, str):
            if not value.strip():
                return []
            # All of a column in one text, as attributes of XML have it.
            return re.split(r"[,;\s]+", value.strip())
        if isinstance(value, list):
            return value
        if name == "text" and value is None:
            raise UnexpectedReplyError(f"reply.words.text ({path}) finds nothing")
        if value is not None:
            raise UnexpectedReplyError(f"reply.words.{name} ({path}) finds no list")
        return None

    def _raw_times(self, items: list[tuple[str, Any]]) -> list[tuple[Any, Any, Any]]:
        return [
            tuple(self._value(name, item) for name in ("start", "end", "length"))
            for _, item in items
        ]

    def _value(self, name: str, item: Any) -> Any:
        if isinstance(item, _Row):
            return item.values.get(name)
        path: ReplyPath | None = getattr(self._paths, name)
        if path is None:
            return None
        return path.find(item)

    def _item(self, text: str, item: Any, span: tuple[float, float]) -> Item:
        context, tokens = self._context, self._paths.tokens
        speaker = self._value("speaker", item)
        flag = None
        if tokens is not None and not isinstance(item, _Row):
            path = tokens.begins or tokens.continues
            flag = None if path is None else path.find(item)
        return Item(
            text,
            *span,
            confidence_of(self._value("confidence", item), context.scale, context.oddities),
            None if speaker is None else label_of(speaker),
            self._value("kind", item),
            flag,
        )

    def _whole_words(self, items: list[Item]) -> list[Item]:
        """Parts of words as words."""
        tokens = self._paths.tokens
        if tokens is None:
            for item in items:
                item.text = " ".join(item.text.split())
            return items
        return list(_joined_tokens(tokens, items))

    def _sorted_out(self, items: list[Item]) -> FoundWords:
        """Words, with their punctuation, and what is no speech."""
        paths, oddities = self._paths, self._context.oddities
        found = FoundWords()
        opening = ""
        for item in items:
            if not item.text or _is_one_of(item.kind, paths.ignored):
                continue
            if _is_one_of(item.kind, paths.events) or self._is_event(item.text):
                found.events.append(TimedText(item.text.strip("[]()<>*♪ "), item.start, item.end))
                continue
            is_mark = not _LETTERS.search(item.text)
            if _is_one_of(item.kind, paths.punctuation) or (is_mark and not item.has_time):
                # What opens goes with the word behind it, any other mark with the one before.
                if item.text[0] in _OPENING or not found.words:
                    opening += item.text
                else:
                    found.words[-1] = _with_mark(found.words[-1], item)
                continue
            oddities.look_at(item.text, is_word=True)
            text = opening + item.text
            opening = ""
            found.words.append(TimedText(text, item.start, item.end, item.confidence, item.speaker))
        return found

    def _is_event(self, text: str) -> bool:
        pattern = self._paths.event_pattern
        return pattern is not None and pattern.compiled.fullmatch(text) is not None


_ITEM_PATHS = ("text", "start", "end", "length", "confidence", "speaker", "kind")


@dataclass(frozen=True, slots=True)
class _Row:
    """One item of lists that stand side by side."""

    values: dict[str, Any]


def listed(path: ReplyPath, within: Any, key: str, seconds: float = math.inf) -> list[Any]:
    """The list that a path finds; one table alone is a list of one, as XML has it.

    Args:
        path: it.
        within: the document, or a part of it.
        key: of the card, for messages.
        seconds: of sound that it is about.

    Raises:
        UnexpectedReplyError: it finds nothing, or no list, or more than can be said in that time.
    """
    found = path.find(within)
    if found is None:
        raise UnexpectedReplyError(f"{key} ({path}) finds nothing")
    if isinstance(found, dict):
        return [found]
    if not isinstance(found, list):
        raise UnexpectedReplyError(f"{key} ({path}) finds no list")
    if len(found) > most_items(seconds):
        raise UnexpectedReplyError(
            f"{key} ({path}) finds {len(found)} items for {seconds:.3g} s of sound"
        )
    return found


def label_of(speaker: Any) -> str:
    """What a speaker is called; a whole number without a fraction."""
    if isinstance(speaker, float) and speaker.is_integer():
        return str(int(speaker))
    try:
        label = " ".join(str(speaker).split())
    except ValueError:  # a number of more digits than Python writes
        return "?"
    return without_controls(label)[:_LONGEST_LABEL]


def confidence_of(found: Any, scale: ConfidenceScale, oddities: Oddities) -> float | None:
    """A confidence from 0 to 1; None where there is none. What is not on its scale is told, and not
    used.
    """
    if found is None or isinstance(found, bool):
        return None
    number = _number(found)
    if number is None:
        oddities.note("confidence", quoted(found))
        return None
    number = scale.share(number)
    if not -_ON_THE_SCALE <= number <= 1.0 + _ON_THE_SCALE:
        oddities.note("confidence", quoted(found))
        return None
    return min(max(0.0, number), 1.0)


def _number(found: Any) -> float | None:
    is_percent = isinstance(found, str) and found.rstrip().endswith("%")
    try:
        if isinstance(found, str):
            number = float(found.rstrip().rstrip("%"))
        else:
            number = float(found)
    except (ValueError, TypeError, OverflowError):
        return None
    if math.isfinite(number):
        if is_percent:
            return number / 100.0
        return number
    return None


def _is_one_of(value: Any, listed_values: Sequence[Any]) -> bool:
    return bool(listed_values) and any(
        # In Python 1 equals True; on a card they are two things.
        value == other and isinstance(value, bool) == isinstance(other, bool)
        for other in listed_values
    )


def _with_mark(word: TimedText, mark: Item) -> TimedText:
    if mark.has_time and mark.end > word.end:
        end = mark.end
    else:
        end = word.end
    return TimedText(word.text + mark.text, word.start, end, word.confidence, word.speaker)


def _joined_tokens(tokens: TokenMarks, items: Sequence[Item]) -> Iterator[Item]:
    """Parts of words put together; their times from the first to the last, their confidence the
    mean.
    """
    run: list[Item] = []
    goes_on = False
    for item in items:
        begins, text, goes_on_after = _read_token(tokens, item, goes_on)
        # A mark or a sound is no part of a word.
        begins = begins or (run != [] and item.kind != run[-1].kind)
        if begins and run:
            yield _whole(run)
            run = []
        goes_on = goes_on_after
        item.text = text
        if text:
            run.append(item)
    if run:
        yield _whole(run)


def _read_token(tokens: TokenMarks, item: Item, goes_on: bool) -> tuple[bool, str, bool]:
    """Whether a part begins a word, its text without marks, and whether the next part goes on with
    its word.
    """
    text = item.text
    if tokens.begin_mark is not None:
        begins = text.startswith(tokens.begin_mark)
        bare = text.removeprefix(tokens.begin_mark).strip()
        # A mark by itself ends the word before, and the next part begins one.
        return begins or not goes_on, bare, bool(bare)
    if tokens.continue_mark is not None:
        return (
            not text.startswith(tokens.continue_mark),
            text.removeprefix(tokens.continue_mark).strip(),
            True,
        )
    if tokens.end_mark is not None:
        return (
            not goes_on,
            text.removesuffix(tokens.end_mark).strip(),
            not text.endswith(tokens.end_mark),
        )
    if tokens.more_mark is not None:
        return (
            not goes_on,
            text.removesuffix(tokens.more_mark).strip(),
            text.endswith(tokens.more_mark),
        )
    is_flagged = bool(item.flag)
    return is_flagged if tokens.begins is not None else not is_flagged, text.strip(), True


def _whole(run: Sequence[Item]) -> Item:
    timed = [item for item in run if item.has_time]
    known = [item.confidence for item in run if item.confidence is not None]
    return Item(
        "".join(item.text for item in run),
        timed[0].start if timed else NAN,
        max(item.end for item in timed) if timed else NAN,
        math.fsum(known) / len(known) if known else None,
        next((item.speaker for item in run if item.speaker is not None), None),
        run[0].kind,
    )
