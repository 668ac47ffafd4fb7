"""A conversation over a WebSocket: what is sent when, and what each incoming message means. Nothing
is sent here.
"""

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Literal

from mantisreed.cards.bodies import Attachment
from mantisreed.cards.documents import DocumentError, parse_json
from mantisreed.cards.steps import WebSocket
from mantisreed.cards.templates import DocumentTemplate, Values
from mantisreed.cards.wire.streams import tell_heard

Meaning = Literal["ready", "partial", "final", "error", "end", "nothing"]
"""What an incoming message is. `nothing`: the card has no use for it."""

Message = bytes | str
"""Bytes are a binary message, a text a text message."""


@dataclass(slots=True)
class Conversation:
    """One conversation, as a step of a card has it.

    Attributes:
        card: the table.
        attachment: the audio.
        values: what placeholders stand for.
        finals: the final messages so far; together they are the answer.
        failure: the message that was an error.
    """

    card: WebSocket
    attachment: Attachment
    values: Values = field(repr=False)
    finals: list[str] = field(default_factory=list, repr=False)
    failure: str | None = field(default=None, repr=False)

    @property
    def subprotocol(self) -> str | None:
        """What is asked for."""
        if self.card.subprotocol:
            return self.card.subprotocol.text(self.values)
        return None

    @property
    def opening(self) -> list[Message]:
        """Messages to send first."""
        return self._messages(self.card.first.items if self.card.first else ())

    @property
    def closing(self) -> list[Message]:
        """Messages that say that the audio is over."""
        said = self._messages(self.card.last.items if self.card.last else ())
        if self.card.last_binary:
            return [*said, b""]
        return said

    @property
    def pause(self) -> float:
        """Seconds between two chunks."""
        if self.card.speed:
            return float(self.card.chunk) / self.card.speed
        return 0.0

    @property
    def sending_time(self) -> float:
        """Seconds that sending the audio takes by the card's own wish."""
        if self.card.speed:
            return self.attachment.duration / self.card.speed
        return 0.0

    def chunks(self) -> Iterator[Message]:
        """The messages that carry the audio."""
        audio, size = self.attachment.content, self._chunk_size()
        count = max(1, -(-len(audio) // size))
        for number in range(count):
            chunk = audio[number * size : (number + 1) * size]
            if self.card.audio is None:
                yield chunk
                continue
            places = {
                "chunk": chunk,
                "chunk_number": number + 1,
                "chunk_count": count,
                "is_last": number + 1 == count,
            }
            yield _message(self.card.audio, {**self.values, **places})

    def _chunk_size(self) -> int:
        """Bytes of so many milliseconds; where there is a container, on average."""
        seconds = max(self.attachment.duration, 1e-3)
        size = round(len(self.attachment.content) * float(self.card.chunk) / seconds)
        block = self.attachment.block
        return max(block, size - size % block)

    def _messages(self, templates: tuple[DocumentTemplate, ...]) -> list[Message]:
        return [_message(template, self.values) for template in templates]

    def take_in(self, message: str) -> Meaning:
        """Note an incoming message; gives what it means."""
        document = _parsed(message)
        card = self.card
        if card.error and card.error.holds(document):
            self.failure = message
            return "error"
        if card.final:
            is_final = card.final.holds(document)
        else:
            is_final = self._is_final_for_want_of_a_rule(document)
        if is_final:
            self.finals.append(_on_one_line(message, document))
        if card.end and card.end.holds(document):
            return "end"
        if is_final:
            return "final"
        if card.partial and card.partial.holds(document):
            text = card.partial_text.find(document) if card.partial_text else None
            if isinstance(text, str):
                tell_heard(text)
            return "partial"
        if card.ready and card.ready.holds(document):
            return "ready"
        return "nothing"

    def _is_final_for_want_of_a_rule(self, document: Any) -> bool:
        others = (self.card.ready, self.card.partial, self.card.end)
        return not any(condition.holds(document) for condition in others if condition)

    @property
    def answer(self) -> bytes:
        """The final messages, one on each line."""
        return "".join(f"{message}\n" for message in self.finals).encode("utf-8", "surrogatepass")


def _message(template: DocumentTemplate, values: Values) -> Message:
    document = template.document(values)
    if isinstance(document, (str, bytes)):
        return document
    return json.dumps({} if document is None else document)


def _parsed(message: str) -> Any:
    try:
        return parse_json(message.encode("utf-8", "surrogatepass"))
    except DocumentError:
        return message


def _on_one_line(message: str, document: Any) -> str:
    """A message as one line, as it came where it is one."""
    if "\n" not in message and "\r" not in message:
        return message
    if isinstance(document, str):
        return " ".join(message.splitlines())
    return json.dumps(document)
