"""`mantisreed.toml`: where it is, what its own tables say."""

import re
import tomllib
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated, Any

import msgspec

from mantisreed.errors import InputError, SettingsError
from mantisreed.exports.word_lists import Strong
from mantisreed.files import printable, user_folder
from mantisreed.secrets import SecretSource
from mantisreed.subtitles.rules import DEFAULT_LAYOUT

SETTINGS_FILE = "mantisreed.toml"

MAX_ATTEMPTS = 5
"""How often a request that fails in a way that may pass is sent, unless the settings say
otherwise.
"""

_PASSWORD = re.compile(r"[A-Za-z]://[^/?#\s{}@:]*:[^/?#\s{}@]+@")
"""A user's name and password before the host of an address (RFC 3986, 3.2.1)."""

_LANGUAGE_TAG = re.compile(
    r"[A-Za-z]{2,3}(-[A-Za-z]{3}){0,3}(-[A-Za-z]{4})?(-([A-Za-z]{2}|[0-9]{3}))?"
    r"(-([A-Za-z0-9]{5,8}|[0-9][A-Za-z0-9]{3}))*(-[0-9A-WY-Za-wy-z](-[A-Za-z0-9]{2,8})+)*(-x(-[A-Za-z0-9]{1,8})+)?"
)


class Settings(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """`[settings]`: what options take when they are not given.

    Attributes:
        engine: name of the engine card; may be left out when there is only one.
        language: the tag of the language spoken; None lets the engine find out.
        to: names of output formats.
        into: folder for outputs, relative to the workspace.
        hints: names and rare words to expect, for engines whose cards have a place for them.
        max_attempts: how often a request that fails in a way that may pass is sent.
        layout: name of the layout rules.
        strong_words: what outputs do with them.
        strong_words_file: a list of one's own, relative to the workspace; None takes those that
            ship.
        replace: a glossary of corrections for outputs, relative to the workspace.
        redact: kinds of personal data that are hidden in all outputs; `all` for every one.
        redact_names: a list of names that are hidden too, relative to the workspace.
    """

    engine: str | None = None
    language: str | None = None
    to: tuple[str, ...] = ("txt", "srt", "vtt", "json")
    into: str = "transcripts"
    hints: tuple[str, ...] = ()
    max_attempts: Annotated[int, msgspec.Meta(ge=1, le=20)] = MAX_ATTEMPTS
    layout: str = DEFAULT_LAYOUT
    strong_words: Strong = "keep"
    strong_words_file: str | None = None
    replace: str | None = None
    redact: tuple[str, ...] = ()
    redact_names: str | None = None


class Links(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """`[recording_urls]`: how engines that want a link can fetch a piece from this machine.

    Attributes:
        public: the address under which they reach us.
        listen: `HOST:PORT` to listen on.
    """

    public: str
    listen: str = "0.0.0.0:8440"


class Callbacks(Links, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """`[callbacks]`: how engines that call back reach `mantisreed serve --callbacks`; keys as in
    `[recording_urls]`.
    """

    listen: str = "0.0.0.0:8441"


class ServeKeys(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """`[serve]`: with which keys `mantisreed serve` signs its calls, `whsec_` and base64.

    Attributes:
        webhook_secret: for webhooks of the profile `live`; None signs none of them.
        test_webhook_secret: for those of the profile `test`.
    """

    webhook_secret: SecretSource | None = None
    test_webhook_secret: SecretSource | None = None


class LedgerPlace(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """`[ledger]`: another database than the SQLite file in the hidden folder.

    Attributes:
        url: `postgresql://USER@HOST:PORT/DATABASE`, without a password.
        password: where it is kept; None when the database asks for none.
    """

    url: str
    password: SecretSource | None = None


class StoragePlace(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """`[storage]`: where queued recordings and their outputs are, for machines that share no
    folder.

    Attributes:
        url: the address of a folder in a storage, such as `s3://bucket/folder`.
        cache: how much of its recordings each machine keeps, such as `2 GiB`; `0` keeps none.
    """

    url: str
    cache: str = "2 GiB"


def user_settings_file() -> Path:
    """Where the engine cards are that all of a user's workspaces share; it may not exist."""
    return user_folder() / SETTINGS_FILE


def read_settings(file: Path) -> dict[str, Any]:
    """A settings file as TOML has it.

    Raises:
        InputError: it is not there, or cannot be read.
        SettingsError: it is not TOML.
    """
    try:
        content = file.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise InputError(
            "no such settings file", where=printable(file), advice="check its name"
        ) from error
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(
            "the settings file cannot be read as text", where=printable(file)
        ) from error
    try:
        document = tomllib.loads(content)
        _refuse_passwords(document, printable(file))
        return document
    except RecursionError as error:
        raise SettingsError("it has too many levels", where=printable(file)) from error
    except tomllib.TOMLDecodeError as error:
        raise SettingsError(
            f"not TOML: {error}".lower().replace("toml", "TOML"), where=printable(file)
        ) from error


def _refuse_passwords(value: Any, file: str, key: str = "") -> None:
    """See that no address anywhere in the settings holds a password as it is.

    Raises:
        SettingsError: one does; it is not repeated.
    """
    if isinstance(value, str) and _PASSWORD.search(value):
        raise SettingsError(
            f"key {key!r} holds a password in an address",
            where=file,
            advice='keep it elsewhere, as a secret: password = "env:NAME" in [ledger], '
            'every.basic = "USER:{name}"',
        )
    pairs: Iterable[tuple[Any, Any]] = ()
    if isinstance(value, dict):
        pairs = value.items()
    elif isinstance(value, list):
        pairs = enumerate(value)
    for name, inner in pairs:
        _refuse_passwords(inner, file, f"{key}.{name}".lstrip("."))


def check_language(tag: str) -> str:
    """The tag, if it has the form of a BCP 47 language tag.

    Raises:
        InputError: it has not.
    """
    if not _LANGUAGE_TAG.fullmatch(tag):
        raise InputError(
            f"{tag!r} is not a language tag", advice="a tag looks like en, en-GB or zh-Hant"
        )
    return tag


def settings_above(start: Path) -> Path:
    """The settings file in a folder, or in the nearest one above.

    Raises:
        InputError: there is none.
    """
    for folder in (start, *start.absolute().parents):
        if (folder / SETTINGS_FILE).is_file():
            return folder / SETTINGS_FILE
    raise InputError(
        f"no {SETTINGS_FILE} here or in a folder above",
        advice="name one with --config FILE, let `mantisreed init` write one, or try "
        "`mantisreed demo`",
    )
