"""`mantisreed engines`: list cards, show one, try one, check them, learn one from a sample."""

import argparse

from mantisreed.cli.arguments import add_config
from mantisreed.cli.console import Console, plain_table

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path
    from typing import Any

    from mantisreed.engines.card import EngineCard
    from mantisreed.workspace import Workspace

EXAMPLES = """\
examples:
  mantisreed engines try brook note.wav --language en
  mantisreed engines learn request.txt --add brook
"""

_ACTIONS = {
    "list": (
        "List engine cards with what they take and cost, and whether their secrets are there",
        "examples:\n  mantisreed engines list\n  mantisreed engines list --json\n",
    ),
    "show": (
        "Print a whole card as TOML, with its profile applied",
        "examples:\n  mantisreed engines show brook\n  mantisreed engines show brook:quick "
        "--json\n",
    ),
    "try": (
        "Send a short recording; show each request, each answer, and what was found",
        "examples:\n  mantisreed engines try brook\n  mantisreed engines try brook note.wav --dry\n"
        "  mantisreed engines try brook --answer saved-reply.json\n",
    ),
    "check": (
        "Check cards without sending anything; list all problems",
        "examples:\n  mantisreed engines check\n  mantisreed engines check brook --json\n",
    ),
    "learn": (
        "Propose a card from a curl command, an OpenAPI document or a sample reply",
        "examples:\n  mantisreed engines learn request.txt --add brook\n"
        "  mantisreed engines learn openapi.yaml --operation transcribe\n"
        "  mantisreed engines learn saved-reply.json --engine brook --length 1:30\n",
    ),
}


def add_arguments(parser: argparse.ArgumentParser) -> "list[argparse.ArgumentParser]":
    """What `engines` takes; gives the parsers of its actions."""
    parser.epilog = EXAMPLES
    add_config(parser)
    parser.add_argument(
        "--json", action="store_true", dest="as_json", help="the list as JSON on stdout"
    )
    actions = parser.add_subparsers(dest="action", metavar="ACTION", title="actions")
    made = {}
    for name, (summary, examples) in _ACTIONS.items():
        made[name] = actions.add_parser(
            name,
            help=summary,
            description=summary,
            epilog=examples,
            formatter_class=parser.formatter_class,
        )
        add_config(made[name], default=argparse.SUPPRESS)
    for name in ("list", "show", "check"):
        made[name].add_argument(
            "--json",
            action="store_true",
            dest="as_json",
            default=argparse.SUPPRESS,
            help="JSON on stdout",
        )
    made["show"].add_argument("name", metavar="NAME", help="the card, or NAME:PROFILE")
    made["check"].add_argument("name", metavar="NAME", nargs="?", help="the card (default: all)")
    _add_try_arguments(made["try"])
    _add_learn_arguments(made["learn"])
    return list(made.values())


def _add_try_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="the card, or NAME:PROFILE")
    parser.add_argument(
        "clip", nargs="?", metavar="FILE", help="a short recording (default: a bundled one)"
    )
    parser.add_argument("--dry", action="store_true", help="show the requests; send nothing")
    parser.add_argument(
        "--answer", metavar="FILE", help="read this saved answer as the reply; send nothing"
    )
    parser.add_argument("--language", metavar="TAG", help="language spoken")
    parser.add_argument("--translate-to", metavar="TAG", help="language to answer in")
    parser.add_argument(
        "--hint", action="append", dest="hints", metavar="WORD", help="a word to expect"
    )


def _add_learn_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "sample",
        metavar="SAMPLE",
        help="a file, - for standard input, or a curl command as one argument",
    )
    parser.add_argument(
        "--engine", metavar="NAME", help="name for the proposed card (default: engine)"
    )
    parser.add_argument(
        "--length", metavar="DURATION", help="length of the sound that a sample reply answers"
    )
    parser.add_argument("--operation", metavar="ID", help="which operation of an OpenAPI document")
    parser.add_argument(
        "--add", metavar="NAME", help="write the card into the settings file under this name"
    )


def run(
    console: Console, *, action: str | None = None, config: str | None = None, **options: "Any"
) -> int:
    """Do what the action says."""
    if action == "learn":
        return _learn(console, config, **options)
    if action == "check":
        return _check(console, config, **options)
    workspace = _opened(config)
    if action in (None, "list"):
        return _list(console, workspace, as_json=options["as_json"])
    if action == "show":
        return _show(console, workspace, options["name"], as_json=options["as_json"])
    options.pop("as_json")
    return _try(console, workspace, **options)


def _opened(config: str | None) -> "Workspace":
    """The workspace; outside of one the cards that all workspaces share."""
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.workspace import open_workspace, user_settings_file

    try:
        return open_workspace(Path(config) if config else None)
    except InputError:
        shared = user_settings_file()
        if config or not shared.is_file() or _is_in_a_workspace():
            raise
        return open_workspace(shared)


def _is_in_a_workspace() -> bool:
    from pathlib import Path

    from mantisreed.workspace import SETTINGS_FILE

    here = Path.cwd()
    return any((folder / SETTINGS_FILE).is_file() for folder in (here, *here.parents))


