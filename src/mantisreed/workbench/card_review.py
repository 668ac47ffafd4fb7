"""Looking over engine cards without sending anything, and adding one to a settings file."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import tomlkit
import tomlkit.exceptions

from mantisreed.engines.card import EngineCard
from mantisreed.engines.card_checks import read_cards
from mantisreed.errors import InputError, MantisreedError, SecretError, SettingsError
from mantisreed.files import printable, write_whole
from mantisreed.pipeline.options import RunOptions, transcription_options
from mantisreed.settings import SETTINGS_FILE, read_settings, settings_above
from mantisreed.urls import split_url
from mantisreed.workbench.trial import show_requests
from mantisreed.workspace import Workspace, engine_tables, open_workspace

_LOOPBACK = ("localhost", "127.0.0.1", "::1")


@dataclass(frozen=True, slots=True)
class CardReview:
    """What is wrong with one card; nothing when all is well."""

    engine: str
    problems: tuple[str, ...]


def review_cards(
    settings_file: Path | None, clip: Path, name: str | None = None
) -> list[CardReview]:
    """Look over the cards of a settings file: what they say, their secrets, and their requests.

    Args:
        settings_file: which; None looks for it here and above.
        clip: a short recording, for which the requests are made.
        name: of a card; None for all of them.

    Raises:
        InputError: there is no settings file, or no such card.
    """
    file = settings_file or settings_above(Path())
    tables = engine_tables(read_settings(file), printable(file))
    wrong = {
        key: problem for key, table in tables.items() if (problem := _problem_of(key, table, file))
    }
    if wrong:
        # One card that cannot be read keeps the settings from being opened; all such are told
        # first.
        chosen = {
            key: problem
            for key, problem in wrong.items()
            if name is None or key == name.partition(":")[0]
        }
        return [CardReview(key, (problem,)) for key, problem in (chosen or wrong).items()]
    # Nothing is sent or started, so that a card can be looked over before it is trusted.
    workspace = open_workspace(file, is_trusted=True)
    cards = [workspace.engine(name)] if name else list(workspace.engines.values())
    return [CardReview(card.name, tuple(_problems_in_use(workspace, card, clip))) for card in cards]


def _problem_of(name: str, table: dict[str, Any], file: Path) -> str | None:
    try:
        read_cards(name, table, printable(file))
    except SettingsError as error:
        return f"{error}" + (f" ({error.advice})" if error.advice else "")
    return None


def _problems_in_use(workspace: Workspace, card: EngineCard, clip: Path) -> Iterator[str]:
    """What would go wrong, or go badly, when the card is used."""
    has_secrets = True
    for source in card.secrets.values():
        try:
            source.read(workspace.folder)
        except SecretError as error:
            has_secrets = False
            yield f"{error}; {error.advice}"
        if source.is_open_to_others(workspace.folder):
            yield f"{source} can be read by other users: chmod 600"
    # On this machine nobody listens in between.
    if card.url is not None and _is_open(card.url.source) and (card.secrets or card.session):
        yield f"keys go out unencrypted: {card.url} is not https"
    if card.is_service and has_secrets:
        try:
            options = transcription_options(workspace, RunOptions(engine=card.name))
            show_requests(options, clip, lambda heading, text: None)
        except MantisreedError as error:
            yield str(error)


def _is_open(url: str) -> bool:
    parts = split_url(url)
    return parts.scheme in ("http", "ws") and parts.hostname not in _LOOPBACK


def add_card(settings_file: Path | None, name: str, toml: str) -> str:
    """Write a card into a settings file, which keeps its comments; gives the file's name.

    Args:
        settings_file: which; None takes the one here or above, or begins one here.
        name: of the card.
        toml: the card, as `[engine.NAME]`.

    Raises:
        InputError: the file has a card of that name, or cannot be read or written.
    """
    file = settings_file or _existing_or_new()
    try:
        if file.is_file():
            document = tomlkit.parse(file.read_text(encoding="utf-8"))
        else:
            document = tomlkit.document()
    except (OSError, UnicodeDecodeError, tomlkit.exceptions.TOMLKitError) as error:
        raise InputError(
            "the settings file cannot be read as TOML", where=printable(file)
        ) from error
    table = tomlkit.parse(toml)["engine"][name]
    # Where other tables stand between the cards, the library's own is none of its `Table`s.
    engines = document.unwrap().get("engine")
    is_there = isinstance(engines, dict) and name in engines
    # What was learnt of an answer alone.
    if set(table) == {"reply"}:
        if not is_there:
            raise InputError(
                f"a reply is the last part of a card, and there is no card {name!r} yet",
                where=printable(file),
                advice="write its request first, or learn it from a curl command",
            )
        _put_reply(document, name, table, printable(file))
        write_whole(file, tomlkit.dumps(document).encode())
        return printable(file)
    if is_there:
        raise InputError(
            f"there is a card {name!r} already",
            where=printable(file),
            advice="give another name, or remove that one",
        )
    # Before anything is written: a card that is wrong would keep the settings from being read.
    read_cards(name, tomlkit.parse(toml).unwrap()["engine"][name], "the proposed card")
    before = tomlkit.dumps(document)
    if not before:
        joint = ""
    elif before.endswith("\n"):
        joint = "\n"
    else:
        # A blank line before the card, whatever the file ends with.
        joint = "\n\n"
    whole = f"{before}{joint}{toml.strip()}\n"
    tomlkit.parse(whole)
    write_whole(file, whole.encode())
    return printable(file)


def _put_reply(document: tomlkit.TOMLDocument, name: str, proposed: Any, file: str) -> None:
    """Put a reply table into a card that has none, or only the one that stands for it."""
    card: Any = document["engine"][name]
    if "reply" in card:
        # That is what stands there until an answer is learnt.
        if card["reply"].unwrap() != {"format": "text"}:
            raise InputError(
                f"card {name!r} has a reply table already",
                where=file,
                advice="remove it, and say this again",
            )
        del card["reply"]
    card["reply"] = proposed["reply"]
    read_cards(name, document.unwrap()["engine"][name], file)


def _existing_or_new() -> Path:
    try:
        return settings_above(Path())
    except InputError:
        return Path(SETTINGS_FILE)
