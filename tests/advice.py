"""Whether what a message advises can be followed: its commands are there, and have its options."""

import argparse
import re
from functools import cache

from mantisreed.cli.main import COMMANDS, _parser

_QUOTED = re.compile(r"`([^`]+)`")
_OPTION = re.compile(r"(?<![\w-])--[a-z][a-z-]+")
_ANYWHERE = {"--help"}


@cache
def options_of(command: str) -> frozenset[str]:
    """All options of a command, with those of its actions."""
    waiting: list[argparse.ArgumentParser] = [
        action.choices[command]
        for action in _parser([command])._actions
        if isinstance(action, argparse._SubParsersAction)
    ]
    found: set[str] = set(_ANYWHERE)
    while waiting:
        for action in waiting.pop()._actions:
            found |= set(action.option_strings)
            if isinstance(action, argparse._SubParsersAction):
                waiting += action.choices.values()
    return frozenset(found)


def commands_in(advice: str) -> list[str]:
    """Commands that are named in backquotes, with or without the program's name."""
    named = []
    for quoted in _QUOTED.findall(advice):
        words = quoted.split()
        if words and words[0] == "mantisreed":
            assert len(words) == 1 or words[1] in COMMANDS, quoted
            named += words[1:2]
        elif words and words[0] in COMMANDS:
            named.append(words[0])
    return named


def check(command: str, told: str) -> None:
    """Assert that what a command told on stderr can be followed.

    Args:
        command: that was given.
        told: by it; advice stands in lines of its own, behind two blanks.
    """
    for line in told.splitlines():
        if not line.startswith("  "):
            continue
        able = [command, *commands_in(line)]
        for option in _OPTION.findall(line):
            is_there = any(option in options_of(one) for one in able if one in COMMANDS)
            assert is_there or option in _ANYWHERE, (
                f"{command} advises {option}, which it does not have: {line.strip()}"
            )
