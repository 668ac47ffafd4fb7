"""The workspace: a folder with a `mantisreed.toml`, the hidden `.mantisreed/` beside it, and what
they hold.
"""

import os
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal, TypeVar

from mantisreed.cards.tables import checked
from mantisreed.destinations.rules import FollowUp, read_follow_ups
from mantisreed.engines.card import EngineCard
from mantisreed.engines.card_checks import TRANSLATE, laid_over, read_cards
from mantisreed.engines.request import wants_link
from mantisreed.errors import InputError, SettingsError
from mantisreed.exports.redaction import Redaction, redaction_from
from mantisreed.exports.word_lists import Strong, Wording, wording_from
from mantisreed.files import folder_at, printable
from mantisreed.folders import HIDDEN_FOLDER
from mantisreed.secrets import Secret, SecretSource
from mantisreed.services.card import TextServiceCard, read_service
from mantisreed.settings import (
    SETTINGS_FILE,
    Callbacks,
    LedgerPlace,
    Links,
    ServeKeys,
    Settings,
    StoragePlace,
    read_settings,
    settings_above,
    user_settings_file,
)
from mantisreed.sources.recordings import STORAGE
from mantisreed.subtitles.rules import LAYOUTS, LayoutRules
from mantisreed.trust import Trust, TrustError, uses_of
from mantisreed.units import parse_size
from mantisreed.urls import split_url

_Kind = TypeVar("_Kind")

_TABLES = (
    "settings",
    "layout",
    "recording_urls",
    "callbacks",
    "serve",
    "ledger",
    "storage",
    "engine",
    "service",
    "follow_up",
)


