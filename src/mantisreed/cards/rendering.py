"""What a service is told by the steps of a card, with symbols in place of all that differs each
time.

By it a request is known: waits, limits, prices, error patterns and the way a reply is read do not
reach the service, so that changing them never makes a request another one.
"""

import hashlib
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from mantisreed.cards.bodies import Attachment
from mantisreed.cards.card import ServiceCard
from mantisreed.cards.requests import HttpRequest, RequestBuilder, RequestContext
from mantisreed.cards.sequence import StepSequence, taken_by
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import Value

_EACH_TIME = ("request_id", "callback", "uuid", "nonce")
# They follow from the body, which is compared itself.
_OF_A_BODY = ("content-type", "content-length")


def symbol(name: str) -> str:
    """Stands for a value that does not count; hexadecimal, so that filters that decode can work on
    it.
    """
    return hashlib.sha256(name.encode()).hexdigest()[:16]


def digest_of_request(document: Any) -> str:
    """A digest of anything that can be encoded, whatever the order of its keys."""
    return hashlib.sha256(msgspec.json.encode(document, order="deterministic")).hexdigest()


def with_symbols(card: ServiceCard, values: Mapping[str, Value]) -> dict[str, Value]:
    """What placeholders stand for, with symbols for secrets and for what is made for each
    request.
    """
    # Another key, or another account, gets the same text for the same sound.
    hidden = (*_EACH_TIME, *card.secrets, *(card.session.take if card.session else ()))
    known: dict[str, Value] = {**values, **{name: symbol(name) for name in hidden}}
    # Any moment, as long as it is always the same.
    known["now"] = datetime.fromtimestamp(0, UTC)
    return known


def rendered_steps(
    card: ServiceCard, known: dict[str, Value], attachment: Attachment | None
) -> list[Any]:
    """All requests up to the one that makes the service work: what follows changes nothing in what
    it does.

    Args:
        card: of the service.
        known: what placeholders stand for, with symbols and the card's own values; what steps take
            is added to it.
        attachment: stands for the audio.
    """
    builder = RequestBuilder(card, boundary=lambda: "boundary")
    sequence = StepSequence(card)
    # How it is asked for, and fetched, changes nothing in the reply.
    sent = sequence.steps[: sequence.last_work + 1]
    return [_rendered_step(builder, name, step, known, attachment) for name, step in sent]


def _rendered_step(
    builder: RequestBuilder,
    name: str,
    step: Step,
    values: dict[str, Value],
    attachment: Attachment | None,
) -> Any:
    # A link that an answer gives stands for itself, wherever it leads to.
    taken = frozenset(key for key, value in values.items() if isinstance(value, str))
    # Packing is a matter of the way, and the packer's version would count.
    whole = msgspec.structs.replace(step, gzip=False)
    # Where a card names no URL of its own, a link has to lead somewhere all the same.
    if builder.own_url(values):
        bases = {}
    else:
        bases = dict.fromkeys(taken, "http://engine.invalid/")
    context = RequestContext(values, attachment=attachment, taken=taken, bases=bases)
    request = builder.request(name, whole, context)
    said = _said_in_conversation(step, values)
    # Later steps use what this one would have taken.
    values |= {key: symbol(key) for key in taken_by(step)}
    return [
        request.method,
        request.url,
        _sorted(
            (key.lower(), value) for key, value in request.headers if key.lower() not in _OF_A_BODY
        ),
        _sorted(
            (part.name, part.content.decode("utf-8", "surrogateescape")) for part in request.parts
        ),
        None if request.parts else _content(request),
        said,
    ]


def _said_in_conversation(step: Step, values: Mapping[str, Value]) -> Any:
    websocket = step.websocket
    if websocket is None:
        return None
    holders = (websocket.first, websocket.last)
    said = [
        [item.document(values) for item in holder.items] if holder else [] for holder in holders
    ]
    return [*said, websocket.audio.document(values) if websocket.audio else None]


def _sorted(pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    # A card's author may list headers, fields and keys in any order.
    return sorted(pairs)


def _content(request: HttpRequest) -> Any:
    """The body; JSON as a document, so that the order of its keys does not matter."""
    if not request.body:
        return None
    try:
        return msgspec.json.decode(request.body)
    except msgspec.DecodeError:
        return request.body.decode("utf-8", "surrogateescape")
