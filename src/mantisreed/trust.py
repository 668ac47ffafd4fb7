"""Trust in settings: what a folder's settings would use of its user's, and whether the user has
said yes to that.

A folder from elsewhere may hold a `mantisreed.toml`. It could send an environment variable to a
stranger, start a program or write outside its folder, by nothing more than a command that somebody
types out of habit. So settings are trusted one folder at a time, for exactly what they use;
anything more asks again.

What was trusted is kept in the user's own configuration, where no folder from elsewhere can write.
"""

import hashlib
import ipaddress
import os
import re
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import chain
from pathlib import Path
from typing import Any, Literal

import msgspec

from mantisreed.errors import InputError
from mantisreed.files import folder_at, printable, user_folder, write_whole
from mantisreed.folders import HIDDEN_FOLDER, remove
from mantisreed.state import adopt, is_known, make_folder

TRUST_VARIABLE = "MANTISREED_TRUST"
"""The environment variable that names folders whose settings are trusted, with all folders in
them.
"""

UseKind = Literal[
    "secret",
    "sending",
    "listening",
    "program",
    "object",
    "database",
    "writing",
    "leading",
    "reading",
    "state",
]
"""What is used: `sending` lets recordings, transcripts or texts leave, `listening` offers them to
others; `leading` is the hidden folder that is a link to another one, `state` one that this user has
not made."""

_BY_NAMING: frozenset[UseKind] = frozenset(
    ("secret", "sending", "listening", "database", "reading")
)
"""What a settings file may use when its user names it with `--config`: it can be no accident."""

_AUTHORITY = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*://[^/?#\s]*)")
_PLAIN_URL = re.compile(r"[A-Za-z]+://[^{}/?#\s]+(?:[/?#]|$)")
_TRUSTED_FOLDER = "trusted"
_SHOWN = 200  # characters of a program and its arguments

_is_given_for_now = False


@dataclass(frozen=True, slots=True)
class Use:
    """One thing of the user's that settings would use.

    Attributes:
        kind: of which kind it is.
        what: it, for people: a verb and what it is done with.
        engine: the engine card that would; None where it is not an engine's.
        exact: everything that must stay the same for it to be the same use.
    """

    kind: UseKind
    what: str
    engine: str | None = None
    exact: str = ""

    def __str__(self) -> str:
        if not self.engine:
            return self.what
        who = f"[{self.engine}]" if _is_table(self.engine) else f"engine {self.engine}"
        return f"{self.what} ({who})"


class TrustError(InputError):
    """Settings would use something of the user's, and have not been trusted with it.

    Attributes:
        file: the settings file.
        uses: all that it would use.
    """

    def __init__(self, file: Path, uses: Sequence[Use]) -> None:
        what = "these settings have not been trusted, and would"
        lines = [f"{use};" for use in uses]
        advice = (
            "if they are yours, `mantisreed trust` remembers it, and --trust is for this once; "
            "else see `mantisreed docs security`"
        )
        super().__init__("\n  ".join([what, *lines]), where=printable(file), advice=advice)
        self.file = file
        self.uses = tuple(uses)

    def __copy__(self) -> "TrustError":
        return TrustError(self.file, self.uses)


def _is_table(name: str) -> bool:
    """Whether a use is by a table that is no engine card."""
    return "." in name or name in ("recording_urls", "callbacks", "serve")


class _RememberedTrust(msgspec.Struct, frozen=True):
    """Trust in one settings file: digests of what it used when its user said yes, and when that was
    (seconds since 1970).
    """

    settings: str
    uses: tuple[str, ...]
    since: float


