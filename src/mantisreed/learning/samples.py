"""Proposing the `reply` table of a card from a sample reply.

What a proposal is sure of stands in a line; what it is not stands in a comment, with the values
that led to it.
"""

import json
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from glob import escape
from itertools import chain
from typing import Any

from mantisreed.cards.paths import quoted_name
from mantisreed.engines.reading.unpacking import UnexpectedReplyError, files_in, unpacked
from mantisreed.errors import InputError
from mantisreed.learning.column import Column, Judged
from mantisreed.learning.columns import (
    BLANKS,
    MARKS,
    SOUNDS,
    confidences_of,
    final_value,
    flag_of,
    kind_of,
    speakers_of,
    times_of,
)
from mantisreed.learning.found_lists import FoundList, columns_of, lists_in, raw_lists
from mantisreed.learning.proposal import Proposal
from mantisreed.learning.sample_forms import innermost, leaves, whole_text_of
from mantisreed.learning.tracks import TrackList, tracks_in

SURE = 0.5
"""From which score on a key is proposed as a line; below it is a comment."""

_CHARACTERS_OF_TURN = 14  # about a second of speech, as a turn has no text to go by
_ALSO = 0.7  # of the best one's score: another candidate is worth telling
_MOST_CANDIDATES = 3  # that are named beside the best, as comments
_LANGUAGE_TAG = re.compile(r"[a-z]{2,3}([-_][A-Za-z0-9]{2,8})*")
_LANGUAGE = re.compile(r"lang|locale|tongue", re.I)
_BILL = re.compile(r"bill|charge|invoice|cost", re.I)  # no other word says who pays
_BILLED_SECONDS = re.compile(r"sec(ond)?s?$|^s$|duration$", re.I)
_BILLED_MONEY = re.compile(r"cost|price|amount|credits?$|total$|money", re.I)
_STATE = re.compile(r"stat(e|us)$|phase|mood|progress", re.I)
_BRACKETED = re.compile(r"[\[(<].*[\])>]")
_SPOKEN = 0.3  # from which score on a column may be what was said


def propose_reply(sample: bytes, card: Proposal, length: float | None = None) -> None:
    """Write the `reply` table for replies like this one.

    Args:
        sample: a whole reply, as it came.
        card: where it is written.
        length: of the sound that it answers, in seconds; it tells units of time apart.

    Raises:
        InputError: the sample is empty, or nothing in it looks like something that was said.
    """
    try:
        files = files_in(sample)
        # Beside the transcript an archive has settings and notes, which are short.
        file = max(files, key=lambda name: files[name]) if len(files) > 1 else None
        sample = unpacked(sample, file and escape(file))
    except UnexpectedReplyError as error:
        raise InputError(f"the sample cannot be read: {error}") from None
    # A byte order mark and blanks are nothing.
    if not sample.strip(b"\xef\xbb\xbf \t\r\n\0"):
        raise InputError(
            "the sample is empty", advice="save a whole reply of the engine to a short recording"
        )
    inside, keys, form, documents = innermost(sample)
    card.table("reply")
    if file is not None:
        card.key("file", escape(file))
        card.comment(f"the largest of {len(files)} files in the archive: {', '.join(files)}")
    if form != "json":
        card.key("format", form)
    if inside:
        card.key("inside", inside[0] if len(inside) == 1 else inside)
    if documents is None:
        if form == "text":
            card.comment("no times were found: they will be estimated")
        return
    for key, value in keys.items():
        card.key(key, value)
    _SampleCardWriter(card, form, documents, length).write()
    # A bill is read from the answer itself, and not from a document inside of it.
    if form == "json" and file is None and not inside:
        _write_bill(card, documents[0])


