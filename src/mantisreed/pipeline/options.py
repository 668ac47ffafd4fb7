"""What a user wants, what is asked of an engine, and how the ledger remembers it."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from itertools import accumulate
from pathlib import Path
from urllib.parse import quote, unquote_to_bytes

import msgspec

from mantisreed.cards.secrets import Secret
from mantisreed.cards.urls import split_url
from mantisreed.destinations.rules import FollowUp
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import RequestOptions, language_for, wants_link
from mantisreed.errors import InputError
from mantisreed.exports.script import WriteOptions
from mantisreed.jobs.records import JobRecord
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.pieces import PieceOptions
from mantisreed.sources.recordings import Selection, Source
from mantisreed.workspace import MAX_ATTEMPTS, Workspace, check_language


class Translation(msgspec.Struct, frozen=True):
    """A translation of the transcript that a text service makes.

    Attributes:
        service: its name.
        target: the tag of the other language.
        two_languages: whether cues in both languages are written too.
        back: name of the service that translates back, for checking.
    """

    service: str
    target: str
    two_languages: bool = False
    back: str | None = None


@dataclass(frozen=True, slots=True)
class RunOptions:
    """What a user may want of a run. None takes what the settings say.

    Attributes:
        engine: name of the card, or `NAME:PROFILE`; None takes the one in the settings, or the only one.
        language: a BCP 47 tag; None takes the one in the settings, or lets the engine find out.
        translate_to: the tag of another language to answer in, where the card declares translating.
        hints: names and rare words to expect.
        to: names of output formats.
        into: folder for outputs.
        pieces: which sound of the recordings is sent and how it is cut; None leaves it all to the engine's card.
        writing: how the formats are written.
        overwrite: also outputs that were edited since they were written.
        afresh: send again, and pay again, what the engine has answered already.
        spend_limit: what these recordings may cost, with what they have cost before, in the card's currency.
        wait: until all replies are there; otherwise only send, and leave the rest to `collect`.
        selection: which recordings of folders and tables; None takes all.
        translations: that text services make of each transcript.
        is_followed: whether follow-ups of the settings are done.
        second_opinion: the engine card that is asked about what is doubtful; None asks nobody.
    """

    engine: str | None = None
    language: str | None = None
    translate_to: str | None = None
    hints: Sequence[str] | None = None
    to: Sequence[str] | None = None
    into: str | os.PathLike[str] | None = None
    pieces: PieceOptions | None = None
    writing: WriteOptions | None = None
    overwrite: bool = False
    afresh: bool = False
    spend_limit: Decimal | None = None
    wait: bool = True
    selection: Selection | None = None
    translations: tuple[Translation, ...] = ()
    is_followed: bool = True
    second_opinion: str | None = None


@dataclass(frozen=True, slots=True)
class TranscriptionOptions:
    """What is asked of an engine for some recordings, checked.

    Attributes:
        card: the engine, with profile and task laid over it.
        secrets: its secrets, by name.
        language: the tag of the language spoken; None lets the engine find out.
        target: the tag of the language to answer in; None for that of the recording.
        request_options: language, target and hints as the engine calls them.
        pieces: how recordings are prepared.
        afresh: whether to send again what has been answered.
        max_attempts: how often a request that fails in a way that may pass is sent.
        spend_limit: what all recordings together may cost, with what they have cost before; None for no limit.
        is_waiting: whether to wait for replies; else only to send.
        translations: that text services make of each transcript.
        is_followed: whether follow-ups of the settings are done.
        second: what is asked about what is doubtful; None asks nobody.
    """

    card: EngineCard
    secrets: Mapping[str, Secret] = field(repr=False)
    language: str | None = None
    target: str | None = None
    request_options: RequestOptions = field(default_factory=RequestOptions)
    pieces: PieceOptions = field(default_factory=PieceOptions)
    afresh: bool = False
    max_attempts: int = MAX_ATTEMPTS
    spend_limit: Decimal | None = None
    is_waiting: bool = True
    translations: tuple[Translation, ...] = ()
    is_followed: bool = True
    second: "TranscriptionOptions | None" = None

    def has_follow_ups(self, workspace: Workspace) -> bool:
        """Whether anything is done with a transcript."""
        return bool(self.translations) or (self.is_followed and bool(workspace.follow_ups))


class Made(msgspec.Struct, frozen=True):
    """What a recording was made into.

    Attributes:
        pieces: the keys of its requests, in order.
        duration: seconds.
        damage, notes: what is to be said of it.
        pauses_and_speech: lengths of silence and of speech in turn, in hundredths of a second, which is a quarter of
            what pairs of times would take in the ledger; None in jobs from before it was kept.
        track: the track of sound, where it was not the default one.
    """

    pieces: tuple[str, ...]
    duration: float
    damage: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    pauses_and_speech: tuple[int, ...] | None = None
    track: int | None = None

    @property
    def speech(self) -> tuple[tuple[float, float], ...] | None:
        """Where somebody speaks, (start, end) in seconds; None where nobody knows."""
        if self.pauses_and_speech is None:
            return None
        edges = [edge / 100 for edge in accumulate(self.pauses_and_speech)]
        return tuple(zip(edges[::2], edges[1::2], strict=False))


class StoredOptions(msgspec.Struct, frozen=True):
    """What was asked for one recording: all that it takes to do it again, or to write it out.

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
        about: what else was said of the recording, by name.
        entry: what a feed knows it by.
        translations: that text services make of the transcript.
        is_followed: whether follow-ups of the settings are done.
        wanted_by: the id of whoever wanted the recording, where it is wanted several times.
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
    about: dict[str, str] = {}
    entry: str | None = None
    translations: tuple[Translation, ...] = ()
    is_followed: bool = True
    wanted_by: str = ""

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
        is_file = self.source.startswith("file:")
        return Source(
            path_at(self.source) if is_file else Path(self.name),
            None if is_file else self.source,
            about=tuple(self.about.items()),
            entry=self.entry,
            wanted_by=self.wanted_by,
        )