@dataclass(frozen=True, slots=True)
class Trust:
    """What one settings file uses, and whether it may.

    Attributes:
        file: the settings file.
        uses: all that it would use.
        is_named: the user has named the file, so that it was not found by chance.
        is_given: the caller vouches for it.
    """

    file: Path
    uses: tuple[Use, ...] = ()
    is_named: bool = False
    is_given: bool = False

    def require(self, *kinds: UseKind, engine: str | None = None) -> None:
        """Return if the settings may use things of these kinds, of this engine or of none.

        Raises:
            TrustError: they may not.
        """
        asked = [
            use
            for use in self.uses
            if use.kind in kinds
            and use.engine == engine
            and not (self.is_named and use.kind in _BY_NAMING)
        ]
        if asked and not self._is_vouched_for and self._unknown(asked):
            state = self._use_of_state(self.file.parent / HIDDEN_FOLDER)
            raise TrustError(self.file, [*self._unknown(self._beside(engine)), *state])

    def _unknown(self, uses: Iterable[Use]) -> list[Use]:
        """Those of some uses to which the user has not said yes."""
        remembered = _decoded(_place_of(self.file))
        known = frozenset(remembered.uses if remembered is not None else ())
        return [use for use in uses if digest_of([use]) not in known]

    def _beside(self, engine: str | None) -> list[Use]:
        """What a command with one engine may use: its own, and what is no engine's."""
        return [
            use
            for use in self.uses
            if use.engine is None or use.engine == engine or _is_table(use.engine)
        ]

    def require_state(self, hidden: Path) -> None:
        """Return if the state beside the settings may be used: it names recordings, folders, jobs
        and engines, and settings that are trusted say nothing of it.

        Raises:
            TrustError: this user has neither made it nor taken it as their own.
        """
        if not self._is_vouched_for and (unknown := self._use_of_state(hidden)):
            raise TrustError(self.file, unknown)

    def _use_of_state(self, hidden: Path) -> list[Use]:
        """What somebody else's state would be used for; nothing where it is the user's own."""
        if is_known(hidden):
            return []
        what = f"use the jobs and recordings in {printable(hidden)}, not made by you here"
        return [Use("state", what)]

    @property
    def _is_vouched_for(self) -> bool:
        """Whether somebody vouches for the whole folder: the caller, or the environment."""
        if self.is_given or _is_given_for_now:
            return True
        listed = [
            Path(folder)
            for folder in os.environ.get(TRUST_VARIABLE, "").split(os.pathsep)
            if folder
        ]
        return any(is_inside(self.file, folder) for folder in listed)

    def remember(self, uses: Sequence[Use] | None = None) -> None:
        """Note that the user has said yes; state that this was about is their own from now on.

        Args:
            uses: to these; None takes all. What the settings do not use any more is forgotten.

        Raises:
            OutputError: the user's configuration cannot be written.
        """
        place = _place_of(self.file)
        make_folder(place.parent)
        before = _decoded(place)
        known = set(before.uses if before is not None else ())
        said = {digest_of([use]) for use in (self.uses if uses is None else uses)}
        now = {digest_of([use]) for use in self.uses}
        kept = tuple(sorted((known & now) | said))
        remembered = _RememberedTrust(str(printable(self.file.resolve())), kept, time.time())
        write_whole(place, msgspec.json.encode(remembered))
        if uses is None or any(use.kind == "state" for use in uses):
            adopt(self.file.parent / HIDDEN_FOLDER)

    def revoke(self) -> bool:
        """Take that back; False where there was nothing to take back."""
        place = _place_of(self.file)
        was_there = place.is_file()
        remove(place)
        return was_there


def give_for_now(*, is_given: bool) -> None:
    """Trust all settings in this process, or no longer: the user said `--trust`."""
    global _is_given_for_now
    _is_given_for_now = is_given


def digest_of(uses: Iterable[Use]) -> str:
    """What tells these uses from any others, in whatever order they stand."""
    listed = sorted([use.kind, use.what, use.engine or "", use.exact] for use in uses)
    return hashlib.sha256(msgspec.json.encode(listed)).hexdigest()


def uses_of(
    file: Path, document: Mapping[str, Any], engines: Mapping[str, Mapping[str, Any]]
) -> tuple[Use, ...]:
    """What settings would use of their user's.

    Args:
        file: where they stand.
        document: as TOML has them.
        engines: the tables of the engine cards that they have a part in, with what they share laid
            under them.
    """
    return (
        *chain.from_iterable(
            _uses_of_engine(name, table, file.parent) for name, table in engines.items()
        ),
        *chain.from_iterable(
            _uses_of_engine(f"service.{name}", table, file.parent)
            for name, table in _named_tables(document, "service")
        ),
        *chain.from_iterable(
            _uses_of_follow_up(f"follow_up.{name}", table, file.parent)
            for name, table in _named_tables(document, "follow_up")
        ),
        *_uses_of_settings(document, file.parent),
    )


def is_inside(path: Path, folder: Path) -> bool:
    """Whether a path lies in a folder, or is it, wherever links lead."""
    return path.resolve().is_relative_to(folder.resolve())