@dataclass(frozen=True, slots=True)
class Workspace:
    """What a settings file says.

    Attributes:
        file: the settings file.
        settings: its `[settings]`.
        engines: its engine cards, by `NAME` and `NAME:PROFILE`.
        translators: the same names, where the card declares the task of translating.
        links: how pieces can be fetched from here; None when they cannot.
        callbacks: how engines can call back; None when they cannot.
        serve: with which keys the service signs its calls.
        ledger: where the ledger is; None for the hidden folder.
        layouts: layout rules by name.
        shared: names of the engine cards in the settings that all workspaces share.
        own: names of those in the workspace itself.
        trust: what the settings use of their user's, and whether they may.
        services: its text services, by name.
        follow_ups: what happens after each transcript, by name; each after those that it needs.
        state: where its state is kept; None for the hidden folder.
        storage: where queued recordings and their outputs are; None for their own folders.
    """

    file: Path
    settings: Settings
    engines: Mapping[str, EngineCard]
    translators: Mapping[str, EngineCard]
    links: Links | None = None
    callbacks: Callbacks | None = None
    serve: ServeKeys = field(default_factory=ServeKeys)
    ledger: LedgerPlace | None = None
    layouts: Mapping[str, LayoutRules] = field(default_factory=lambda: dict(LAYOUTS))
    shared: frozenset[str] = frozenset()
    own: frozenset[str] = frozenset()
    trust: Trust = field(default_factory=lambda: Trust(Path(SETTINGS_FILE)))
    services: Mapping[str, TextServiceCard] = field(default_factory=dict)
    follow_ups: Mapping[str, FollowUp] = field(default_factory=dict)
    state: Path | None = None
    storage: StoragePlace | None = None

    def origin_of(self, card: EngineCard) -> str:
        """Where a card comes from: the workspace, the settings that all workspaces share, or
        both.
        """
        name = card.name.partition(":")[0]
        if name not in self.shared:
            return "workspace"
        return "shared, workspace" if name in self.own else "shared"

    @property
    def folder(self) -> Path:
        """Where the settings file lies; relative paths in it start here."""
        return self.file.parent

    @property
    def hidden(self) -> Path:
        """The tool's own folder, the state; it may not exist yet.

        Raises:
            TrustError: it is there, and this user has neither made it nor taken it as their own.
        """
        if self.state is not None:
            return self.state
        hidden = self.folder / HIDDEN_FOLDER
        self.trust.require_state(hidden)
        return hidden

    @property
    def own_state(self) -> Path | None:
        """The same; None where it is not there, or may not be used."""
        try:
            return self.hidden if self.hidden.is_dir() else None
        except TrustError:
            return None

    def engine(self, name: str | None, *, translating: bool = False) -> EngineCard:
        """The card with this name, or `NAME:PROFILE`; with None the one in the settings, or the
        only one.

        Raises:
            InputError: there is no such card, or no single one, or it cannot translate.
        """
        card = self._card(name)
        if not translating:
            return card
        if card.name not in self.translators:
            raise InputError(
                f"engine {card.name} declares no translating",
                advice="its card would say how in [engine.NAME.task.translate]",
            )
        return self.translators[card.name]

    def _card(self, name: str | None) -> EngineCard:
        wanted = name or self.settings.engine
        known = ", ".join(self.engines) or "none"
        if wanted is None and len({card.partition(":")[0] for card in self.engines}) == 1:
            return next(iter(self.engines.values()))
        if wanted is None:
            raise InputError(
                "no engine is chosen",
                where=printable(self.file),
                advice=f"--engine NAME; it has: {known}",
            )
        if wanted not in self.engines:
            raise InputError(
                f"no engine is called {wanted!r}",
                where=printable(self.file),
                advice=f"it has: {known}",
            )
        return self.engines[wanted]

    def layout(self, name: str | None = None) -> LayoutRules:
        """The layout rules with this name; with None those that the settings choose.

        Raises:
            InputError: there are none.
        """
        wanted = name or self.settings.layout
        if wanted not in self.layouts:
            known = ", ".join(self.layouts)
            raise InputError(
                f"there is no layout {wanted!r}",
                where=printable(self.file),
                advice=f"there are: {known}",
            )
        return self.layouts[wanted]

    def wording(
        self,
        strong: Strong | None = None,
        own_list: Path | None = None,
        glossary: Path | None = None,
    ) -> Wording:
        """What outputs do with words: as given, and else as the settings say.

        Raises:
            InputError: a list cannot be read.
            TrustError: the settings name one outside of their folder, and are not trusted.
        """
        settings = self.settings
        if (own_list is None and settings.strong_words_file) or (
            glossary is None and settings.replace
        ):
            self.trust.require("reading")
        if own_list is None and settings.strong_words_file is not None:
            own_list = folder_at(self.folder, settings.strong_words_file)
        if glossary is None and settings.replace is not None:
            glossary = folder_at(self.folder, settings.replace)
        return wording_from(strong or settings.strong_words, own_list, glossary)

    def redaction(self) -> Redaction | None:
        """What is hidden in outputs, by the settings; None for nothing.

        Raises:
            InputError: there is no such kind, or the list of names cannot be read.
            TrustError: the settings name one outside of their folder, and are not trusted.
        """
        settings = self.settings
        if not settings.redact and settings.redact_names is None:
            return None
        if settings.redact_names is None:
            return redaction_from(",".join(settings.redact), None, ())
        self.trust.require("reading")
        names = folder_at(self.folder, settings.redact_names)
        return redaction_from(",".join(settings.redact), names, ())

    def secrets_of(self, card: EngineCard) -> dict[str, Secret]:
        """The card's secrets, read from where they are kept; its program or object may be started
        from now on.

        Raises:
            SecretError: one of them is not there.
            TrustError: the settings are not trusted with what the card uses.
        """
        self.require_trust_in(card.name)
        return {name: source.read(self.folder) for name, source in card.secrets.items()}

    def call_keys(self) -> dict[Literal["live", "test"], Secret | None]:
        """The keys with which the service signs its calls, read from where they are kept, by
        profile.

        Raises:
            SecretError: one of them is not there.
            TrustError: the settings are not trusted with them.
        """
        own = self.serve
        if own.webhook_secret is not None or own.test_webhook_secret is not None:
            self.trust.require("secret", engine="serve")
        return {
            "live": own.webhook_secret.read(self.folder) if own.webhook_secret else None,
            "test": own.test_webhook_secret.read(self.folder) if own.test_webhook_secret else None,
        }

    def require_trust_in(self, engine: str) -> None:
        """Return if the settings may use what this engine's card needs: secrets, a program, an
        object, and that recordings leave.

        Raises:
            TrustError: they may not.
        """
        own = engine.partition(":")[0]
        self.trust.require("secret", "sending", "program", "object", engine=own)
        card = self.engines.get(engine)
        if card is None:
            return
        if self.links is not None and wants_link(card):
            self.trust.require("listening", engine="recording_urls")
        if self.callbacks is not None and card.callback:
            self.trust.require("listening", engine="callbacks")

    def service(self, name: str) -> TextServiceCard:
        """The text service with this name.

        Raises:
            InputError: there is none.
        """
        if name not in self.services:
            known = ", ".join(self.services) or "none"
            raise InputError(
                f"there is no text service {name!r}",
                where=printable(self.file),
                advice=f"it has: {known}",
            )
        return self.services[name]

    def require_trust_in_service(self, name: str) -> None:
        """Return if the settings may use what this text service needs of the user's.

        Raises:
            TrustError: they may not.
        """
        self.trust.require("secret", "sending", engine=f"service.{name}")

    def require_trust_in_follow_up(self, name: str) -> None:
        """Return if the settings may do what this follow-up does: send results away, write
        elsewhere, start programs.

        Raises:
            TrustError: they may not.
        """
        own = f"follow_up.{name}"
        self.trust.require("sending", "program", "writing", "database", engine=own)

    def open_secrets(self, card: EngineCard) -> list[SecretSource]:
        """Those of the card's secrets that other users of the machine can read."""
        return [source for source in card.secrets.values() if source.is_open_to_others(self.folder)]


