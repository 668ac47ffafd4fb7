"""Building the request that a card describes. Nothing is sent here."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from mantisreed.audio.encode import AudioFormat
from mantisreed.engines.card import EngineCard
from mantisreed.engines.placeholders import filled
from mantisreed.engines.secrets import Secret
from mantisreed.errors import InputError


@dataclass(frozen=True, slots=True)
class FormField:
    """One field of a multipart form; with `filename` and `content_type` it is a file."""

    name: str
    content: str | bytes
    filename: str | None = None
    content_type: str | None = None


@dataclass(frozen=True, slots=True)
class HttpRequest:
    """A request, ready for a transport. Its text never shows headers or query, which may hold secrets.

    Attributes:
        engine: the card's name, for messages.
        method, url: as in HTTP.
        headers, query: with secrets filled in.
        form: the fields of a multipart form.
        time_limit: seconds for the whole exchange.
        secrets: what must be hidden in anything that is shown of the answer.
    """

    engine: str
    method: str
    url: str
    headers: Mapping[str, str] = field(repr=False)
    query: Mapping[str, str] = field(repr=False)
    form: tuple[FormField, ...] = field(repr=False)
    time_limit: float
    secrets: tuple[Secret, ...] = ()


def build_request(
    card: EngineCard,
    audio: bytes,
    form: AudioFormat,
    *,
    language: str | None,
    secrets: Mapping[str, Secret],
) -> HttpRequest:
    """The request that sends one piece.

    Args:
        card: of the engine.
        audio: the encoded piece.
        form: how it is encoded.
        language: what the engine calls the language; None lets it find out by itself.
        secrets: by their names in the card.
    """
    values = {name: secret.reveal() for name, secret in secrets.items()}
    values |= {"language": language or "", "format": form.name}
    fields = [
        FormField(name, audio, f"piece.{form.extension}", form.content_type)
        if template == "{audio}"
        else FormField(name, value)
        for name, template in card.send.form.items()
        if (value := filled(template, {**values, "audio": "audio"})) is not None
    ]
    return HttpRequest(
        card.name,
        card.send.method,
        card.address.rstrip("/") + card.send.path,
        _filled_values(card.send.headers, values),
        _filled_values(card.send.query, values),
        tuple(fields),
        card.send.time_limit,
        tuple(secrets.values()),
    )


def language_for(card: EngineCard, language: str | None) -> str | None:
    """What to ask this engine for: the tag as its card lists it, also when only its first part is listed.

    Raises:
        InputError: the card lists languages, and this is none of them.
    """
    if language is None or not card.accepts.languages:
        return language
    listed = {tag.lower(): tag for tag in card.accepts.languages}
    found = listed.get(language.lower()) or listed.get(language.lower().split("-")[0])
    if found is None:
        raise InputError(
            f"engine {card.name} does not know the language {language!r}",
            where=None,
            advice=f"its card lists {', '.join(card.accepts.languages)}",
        )
    return found


def _filled_values(templates: Mapping[str, str], values: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, template in templates.items() if (value := filled(template, values)) is not None}
