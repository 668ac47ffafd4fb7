"""What a user wants, what is asked of an engine, and how the ledger remembers it."""

import os
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cached_property
from itertools import accumulate
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import quote, unquote_to_bytes

import msgspec

from mantisreed.cards.tables import fields_of
from mantisreed.destinations.rules import FollowUp
from mantisreed.engines.card import EngineCard
from mantisreed.engines.identity import asked_of
from mantisreed.engines.request import RequestOptions, language_for, wants_link
from mantisreed.errors import InputError
from mantisreed.exports.script import WriteOptions
from mantisreed.files import folder_at
from mantisreed.jobs.records import JobRecord
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.preparing.cut_limits import PieceOptions
from mantisreed.secrets import Secret
from mantisreed.settings import MAX_ATTEMPTS, check_language
from mantisreed.sources.recordings import LINK, STORAGE, Selection, Source
from mantisreed.urls import split_url
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    PathText = str | os.PathLike[str]
else:
    PathText = str  # a path becomes its text, which is what the ledger keeps

# Python callers may give any sequence; what is kept is a tuple.
_TYPES = dict.fromkeys(("hints", "to"), tuple[str, ...] | None)


class Translation(msgspec.Struct, frozen=True):
    """A translation of the transcript that a text service makes.

    Attributes:
        service: its name.
        target: the tag of the other language.
        bilingual: whether cues in both languages are written too.
        back: name of the service that translates back, for checking.
    """

    service: str
    target: str
    bilingual: bool = False
    back: str | None = None


