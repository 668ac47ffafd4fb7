"""`mantisreed tokens`: tokens of the HTTP service: who may use it, and for what."""

from contextlib import closing
from dataclasses import dataclass

from mantisreed.cli.console import Console
from mantisreed.jobs.ledger import open_ledger
from mantisreed.serving.tokens import Limits, TokenStore
from mantisreed.units import duration_given, iso_moment, money_given, size_given
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `tokens` is asked for; its arguments tell the same."""

    action: str | None = None
    config: str | None = None
    as_json: bool = False
    name: str = ""
    scopes: str = ""
    spend_limit: str | None = None
    requests_per_minute: int | None = None
    max_size: str | None = None
    max_length: str | None = None
    max_stored: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Create, list or revoke tokens."""
    with closing(open_ledger(open_workspace(asked.config))) as ledger:
        return _done(console, TokenStore(ledger), asked)


def _done(console: Console, store: TokenStore, asked: Arguments) -> int:
    if asked.action == "create":
        return _create(console, store, asked)
    if asked.action == "revoke":
        store.revoke(asked.name)
        console.note(f"token {asked.name!r} lets nobody in any more")
        return 0
    return _list(console, store, as_json=asked.as_json)


def _create(console: Console, store: TokenStore, asked: Arguments) -> int:
    scopes = [scope.strip() for scope in asked.scopes.split(",") if scope.strip()]
    secret = store.make(asked.name, scopes, _limits(asked))
    if asked.as_json:
        console.document({"name": asked.name, "token": secret})
    else:
        console.result(secret)
        console.note("you see it only now; send it as Authorization: Bearer TOKEN")
    return 0


def _list(console: Console, store: TokenStore, *, as_json: bool) -> int:
    tokens = store.all()
    if as_json:
        listed = [
            {
                "name": one.name,
                "scopes": list(one.scopes),
                "created": iso_moment(one.made),
                "spend_limit": one.limits.spend,
                "requests_per_minute": one.limits.requests_per_minute,
            }
            for one in tokens
        ]
        console.document({"tokens": listed})
    elif tokens:
        rows = [
            (one.name, ",".join(one.scopes), iso_moment(one.made)[:16], _limits_text(one.limits))
            for one in tokens
        ]
        console.rows(("name", "scopes", "created", "limits"), rows)
    else:
        console.note("no token yet")
    return 0


def _limits(asked: Arguments) -> Limits:
    """What the limits of a token say.

    Raises:
        InputError: one of them makes no sense.
    """
    amount = money_given(asked.spend_limit, "--spend-limit")
    return Limits(
        asked.requests_per_minute,
        None if amount is None else float(amount),
        size_given(asked.max_size, "--max-size"),
        duration_given(asked.max_length, "--max-length"),
        size_given(asked.max_stored, "--max-stored"),
    )


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