@dataclass
class _SampleCardWriter:
    """From documents to a `reply` table."""

    card: Proposal
    form: str
    documents: Sequence[Any]
    length: float | None
    _first: Any = None  # the first document that counts
    _is_unit_sure: bool = False
    _tracks: TrackList | None = None

    @property
    def _is_stream(self) -> bool:
        return self.form in ("lines", "events")

    def write(self) -> None:
        documents = self._counted()
        self._first = documents[0] if documents else None
        lists = self._lists(documents)
        words, passages = self._words_and_passages(lists)
        whole = whole_text_of(documents, self._is_stream)
        self._tell_state()
        if not (words or passages or whole):
            raise InputError(
                "nothing in this sample looks like text that was said",
                advice="is it the reply itself?",
            )
        # Beside each other they say the same twice.
        if words and passages and not self._holds(passages, words):
            passages = self._beside(words, passages)
            words = None if passages else words
        if whole and not (words or passages):
            self._write_whole_text(*whole)
        language = _language(documents)
        if language:
            self.card.key("language", language)
        self._write_lists(words, passages, lists)

    def _counted(self) -> Sequence[Any]:
        """Of a stream what is final, where it says so."""
        if not self._is_stream:
            return self.documents
        tables = [document for document in self.documents if isinstance(document, dict)]
        for name in dict.fromkeys(chain.from_iterable(tables)):
            values = [table.get(name) for table in tables]
            final = final_value(name, values)
            if final is None:
                continue
            # A flag needs no comparison in the card.
            is_flag = final is True
            self.card.key("only", quoted_name(name) + ("" if is_flag else f" == '{final}'"))
            return [
                table
                for table, value in zip(tables, values, strict=True)
                if value == final and isinstance(value, bool) is is_flag
            ]
        return self.documents

    def _lists(self, documents: Sequence[Any]) -> list[FoundList]:
        if not self._is_stream:
            self._tracks = tracks_in(self._first, self.length)
        if self._tracks is None:
            return list(self._lists_of(documents))
        # Each track has the same lists, and times that are only in order within one.
        return list(lists_in(self._tracks.fullest))

    def _words_and_passages(
        self, lists: Sequence[FoundList]
    ) -> tuple[FoundList | None, FoundList | None]:
        # Word by word there is one in each item; abbreviations and numbers come as two.
        words = self._best([found for found in lists if 0 < found.words_each < 1.35])
        longer = [found for found in lists if found.words_each >= 1.35]
        return words, self._holder(lists, words) or self._best(longer)

    def _write_whole_text(self, path: str, is_whole: bool) -> None:
        self.card.key("text", path)
        if is_whole:
            self.card.key("is_whole_text", True)
        self.card.comment("no times were found: they will be estimated")

    def _lists_of(self, documents: Sequence[Any]) -> Iterator[FoundList]:
        if not self._is_stream:
            yield from lists_in(documents[0])
            return
        tables = [document for document in documents if isinstance(document, dict)]
        joined: dict[str, list[Any]] = {}
        for table in tables:
            for path, items in raw_lists(table, ""):
                joined.setdefault(path, []).extend(items)
        for path, items in joined.items():
            yield FoundList(path, columns_of(items))
        # Lists are judged by themselves, joined over all documents.
        flat = [
            {key: value for key, value in table.items() if not isinstance(value, list)}
            for table in tables
        ]
        if len(tables) > 1:
            yield FoundList("@", columns_of(flat))

    def _best(self, lists: Sequence[FoundList]) -> FoundList | None:
        def worth(found: FoundList) -> float:
            """By its text, how much of that there is, and whether it has times."""
            times = found.times(self.length)
            # Times make a list of words sure; without them its text still counts.
            timed = 0.3 + 0.7 * (times[0].score if times else 0.0)
            return timed * found.texts[0].score * math.sqrt(sum(map(len, found.said)))

        # What comes bit by bit may be anything; only times make words of it.
        spoken = [
            found
            for found in lists
            if found.texts
            and found.texts[0].score >= _SPOKEN
            and found.count > 1
            and (not self._is_stream or found.times(self.length))
        ]
        single = [found for found in lists if found.texts and found.times(self.length)]
        return max(spoken or single, key=worth, default=None)

    def _holder(self, lists: Sequence[FoundList], words: FoundList | None) -> FoundList | None:
        """The outermost list whose items have a text and hold the words."""
        # A list inside a list holds only words of one item.
        holding = [found for found in lists if self._holds(found, words) and "[]" not in found.path]
        spoken = [
            found for found in holding if found.words_each >= 1.35 and found.texts[0].score >= 0.3
        ]
        return min(spoken, key=lambda found: len(found.path), default=None)

    @staticmethod
    def _holds(outer: FoundList, inner: FoundList | None) -> bool:
        """Whether one list's items hold the other's."""
        return (
            inner is not None and inner is not outer and inner.path.startswith(f"{outer.path}[].")
        )

    def _beside(self, words: FoundList, passages: FoundList) -> FoundList | None:
        """Of words and passages beside each other only one can be read: the one with speakers, or
        the words.
        """
        has_speakers = bool(speakers_of(passages.columns)) and not speakers_of(words.columns)
        other = words if has_speakers else passages
        what = "words" if has_speakers else "passages"
        self.card.comment(f"{what} of their own are in {other.path}")
        if has_speakers:
            return passages
        return None

    def _tell_state(self) -> None:
        for path, value in leaves(self._first, ""):
            if _STATE.search(path.rpartition(".")[2]) and isinstance(value, str):
                self.card.comment(
                    f"looks like a state, for a step that asks: state = {json.dumps(path)} "
                    f"({value})"
                )
                return

    def _write_lists(
        self, words: FoundList | None, passages: FoundList | None, lists: Sequence[FoundList]
    ) -> None:
        timed = [found for found in (words, passages) if found]
        times = {found.path: found.times(self.length) for found in timed}
        leading = next((times[found.path] for found in timed if times[found.path]), [])
        if leading:
            self._write_unit(leading, timed)
        self._is_unit_sure = bool(leading) and leading[0].score >= SURE
        if words:
            self._write_confidence_scale(words)
        unit = leading[0].unit if leading else ""
        if self._tracks:
            self.card.table("reply.tracks")
            self.card.key("each", self._tracks.path)
            self._write_judged(self._tracks.speakers, "speaker")
        if passages:
            self._write_list("passages", passages, passages.path, times[passages.path], unit)
        if words is None:
            return
        path = words.path
        if passages is not None:
            # Without `PASSAGES[].`: a card writes it from the passage.
            path = path[len(passages.path) + 3 :]
        self._write_list("words", words, path, times[words.path], unit)
        if not any(speakers_of(found.columns) for found in (words, passages) if found):
            self._write_turns(lists, unit)

    def _write_confidence_scale(self, words: FoundList) -> None:
        confidences = confidences_of(words.columns)
        if not confidences or confidences[0].score < SURE:
            return
        # Fractions are what a card means where it says nothing.
        if confidences[0].unit != "fraction":
            self.card.key("confidence_scale", confidences[0].unit)

    @staticmethod
    def _is_single(found: Sequence[FoundList]) -> bool:
        """Whether there is one item to go by, which proves nothing."""
        return max(one.count for one in found) < 2

    def _write_unit(self, times: Sequence[Judged], timed: Sequence[FoundList]) -> None:
        best = times[0]
        others = _alternatives(times, lambda one: one.unit)
        # One item says nothing of the unit: 12 may be seconds or samples.
        if best.score < SURE or self._is_single(timed):
            self.card.maybe("times", best.unit, f"values {best.example}")
        # Seconds are what a card means where it says nothing.
        elif best.unit != "s" or others:
            self.card.key("times", best.unit)
        if best.unit == "moment" and best.score >= SURE:
            self._write_zero()
        for other in others:
            self.card.comment(
                f"or times = {json.dumps(other.unit)}: give --length to be sure ({other.example})"
            )

    def _write_zero(self) -> None:
        """The moment at which the recording began: the only one outside all lists."""
        moments = [
            path
            for path, value in leaves(self._first, "")
            if isinstance(value, str)
            and "[" not in path
            and Column("", [value]).seconds("moment") is not None
        ]
        if len(moments) == 1:
            self.card.key("zero", moments[0])
        else:
            self.card.comment(
                f"say where the moment is at which it began: zero = {' or '.join(moments) or '...'}"
            )

    def _write_list(
        self, key: str, found: FoundList, path: str, times: Sequence[Judged], unit: str
    ) -> None:
        card = self.card
        card.table(f"reply.{key}")
        if not found.is_side_by_side:
            # A list in each item of another one is a list of lists, which one more step flattens.
            each = f"{path}[]" if "[]" in path else path
            card.key("each", each or "@")
        text = found.texts[0].keys["text"]
        card.key("text", text)
        for other in _alternatives(found.texts, lambda one: one.keys["text"]):
            card.comment(f"or text = {json.dumps(other.keys['text'])} ({other.example})")
        usable = [one for one in times if one.unit == unit] or list(times)
        taken = {text}
        if usable:
            taken |= usable[0].columns
            self._write_times(found, usable)
        rest = [column for column in found.columns if column.name not in taken]
        if key == "words":
            self._write_of_words(found, rest)
            self._write_tokens(found, usable[0] if usable else None)
        self._write_judged(speakers_of(rest), "speaker")
        if key == "passages" and "[0]." in text:
            outer, _, inner = text.rpartition("[0].")
            card.key("alternatives", f"{outer}[1:].{inner}")

    def _write_times(self, found: FoundList, usable: Sequence[Judged]) -> None:
        """Where times are; as a comment where that is not sure."""
        best = usable[0]
        is_sure = best.score >= SURE and found.count > 1 and self._is_unit_sure
        doubt = "the values fit badly"
        if found.count < 2:
            doubt = "only one item to go by"
        for name, column in best.keys.items():
            if is_sure:
                self.card.key(name, column)
            else:
                self.card.maybe(name, column, f"{doubt}, {best.example}")
        for other in _alternatives(usable, lambda one: tuple(one.keys.items())):
            keys = ", ".join(
                f"{name} = {json.dumps(column)}" for name, column in other.keys.items()
            )
            self.card.comment(f"or {keys} ({other.example})")

    def _write_judged(self, judged: Sequence[Judged], key: str) -> None:
        for number, one in enumerate(judged[:_MOST_CANDIDATES]):
            if number == 0 and one.score >= SURE:
                self.card.key(key, one.keys[key])
            elif number == 0 or one.score >= _ALSO * judged[0].score:
                self.card.maybe(key, one.keys[key], f"values {one.example}")

    def _write_kinds(self, columns: Sequence[Column]) -> None:
        kind = kind_of(columns)
        if kind is None:
            return
        labels = list(dict.fromkeys(map(str, kind.present)))
        marks = [label for label in labels if MARKS.search(label)]
        events = [label for label in labels if SOUNDS.search(label)]
        blanks = [label for label in labels if BLANKS.search(label)]
        if not (marks or events or blanks):
            self.card.comment(f"{kind.name} says of what kind items are: {', '.join(labels)}")
            return
        self.card.key("kind", kind.name)
        for key, found in (("punctuation", marks), ("events", events), ("ignored", blanks)):
            if found:
                self.card.key(key, found)

    def _write_tokens(self, found: FoundList, times: Judged | None) -> None:
        """The mark by which parts of words are known, or the flag."""
        # A column that says so is surer than signs in the texts.
        flag = flag_of(found.columns, times)
        if flag is not None:
            self.card.key(f"tokens.{flag[0]}", flag[1].name)
            return
        # 0 and 1 are equal to them, and are numbers of speakers.
        flags = [
            column
            for column in found.columns
            if set(column.present) == {True, False} and isinstance(column.present[0], bool)
        ]
        if flags:
            name = flags[0].name
            self.card.maybe("tokens.begins", name, "it may say which parts begin a word")
            self.card.notes.append(
                f"{name} may say which parts begin a word: look whether words are whole"
            )
        said = found.said
        for mark, key in (("▁", "begin_mark"), ("Ġ", "begin_mark"), ("##", "continue_mark")):
            if sum(text.startswith(mark) for text in said) >= 0.15 * len(said) > 0:
                self.card.key(f"tokens.{key}", mark)
                return
        for mark, key in (("@@", "more_mark"), ("</w>", "end_mark")):
            if sum(text.endswith(mark) for text in said) >= 0.15 * len(said) > 0:
                self.card.key(f"tokens.{key}", mark)
                return
        # Each word but the first has a blank before it, and parts of words have none. Where all
        # have one, they are words.
        blanks = sum(text.startswith(" ") for text in said)
        if len(said) > 3 and 0.3 * len(said) <= blanks < len(said) - 1:
            self.card.key("tokens.begin_mark", " ")

    def _write_of_words(self, found: FoundList, rest: Sequence[Column]) -> None:
        self._write_judged(confidences_of(rest), "confidence")
        self._write_kinds(rest)
        # `[laughter]`: such items are sounds, and no words.
        if any(_BRACKETED.fullmatch(text.strip()) for text in found.said):
            self.card.key("event_pattern", r"[\[(<].*[\])>]")

    def _write_turns(self, lists: Sequence[FoundList], unit: str) -> None:
        """Who spoke when, where that is a list of its own."""
        for found in lists:
            speakers = speakers_of(found.columns)
            # A list with texts is no list of turns.
            is_text = found.said and found.words_each >= 1 and found.texts[0].score > 0.3
            if is_text or not speakers or speakers[0].score < SURE:
                continue
            named = speakers[0].keys
            rest = [column for column in found.columns if column.name != named["speaker"]]
            times = times_of(rest, _CHARACTERS_OF_TURN * found.count, self.length)
            # A turn has an end; one that only begins might be a mark.
            usable = [one for one in times if one.unit == unit and len(one.keys) == 2]
            if usable:
                self.card.table("reply.turns")
                self.card.key("each", found.path)
                for key, column in (*usable[0].keys.items(), *named.items()):
                    self.card.key(key, column)
                return


