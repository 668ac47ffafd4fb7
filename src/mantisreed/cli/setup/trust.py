"""`mantisreed trust`: say that a folder's settings may use what they name."""

import sys
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from mantisreed.cli.console import Console, plain_table
from mantisreed.files import printable
from mantisreed.settings import SETTINGS_FILE
from mantisreed.trust import Trust, TrustError, trusted_files
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `trust` is asked for; its arguments tell the same."""

    settings: str | None = None
    revoke: bool = False
    is_list: bool = False
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Say what the settings use, and remember that they may."""
    if asked.is_list:
        return _list(console, as_json=asked.as_json)
    trust = _trust_in(asked.settings)
    if asked.revoke:
        was_trusted = trust.revoke()
        if was_trusted:
            told = "trusted no longer"
        else:
            told = "was not trusted"
    else:
        trust.remember()
        if trust.uses:
            told = "trusted from now on with this"
        else:
            told = "trusted; it uses nothing that needs it"
    if asked.as_json:
        uses = [{"kind": use.kind, "engine": use.engine, "what": use.what} for use in trust.uses]
        console.document({"settings": str(trust.file), "trusted": not asked.revoke, "uses": uses})
        return 0
    console.result(f"{printable(trust.file)}: {told}")
    for use in () if asked.revoke else trust.uses:
        console.result(f"  {use}")
    return 0


def trust_own(file: Path) -> None:
    """Remember settings that this program has just written itself, as its user asked it to."""
    open_workspace(file).trust.remember()


def asked(console: Console, error: TrustError) -> bool:
    """Whether somebody sits there and says that settings are to be trusted, which is then
    remembered.
    """
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return False
    console.problem(error)
    console.note("Trust them with this from now on? [y/N] ")
    if sys.stdin.readline().strip().lower() not in ("y", "yes"):
        return False
    open_workspace(error.file).trust.remember(error.uses)
    return True


def _trust_in(settings: str | None) -> Trust:
    if settings:
        named = Path(settings)
    else:
        named = None
    if named is not None and named.is_dir():
        named = named / SETTINGS_FILE
    return open_workspace(named).trust


def _list(console: Console, *, as_json: bool) -> int:
    found = [(file, datetime.fromtimestamp(since, UTC)) for file, since in trusted_files()]
    if as_json:
        console.document(
            [
                {"settings": file, "since": since.isoformat(timespec="seconds")}
                for file, since in found
            ]
        )
        return 0
    if not found:
        console.note("you trust no settings yet")
        return 0
    table = plain_table()
    table.add_column("settings")
    table.add_column("since")
    for file, since in found:
        table.add_row(file, since.astimezone().strftime("%Y-%m-%d %H:%M"))
    console.table(table)
    return 0
