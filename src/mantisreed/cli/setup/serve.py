"""`mantisreed serve`: an HTTP service with a board; tokens for it; or only a listener to engines
that call back.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from mantisreed.cli.console import Console
from mantisreed.cli.setup.arguments import LISTEN
from mantisreed.errors import InputError
from mantisreed.serving.proxies import network_given, prefix_given
from mantisreed.serving.tokens import Limits, TokenStore
from mantisreed.units import duration_given, iso_moment, money_given, parse_size
from mantisreed.workspace import Workspace, open_workspace

if TYPE_CHECKING:
    from mantisreed.pipeline.outcomes import Outcome


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `serve` is asked for; its arguments tell the same."""

    what: Sequence[str] = ()
    listen: str | None = None
    callbacks: bool = False
    config: str | None = None
    engine: str | None = None
    as_json: bool = False
    allow: Sequence[str] = ()
    allow_private_links: bool = False
    cors: Sequence[str] = ()
    proxy: Sequence[str] = ()
    root_path: str = ""
    stop_within: str | None = None
    max_size: str | None = None
    max_length: str | None = None
    max_stored: str | None = None
    scopes: str = ""
    spend: str | None = None
    rate: int | None = None


def run(console: Console, asked: Arguments) -> int:
    """Serve until stopped. The first line on stdout says where."""
    workspace = open_workspace(asked.config)
    if asked.what:
        return _tokens(console, workspace, asked)
    if asked.callbacks:
        if asked.listen is not None:
            raise InputError("[callbacks] listen in the settings says where", where="--listen")
        return _serve_callbacks(console, workspace)
    return _serve(console, workspace, asked)


def _serve(console: Console, workspace: Workspace, asked: Arguments) -> int:
    # The web framework takes long to import, and tokens are made without it.
    from mantisreed.serving.server import serve
    from mantisreed.serving.service import ServeOptions

    folders = tuple(map(Path, asked.allow))
    for folder in folders:
        if not folder.is_dir():
            raise InputError("no such folder", where=f"--allow {folder}")
    largest = _bytes(asked.max_size)
    waits = duration_given(asked.stop_within, "--stop-within")
    engine = None
    if asked.engine is not None:
        engine = workspace.engine(asked.engine).name
    usual = ServeOptions()
    options = ServeOptions(
        listen=asked.listen or LISTEN,
        engine=engine,
        allowed=folders,
        takes_private_links=asked.allow_private_links,
        origins=tuple(asked.cors),
        max_bytes=usual.max_bytes if largest is None else largest,
        max_seconds=duration_given(asked.max_length, "--max-length"),
        max_stored=_bytes(asked.max_stored, "--max-stored"),
        stop_within=usual.stop_within if waits is None else waits,
        keys=workspace.call_keys(),
        proxies=tuple(map(network_given, asked.proxy)),
        root_path=prefix_given(asked.root_path),
    )
    serve(
        workspace,
        options,
        on_ready=lambda address: console.result(
            f"listening on {address}; the board is {address}{options.root_path}/"
        ),
        on_failure=lambda failure: console.note(f"mantisreed: {failure}"),
    )
    return 0


def _tokens(console: Console, workspace: Workspace, asked: Arguments) -> int:
    """Make, list or revoke tokens."""
    store = TokenStore(workspace.hidden)
    match list(asked.what):
        case ["token", "make", name]:
            scopes = [scope.strip() for scope in asked.scopes.split(",") if scope.strip()]
            secret = store.make(name, scopes, _limits(asked))
            if asked.as_json:
                console.document({"name": name, "token": secret})
            else:
                console.result(secret)
                console.note(
                    "this is the only time that it is shown; send it as Authorization: Bearer TOKEN"
                )
        case ["token", "revoke", name]:
            store.revoke(name)
            console.note(f"token {name!r} is good for nothing from now on")
        case ["token", "list"] | ["token"]:
            tokens = store.all()
            if asked.as_json:
                listed = [
                    {
                        "name": one.name,
                        "scopes": list(one.scopes),
                        "made": iso_moment(one.made),
                        "spend": one.limits.spend,
                    }
                    for one in tokens
                ]
                console.document({"tokens": listed})
            elif tokens:
                rows = [
                    (
                        one.name,
                        ",".join(one.scopes),
                        iso_moment(one.made)[:16],
                        _limits_text(one.limits),
                    )
                    for one in tokens
                ]
                console.rows(("name", "scopes", "made", "limits"), rows)
            else:
                console.note("no token yet")
        case _:
            raise InputError(
                f"{' '.join(asked.what)!r} is not token make NAME, token list or token revoke NAME"
            )
    return 0


def _limits(asked: Arguments) -> Limits:
    """What the limits of a token say.

    Raises:
        InputError: one of them makes no sense.
    """
    amount = money_given(asked.spend, "--spend")
    return Limits(
        asked.rate,
        None if amount is None else float(amount),
        _bytes(asked.max_size),
        duration_given(asked.max_length, "--max-length"),
        _bytes(asked.max_stored, "--max-stored"),
    )


def _bytes(size: str | None, option: str = "--max-size") -> int | None:
    """What an option that is a size says; None where it says nothing.

    Raises:
        InputError: it is no size.
    """
    if size is None:
        return None
    try:
        return parse_size(size)
    except ValueError as error:
        raise InputError(
            f"a size such as 500 MB is expected, not {size!r}", where=option
        ) from error


def _limits_text(limits: Limits) -> str:
    told = [
        f"{limits.requests_per_minute} requests a minute"
        if limits.requests_per_minute is not None
        else "",
        f"spends {limits.spend:g}" if limits.spend is not None else "",
        f"{limits.max_bytes} bytes" if limits.max_bytes is not None else "",
        f"{limits.max_seconds:g} s" if limits.max_seconds is not None else "",
        f"stores {limits.max_stored} bytes" if limits.max_stored is not None else "",
    ]
    return ", ".join(filter(None, told)) or "-"


def _serve_callbacks(console: Console, workspace: Workspace) -> int:
    """Listen to engines; a line for each job that is done."""
    from mantisreed.pipeline.sent_jobs.callbacks import ServeHooks, serve_callbacks

    def done(outcome: "Outcome") -> None:
        if outcome.job:
            job = outcome.job.id
        else:
            job = "-"
        console.result(f"{job}  {outcome.recording.label}: {outcome.state}")
        if outcome.error:
            console.problem(outcome.error, outcome.recording.label)

    hooks = ServeHooks(
        on_ready=lambda listen: console.result(f"listening on http://{listen}"),
        on_done=done,
        on_failure=lambda what: console.note(f"mantisreed: {what}"),
    )
    serve_callbacks(workspace, hooks)
    return 0