def _alternatives(judged: Sequence[Judged], known_by: Any) -> list[Judged]:
    """What is nearly as good as the first, and differs from it."""
    best, others = judged[0], []
    seen = {known_by(best)}
    for one in judged[1:]:
        if one.score >= _ALSO * best.score and known_by(one) not in seen:
            seen.add(known_by(one))
            others.append(one)
    return others[: _MOST_CANDIDATES - 1]


def _write_bill(card: Proposal, answer: Any) -> None:
    """The `billed` table, where the sample says in so many words what it charges."""
    found: dict[str, str] = {}
    for path, value in leaves(answer, ""):
        # Zero says nothing of what it counts.
        is_amount = isinstance(value, (int, float)) and not isinstance(value, bool) and value > 0
        if not is_amount or "[" in path or not _BILL.search(path):
            continue
        last = path.rpartition(".")[2]
        if _BILLED_SECONDS.search(last):
            found.setdefault("seconds", path)
        elif _BILLED_MONEY.search(last):
            found.setdefault("cost", path)
    if found:
        card.table("billed")
    for key, path in found.items():
        card.key(key, path)


def _language(documents: Sequence[Any]) -> str | None:
    for document in documents:
        for path, value in leaves(document, ""):
            named = _LANGUAGE.search(path.rpartition(".")[2])
            if isinstance(value, str) and named and _LANGUAGE_TAG.fullmatch(value):
                return path
    return None