def open_workspace(
    settings_file: str | os.PathLike[str] | None = None,
    start: Path | None = None,
    *,
    is_trusted: bool = False,
) -> Workspace:
    """Read and check a settings file, with the engine cards that all workspaces share.

    Args:
        settings_file: which one; None looks for `mantisreed.toml` in `start` and the folders above
            it.
        start: where to look from; None is the current folder.
        is_trusted: whether the caller vouches for it; else `mantisreed.trust` says what it may use.

    Raises:
        InputError: there is none, or it cannot be read.
        SettingsError: something in it is wrong.
    """
    if settings_file:
        file = Path(settings_file)
    else:
        file = settings_above(start or Path())
    shared = user_settings_file()
    is_shared = shared.is_file() and shared.absolute() == file.absolute()
    cards = _shared_cards(shared) if shared.is_file() and not is_shared else {}
    trust = Trust(file, is_named=bool(settings_file), is_given=is_trusted or is_shared)
    return _workspace(file, read_settings(file), cards, trust)


def _shared_cards(file: Path) -> dict[str, Any]:
    """The tables of engine cards that all workspaces share. Their files of secrets lie beside
    them.
    """
    document = read_settings(file)
    unknown = [key for key in document if key != "engine"]
    if unknown:
        raise SettingsError(
            f"unknown table or key {unknown[0]!r}",
            where=printable(file),
            advice="the settings that all workspaces share hold [engine.NAME] only",
        )
    tables = engine_tables(document, printable(file))
    return {name: _with_absolute_secrets(table, file.parent) for name, table in tables.items()}


def _with_absolute_secrets(table: Mapping[str, Any], folder: Path) -> dict[str, Any]:
    secrets = table.get("secrets")
    if not isinstance(secrets, dict):
        return dict(table)

    def absolute(source: Any) -> Any:
        if not (isinstance(source, str) and source.startswith("file:")):
            return source
        return f"file:{folder / Path(source.removeprefix('file:')).expanduser()}"

    return {**table, "secrets": {name: absolute(source) for name, source in secrets.items()}}


def engine_tables(document: Mapping[str, Any], file: str) -> dict[str, Any]:
    """The tables of a settings file's engine cards, by name.

    Raises:
        SettingsError: something among them is no table.
    """
    tables = document.get("engine", {})
    if not isinstance(tables, dict):
        raise SettingsError("key 'engine': expected a table", where=file)
    loose = [key for key, table in tables.items() if not isinstance(table, dict)]
    if loose:
        raise SettingsError(
            f"key {loose[0]!r}: expected a table",
            where=f"{file}: [engine]",
            advice="name the table [engine.NAME]",
        )
    return tables


