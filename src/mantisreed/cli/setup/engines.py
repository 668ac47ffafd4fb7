"""`mantisreed engines`: list cards, show one, try one, check them, learn one from a sample."""

import json
import sys
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rich.text import Text

from mantisreed.cards.describing import described_card
from mantisreed.cli.console import Console, plain_table
from mantisreed.engines.card import EngineCard
from mantisreed.errors import InputError, SecretError
from mantisreed.files import printable
from mantisreed.settings import SETTINGS_FILE, user_settings_file
from mantisreed.sources.recordings import Source
from mantisreed.units import parse_duration, short_duration, short_size
from mantisreed.workspace import Workspace, open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `engines` is asked for; its arguments tell the same."""

    action: str | None = None
    config: str | None = None
    as_json: bool = False
    name: str | None = None
    clip: str | None = None
    language: str | None = None
    translate_to: str | None = None
    hints: Sequence[str] | None = None
    answer: str | None = None
    dry_run: bool = False
    sample: str = ""
    length: str | None = None
    operation: str | None = None
    add: str | None = None


def run(console: Console, asked: Arguments) -> int:
    """Do what the action says."""
    if asked.action == "learn":
        return _learn(console, asked)
    if asked.action == "check":
        return _check(console, asked.config, name=asked.name, as_json=asked.as_json)
    workspace = _opened(asked.config)
    if asked.action in (None, "list"):
        return _list(console, workspace, as_json=asked.as_json)
    if asked.action == "show":
        return _show(console, workspace, asked.name or "", as_json=asked.as_json)
    return _try(console, workspace, asked)


def _opened(config: str | None) -> Workspace:
    """The workspace; outside of one the cards that all workspaces share."""
    try:
        return open_workspace(config)
    except InputError:
        shared = user_settings_file()
        # Cards of the user's own settings are listed anywhere; a broken workspace is told.
        if config or not shared.is_file() or _is_in_a_workspace():
            raise
        return open_workspace(shared)


def _is_in_a_workspace() -> bool:
    here = Path.cwd()
    return any((folder / SETTINGS_FILE).is_file() for folder in (here, *here.parents))


def _list(console: Console, workspace: Workspace, *, as_json: bool) -> int:
    cards = [_facts(workspace, card) for card in workspace.engines.values()]
    if as_json:
        console.document({"engines": cards})
        return 0

    table = plain_table()
    headings = ["engine", "exchange", "takes", "price", "rate limit", "secrets"]
    # Where all come from one file, nobody asks from which.
    if len({facts["from"] for facts in cards}) > 1:
        headings.append("from")
    for heading in headings:
        table.add_column(heading, overflow="fold")
    for facts in cards:
        table.add_row(*(Text(str(facts[heading])) for heading in headings))
    console.table(table)
    return 0


def _facts(workspace: Workspace, card: EngineCard) -> dict[str, Any]:
    """One card, as `engines list` shows it."""
    accepts, limit = card.accepts, card.rate_limit
    if accepts.max_bytes:
        limits = [short_size(accepts.max_bytes)]
    else:
        limits = []
    limits += [short_duration(accepts.max_duration)]
    if accepts.language_names:
        limits.append(" ".join(accepts.language_names))
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


def _exchange(card: EngineCard) -> str:
    if not card.is_service:
        if card.command:
            return "program"
        return "object"
    if card.session:
        session = [card.session_name]
    else:
        session = []
    return " > ".join([*session, *(name for name, _ in card.sequence), card.reply.format])


def _show(console: Console, workspace: Workspace, name: str, *, as_json: bool) -> int:
    toml = described_card(workspace.engine(name))
    if as_json:
        toml = json.dumps(tomllib.loads(toml), ensure_ascii=False)
    console.result(toml.rstrip())
    return 0


def _try(console: Console, workspace: Workspace, asked: Arguments) -> int:
    # What speaks to engines takes long to import, and cards are listed and shown without it.
    from mantisreed.pipeline.options import RunOptions, transcription_options
    from mantisreed.pipeline.transcribe import check_links
    from mantisreed.workbench.trial import show_requests, try_answer, try_engine

    def show(heading: str, text: str) -> None:
        console.result(f"-- {heading}\n{text}\n")

    wanted = RunOptions(
        engine=asked.name,
        language=asked.language,
        translate_to=asked.translate_to,
        hints=asked.hints,
    )
    is_sent = asked.answer is None and not asked.dry_run
    options = transcription_options(workspace, wanted, needs_secrets=is_sent)
    sound = _bundled_clip()
    if asked.clip:
        sound = Path(asked.clip)
    if asked.dry_run:
        show_requests(options, sound, show)
        return 0
    if asked.answer is not None:
        reading = try_answer(options, _read(asked.answer), sound, show)
    else:
        check_links(workspace, options.card, [Source(sound)])
        reading = try_engine(workspace, options, sound, show)
    if reading.doubts:
        return 1
    return 0


def _bundled_clip() -> Path:
    from mantisreed.standin.bank import BUNDLED  # which decodes sound

    return BUNDLED / "en" / "ringer-010.opus"


def _check(console: Console, config: str | None, *, name: str | None, as_json: bool) -> int:
    from mantisreed.workbench.card_review import review_cards

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


def _learn(console: Console, asked: Arguments) -> int:
    from mantisreed.learning.proposing import LearningOptions, propose
    from mantisreed.workbench.card_review import add_card

    sample, add = asked.sample, asked.add
    seconds = None
    try:
        if asked.length:
            seconds = parse_duration(asked.length)
    except ValueError as error:
        raise InputError(str(error), where="--length") from error
    # A command as one argument, as it is copied from a page.
    is_command = sample.lstrip().startswith("curl ")
    if is_command:
        content = sample.encode()
    else:
        content = _read(sample)
    proposal = propose(content, LearningOptions(add or "engine", seconds, asked.operation))
    if add is None:
        console.result(proposal.toml.rstrip())
    else:
        file = add_card(Path(asked.config) if asked.config else None, add, proposal.toml)
        console.result(f"card {add!r} was written into {file}")
    for note in proposal.notes:
        console.note(f"note: {note}")
    return 0


def _read(file: str) -> bytes:
    if file == "-":
        return sys.stdin.buffer.read()
    try:
        return Path(file).read_bytes()
    except OSError as error:
        raise InputError("the file cannot be read", where=printable(file)) from error
