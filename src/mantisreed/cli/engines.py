"""`mantisreed engines`: list cards, show one, try one, learn one from a sample."""

import argparse

from mantisreed.cli.arguments import add_config
from mantisreed.cli.console import Console, plain_table

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

    from mantisreed.engines.card import EngineCard
    from mantisreed.workspace import Workspace

EXAMPLES = """\
examples:
  mantisreed engines try brook note.wav --language en
  mantisreed engines learn saved-reply.json --engine brook --length 1:30
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `engines` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument("action", nargs="?", choices=("list", "show", "try", "learn"), default="list")
    parser.add_argument("name", nargs="?", help="the card, or NAME:PROFILE; for learn the file with the sample reply")
    parser.add_argument("clip", nargs="?", metavar="FILE", help="for try: a short recording (default: a bundled one)")
    add_config(parser)
    parser.add_argument("--dry", action="store_true", help="for try: show the requests, send nothing")
    parser.add_argument("--language", metavar="TAG", help="for try: language spoken")
    parser.add_argument("--translate-to", metavar="TAG", help="for try: language to answer in")
    parser.add_argument("--hint", action="append", dest="hints", metavar="WORD", help="for try: a word to expect")
    parser.add_argument("--engine", metavar="NAME", help="for learn: name for the proposed table (default: engine)")
    parser.add_argument("--length", metavar="DURATION", help="for learn: length of the sound that the sample answers")
    parser.add_argument("--json", action="store_true", dest="as_json", help="for list and show: JSON on stdout")


def run(
    console: Console,
    *,
    action: str = "list",
    name: str | None = None,
    clip: str | None = None,
    config: str | None = None,
    dry: bool = False,
    language: str | None = None,
    translate_to: str | None = None,
    hints: "Sequence[str] | None" = None,
    engine: str | None = None,
    length: str | None = None,
    as_json: bool = False,
) -> int:
    """Do what the action says."""
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.workspace import open_workspace

    if action == "learn":
        return _learn(console, name, engine or "engine", length)
    workspace = open_workspace(Path(config) if config else None)
    if action == "list":
        return _list(console, workspace, as_json=as_json)
    if name is None:
        raise InputError(
            f"engines {action} needs the name of a card", advice=f"it has: {', '.join(workspace.engines)}"
        )
    if action == "show":
        return _show(console, workspace, name, as_json=as_json)
    return _try(console, workspace, name, clip, language, translate_to, hints, dry=dry)


def _list(console: Console, workspace: "Workspace", *, as_json: bool) -> int:
    cards = [_facts(workspace, card) for card in workspace.engines.values()]
    if as_json:
        console.document({"engines": cards})
        return 0
    from rich.text import Text

    table = plain_table()
    headings = ("engine", "exchange", "takes", "price", "pace", "secrets")
    for heading in headings:
        table.add_column(heading, overflow="fold")
    for facts in cards:
        table.add_row(*(Text(str(facts[heading])) for heading in headings))
    console.table(table)
    return 0


def _facts(workspace: "Workspace", card: "EngineCard") -> "dict[str, Any]":
    """One card, as `engines list` shows it."""
    from mantisreed.errors import SecretError
    from mantisreed.units import short_duration, short_size

    accepts, pace = card.accepts, card.pace
    limits = [short_size(accepts.most_bytes)] if accepts.most_bytes else []
    limits += [short_duration(accepts.longest)]
    limits += [" ".join(accepts.language_names)] if accepts.language_names else []
    rate = f"{pace.requests} per {pace.window:g} s, " if pace.requests else ""
    secrets = []
    for key, source in card.secrets.items():
        try:
            source.read(workspace.folder)
            secrets.append(f"{key} is there")
        except SecretError:
            secrets.append(f"{key} is MISSING ({source})")
    return {
        "engine": card.name,
        "about": card.about,
        "exchange": _exchange(card),
        "takes": ", ".join([" ".join(accepts.formats), *limits]),
        "price": f"{card.price.per_minute} {card.price.currency}".strip() + " a minute" if card.price else "-",
        "pace": f"{rate}{pace.at_once} at once",
        "secrets": ", ".join(secrets) or "-",
    }


def _exchange(card: "EngineCard") -> str:
    if card.command or card.python:
        return "program" if card.command else "object"
    return " > ".join([*(["token"] if card.token else []), *(name for name, _ in card.steps), card.reply.kind])


def _show(console: Console, workspace: "Workspace", name: str, *, as_json: bool) -> int:
    from mantisreed.engines.describing import described_card

    toml = described_card(workspace.engine(name))
    if as_json:
        import json
        import tomllib

        toml = json.dumps(tomllib.loads(toml), ensure_ascii=False)
    console.result(toml.rstrip())
    return 0


def _try(
    console: Console,
    workspace: "Workspace",
    name: str,
    clip: str | None,
    language: str | None,
    translate_to: str | None,
    hints: "Sequence[str] | None",
    *,
    dry: bool,
) -> int:
    from pathlib import Path

    from mantisreed.pipeline.options import RunOptions, transcription_options
    from mantisreed.pipeline.sources import Source
    from mantisreed.pipeline.transcribe import check_links
    from mantisreed.pipeline.trial import show_requests, try_engine
    from mantisreed.standin.bank import BUNDLED

    def show(heading: str, text: str) -> None:
        console.result(f"-- {heading}\n{text}\n")

    wanted = RunOptions(engine=name, language=language, translate_to=translate_to, hints=hints)
    options = transcription_options(workspace, wanted)
    sound = Path(clip) if clip else BUNDLED / "en" / "ringer-010.opus"
    if dry:
        show_requests(options, sound, show)
        return 0
    check_links(workspace, options.card, [Source(sound)])
    try_engine(workspace, options, sound, show)
    return 0


def _learn(console: Console, sample: str | None, engine: str, length: str | None) -> int:
    from pathlib import Path

    from mantisreed.engines.learning import propose
    from mantisreed.errors import InputError
    from mantisreed.files import printable
    from mantisreed.units import parse_duration

    if sample is None:
        raise InputError(
            "engines learn needs a file with a sample reply", advice="save one whole reply of the engine"
        )
    try:
        content = Path(sample).read_bytes()
        seconds = parse_duration(length) if length else None
    except OSError as error:
        raise InputError("the sample cannot be read", where=printable(sample)) from error
    except ValueError as error:
        raise InputError(str(error), where="--length") from error
    console.result(propose(content, seconds).toml(engine).rstrip())
    return 0