def _workspace(
    file: Path, document: Mapping[str, Any], shared: Mapping[str, Any], trust: Trust
) -> Workspace:
    name = printable(file)
    _check_tables(document, name)
    settings = checked(document.get("settings", {}), Settings, name, "settings")
    services = _services(document.get("service", {}), name)
    follow_ups = read_follow_ups(document.get("follow_up", {}), services, name)
    own = engine_tables(document, name)
    tables = {
        **shared,
        **{key: laid_over(shared.get(key, {}), table) for key, table in own.items()},
    }
    places = {key: name if key in own else printable(user_settings_file()) for key in tables}
    cards: dict[tuple[str, str | None], EngineCard] = {}
    for engine, table in tables.items():
        cards |= read_cards(engine, table, places[engine])
    return Workspace(
        file,
        settings,
        {card_name: card for (card_name, task), card in cards.items() if task is None},
        {card_name: card for (card_name, task), card in cards.items() if task == TRANSLATE},
        _checked_if_there(document, "recording_urls", Links, name),
        _checked_if_there(document, "callbacks", Callbacks, name),
        checked(document.get("serve", {}), ServeKeys, name, "serve"),
        _ledger_place(document["ledger"], name) if "ledger" in document else None,
        _layouts(document.get("layout", {}), name),
        frozenset(shared),
        frozenset(own),
        replace(trust, uses=uses_of(file, document, {engine: tables[engine] for engine in own})),
        services,
        follow_ups,
        storage=_storage_place(document["storage"], name) if "storage" in document else None,
    )


def _check_tables(document: Mapping[str, Any], file: str) -> None:
    """See that there are only tables that are known.

    Raises:
        SettingsError: there is something else.
    """
    unknown = [key for key in document if key not in _TABLES]
    if unknown:
        raise SettingsError(
            f"unknown table or key {unknown[0]!r}",
            where=file,
            advice="known: [settings], [layout.NAME], [recording_urls], [callbacks], [serve], "
            "[ledger], [storage], [engine.NAME], [service.NAME] and [follow_up.NAME]",
        )
    for key in _TABLES:
        if not isinstance(document.get(key, {}), dict):
            raise SettingsError(f"key {key!r}: expected a table", where=file)


def _checked_if_there(
    document: Mapping[str, Any], key: str, kind: type[_Kind], file: str
) -> _Kind | None:
    if key not in document:
        return None
    return checked(document[key], kind, file, key)


def _services(tables: Mapping[str, Any], file: str) -> dict[str, TextServiceCard]:
    loose = [key for key, table in tables.items() if not isinstance(table, dict)]
    if loose:
        advice = "name the table [service.NAME]"
        raise SettingsError(
            f"key {loose[0]!r}: expected a table", where=f"{file}: [service]", advice=advice
        )
    return {name: read_service(name, table, file) for name, table in tables.items()}


def _layouts(tables: Mapping[str, Any], file: str) -> dict[str, LayoutRules]:
    """The sets that ship, with the settings' own laid over them."""
    layouts = dict(LAYOUTS)
    for name, table in tables.items():
        if not isinstance(table, dict):
            raise SettingsError(
                f"key {name!r}: expected a table [layout.{name}]", where=f"{file}: [layout]"
            )
        checked(table, LayoutRules, file, f"layout.{name}")
        layouts[name] = layouts.get(name, LayoutRules()).changed(table)
    return layouts


def _storage_place(table: Mapping[str, Any], file: str) -> StoragePlace:
    place = checked(table, StoragePlace, file, "storage")
    if not STORAGE.match(place.url):
        raise SettingsError(
            "key 'url': expected the address of a folder in a storage, such as s3://bucket/folder",
            where=f"{file}: [storage]",
        )
    try:
        parse_size(place.cache)
    except ValueError as error:
        raise SettingsError(
            f"key 'cache': expected a size such as 2 GiB ({error})", where=f"{file}: [storage]"
        ) from error
    return place


def _ledger_place(table: Mapping[str, Any], file: str) -> LedgerPlace:
    place = checked(table, LedgerPlace, file, "ledger")
    parts = split_url(place.url)
    if parts.scheme not in ("postgresql", "postgres") or not parts.path.strip("/"):
        raise SettingsError(
            "key 'url': expected postgresql://USER@HOST:PORT/DATABASE",
            where=f"{file}: [ledger]",
            advice="without this table the ledger is a file in the hidden folder",
        )
    if parts.password is not None:
        raise SettingsError(
            "key 'url' holds a password",
            where=f"{file}: [ledger]",
            advice='keep it elsewhere and write password = "env:NAME", "file:PATH" or '
            '"keyring:SERVICE/USER"',
        )
    return place
