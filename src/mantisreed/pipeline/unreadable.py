"""Replies that could not be read: kept for somebody to look at, and marked, so that nobody tries
the same again.

A reply that was paid for is never thrown away. It is read again, at no cost, when its card reads
replies in another way, or a newer program does; until then its recording is told as failed at once,
without reading it anew.
"""

import hashlib
from collections.abc import Mapping
from pathlib import Path

import msgspec

from mantisreed.engines.asking import reading_of
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.reading.reply import ParsedReply
from mantisreed.engines.request import Piece
from mantisreed.errors import UnreadableReplyError
from mantisreed.files import bytes_digest, printable, write_whole
from mantisreed.folders import HIDDEN_FOLDER, read, remove
from mantisreed.secrets import Secret
from mantisreed.state import make_folder
from mantisreed.version import __version__

_FOLDER = "unreadable"


class _Mark(msgspec.Struct, frozen=True):
    """What is known of a reply: by which way of reading it could not be read, and why."""

    reading: str
    why: str


class UnreadableReplies:
    """Those of one workspace."""

    def __init__(self, hidden: Path) -> None:
        self._folder = hidden / _FOLDER

    def forget(self, digest: str) -> None:
        """Remove what is kept of a reply."""
        for kind in ("reply", "json"):
            remove(self._place(digest, kind))

    def reading_of(
        self,
        card: EngineCard,
        answered: EngineResponse,
        piece: Piece,
        secrets: Mapping[str, Secret],
    ) -> ParsedReply:
        """What a reply says, as `engines.asking.reading_of` has it.

        Raises:
            UnreadableReplyError: it is not as the card says, now or when it was read last; it is
                kept and marked.
        """
        if answered.body is None:
            return ParsedReply(())
        digest = bytes_digest([answered.body])
        known = self._mark(digest, card)
        try:
            if known is not None:
                raise UnreadableReplyError(known.why, engine=card.name)
            return reading_of(card, answered, piece, secrets)
        except UnreadableReplyError as error:
            place = self._place(digest, "reply")
            if self._folder.parent.name == HIDDEN_FOLDER:
                error.advice = (
                    f"the whole reply is in {printable(place)}; fix the card and run the same "
                    "command, which costs nothing, or `mantisreed retry` asks for another one"
                )
            else:
                error.advice = "nothing was to be kept, and so the reply is gone; fix the card"
            if known is None:
                make_folder(self._folder)
                write_whole(place, answered.body)
                mark = _Mark(_way_of_reading(card), error.what)
                write_whole(self._place(digest, "json"), msgspec.json.encode(mark))
            raise

    def is_marked(self, digest: str | None, card: EngineCard) -> bool:
        """Whether a kept reply, by its digest, could not be read the way that the card says now."""
        return digest is not None and self._mark(digest, card) is not None

    def _mark(self, digest: str, card: EngineCard) -> _Mark | None:
        """What is known of a reply, as far as it holds for the way that the card says now."""
        try:
            known = msgspec.json.decode(read(self._place(digest, "json")), type=_Mark)
        except (OSError, msgspec.MsgspecError):
            return None
        if known.reading == _way_of_reading(card):
            return known
        return None

    def _place(self, digest: str, suffix: str) -> Path:
        return self._folder / f"{digest.removeprefix('sha256:')[:16]}.{suffix}"


def _way_of_reading(card: EngineCard) -> str:
    """What tells one way to read a card's replies from another."""
    written = msgspec.json.encode(
        [__version__, card.reply, card.errors.no_speech],
        enc_hook=lambda value: getattr(value, "source", repr(value)),
    )
    return hashlib.sha256(written).hexdigest()
