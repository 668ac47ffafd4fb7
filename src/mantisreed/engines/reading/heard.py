"""What an engine has understood so far, while its answer still comes: for the eye alone, so that
nothing is checked here.
"""

import json
import time
from collections.abc import Callable, Iterator
from typing import Any

from mantisreed.cards.paths import ReplyPath
from mantisreed.cards.wire.streams import OnBlock, tell_heard
from mantisreed.engines.card import EngineCard, Reply
from mantisreed.engines.reading.unpacking import UnexpectedReplyError, documents_of
from mantisreed.engines.reading.wholeness import is_whole

_SHOWN = 160  # characters, the newest ones
_INTERVAL = 0.5  # seconds; nobody reads faster, and a service may send a line for each word


class ReplyStream:
    """How the answer of a card whose reply comes in lines or events is read while it comes."""

    def __init__(self, card: EngineCard, clock: Callable[[], float] = time.monotonic) -> None:
        """`clock` counts seconds that only go forward."""
        self._card, self._clock = card, clock
        self.is_events = card.reply.format == "events"

    def listener(self) -> OnBlock:
        """What hears one answer."""
        return _Heard(self._card.reply, self._clock).take

    def is_whole(self, body: bytes) -> bool:
        """Whether an answer that has ended is all of it."""
        return is_whole(self._card, body)


class _Heard:
    """One answer, as far as it has come."""

    def __init__(self, reply: Reply, clock: Callable[[], float]) -> None:
        self._reply, self._clock = reply, clock
        self._rest = b""
        self._texts: dict[str, str] = {}
        self._next = 0.0

    def take(self, block: bytes) -> None:
        """Take a block, and tell what is heard, not too often."""
        self._rest += block
        end = b"\n\n" if self._reply.format == "events" else b"\n"
        # As far as it is whole: what comes later belongs to the next line or event.
        ready, found, rest = self._rest.replace(b"\r\n", b"\n").rpartition(end)
        if not found:
            return
        self._rest = rest
        try:
            documents = documents_of(self._reply, ready + end)
        except UnexpectedReplyError:
            return  # whoever reads the whole says what is wrong
        for document in documents:
            self._note(document)
        if self._texts and self._clock() >= self._next:
            self._next = self._clock() + _INTERVAL
            tell_heard(self._text())

    def _note(self, document: Any) -> None:
        text = _text_in(self._reply, document)
        if not text:
            return
        if self._reply.is_whole_text:
            self._texts = {"": text}
            return
        # Without a key each document adds to the text.
        place = f"#{len(self._texts)}"
        if self._reply.key is not None:
            known = self._reply.key.find(document)
            if known is not None:
                place = json.dumps(known)
        self._texts[place] = text

    def _text(self) -> str:
        joint = " "
        if self._reply.text is not None:  # bits of one text, with their own blanks
            joint = ""
        text = " ".join(joint.join(self._texts.values()).split())
        if len(text) <= _SHOWN:
            return text
        # From a whole word on.
        return "…" + text[-_SHOWN:].partition(" ")[2]


def _text_in(reply: Reply, document: Any) -> str:
    """What a line or an event says."""
    if reply.text is not None:
        return _joined(reply.text, [document], "")
    items = [document]
    for table in (reply.tracks, reply.passages):
        if table is not None:
            items = list(_each(table.each, items))
    if reply.passages is not None and reply.passages.text is not None:
        return _joined(reply.passages.text, items, " ")
    words = reply.words
    if words is None or words.text is None:
        return ""
    if words.each is not None:
        items = list(_each(words.each, items))
    return _joined(words.text, items, " ")


def _each(path: ReplyPath, items: list[Any]) -> Iterator[Any]:
    for item in items:
        found = path.find(item)
        if isinstance(found, list):
            yield from found
        elif found is not None:
            yield found


def _joined(path: ReplyPath, items: list[Any], joint: str) -> str:
    found = [path.find(item) for item in items]
    return joint.join(text for text in found if isinstance(text, str))