def trusted_files() -> list[tuple[str, float]]:
    """The settings files that are trusted, and since when, in seconds since 1970."""
    found = map(_decoded, sorted(_folder().glob("*.json")))
    return sorted((one.settings, one.since) for one in found if one is not None)


def _uses_of_engine(name: str, table: Mapping[str, Any], folder: Path) -> Iterator[Use]:
    # Profiles may keep a secret of the same name elsewhere: each place counts.
    places: dict[str, str] = {}
    replaced = set(chain.from_iterable(_tables(table, "replaces")))
    for secrets in _tables(table, "secrets"):
        for key, place in secrets.items():
            verb = "send and replace" if key in replaced else "send"
            places[str(place)] = max(verb, places.get(str(place), ""))
    addresses = sorted(set(chain.from_iterable(map(_AUTHORITY.findall, _texts(table)))))
    # Where a request goes is clear from the card alone, unless its host is put together or comes
    # from an answer.
    is_clear = not any("{" in address for address in addresses) and not _may_leave_its_host(table)
    whole = "" if is_clear else _exactly(table)
    to = ", ".join(map(printable, addresses)) or "what it starts"
    what = "texts" if name.startswith("service.") else "recordings"
    if addresses or _speaks_to_a_host(table):
        yield Use("sending", f"send {what} to {to}", name, whole)
    for place in sorted(places):
        if (
            is_clear
            and _is_of_the_folder(place, folder)
            and all(map(_is_on_this_machine, addresses))
        ):
            continue
        yield Use("secret", f"{places[place]} {printable(place)} to {to}", name, whole)
    for key, kind, verb in (("command", "program", "start"), ("python", "object", "load")):
        for found in _tables(table, key):
            exact = _exactly(found)
            shown = found.get("run", found.get("object", ""))
            words = " ".join(map(str, shown)) if isinstance(shown, list) else str(shown)
            yield Use(kind, f"{verb} {printable(words[:_SHOWN])}", name, exact)  # type: ignore[arg-type]


def _exactly(table: Mapping[str, Any]) -> str:
    """All that a table says, in one way."""
    return msgspec.json.encode(table, order="deterministic", enc_hook=str).decode()


def _named_tables(document: Mapping[str, Any], key: str) -> Iterator[tuple[str, Mapping[str, Any]]]:
    tables = document.get(key)
    for name, table in tables.items() if isinstance(tables, dict) else ():
        if isinstance(table, dict):
            yield name, table


def _uses_of_follow_up(name: str, table: Mapping[str, Any], folder: Path) -> Iterator[Use]:
    """What a follow-up would do without being asked each time: send results away, write elsewhere,
    start programs.
    """
    exact = _exactly(table)
    for found in _tables(table, "mail"):
        address = printable(str(found.get("server", ""))[:_SHOWN])
        to = found.get("to", ())
        letters = f" for {', '.join(map(str, to))}"[:_SHOWN] if to else ""
        yield Use("sending", f"send results to {address}{printable(letters)}", name, exact)
    for found in _tables(table, "webhook"):
        address = printable(str(found.get("to", ""))[:_SHOWN])
        yield Use("sending", f"send results to {address}", name, exact)
    for found in _tables(table, "command"):
        words = found.get("run", "")
        shown = " ".join(map(str, words)) if isinstance(words, list) else str(words)
        yield Use("program", f"start {printable(shown[:_SHOWN])}", name, exact)
    for found in _tables(table, "copy"):
        target = str(found.get("to", ""))
        is_address = "://" in target or "{" in target.partition("/")[0]
        place = folder_at(folder, target.partition("{")[0])
        if is_address or ".." in target or not is_inside(place, folder):
            yield Use("writing", f"write to {printable(target[:_SHOWN])}", name, exact)
    for found in _tables(table, "rows"):
        file, database = found.get("file"), str(found.get("database", ""))
        if isinstance(file, str) and not is_inside(folder_at(folder, file), folder):
            yield Use("writing", f"write to {printable(file)}", name, exact)
        local = database.removeprefix("sqlite:///")
        if database and (local == database or not is_inside(folder_at(folder, local), folder)):
            yield Use(
                "database", f"write to the database {printable(database[:_SHOWN])}", name, exact
            )


def _has_foreign_secret(value: Any, folder: Path) -> bool:
    """Whether a table names a secret that is not a file of this folder's own."""
    named = [text for text in _texts(value) if text.startswith(("env:", "file:", "keyring:"))]
    return any(not _is_of_the_folder(place, folder) for place in named)


