"""The card of a text service: what a TOML table may say about a service that takes text.

How a service is spoken to is in `cards/card.py`; here is what only text services have.
`docs/text-services.md` is its manual.
"""

from collections.abc import Iterator, Mapping
from decimal import Decimal
from functools import cached_property
from itertools import chain
from typing import Annotated, Any, Literal

import msgspec

from mantisreed.cards.card import ServiceCard
from mantisreed.cards.checks import Problem, problems_of
from mantisreed.cards.paths import ReplyPath
from mantisreed.cards.sequence import StepSequence
from mantisreed.cards.steps import Step, Table
from mantisreed.cards.tables import checked
from mantisreed.cards.templates import DocumentTemplate
from mantisreed.errors import SettingsError

Kind = Literal["text", "data", "sound"]
"""What comes back for a text."""

PLACEHOLDERS = ("text", "passages", "language", "target", "request_id")
"""The placeholders that every card of a text service has; `passages` is a list of texts."""

SOUND_FORMATS = ("wav", "mp3", "flac", "ogg", "opus")

_CHARACTERS_OF_A_TOKEN = (
    4  # of scripts that write words; a sign of others is taken for a token of its own
)
_FIRST_SIGN = "\u2e80"  # from which on a character is a sign of such a script


class TextLimits(Table, frozen=True, kw_only=True):
    """`[service.NAME.accepts]`: what the service takes in one request.

    Attributes:
        max_characters: of text, at most; None for no limit known.
        max_tokens: the same in tokens, four characters each, or one sign of a script without
            spaces.
        languages: the tags that it reads, or a table from tags to what it calls them; empty when
            any may be named.
        targets: those that it writes; empty for the same as it reads.
    """

    max_characters: Annotated[int, msgspec.Meta(ge=20)] | None = None
    max_tokens: Annotated[int, msgspec.Meta(ge=20)] | None = None
    languages: tuple[str, ...] | dict[str, str] = ()
    targets: tuple[str, ...] | dict[str, str] = ()

    def fits(self, text: str) -> bool:
        """Whether a text is short enough for one request."""
        if self.max_characters is not None and len(text) > self.max_characters:
            return False
        return self.max_tokens is None or tokens_of(text) <= self.max_tokens


