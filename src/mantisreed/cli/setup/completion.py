"""`mantisreed completion`: what a shell reads to complete words."""

import os
from dataclasses import dataclass
from pathlib import PurePath

from mantisreed.cli.completing import shell_code
from mantisreed.cli.console import Console
from mantisreed.errors import InputError

SHELLS = ("bash", "zsh", "fish", "powershell")


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `completion` is asked for; its arguments tell the same."""

    shell: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Print it."""
    # The login shell is usually the one at hand.
    shell = asked.shell or PurePath(os.environ.get("SHELL", "")).name
    if shell not in SHELLS:
        raise InputError(
            f"words cannot be completed in {shell!r}" if shell else "no shell is named",
            advice=f"mantisreed completion {SHELLS[0]}; known are {', '.join(SHELLS)}",
        )
    console.result(shell_code(shell).rstrip())
    return 0
