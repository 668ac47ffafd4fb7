"""Whether everything that a run needs is there: settings, trust, secrets, engines, ledger, storage.

Nothing is sent: an engine's host is connected to, and no request is made.
"""

import platform
import secrets
import shutil
import socket
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from importlib import metadata
from pathlib import Path
from typing import Literal

from mantisreed.engines.card import EngineCard
from mantisreed.errors import InputError
from mantisreed.files import folder_at, printable
from mantisreed.jobs.ledger import Ledger, open_ledger
from mantisreed.sources.recordings import STORAGE
from mantisreed.sources.storage import remove_stored, write_stored
from mantisreed.trust import TrustError
from mantisreed.units import count_of, short_size
from mantisreed.urls import UrlError, port_of, split_url
from mantisreed.version import __version__
from mantisreed.workspace import Workspace, open_workspace

Verdict = Literal["ok", "note", "problem"]

_CONNECT_SECONDS = 3.0  # for an engine that is far away; a longer wait would look like a hang
_LEAST_ROOM = 1 << 30  # bytes; a day of recordings, prepared, takes less
_SLOW_LEDGER = 0.05  # seconds; a request makes some twenty statements
_WRONG_CLOCK = 5.0  # seconds; signatures and tokens are refused beyond that


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was looked at.

    Attributes:
        what: it.
        verdict: `note` for what may be as it should be.
        told: what was found.
        advice: what to do; None where nothing is to be done.
    """

    what: str
    verdict: Verdict
    told: str
    advice: str | None = None


def checks(config: str | None) -> Iterator[Check]:
    """Everything that a run needs, in the order in which it needs it.

    Args:
        config: the settings file; None looks for it.
    """
    yield _versions()
    try:
        workspace = open_workspace(config)
    except InputError as error:
        yield Check("settings", "problem", str(error), error.advice or "mantisreed init")
        return
    file = printable(workspace.trust.file)
    yield Check("settings", "ok", f"{file}, {count_of(len(workspace.engines), 'engine card')}")
    yield _trust(workspace)
    for card in workspace.engines.values():
        # Profiles of a card have its host and its secrets.
        if ":" not in card.name:
            yield from _engine(workspace, card)
    yield from _ledger(workspace)
    into = workspace.settings.into
    if STORAGE.match(into):
        yield _storage(workspace, "outputs", into)
    else:
        yield _folder("outputs", folder_at(workspace.folder, into))
    if workspace.storage is not None:
        yield _storage(workspace, "storage", workspace.storage.url)
    yield _folder("replies", workspace.hidden)


def _versions() -> Check:
    python = platform.python_version()
    libraries = ", ".join(f"{name} {metadata.version(name)}" for name in ("av", "aiohttp", "numpy"))
    return Check("versions", "ok", f"Mantisreed {__version__}, Python {python}, {libraries}")


def _trust(workspace: Workspace) -> Check:
    trust = workspace.trust
    for use in trust.uses:
        try:
            trust.require(use.kind, engine=use.engine)
        except TrustError as error:
            return Check("trust", "problem", "these settings are not trusted", error.advice)
    return Check("trust", "ok", count_of(len(trust.uses), "use") + " trusted")


def _engine(workspace: Workspace, card: EngineCard) -> Iterator[Check]:
    name = f"engine {card.name}"
    try:
        workspace.secrets_of(card)
    except TrustError:
        yield Check(name, "note", "not looked at, as the settings are not trusted")
        return
    except InputError as error:
        yield Check(name, "problem", str(error), error.advice)
        return
    if card.command is not None:
        program = card.command.run[0].source
        if shutil.which(program) is None and not Path(program).exists():
            yield Check(name, "problem", f"there is no program {program!r}", "install it")
        else:
            yield Check(name, "ok", f"runs {program}")
        return
    # Part of the address is a value that only a request has.
    if card.url is None or card.url.names:
        yield Check(name, "note", "its address is known only when something is sent")
        return
    yield _host(name, card.url.source)


def _host(name: str, url: str) -> Check:
    """Whether somebody listens where an engine is."""
    try:
        parts = split_url(url)
        host, port = parts.hostname or "", port_of(parts) or 443
    except (UrlError, ValueError) as error:
        return Check(name, "problem", f"its url is none: {error}", "check url in its card")
    begun = time.monotonic()
    try:
        with socket.create_connection((host, port), timeout=_CONNECT_SECONDS):
            took = time.monotonic() - begun
    except OSError as error:
        reason = error.strerror or str(error) or "no answer"
        advice = "is the engine running, and is url in its card right?"
        return Check(name, "problem", f"cannot reach {host}:{port} ({reason})", advice)
    return Check(name, "ok", f"secrets are there, {host}:{port} answers in {1000 * took:.0f} ms")


def _ledger(workspace: Workspace) -> Iterator[Check]:
    if workspace.ledger is None and not workspace.hidden.exists():
        yield Check("ledger", "note", "there is none yet; the first run begins it")
        return
    try:
        with closing(open_ledger(workspace)) as ledger:
            yield from _open_ledger(ledger)
    except InputError as error:
        yield Check("ledger", "problem", str(error), error.advice)


def _open_ledger(ledger: Ledger) -> Iterator[Check]:
    begun = time.monotonic()
    count = ledger.listing.count()
    took = time.monotonic() - begun
    place = printable(ledger.where)
    verdict: Verdict = "ok" if took < _SLOW_LEDGER else "note"
    told = f"{place}, {count_of(count, 'job')}, answers in {1000 * took:.0f} ms"
    yield Check("ledger", verdict, told)
    apart = ledger.now() - time.time()
    if abs(apart) > _WRONG_CLOCK:
        advice = "set the clock of this machine or of the database server"
        told = f"{abs(apart):.0f} s apart from the database's clock"
        yield Check("clock", "problem", told, advice)
    under_way = ledger.under_way()
    if under_way.processes:
        told = ", ".join(
            f"{one.host} ({one.pid}, version {one.program})" for one in under_way.processes
        )
        others = {one.program for one in under_way.processes} - {__version__}
        yield Check("processes", "note" if others else "ok", told)
    if under_way.waiting or under_way.workers:
        is_left = bool(under_way.waiting) and not under_way.workers
        yield Check("work", "note" if is_left else "ok", "; ".join(under_way.lines()))


def _storage(workspace: Workspace, what: str, address: str) -> Check:
    """Whether a file can be put into a storage, and be removed again."""
    folder, name = address.rstrip("/"), f".check-{secrets.token_hex(4)}"
    where = printable(address)
    begun = time.monotonic()
    try:
        workspace.trust.require("writing")
        write_stored(folder, name, b"written by `mantisreed doctor`; may be removed")
        remove_stored(folder, name)
    except TrustError:
        return Check(what, "note", "not looked at, as the settings are not trusted")
    except InputError as error:
        return Check(what, "problem", str(error), error.advice or "check its name and your rights")
    took = time.monotonic() - begun
    return Check(what, "ok", f"{where}, written and removed in {1000 * took:.0f} ms")


def _folder(what: str, folder: Path) -> Check:
    """Whether a folder can be written, and has room."""
    existing = folder
    # A folder that is not there yet is made in the nearest that is.
    while not existing.exists() and existing != existing.parent:
        existing = existing.parent
    place = printable(folder)
    try:
        with tempfile.TemporaryFile(dir=existing):
            pass
        room = shutil.disk_usage(existing).free
    except OSError as error:
        told = f"{place} cannot be written ({error.strerror})"
        return Check(what, "problem", told, "choose another folder, or change its rights")
    if room < _LEAST_ROOM:
        return Check(what, "note", f"{place}, only {short_size(room)} free", "make room")
    return Check(what, "ok", f"{place}, {short_size(room)} free")