def follow_ups_of(
    workspace: Workspace, translations: Sequence[Translation], formats: Sequence[str], *, is_followed: bool = True
) -> dict[str, FollowUp]:
    """The follow-ups of a recording: those of the settings, and its translations.

    Args:
        workspace: with the settings.
        translations: that are wanted of this run.
        formats: names of those that they are written in.
        is_followed: whether those of the settings are done.

    Raises:
        InputError: there is no such service.
    """
    rules = dict(workspace.follow_ups) if is_followed else {}
    for one in translations:
        for service in filter(None, (one.service, one.back)):
            workspace.service(service)
        name = f"translation-{one.target.lower()}"
        rules[name] = FollowUp(
            name=name,
            service=one.service,
            target=one.target,
            to=tuple(formats),
            two_languages=one.two_languages,
            back=one.back,
        )
    return rules


def options_to_store(options: TranscriptionOptions, recording: Source, stem: str, outputs: Outputs) -> StoredOptions:
    """What is kept of the options for one recording."""
    source = recording.link or recording.path.absolute().as_uri()
    return StoredOptions(
        "" if recording.holds_secrets else source,
        recording.name,
        quote(os.fsencode(stem)),
        outputs.folder.absolute().as_uri(),
        outputs.names,
        options.language,
        options.target,
        options.request_options.hints,
        options.pieces,
        outputs.options,
        dict(recording.about),
        recording.entry,
        options.translations,
        options.is_followed,
        recording.wanted_by,
    )


def stored_options(record: JobRecord) -> StoredOptions:
    """What was asked for as a job.

    Raises:
        InputError: it was sent by a version that did not note it.
    """
    if record.options is None:
        advice = "`mantisreed run` with the recording goes on where it was"
        raise InputError(f"job {record.id} was sent by an older version, which did not note enough", advice=advice)
    return msgspec.json.decode(record.options, type=StoredOptions)


def path_at(address: str) -> Path:
    """The path that a `file:` address names, whatever bytes are in it."""
    return Path(os.fsdecode(unquote_to_bytes(split_url(address).path)))


def transcription_options(
    workspace: Workspace, options: RunOptions, *, needs_secrets: bool = True
) -> TranscriptionOptions:
    """What is asked of an engine, with settings where an option is None.

    Args:
        workspace: with the engine's card.
        options: what the user wants.
        needs_secrets: whether something will be sent.

    Raises:
        InputError: an option, the card or a secret is wrong.
    """
    card = workspace.engine(options.engine, translating=options.translate_to is not None)
    if options.spend_limit is not None and card.price is None:
        raise InputError(
            f"the card of {card.name} names no price, so that no spend limit can be kept",
            advice="put [engine.NAME.price] per_minute into its card",
        )
    settings = workspace.settings
    tag = options.language or settings.language
    spoken = check_language(tag) if tag else None
    target = check_language(options.translate_to) if options.translate_to else None
    return TranscriptionOptions(
        card=card,
        secrets=workspace.secrets_of(card) if needs_secrets else {},
        language=spoken,
        target=target,
        request_options=RequestOptions(
            language_for(card, spoken),
            language_for(card, target),
            tuple(settings.hints if options.hints is None else options.hints),
        ),
        pieces=options.pieces or PieceOptions(),
        afresh=options.afresh,
        max_attempts=settings.max_attempts,
        spend_limit=options.spend_limit,
        is_waiting=options.wait,
        translations=options.translations,
        is_followed=options.is_followed,
        second=_second_opinion(workspace, options) if options.second_opinion else None,
    )


def _second_opinion(workspace: Workspace, options: RunOptions) -> TranscriptionOptions:
    """The same of another engine, or again of the same one.

    Raises:
        InputError: it cannot be asked about stretches of a recording, or nobody waits for what it says.
    """
    if not options.wait:
        raise InputError(
            "doubts are known when the transcript is there, and nobody waits for it", where="--second-opinion"
        )
    second = transcription_options(workspace, replace(options, engine=options.second_opinion, second_opinion=None))
    if wants_link(second.card):
        raise InputError(
            f"engine {second.card.name} fetches links, and is not sent stretches", where="--second-opinion"
        )
    return second


def options_of_job(
    workspace: Workspace, engine: str, stored: StoredOptions, *, afresh: bool = False
) -> TranscriptionOptions:
    """The options of a job, with the settings as they are now.

    Raises:
        InputError: its engine is not in the settings any more, or its secret is not there.
    """
    return transcription_options(
        workspace,
        RunOptions(
            engine=engine,
            language=stored.language,
            translate_to=stored.target,
            hints=stored.hints,
            pieces=stored.pieces,
            afresh=afresh,
            translations=stored.translations,
            is_followed=stored.is_followed,
        ),
    )