def tokens_of(text: str) -> int:
    """About how many tokens a text has."""
    signs = sum(character >= _FIRST_SIGN for character in text)
    return signs + -(-(len(text) - signs) // _CHARACTERS_OF_A_TOKEN)


class TextPrice(Table, frozen=True, kw_only=True):
    """`[service.NAME.price]`: money for a thousand characters of text that is sent."""

    per_thousand_characters: Decimal
    currency: str = ""


class TextRateLimit(Table, frozen=True, kw_only=True):
    """`[service.NAME.rate_limit]`: how many `requests` it takes in any `window` of seconds."""

    requests: Annotated[int, msgspec.Meta(ge=1)]
    window: Annotated[float, msgspec.Meta(gt=0)] = 60.0


class LanguageList(Step, frozen=True, kw_only=True, dict=True):
    """`[service.NAME.languages]`: a request whose answer lists the languages.

    Attributes:
        reads: where the tags that it reads are; None where it does not say.
        writes: where those are that it writes.
    """

    reads: ReplyPath | None = None
    writes: ReplyPath | None = None


class TextReply(Table, frozen=True, kw_only=True):
    """`[service.NAME.reply]`: what the answer is, and where things are in it; one of the keys says
    which.

    Attributes:
        format: `json`, `xml`, `text`; `lines` (JSON on each line) and `events` (server-sent
            events), of which each brings a part of the text; for sound one of wav, mp3, flac, ogg,
            opus.
        inside: where the answer proper is, as a text, such as JSON in what a model writes.
        text: where the text is; with `text` as the format the whole answer.
        texts: where a list of texts is, one for each of `{passages}`.
        data: names of fields, and where each is.
        sound: where the sound is, in base64; None where the answer itself is the sound.
        sound_format: of that.
        is_html: whether texts have signs written as in HTML, such as `&#39;`.
    """

    format: Literal[
        "json", "lines", "events", "xml", "text", "wav", "mp3", "flac", "ogg", "opus"
    ] = "json"
    inside: ReplyPath | None = None
    text: ReplyPath | None = None
    texts: ReplyPath | None = None
    data: dict[str, ReplyPath] = {}  # noqa: RUF012 - msgspec copies it
    sound: ReplyPath | None = None
    sound_format: Literal["wav", "mp3", "flac", "ogg", "opus"] = "wav"
    is_html: bool = False


class TextServiceCard(ServiceCard, frozen=True, kw_only=True, dict=True):
    """`[service.NAME]`: one text service. What is not explained here is in `ServiceCard`.

    Attributes:
        reply: what its answer is.
        accepts: what it takes in one request.
        price: what it costs; None when that is not known.
        rate_limit: how many requests it takes in a time; None when it does not say.
        max_concurrent: how many it takes at once.
        languages: how it is asked which languages it takes.
        item: what stands for each of `{passages}`, with `{text}` and `{number}`; None for the text
            itself.
    """

    reply: TextReply
    accepts: TextLimits = TextLimits()
    price: TextPrice | None = None
    rate_limit: TextRateLimit | None = None
    max_concurrent: Annotated[int, msgspec.Meta(ge=1, le=1000)] = 4
    languages: LanguageList | None = None
    item: DocumentTemplate | None = None

    @property
    def kind(self) -> Kind:
        """What comes back for a text."""
        if self.reply.data:
            return "data"
        if self.reply.sound or self.reply.format in SOUND_FORMATS:
            return "sound"
        return "text"

    @property
    def sound_format(self) -> str:
        """The format of the sound that comes back."""
        if self.reply.format in SOUND_FORMATS:
            return self.reply.format
        return self.reply.sound_format

    @cached_property
    def takes_passages(self) -> bool:
        """Whether several texts go into one request."""
        return any("passages" in step.names for _, step in self.sequence)

    @cached_property
    def exchange(self) -> StepSequence:
        """The order of its steps."""
        return StepSequence(self)


def read_service(name: str, table: Mapping[str, Any], file: str) -> TextServiceCard:
    """What one `[service.NAME]` describes, checked.

    Raises:
        SettingsError: names the file, the table, the key and what was expected.
    """
    place = f"service.{name}"
    card = checked({**table, "name": name}, TextServiceCard, file, place)
    problem = next(_contradictions(card), None)
    if problem:
        raise SettingsError(problem[1], where=f"{file}: [{place}{problem[0]}]")
    return card


def _contradictions(card: TextServiceCard) -> Iterator[Problem]:
    if not card.sequence:
        yield "", "key 'send' is missing (or 'steps')"
        return
    yield from problems_of(card, PLACEHOLDERS)
    names = set(chain.from_iterable(step.names for _, step in card.sequence))
    if not names & {"text", "passages"}:
        yield "", "no step sends the text: {text}, or {passages} for a list of texts"
    if {"text", "passages"} <= names:
        yield "", "the text is sent twice, as {text} and as {passages}"
    if card.item is not None and "passages" not in names:
        yield "", "'item' has no effect without {passages}"
    if card.item is not None and set(card.item.names) - {"text", "number"}:
        yield ".item", "known here are {text} and {number}"
    yield from _wrong_reply(card.reply)
    if (card.reply.texts is not None) != ("passages" in names):
        yield (
            ".reply",
            "'texts' and {passages} belong together: a list of texts for a list of texts",
        )


def _wrong_reply(reply: TextReply) -> Iterator[Problem]:
    """Keys that say nowhere, or twice, where the text is."""
    ways = [key for key in ("text", "texts", "data", "sound") if getattr(reply, key)]
    is_whole = reply.format == "text" and reply.inside is None
    if is_whole or reply.format in SOUND_FORMATS:
        if ways:
            yield ".reply", f"{ways[0]!r} is not read with format = {reply.format!r}"
    elif len(ways) != 1:
        yield ".reply", "expected one of the keys 'text', 'texts', 'data' and 'sound'"
    if reply.format in ("lines", "events") and reply.text is None:
        yield ".reply", f"format = {reply.format!r} needs 'text': the part that each brings"