class RunOptions(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a user may want of a run: one object from the command line, Python or HTTP to the
    ledger.

    The ledger keeps it whole with each job, so that every way to go on with the job asks for the
    same. None takes what the settings say.

    Attributes:
        engine: name of the card, or `NAME:PROFILE`; None takes the one in the settings, or the only
            one.
        language: a BCP 47 tag; None takes the one in the settings, or lets the engine find out.
        translate_to: the tag of another language to answer in, where the card declares translating.
        hints: names and rare words to expect.
        to: names of output formats; a single name is one format.
        into: folder for outputs.
        pieces: which sound of the recordings is sent and how it is cut; None leaves it all to the
            engine's card.
        writing: how the formats are written.
        overwrite: also outputs that were edited since they were written.
        afresh: send again, and pay again, what the engine has answered already.
        spend_limit: what these recordings may cost, with what they have cost before, in the card's
            currency.
        wait: until all replies are there; otherwise only send, and leave the rest to `collect`.
        selection: which recordings of folders and tables; None takes all.
        translations: that text services make of each transcript.
        is_followed: whether follow-ups of the settings are done.
        second_opinion: the engine card that is asked about what is doubtful; None asks nobody.
        keep: whether anything is kept: without, outcomes have their transcripts, no file is
            written, and only what it cost is noted.
    """

    engine: str | None = None
    language: str | None = None
    translate_to: str | None = None
    hints: Sequence[str] | None = None
    to: Sequence[str] | None = None
    into: PathText | None = None
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
    keep: bool = True

    def __post_init__(self) -> None:
        """Take what Python callers write: lists, a single name, a path, a number.

        Raises:
            InputError: a value is of the wrong type; it says which one.
        """
        # By one way, whoever gives them: the command line, Python, HTTP, the ledger.
        given = {name: getattr(self, name) for name in self.__struct_fields__}
        for name in ("hints", "to"):
            # A single format or word, which is a sequence of letters too.
            if isinstance(given[name], str):
                given[name] = (given[name],)
            elif isinstance(given[name], Sequence):
                given[name] = tuple(given[name])
        if isinstance(given["into"], os.PathLike):
            given["into"] = os.fspath(given["into"])
        if isinstance(given["spend_limit"], (int, float)) and not isinstance(
            given["spend_limit"], bool
        ):
            # By its text: 0.1 as a number is not a tenth.
            given["spend_limit"] = Decimal(str(given["spend_limit"]))
        for one in fields_of(RunOptions).values():
            try:
                value = msgspec.convert(given[one.name], _TYPES.get(one.name, one.type))
            except msgspec.ValidationError as error:
                raise InputError(
                    f"{one.name} makes no sense ({error})", where="RunOptions"
                ) from error
            msgspec.structs.force_setattr(self, one.name, value)

    def complete(self, workspace: Workspace) -> "RunOptions":
        """The same with what the settings say in place of each None, so that settings may change
        later.

        Raises:
            InputError: a language is none, or a list of words cannot be read.
            TrustError: the settings name a list outside of their folder, and are not trusted.
        """
        settings = workspace.settings
        tag = self.language or settings.language
        return msgspec.structs.replace(
            self,
            language=check_language(tag) if tag else None,
            translate_to=check_language(self.translate_to) if self.translate_to else None,
            hints=settings.hints if self.hints is None else self.hints,
            to=settings.to if self.to is None else self.to,
            into=os.fspath(self.into or _into_of(workspace)),
            pieces=self.pieces or PieceOptions(),
            writing=self.writing or default_writing(workspace),
        )

    def has_follow_ups(self, workspace: Workspace) -> bool:
        """Whether anything is done with a transcript."""
        return bool(self.translations) or (self.is_followed and bool(workspace.follow_ups))


def _into_of(workspace: Workspace) -> str:
    """Where outputs go by the settings: a whole path, or the address of a storage."""
    into = workspace.settings.into
    if STORAGE.match(into):
        return into
    return str(folder_at(workspace.folder, into))


def default_writing(workspace: Workspace) -> WriteOptions:
    """How outputs are written by the settings alone."""
    return WriteOptions(
        rules=workspace.layout(), wording=workspace.wording(), redaction=workspace.redaction()
    )


@dataclass(frozen=True)  # not with slots, which hold nothing that is computed once
class TranscriptionOptions:
    """What is asked of an engine for some recordings, checked.

    Attributes:
        wanted: what the user wants, complete.
        card: the engine, with profile and task laid over it.
        secrets: its secrets, by name.
        request_options: language, target and hints as the engine calls them.
        max_attempts: how often a request that fails in a way that may pass is sent.
        second: what is asked about what is doubtful; None asks nobody.
        batch: tells these recordings, which share a spend limit, from all others; empty without a
            limit.
    """

    wanted: RunOptions
    card: EngineCard
    secrets: Mapping[str, Secret] = field(repr=False)
    request_options: RequestOptions = field(default_factory=RequestOptions)
    max_attempts: int = MAX_ATTEMPTS
    second: "TranscriptionOptions | None" = None
    batch: str = ""

    @property
    def pieces(self) -> PieceOptions:
        """How recordings are prepared."""
        return self.wanted.pieces or PieceOptions()

    @cached_property
    def asked(self) -> Any:
        """What the engine is asked of each recording."""
        return asked_of(self.card, self.request_options)


class Made(msgspec.Struct, frozen=True):
    """What a recording was made into.

    Attributes:
        pieces: the keys of its requests, in order.
        duration: seconds.
        damage, notes: what is to be said of it.
        pauses_and_speech: lengths of silence and of speech in turn, in hundredths of a second,
            which is a quarter of what pairs of times would take in the ledger; None in jobs from
            before it was kept.
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
        # Kept as hundredths and as differences, which are short.
        edges = [edge / 100 for edge in accumulate(self.pauses_and_speech)]
        return tuple(zip(edges[::2], edges[1::2], strict=False))


class Expected(NamedTuple):
    """What is known of a recording that was seen before.

    Attributes:
        digest: that it must have; empty where it may have any.
        stem: of its outputs, chosen among all others, of which this machine may know nothing; None
            where it is chosen when its name is known.
    """

    digest: str
    stem: str | None = None


class StoredOptions(msgspec.Struct, frozen=True):
    """What was asked for one recording: all that it takes to do it again, or to write it out.

    Attributes:
        source: the recording's place, as `file:` or http address; empty when it holds something
            secret.
        name: of the recording, fit for showing.
        stem: of its outputs, with what is not plain ASCII as %XX, since names may hold bytes of any
            kind.
        wanted: what the user asked for, complete; its folder is a `file:` address.
        about: what else was said of the recording, by name.
        entry: what a feed knows it by.
        wanted_by: the id of whoever wanted the recording, where it is wanted several times.
        batch: tells the recordings that share a spend limit; empty without one.
        place: whose files its paths lead to, as `place_of` gives it; empty where it is not known.
        address: of the storage that the outputs go to; empty where they stay in the folder.
        named_by: the host of the feed that names the recording, as an address.
        most_bytes, most_seconds: what is allowed of the recording, as a `Source` has it.
    """

    source: str
    name: str
    stem: str
    wanted: RunOptions
    about: dict[str, str] = {}
    entry: str | None = None
    wanted_by: str = ""
    batch: str = ""
    place: str = ""
    address: str = ""
    named_by: str | None = None
    most_bytes: int | None = None
    most_seconds: float | None = None

    @property
    def folder(self) -> Path:
        """Where the outputs go."""
        return path_at(os.fspath(self.wanted.into or ""))

    @property
    def writing(self) -> WriteOptions:
        """How the outputs are written."""
        return self.wanted.writing or WriteOptions()

    def expected(self, digest: str) -> Expected:
        """What its recording must be; its digest is empty where nobody has read it yet."""
        if LINK.match(self.source):
            return Expected(digest)  # only its host knows what it is called
        return Expected(digest, self.output_stem)

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
            raise InputError(
                f"the address of {self.name} was not kept, as it held a secret", advice=advice
            )
        is_file = self.source.startswith("file:")
        return Source(
            path_at(self.source) if is_file else Path(self.name),
            None if is_file else self.source,
            about=tuple(self.about.items()),
            entry=self.entry,
            named_by=self.named_by,
            wanted_by=self.wanted_by,
            most_bytes=self.most_bytes,
            most_seconds=self.most_seconds,
        )


def follow_ups_of(
    workspace: Workspace, wanted: RunOptions, formats: Sequence[str]
) -> dict[str, FollowUp]:
    """The follow-ups of a recording: those of the settings, and its translations.

    Args:
        workspace: with the settings.
        wanted: of the run, with its translations, and whether those of the settings are done.
        formats: names of those that they are written in.

    Raises:
        InputError: there is no such service.
    """
    rules = dict(workspace.follow_ups) if wanted.is_followed else {}
    for one in wanted.translations:
        for service in filter(None, (one.service, one.back)):
            workspace.service(service)
        name = f"translation-{one.target.lower()}"
        rules[name] = FollowUp(
            name=name,
            service=one.service,
            target=one.target,
            to=tuple(formats),
            bilingual=one.bilingual,
            back=one.back,
        )
    return rules


def options_to_store(
    options: TranscriptionOptions, recording: Source, stem: str, outputs: Outputs
) -> StoredOptions:
    """What is kept of the options for one recording."""
    source = recording.link or recording.path.absolute().as_uri()
    wanted = msgspec.structs.replace(
        options.wanted,
        into=outputs.folder.absolute().as_uri(),
        to=outputs.names,
        # What holds for one command only: whoever goes on says it again.
        afresh=False,
        overwrite=False,
        selection=None,
    )
    return StoredOptions(
        source="" if recording.holds_secrets else source,
        name=recording.name,
        stem=quote(os.fsencode(stem)),
        wanted=wanted,
        about=dict(recording.about),
        entry=recording.entry,
        wanted_by=recording.wanted_by,
        batch=options.batch,
        place=outputs.place,
        address=outputs.address,
        named_by=recording.named_by and _origin(recording.named_by),
        most_bytes=recording.most_bytes,
        most_seconds=recording.most_seconds,
    )


def _origin(address: str) -> str:
    """The host of an address, without what may let somebody in."""
    parts = split_url(address)
    # Without a user's name and password, which the ledger does not keep.
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}/"


