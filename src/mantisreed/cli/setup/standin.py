"""`mantisreed standin`: serve the simulated engines on loopback."""

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.setup.trust import trust_own
from mantisreed.errors import InputError
from mantisreed.standin import mailbox as mail
from mantisreed.standin import server
from mantisreed.standin.bank import BUNDLED, load_bank
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.habits import habits_named
from mantisreed.standin.hearing import Listener
from mantisreed.standin.server import SERVED
from mantisreed.units import duration_given


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `standin` is asked for; its arguments tell the same."""

    port: int = 0
    bank: str | None = None
    cards: str | None = None
    mailbox: str | None = None
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Serve until stopped. The first line on stdout says where, once requests are answered."""
    if asked.cards:
        server.check_cards_file(Path(asked.cards))
    with ExitStack() as stack:
        waiting = stack.enter_context(server.bound_socket(asked.port))
        if asked.mailbox is not None:
            address_of_mail, _ = stack.enter_context(mail.mailbox(Path(asked.mailbox)))
            console.note(f"the mail box is {address_of_mail}")
        chosen = _profile(**asked.options)
        listener = Listener(
            load_bank(Path(asked.bank) if asked.bank else BUNDLED), confusion=chosen.confusion
        )
        key, address = server.new_key(), server.address_of(waiting)
        if asked.cards:
            server.write_cards(Path(asked.cards), address, key, listener)
            trust_own(Path(asked.cards))
        else:
            console.note(
                f"the key is {key}; with --cards FILE the engine cards are written for you"
            )
        server.serve(
            server.standins(listener, key, chosen),
            waiting,
            lambda: console.result(f"listening on {address}"),
        )
    return 0


def _profile(
    hang: str | None, pace: str | None, queue: str | None, habit: Sequence[str], **shares: Any
) -> FaultProfile:
    """What the options say.

    Raises:
        InputError: one of them makes no sense.
    """
    for name in ("faults", "failing", "losing", "confusion"):
        if not 0.0 <= shares[name] <= 1.0:
            raise InputError(f"a share is from 0 to 1, not {shares[name]:g}", where=f"--{name}")
    count, slash, window = (pace or "").partition("/")
    if pace and not (slash and count.isdecimal() and int(count)):
        raise InputError(f"expected a pace such as 15/60s, not {pace!r}", where="--pace")
    return FaultProfile(
        hang=duration_given(hang, "--hang") or 30.0,
        queue=duration_given(queue, "--queue") or 0.0,
        pace=(int(count), duration_given(window, "--pace") or 60.0) if pace else None,
        habits=habits_named(habit, tuple(SERVED)),
        **shares,
    )