def _list(console: Console, workspace: "Workspace", *, as_json: bool) -> int:
    cards = [_facts(workspace, card) for card in workspace.engines.values()]
    if as_json:
        console.document({"engines": cards})
        return 0
    from rich.text import Text

    table = plain_table()
    headings = ["engine", "exchange", "takes", "price", "rate limit", "secrets"]
    if len({facts["from"] for facts in cards}) > 1:
        headings.append("from")
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

    accepts, limit = card.accepts, card.rate_limit
    if accepts.max_bytes:
        limits = [short_size(accepts.max_bytes)]
    else:
        limits = []
    limits += [short_duration(accepts.max_duration)]
    if accepts.language_names:
        limits += [" ".join(accepts.language_names)]
    else:
        limits += []
    if limit:
        rate = f"{limit.requests} per {limit.window:g} s, "
    else:
        rate = ""
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
        "price": f"{card.price.per_minute} {card.price.currency}".strip() + " a minute"
        if card.price
        else "-",
        "rate limit": f"{rate}{card.max_concurrent} at once",
        "secrets": ", ".join(secrets) or "-",
        "from": workspace.origin_of(card),
    }


def _exchange(card: "EngineCard") -> str:
    if not card.is_service:
        if card.command:
            return "program"
        return "object"
    if card.session:
        session = [card.session_name]
    else:
        session = []
    return " > ".join([*session, *(name for name, _ in card.sequence), card.reply.format])


def _show(console: Console, workspace: "Workspace", name: str, *, as_json: bool) -> int:
    from mantisreed.cards.describing import described_card

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
    *,
    name: str,
    clip: str | None,
    language: str | None,
    translate_to: str | None,
    hints: "Sequence[str] | None",
    answer: str | None,
    dry: bool,
) -> int:
    from pathlib import Path

    from mantisreed.pipeline.options import RunOptions, transcription_options
    from mantisreed.pipeline.transcribe import check_links
    from mantisreed.pipeline.trial import show_requests, try_answer, try_engine
    from mantisreed.sources.recordings import Source

    def show(heading: str, text: str) -> None:
        console.result(f"-- {heading}\n{text}\n")

    wanted = RunOptions(engine=name, language=language, translate_to=translate_to, hints=hints)
    is_sent = answer is None and not dry
    options = transcription_options(workspace, wanted, needs_secrets=is_sent)
    if clip:
        sound = Path(clip)
    else:
        sound = _bundled_clip()
    if dry:
        show_requests(options, sound, show)
        return 0
    if answer is not None:
        reading = try_answer(options, _read(answer), sound, show)
    else:
        check_links(workspace, options.card, [Source(sound)])
        reading = try_engine(workspace, options, sound, show)
    if reading.doubts:
        return 1
    return 0


def _bundled_clip() -> "Path":
    from mantisreed.standin.bank import BUNDLED

    return BUNDLED / "en" / "ringer-010.opus"


def _check(console: Console, config: str | None, *, name: str | None, as_json: bool) -> int:
    from pathlib import Path

    from mantisreed.pipeline.card_review import review_cards

    reviews = review_cards(Path(config) if config else None, _bundled_clip(), name)
    if as_json:
        console.document(
            {"engines": [{"engine": one.engine, "problems": list(one.problems)} for one in reviews]}
        )
    for one in reviews if not as_json else ():
        console.result(f"{one.engine}: {'no problems found' if not one.problems else ''}".rstrip())
        for problem in one.problems:
            console.result(f"  {problem}")
    if any(one.problems for one in reviews):
        return 1
    return 0


def _learn(
    console: Console,
    config: str | None,
    *,
    sample: str,
    engine: str | None,
    length: str | None,
    operation: str | None,
    add: str | None,
    as_json: bool = False,
) -> int:
    from mantisreed.errors import InputError
    from mantisreed.learning.proposing import LearningOptions, propose
    from mantisreed.units import parse_duration

    try:
        if length:
            seconds = parse_duration(length)
        else:
            seconds = None
    except ValueError as error:
        raise InputError(str(error), where="--length") from error
    is_command = sample.lstrip().startswith("curl ")
    if is_command:
        content = sample.encode()
    else:
        content = _read(sample)
    proposal = propose(content, LearningOptions(add or engine or "engine", seconds, operation))
    if add is None:
        console.result(proposal.toml.rstrip())
    else:
        from pathlib import Path

        from mantisreed.pipeline.card_review import add_card

        file = add_card(Path(config) if config else None, add, proposal.toml)
        console.result(f"card {add!r} was written into {file}")
    for note in proposal.notes:
        console.note(f"note: {note}")
    return 0


def _read(file: str) -> bytes:
    import sys
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.files import printable

    if file == "-":
        return sys.stdin.buffer.read()
    try:
        return Path(file).read_bytes()
    except OSError as error:
        raise InputError("the file cannot be read", where=printable(file)) from error
