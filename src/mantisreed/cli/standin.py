"""`mantisreed standin`: serve the simulated engines on loopback."""

import argparse

from mantisreed.cli.console import Console
from mantisreed.cli.trust import trust_own

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

    from mantisreed.standin.faults import FaultProfile

EXAMPLES = """\
examples:
  mantisreed standin --port 8127 --cards try/mantisreed.toml
  mantisreed standin --faults 0.3 --seed 7 --pace 15/60s --cards try/mantisreed.toml
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `standin` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument(
        "--port", type=int, default=0, metavar="N", help="port on 127.0.0.1 (default: a free one)"
    )
    parser.add_argument(
        "--bank",
        metavar="DIR",
        help="folder of audio files with a .txt each, to hear by (default: the bundled one)",
    )
    parser.add_argument(
        "--mailbox", metavar="DIR", help="serve a mail box too, which keeps messages in DIR"
    )
    parser.add_argument(
        "--cards", metavar="FILE", help="write the engine cards to FILE and the key beside it"
    )

    profile = parser.add_argument_group("what goes wrong, to try out how it is dealt with")
    profile.add_argument(
        "--seed",
        type=int,
        default=0,
        metavar="N",
        help="the same one makes the same things go wrong",
    )
    profile.add_argument(
        "--faults", type=float, default=0.0, metavar="SHARE", help="share of requests with a fault"
    )
    profile.add_argument(
        "--hang", metavar="DURATION", help="how long an answer hangs that hangs (default: 30s)"
    )
    profile.add_argument(
        "--pace", metavar="N/DURATION", help="answer 429 to more requests than this, such as 15/60s"
    )
    profile.add_argument(
        "--retry-after",
        choices=("seconds", "date", "none"),
        default="seconds",
        help="how a 429 says when to come back",
    )
    profile.add_argument("--queue", metavar="DURATION", help="how long dipper's jobs take")
    profile.add_argument(
        "--failing", type=float, default=0.0, metavar="SHARE", help="share of its jobs that fail"
    )
    profile.add_argument(
        "--losing",
        type=float,
        default=0.0,
        metavar="SHARE",
        help="share of its jobs that it forgets",
    )
    profile.add_argument(
        "--calls",
        choices=("once", "twice", "early", "never"),
        default="once",
        help="how it calls back; early is before it has answered",
    )
    profile.add_argument(
        "--confusion", type=float, default=0.0, metavar="SHARE", help="share of words misheard"
    )
    profile.add_argument(
        "--habit",
        action="append",
        default=[],
        metavar="[ENGINE:]HABIT=SHARE",
        help="make text up over silence, loop, drop phrases and so on in this share of them, such "
        "as loop=0.1 or "
        "brook:silence=0.3; `GET /planted` tells where (can be given again)",
    )


def run(
    console: Console,
    *,
    port: int = 0,
    bank: str | None = None,
    cards: str | None = None,
    mailbox: str | None = None,
    **profile: "Any",
) -> int:
    """Serve until stopped. The first line on stdout says where, once requests are answered."""
    from contextlib import ExitStack
    from pathlib import Path

    from mantisreed.standin import server
    from mantisreed.standin.bank import BUNDLED, load_bank
    from mantisreed.standin.hearing import Listener

    if cards:
        server.check_cards_file(Path(cards))
    with ExitStack() as stack:
        waiting = stack.enter_context(server.bound_socket(port))
        if mailbox is not None:
            from mantisreed.standin import mailbox as mail

            address_of_mail, _ = stack.enter_context(mail.mailbox(Path(mailbox)))
            console.note(f"the mail box is {address_of_mail}")
        chosen = _profile(**profile)
        listener = Listener(load_bank(Path(bank) if bank else BUNDLED), confusion=chosen.confusion)
        key, address = server.new_key(), server.address_of(waiting)
        if cards:
            server.write_cards(Path(cards), address, key, listener)
            trust_own(Path(cards))
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
    hang: str | None, pace: str | None, queue: str | None, habit: "Sequence[str]", **shares: "Any"
) -> "FaultProfile":
    """What the options say.

    Raises:
        InputError: one of them makes no sense.
    """
    from mantisreed.cli.arguments import duration
    from mantisreed.errors import InputError
    from mantisreed.standin.faults import FaultProfile
    from mantisreed.standin.habits import habits_named
    from mantisreed.standin.server import SERVED

    for name in ("faults", "failing", "losing", "confusion"):
        if not 0.0 <= shares[name] <= 1.0:
            raise InputError(f"a share is from 0 to 1, not {shares[name]:g}", where=f"--{name}")
    count, slash, window = (pace or "").partition("/")
    if pace and not (slash and count.isdecimal() and int(count)):
        raise InputError(f"a pace such as 15/60s is expected, not {pace!r}", where="--pace")
    return FaultProfile(
        hang=duration(hang, "--hang") or 30.0,
        queue=duration(queue, "--queue") or 0.0,
        pace=(int(count), duration(window, "--pace") or 60.0) if pace else None,
        habits=habits_named(habit, tuple(SERVED)),
        **shares,
    )
