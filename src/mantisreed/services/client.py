"""Speaking to a text service by its card: a request from text to what came back, and what it is
known by.
"""

import asyncio
import base64
import binascii
import html
import re
import secrets as randomness
import time
from collections.abc import Awaitable, Callable, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from itertools import chain
from typing import TYPE_CHECKING, Any

import msgspec

from mantisreed.cards.answers import quoted_beginning
from mantisreed.cards.documents import (
    DocumentError,
    events_in,
    lines_in,
    looks_like_xml,
    parse_json,
    parse_xml,
)
from mantisreed.cards.paths import ReplyPath
from mantisreed.cards.rendering import digest_of_request, rendered_steps, with_symbols
from mantisreed.cards.requests import values_of_card
from mantisreed.cards.templates import Value
from mantisreed.cards.wire.exchange import Exchange, pauses
from mantisreed.cards.wire.sending import ExchangeOptions
from mantisreed.cards.wire.standing import FinishedExchange, Standing, Waiting
from mantisreed.errors import InputError, JobLostError, UnreadableReplyError
from mantisreed.secrets import Secret
from mantisreed.services.card import TextReply, TextServiceCard

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport

_NUMBER = re.compile(r"-?[0-9]{1,15}(\.[0-9]{1,15})?")
# As language models write what they were asked for.
_FENCED = re.compile(r"```[a-z]*\s*\n(.*?)```", re.DOTALL)
_LARGEST_TEXT = 4_000_000  # characters of one answer that are taken for text


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked of a text service in one request.

    Attributes:
        texts: one text, or those of several passages for a service that takes them.
        language: what the service calls the language they are in; None where nobody knows.
        target: what it calls the language that is wanted; None where none is.
    """

    texts: tuple[str, ...]
    language: str | None = None
    target: str | None = None

    @property
    def characters(self) -> int:
        """How many are sent."""
        return sum(map(len, self.texts))

    def values(self, card: TextServiceCard) -> dict[str, Value]:
        """What the card's placeholders stand for."""
        items: list[Value] = list(self.texts)
        if card.item is not None:
            items = [
                card.item.document({"text": text, "number": n}) for n, text in enumerate(self.texts)
            ]
        return {
            "text": "\n\n".join(self.texts),
            "passages": items,
            "language": self.language,
            "target": self.target,
        }


def question_key(card: TextServiceCard, question: Question) -> str:
    """What a request is known by: all that the service is told, but for secrets."""
    known = with_symbols(card, question.values(card))
    known |= values_of_card(card, known)
    # With another account it would be asked and paid again.
    account = [] if card.account is None else [card.account]
    return digest_of_request(["text", rendered_steps(card, known, None), *account])