def _shared_places(document: Mapping[str, Any]) -> Iterator[Use]:
    """What several machines share: the ledger and the storage."""
    ledger = document.get("ledger", {})
    if ledger:
        password = f" with {printable(str(ledger['password']))}" if "password" in ledger else ""
        yield Use("database", f"keep the ledger at {printable(str(ledger.get('url')))}{password}")
    storage = document.get("storage", {})
    if storage:
        where = printable(str(storage.get("url")))
        yield Use("writing", f"put queued recordings and their outputs into {where}")


def _uses_of_settings(document: Mapping[str, Any], folder: Path) -> Iterator[Use]:
    settings = document.get("settings", {})
    into = settings.get("into")
    if isinstance(into, str) and "://" in into:
        yield Use("writing", f"write to {printable(into)}")
    elif isinstance(into, str) and not is_inside(folder_at(folder, into), folder):
        yield Use("writing", f"write to {printable(folder_at(folder, into).resolve())}")
    for key in ("strong_words_file", "replace", "redact_names"):
        named = settings.get(key)
        if isinstance(named, str) and not is_inside(folder_at(folder, named), folder):
            yield Use("reading", f"read {printable(folder_at(folder, named).resolve())}")
    # A folder from elsewhere may also bring the hidden folder, as a link to any other.
    hidden = folder / HIDDEN_FOLDER
    if hidden.is_symlink() and not is_inside(hidden, folder):
        where = printable(hidden.resolve())
        yield Use("leading", f"write to {where}, where {HIDDEN_FOLDER} leads")
    yield from _shared_places(document)
    for key, offered in (
        ("recording_urls", "pieces of recordings"),
        ("callbacks", "an ear for engines"),
    ):
        table = document.get(key)
        if isinstance(table, dict):
            exact = _exactly(table)
            where = printable(str(table.get("public", ""))[:_SHOWN])
            yield Use("listening", f"offer {offered} at {where}", key, exact)

    served = document.get("serve", {})
    if isinstance(served, dict) and _has_foreign_secret(served, folder):
        exact = _exactly(served)
        yield Use(
            "secret", "sign the calls of the service with keys from elsewhere", "serve", exact
        )


def _tables(table: Mapping[str, Any], key: str) -> Iterator[Mapping[str, Any]]:
    """All tables of this name, in profiles and tasks too."""
    for name, value in table.items():
        if isinstance(value, dict):
            if name == key:
                yield value
            yield from _tables(value, key)


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    items: Iterable[Any] = ()
    if isinstance(value, dict):
        items = value.values()
    elif isinstance(value, list):
        items = value
    for item in items:
        yield from _texts(item)


def _may_leave_its_host(value: Any) -> bool:
    """Whether a card lets keys follow an address that an answer gives, or puts its host together
    from parts.
    """
    if isinstance(value, list):
        return any(map(_may_leave_its_host, value))
    if not isinstance(value, dict):
        return False
    if value.get("keys") is True or value.get("follow_redirects") is True:
        return True
    path, url = value.get("path"), value.get("url")
    if isinstance(path, str) and path and not path.startswith(("/", "?")):
        return True
    if isinstance(url, str) and not _PLAIN_URL.match(url):
        return True
    return any(map(_may_leave_its_host, value.values()))


def _speaks_to_a_host(table: Mapping[str, Any]) -> bool:
    """Whether a card has requests at all, whatever their address is put together from."""
    return "url" in table or any("url" in one for one in _tables(table, "profile"))


def _is_of_the_folder(place: str, folder: Path) -> bool:
    kind, _, path = place.partition(":")
    return kind == "file" and is_inside(folder_at(folder, path), folder)


def _is_on_this_machine(address: str) -> bool:
    host = re.split(r"[/?#]", address.partition("://")[2], maxsplit=1)[0].rpartition("@")[2]
    host = host[1:].partition("]")[0] if host.startswith("[") else host.partition(":")[0]
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _folder() -> Path:
    return user_folder() / _TRUSTED_FOLDER


def _place_of(file: Path) -> Path:
    name = hashlib.sha256(os.fsencode(file.resolve())).hexdigest()[:32]
    return _folder() / f"{name}.json"


def _decoded(place: Path) -> _RememberedTrust | None:
    try:
        return msgspec.json.decode(place.read_bytes(), type=_RememberedTrust)
    except (OSError, msgspec.MsgspecError):
        return None
