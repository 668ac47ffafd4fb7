"""Help in pages of one screen, and what a mistyped name may have meant."""

import argparse

import pytest

from advice import options_of
from conftest import Command
from mantisreed.cli.helping import GROUPS, MAIN_OPTIONS
from mantisreed.cli.main import COMMANDS
from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.options import FORMATS

_SCREEN = 36  # lines


@pytest.mark.parametrize("command", sorted(MAIN_OPTIONS))
def test_help_shows_the_options_that_matter_and_the_names_of_the_groups(
    command: str, mantisreed: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", "80")
    told = mantisreed(command, "--help").stdout
    assert len(told.splitlines()) <= (30 if command == "run" else _SCREEN)
    assert set(MAIN_OPTIONS[command]) <= options_of(command)
    whole = mantisreed(command, "--help-all").stdout
    hidden = options_of(command) - {"--help", "--help-all", "--help-group"}
    assert all(option in whole for option in hidden)
    groups = told.split("with one of these:")[1].split("\n\n")[0].split(",")
    for group in (" ".join(group.split()) for group in groups):
        page = mantisreed(command, "--help-group", group).stdout
        assert page.startswith(f"{group}:") and "--" in page


def test_each_command_is_in_one_group() -> None:
    listed = [name for _, names in GROUPS for name in names]
    assert sorted(listed) == sorted(COMMANDS)


@pytest.mark.parametrize(
    ("given", "told"),
    [
        (("rnu", "a.wav"), "unknown command 'rnu'; did you mean run?\n  see mantisreed --help"),
        (
            ("run", "a.wav", "--langauge", "en"),
            "unknown option '--langauge'; did you mean --language?\n  see mantisreed run --help",
        ),
        (("jobs", "0a1b", "2c3d"), "one argument too many: '2c3d'\n  see mantisreed jobs --help"),
        (("run", "a.wav", "--help-group", "x"), "no group of options is called 'x'"),
    ],
)
def test_a_mistyped_name_is_told_with_what_it_may_have_meant(
    given: tuple[str, ...], told: str, mantisreed: Command
) -> None:
    result = mantisreed(*given)
    assert result.returncode == 2 and told in result.stderr


def test_the_help_of_to_names_every_format() -> None:
    named = FORMATS[0].help.partition(": ")[2].split(", ")
    assert sorted(named) == sorted(OUTPUT_FORMATS)


def test_each_option_says_what_it_does_with_a_capital_and_no_full_stop() -> None:
    from mantisreed.cli.main import _parser

    for command in COMMANDS:
        (commands,) = (
            action
            for action in _parser([command])._actions
            if isinstance(action, argparse._SubParsersAction)
        )
        for action in commands.choices[command]._actions:
            told = action.help or ""
            if action.option_strings and told != argparse.SUPPRESS:
                assert told[:1].isupper() and not told.endswith("."), (command, told)
