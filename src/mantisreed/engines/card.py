"""The engine card: what a TOML table may say about an engine.

Each table of a card is a struct here; a key is a field. `docs/architecture.md` says how further exchanges are added.
"""

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Literal

import msgspec

from mantisreed.audio.encode import FORMATS
from mantisreed.engines.placeholders import placeholders_of
from mantisreed.engines.secrets import SecretSource
from mantisreed.engines.tables import Bytes, ReplyPath, Seconds, checked
from mantisreed.errors import SettingsError

TimeUnit = Literal["s", "ms", "us", "100ns"]


class _Table(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    pass


class Accepts(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.accepts]`: what the engine takes in one request.

    Attributes:
        formats: audio formats, the one to try first in front.
        sample_rate: samples per second to send; the default is what speech engines work at.
        most_bytes: size of one request's audio at most; None for no limit known.
        longest: seconds of audio in one request at most; None for no limit known.
        languages: the tags it knows; empty when any may be asked for.
    """

    formats: tuple[str, ...] = tuple(FORMATS)
    sample_rate: int = 16_000
    most_bytes: Bytes | None = None
    longest: Seconds | None = None
    languages: tuple[str, ...] = ()


class Price(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.price]`: money per minute of audio, billed in steps of `billing_step` seconds."""

    per_minute: Decimal
    currency: str = ""
    billing_step: Seconds = Seconds(1)


class Pace(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.pace]`: `requests` in any `window` seconds, and how many `at_once`."""

    requests: int | None = None
    window: Seconds = Seconds(60)
    at_once: int = 4


class Send(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.send]`: the request that carries the audio, a multipart form.

    Values may hold placeholders: `{audio}` (the file itself, alone in its value), `{language}`, `{format}`, and the
    names in `[engine.NAME.secrets]`. A value whose placeholder is empty is left out.
    """

    form: dict[str, str]
    path: str = ""
    method: Literal["POST", "PUT"] = "POST"
    headers: dict[str, str] = {}
    query: dict[str, str] = {}
    time_limit: Seconds = Seconds(300)


class WordPaths(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.words]`: where words are. `each` gives the list, the rest is looked up in each item.

    With `[...reply.passages]`, `each` is looked up in each passage, otherwise in the whole reply.
    """

    each: ReplyPath
    text: ReplyPath
    start: ReplyPath
    end: ReplyPath
    confidence: ReplyPath | None = None


class PassagePaths(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.passages]`: where passages are, as for words."""

    each: ReplyPath
    text: ReplyPath
    start: ReplyPath
    end: ReplyPath
    speaker: ReplyPath | None = None


class Reply(_Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply]`: where things are in the engine's JSON, as JMESPath, and the unit of its times.

    At least one of `text`, `passages` and `words` is needed; what has no times gets estimated ones.
    """

    text: ReplyPath | None = None
    language: ReplyPath | None = None
    times: TimeUnit = "s"
    passages: PassagePaths | None = None
    words: WordPaths | None = None


class EngineCard(_Table, frozen=True, kw_only=True):
    """`[engine.NAME]`: one engine. `name` is the table's own name, not a key in it."""

    name: str
    address: str
    send: Send
    reply: Reply
    about: str = ""
    secrets: dict[str, SecretSource] = {}
    accepts: Accepts = Accepts()
    price: Price | None = None
    pace: Pace = Pace()


def read_card(name: str, table: Mapping[str, object], file: str) -> EngineCard:
    """Check one card.

    Args:
        name: of the engine.
        table: what TOML gave for `[engine.NAME]`.
        file: the file's name, for messages.

    Raises:
        SettingsError: names the file, the table, the key and what was expected.
    """
    place = f"engine.{name}"
    if "name" in table:
        raise SettingsError(
            "unknown key 'name'", where=f"{file}: [{place}]", advice="the table's name is the engine's name"
        )
    card = checked({**table, "name": name}, EngineCard, file, place)
    problem = next(_contradictions(card), None)
    if problem:
        raise SettingsError(problem[1], where=f"{file}: [{place}{problem[0]}]")
    return card


def _contradictions(card: EngineCard) -> Iterator[tuple[str, str]]:
    """(subtable, what is wrong) of what the types alone cannot see."""
    if not re.match(r"https?://[^/]", card.address):
        yield "", f"key 'address': expected http://... or https://..., found {card.address!r}"
    unknown = [name for name in card.accepts.formats if name not in FORMATS]
    if unknown or not card.accepts.formats:
        found = f"found {unknown[0]!r}" if unknown else "found none"
        yield ".accepts", f"key 'formats': expected some of {', '.join(FORMATS)}; {found}"
    if [value for value in card.send.form.values() if "{audio}" in value] != ["{audio}"]:
        yield ".send", "key 'form': expected exactly one field that is \"{audio}\" and nothing else"
    if not (card.reply.text or card.reply.passages or card.reply.words):
        yield ".reply", "expected at least one of the keys 'text', 'passages', 'words'"
    yield from _wrong_placeholders(card)


def _wrong_placeholders(card: EngineCard) -> Iterator[tuple[str, str]]:
    known = {"language", "format", *card.secrets}
    for key, templates in (("form", card.send.form), ("headers", card.send.headers), ("query", card.send.query)):
        allowed = known | {"audio"} if key == "form" else known
        for field, template in templates.items():
            for name in placeholders_of(template):
                if name not in allowed:
                    listed = ", ".join(f"{{{other}}}" for other in sorted(allowed))
                    yield f".send.{key}", f"key {field!r}: unknown placeholder {{{name}}}; here are known: {listed}"