class TextServiceClient:
    """A text service that is spoken to over the network, by the steps of its card."""

    def __init__(
        self,
        card: TextServiceCard,
        secrets: Mapping[str, Secret],
        transport: "Transport",
        *,
        clock: Callable[[], float] = time.monotonic,
        sleep: Callable[[float], Awaitable[None]] = asyncio.sleep,
    ) -> None:
        """Send nothing yet."""
        self._card, self._secrets, self._transport = card, secrets, transport
        self._clock, self._sleep = clock, sleep
        self._exchange = Exchange(
            card, secrets, transport, ExchangeOptions(clock=clock, sleep=sleep)
        )

    async def answer(self, question: Question) -> bytes:
        """What the service answers, to the byte.

        Raises:
            EngineError: a request failed, or the service's job did.
        """
        request_id = randomness.token_hex(16)
        values = {**question.values(self._card), "request_id": request_id}
        came = await self._exchange.start(request_id, values, None)
        return await self._finished(self._exchange, came)

    async def languages(self) -> tuple[list[str], list[str]]:
        """The tags that the service says it reads and writes; what its card says where it does not
        say.

        Raises:
            EngineError: asking failed.
        """
        card, step = self._card, self._card.languages
        listed = (
            list(card.accepts.languages),
            list(card.accepts.targets) or list(card.accepts.languages),
        )
        if step is None:
            return listed
        # A card of its own, whose only step is that question.
        asking = msgspec.structs.replace(card, send=step, steps={}, lookup=None, cancel=None)
        exchange = Exchange(
            asking, self._secrets, self._transport, ExchangeOptions(clock=self._clock)
        )
        body = await self._finished(exchange, await exchange.start("languages", {}, None))
        try:
            if looks_like_xml(body):
                document = parse_xml(body)
            else:
                document = parse_json(body)
        except DocumentError as error:
            raise _unreadable(card, str(error), body) from error
        return _listed(step.reads, document) or listed[0], _listed(step.writes, document) or listed[
            1
        ]

    async def _finished(self, exchange: Exchange, came: FinishedExchange | Standing) -> bytes:
        """Ask until the service's job is done."""
        started = self._clock()
        while isinstance(came, Standing):
            standing = came
            steps = dict(self._card.sequence)
            step = steps[standing.step or ""]
            for pause in pauses(step):
                await self._sleep(pause)
                answer = await exchange.go_on(standing)
                if isinstance(answer, FinishedExchange):
                    came = answer
                    break
                if isinstance(answer, Waiting) and answer.standing is not None:
                    came = answer.standing
                    break
                if self._clock() - started > step.limit:
                    what = f"the job did not end within {step.limit:g} s"
                    raise JobLostError(what, engine=self._card.name)
        if came.cleanup is not None:
            await exchange.clean_up(came.cleanup)
        return came.body or b""


def _listed(path: ReplyPath | None, document: Any) -> list[str]:
    found = path.find(document) if path is not None else None
    if isinstance(found, list):
        return [str(tag) for tag in found if isinstance(tag, (str, int))]
    return []


def document_of(card: TextServiceCard, body: bytes) -> Any:
    """What paths are looked up in.

    Raises:
        UnreadableReplyError: it is not what the card says.
    """
    try:
        document = _outer_document(card, body)
        if card.reply.inside is None:
            return document
        found = card.reply.inside.find(document)
        if not isinstance(found, str):
            raise DocumentError(f"reply.inside ({card.reply.inside.source}) finds no text")
        return parse_json(_unfenced(found).encode("utf-8", "replace"))
    except DocumentError as error:
        raise _unreadable(card, str(error), body) from error


def _outer_document(card: TextServiceCard, body: bytes) -> Any:
    form = card.reply.format
    if form == "xml":
        return parse_xml(body, _listed_in(card.reply))
    if form == "text":
        return body.decode("utf-8", "replace")
    if form in ("lines", "events"):
        if form == "lines":
            texts = lines_in(body)
        else:
            texts = (event.data for event in events_in(body))
        return _parts_of(card, texts)
    return parse_json(body)


def _parts_of(card: TextServiceCard, texts: Iterable[str]) -> str:
    """The text that comes in parts; what is no JSON only says that nothing more comes."""
    assert card.reply.text is not None
    parts = []
    for text in texts:
        with suppress(DocumentError):  # what cannot be read is told below
            found = card.reply.text.find(parse_json(text.encode("utf-8", "replace")))
            parts += [found] if isinstance(found, str) else []
    if not parts:
        raise DocumentError("none of its parts brings a text")
    return "".join(parts)


def _unfenced(text: str) -> str:
    """A document without the fences that models put around it."""
    found = _FENCED.search(text)
    if found:
        return found[1]
    return text


def _listed_in(reply: TextReply) -> frozenset[str]:
    """Names of XML elements that are lists, though there may be one only."""
    paths = [
        path
        for path in (reply.text, reply.texts, reply.sound, *reply.data.values())
        if path is not None
    ]
    return frozenset(chain.from_iterable(path.list_names for path in paths))