def stored_options(record: JobRecord) -> StoredOptions:
    """What was asked for as a job.

    Raises:
        InputError: it was sent by a version that did not note it.
    """
    if record.options is not None and record.options.startswith('{"forgotten":true'):
        raise InputError(
            f"job {record.id} was forgotten",
            advice="`mantisreed run` with the recording has it done anew",
        )
    if record.options is None:
        advice = "`mantisreed run` with the recording goes on where it was"
        raise InputError(
            f"job {record.id} was sent by an older version, which did not note enough",
            advice=advice,
        )
    try:
        return msgspec.json.decode(record.options, type=StoredOptions)
    except msgspec.MsgspecError as error:
        raise InputError(
            f"job {record.id} was noted by another version",
            advice="`mantisreed run` with the recording goes on where it was",
        ) from error


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
    wanted = options.complete(workspace)
    return TranscriptionOptions(
        wanted=wanted,
        card=card,
        secrets=workspace.secrets_of(card) if needs_secrets else {},
        request_options=RequestOptions(
            language_for(card, wanted.language),
            language_for(card, wanted.translate_to),
            tuple(wanted.hints or ()),
        ),
        max_attempts=workspace.settings.max_attempts,
        second=_second_opinion(workspace, options) if options.second_opinion else None,
        # The limit is for all recordings of one run together, also when some are retried.
        batch="" if options.spend_limit is None else secrets.token_hex(8),
    )


def _second_opinion(workspace: Workspace, options: RunOptions) -> TranscriptionOptions:
    """The same of another engine, or again of the same one.

    Raises:
        InputError: it cannot be asked about stretches of a recording.
    """
    second = transcription_options(
        workspace,
        msgspec.structs.replace(options, engine=options.second_opinion, second_opinion=None),
    )
    if wants_link(second.card):
        raise InputError(
            f"engine {second.card.name} fetches links, and is not sent stretches",
            where="--second-opinion",
        )
    return second


def options_of_job(
    workspace: Workspace, engine: str, stored: StoredOptions, *, afresh: bool = False
) -> TranscriptionOptions:
    """The options of a job, with the card and the secrets as they are now.

    Raises:
        InputError: its engine is not in the settings any more, or its secret is not there.
    """
    wanted = msgspec.structs.replace(stored.wanted, engine=engine, afresh=afresh, wait=True)
    return replace(transcription_options(workspace, wanted), batch=stored.batch)
