"""What is asked of an engine, and how the ledger remembers it."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from urllib.parse import quote, unquote_to_bytes, urlsplit

import msgspec

from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import Wishes, language_for
from mantisreed.engines.secrets import Secret
from mantisreed.errors import InputError
from mantisreed.exports.script import WriteOptions
from mantisreed.jobs.records import JobRecord
from mantisreed.pipeline.pieces import PieceOptions
from mantisreed.pipeline.sources import Source
from mantisreed.workspace import TRIES, Workspace, check_language


@dataclass(frozen=True, slots=True)
class Order:
    """What to do with recordings.

    Attributes:
        card: the engine, with profile and task laid over it.
        secrets: its secrets, by name.
        language: the tag of the language spoken; None lets the engine find out.
        target: the tag of the language to answer in; None for that of the recording.
        wishes: language, target and hints as the engine calls them.
        pieces: how recordings are prepared.
        afresh: ask again also for what has been answered.
        tries: how often a request that fails in a way that may pass is sent.
        spend_limit: what all recordings together may cost, with what they have cost before; None for no limit.
        is_waiting: whether to wait for replies; else only to send.
    """

    card: EngineCard
    secrets: Mapping[str, Secret] = field(repr=False)
    language: str | None = None
    target: str | None = None
    wishes: Wishes = field(default_factory=Wishes)
    pieces: PieceOptions = field(default_factory=PieceOptions)
    afresh: bool = False
    tries: int = TRIES
    spend_limit: Decimal | None = None
    is_waiting: bool = True


class Made(msgspec.Struct, frozen=True):
    """What a recording was made into: the requests' addresses in order, its length, and what is to be said of it."""

    pieces: tuple[str, ...]
    duration: float
    damage: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


class JobOrder(msgspec.Struct, frozen=True):
    """What was ordered of one recording: all that it takes to order it again, or to write it out.

    Attributes:
        source: the recording's place, as `file:` or http address; empty when it holds something secret.
        name: of the recording, fit for showing.
        stem: of its outputs, with what is not plain ASCII as %XX, since names may hold bytes of any kind.
        into: their folder.
        to: their formats.
        language, target: tags.
        hints: names and rare words.
        pieces: how it was prepared.
        writing: how the formats are written.
    """

    source: str
    name: str
    stem: str
    into: str
    to: tuple[str, ...]
    language: str | None = None
    target: str | None = None
    hints: tuple[str, ...] = ()
    pieces: PieceOptions = PieceOptions()
    writing: WriteOptions = WriteOptions()

    @property
    def output_stem(self) -> str:
        """The stem as it is."""
        return os.fsdecode(unquote_to_bytes(self.stem))

    @property
    def recording(self) -> Source:
        """Where the recording was.

        Raises:
            InputError: its address held something secret, which was not kept.
        """
        if not self.source:
            advice = "`mantisreed run` with the whole address goes on where it was"
            raise InputError(f"the address of {self.name} was not kept, as it held a secret", advice=advice)
        if not self.source.startswith("file:"):
            return Source(Path(self.name), self.source)
        return Source(path_at(self.source))


def job_order(
    order: Order, recording: Source, stem: str, into: Path, to: Sequence[str], writing: WriteOptions
) -> JobOrder:
    """What is noted of an order for one recording."""
    source = recording.link or recording.path.absolute().as_uri()
    parts = urlsplit(source)
    return JobOrder(
        "" if recording.link and (parts.query or "@" in parts.netloc) else source,
        recording.name,
        quote(os.fsencode(stem)),
        into.absolute().as_uri(),
        tuple(to),
        order.language,
        order.target,
        order.wishes.hints,
        order.pieces,
        writing,
    )


def ordered(record: JobRecord) -> JobOrder:
    """What was ordered as a job.

    Raises:
        InputError: it was sent by a version that did not note it.
    """
    if record.order is None:
        advice = "`mantisreed run` with the recording goes on where it was"
        raise InputError(f"job {record.id} was sent by an older version, which did not note enough", advice=advice)
    return msgspec.json.decode(record.order, type=JobOrder)


def path_at(address: str) -> Path:
    """The path that a `file:` address names, whatever bytes are in it."""
    return Path(os.fsdecode(unquote_to_bytes(urlsplit(address).path)))


def order_for(
    workspace: Workspace,
    *,
    engine: str | None = None,
    language: str | None = None,
    translate_to: str | None = None,
    hints: Sequence[str] | None = None,
    pieces: PieceOptions | None = None,
    afresh: bool = False,
    spend_limit: Decimal | None = None,
    wait: bool = True,
) -> Order:
    """What `transcribe` asks of an engine, with settings where an option is None. Raises as `transcribe` does."""
    card = workspace.engine(engine, translating=translate_to is not None)
    if spend_limit is not None and card.price is None:
        raise InputError(
            f"the card of {card.name} names no price, so that no spend limit can be kept",
            advice="put [engine.NAME.price] per_minute into its card",
        )
    tag = language or workspace.settings.language
    spoken = check_language(tag) if tag else None
    target = check_language(translate_to) if translate_to else None
    return Order(
        card=card,
        secrets=workspace.secrets_of(card),
        language=spoken,
        target=target,
        wishes=Wishes(
            language_for(card, spoken),
            language_for(card, target),
            tuple(workspace.settings.hints if hints is None else hints),
        ),
        pieces=pieces or PieceOptions(),
        afresh=afresh,
        tries=workspace.settings.tries,
        spend_limit=spend_limit,
        is_waiting=wait,
    )


def kept_order(workspace: Workspace, engine: str, kept: JobOrder, *, wait: bool = True) -> Order:
    """The order of a job, as the settings are now.

    Raises:
        InputError: its engine is not in the settings any more, or its secret is not there.
    """
    return order_for(
        workspace,
        engine=engine,
        language=kept.language,
        translate_to=kept.target,
        hints=kept.hints,
        pieces=kept.pieces,
        wait=wait,
    )