def read_texts(card: TextServiceCard, body: bytes, question: Question) -> list[str]:
    """The texts of an answer, as many as were sent.

    Raises:
        UnreadableReplyError: it is not what the card says, or holds another number of texts.
    """
    document = document_of(card, body)
    if card.reply.texts is not None:
        found = card.reply.texts.find(document)
        if not isinstance(found, list) or len(found) != len(question.texts):
            count = len(found) if isinstance(found, list) else "no"
            what = (
                f"{count} texts came for {len(question.texts)}: reply.texts "
                f"({card.reply.texts.source})"
            )
            raise _unreadable(card, what, body)
        return [_text(card, one, body) for one in found]
    is_text = card.reply.text is None or (
        card.reply.format in ("lines", "events") and card.reply.inside is None
    )
    if is_text or card.reply.text is None:
        said = document
    else:
        said = card.reply.text.find(document)
    return [_text(card, said, body)]


def _text(card: TextServiceCard, found: Any, body: bytes) -> str:
    if not isinstance(found, str) or len(found) > _LARGEST_TEXT:
        if isinstance(found, str):
            what = "it is larger than any text"
        else:
            what = f"{type(found).__name__} where a text was"
        raise _unreadable(card, f"{what} expected", body)
    text = found.encode("utf-8", "replace").decode().strip()
    if card.reply.is_html:
        return html.unescape(text)
    return text


def read_data(card: TextServiceCard, body: bytes) -> dict[str, Any]:
    """The fields of an answer.

    Raises:
        UnreadableReplyError: it is not what the card says, or holds none of them.
    """
    document = document_of(card, body)
    fields = {name: path.find(document) for name, path in card.reply.data.items()}
    if card.reply.format == "xml":
        # XML has only texts.
        fields = {name: _as_number(value) for name, value in fields.items()}
    if all(value is None for value in fields.values()):
        raise _unreadable(card, "none of the fields in reply.data is there", body)
    return fields


def _as_number(value: Any) -> Any:
    """A number that XML can only write as a text."""
    if not isinstance(value, str) or not _NUMBER.fullmatch(value):
        return value
    if "." in value:
        return float(value)
    return int(value)


def read_sound(card: TextServiceCard, body: bytes) -> bytes:
    """The sound of an answer.

    Raises:
        UnreadableReplyError: it is not what the card says.
    """
    if card.reply.sound is None:
        if not body:
            raise _unreadable(card, "it is empty", body)
        return body
    found = card.reply.sound.find(document_of(card, body))
    try:
        return base64.b64decode(str(found), validate=True)
    except (binascii.Error, ValueError) as error:
        raise _unreadable(
            card, f"reply.sound ({card.reply.sound.source}) finds no base64", body
        ) from error


def _unreadable(card: TextServiceCard, why: str, body: bytes) -> UnreadableReplyError:
    quoted = quoted_beginning(body, ())
    if quoted:
        advice = f"the reply begins: {quoted}"
    else:
        advice = "the reply is empty"
    return UnreadableReplyError(
        f"its reply is not as its card says: {why}", engine=card.name, advice=advice
    )


def language_named(
    card: TextServiceCard, tag: str | None, *, is_target: bool = False
) -> str | None:
    """What the service calls a language, also when only the tag's first part is listed on its card.

    Raises:
        InputError: the card lists languages, and this is none of them.
    """
    accepts = card.accepts
    if is_target:
        given = accepts.targets or accepts.languages
    else:
        given = accepts.languages
    if isinstance(given, dict):
        names = given
    else:
        names = {one: one for one in given}
    if tag is None or not names:
        return tag
    listed = {known.lower(): name for known, name in names.items()}
    # `de-AT` is German where the card lists `de` alone.
    found = listed.get(tag.lower()) or listed.get(tag.lower().partition("-")[0])
    if found is None:
        raise InputError(
            f"service {card.name} does not know the language {tag!r}",
            advice=f"{card.name} knows {', '.join(names)}",
        )
    return found
