"""`mantisreed run`: recordings in, transcripts and subtitles out."""

import argparse
import sys

from mantisreed.cli.arguments import (
    add_pieces,
    add_report,
    add_sending,
    add_sources,
    run_options,
)
from mantisreed.cli.console import Console

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence
    from typing import Any

    from mantisreed.audio.workers import DecodingWorkers
    from mantisreed.errors import InputError
    from mantisreed.pipeline.options import RunOptions
    from mantisreed.pipeline.outcomes import Outcome
    from mantisreed.sources.recordings import Source
    from mantisreed.workspace import Workspace

EXAMPLES = """\
examples:
  arecord -f S16_LE -r 16000 | mantisreed run - --live --pause 1s
  mantisreed run recordings/ --language en --to srt,vtt --into subtitles --spend-limit 2.50
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `run` takes."""
    parser.epilog = EXAMPLES
    add_sources(parser)
    add_sending(parser)
    add_pieces(parser)
    add_report(parser)
    parser.add_argument(
        "--fill",
        action="store_true",
        help="write text, state, cost and more into the tables, where missing",
    )
    group = parser.add_argument_group("standard input (the source -)")
    group.add_argument(
        "--live", action="store_true", help="hear it as it comes; send each phrase at once"
    )
    group.add_argument(
        "--pause", metavar="DURATION", help="silence that ends a phrase (default: 0.6s)"
    )
    group.add_argument(
        "--pcm",
        metavar="RATE[:CHANNELS[:FORMAT]]",
        help="headerless sound, such as 48000:2:s24le (default: 16000)",
    )
    group.add_argument(
        "--name", metavar="NAME", help="what the recording is called, for its outputs"
    )
    group = parser.add_argument_group("without files")
    group.add_argument(
        "--stdout",
        action="store_true",
        help="print the text, or the format of --to, in place of writing files",
    )
    group.add_argument(
        "--no-keep",
        action="store_true",
        help="with --stdout: keep nothing on this machine but what it cost; no follow-ups",
    )
    parser.add_argument(
        "--publish-at",
        metavar="URL",
        help="write transcript tags for a feed whose transcripts are published there",
    )


def run(
    console: Console,
    *,
    sources: "Sequence[str]",
    as_json: bool = False,
    report: str | None = None,
    fill: bool = False,
    publish_at: str | None = None,
    live: bool = False,
    pause: str | None = None,
    pcm: str | None = None,
    name: str | None = None,
    stdout: bool = False,
    no_keep: bool = False,
    **options: "Any",
) -> int:
    """Run the pipeline and show what came out. 0 when every recording is done, 3 when some only
    wait, else 1.
    """
    for option, is_given in (("--stdout", stdout), ("--no-keep", no_keep)):
        if is_given and (live or fill or publish_at is not None or as_json):
            raise _wrong_use(option, "has no effect with --live, --fill, --publish-at or --json")
    if no_keep and not stdout:
        raise _wrong_use("--no-keep", "leaves nothing: --stdout prints the text")
    if stdout:
        from mantisreed.cli.printing import run_to_stdout

        return run_to_stdout(
            console, sources, name=name, report=report, keep=not no_keep, **options
        )
    if live:
        from mantisreed.cli.live import run_live

        if fill or list(sources) != ["-"]:
            raise _wrong_use("--live", "hears standard input: the only source is -")
        return run_live(
            console, pause=pause, pcm=pcm, name=name, as_json=as_json, report=report, **options
        )
    for option, given in (("--pause", pause), ("--pcm", pcm)):
        if given is not None:
            raise _wrong_use(option, "has no effect without --live")
    if "-" in sources:
        return _run_input(console, sources, name=name, as_json=as_json, report=report, **options)
    if name is not None:
        raise _wrong_use("--name", "has no effect without the source -")
    conflicts: list[str] = []
    if fill:
        outcomes, conflicts = _filled(console, sources, **options)
    else:
        outcomes = sent(console, sources, **options)

    from mantisreed.cli.outcomes import exit_code_of_tables, show_outcomes

    show_outcomes(console, outcomes, as_json=as_json, report=report)
    if publish_at is not None:
        _write_tags(console, outcomes, publish_at)
    return exit_code_of_tables(outcomes, conflicts)


def _wrong_use(option: str, what: str) -> "InputError":
    from mantisreed.errors import InputError

    return InputError(what, where=option)


def _run_input(
    console: Console,
    sources: "Sequence[str]",
    *,
    name: str | None,
    as_json: bool,
    report: str | None,
    **options: "Any",
) -> int:
    """Run with a whole recording from standard input among the sources."""
    from pathlib import Path

    from mantisreed.cli.outcomes import exit_code, show_outcomes
    from mantisreed.sources.finding import find_recordings
    from mantisreed.sources.streams import DEFAULT_NAME, drop_input, kept_input
    from mantisreed.workspace import open_workspace

    if sys.stdin.isatty():
        raise _wrong_use("-", "nothing is piped into standard input")
    config = options.get("config")
    hidden = open_workspace(Path(config) if config else None).hidden
    kept = kept_input(sys.stdin.buffer, hidden, name or DEFAULT_NAME)
    others = [source for source in sources if source != "-"]
    outcomes = sent(
        console,
        [kept, *find_recordings(others, on_note=lambda note: console.notes([note]))],
        **options,
    )
    for outcome in outcomes:
        if outcome.recording.key == kept.key and outcome.transcript is not None:
            drop_input(kept)
    show_outcomes(console, outcomes, as_json=as_json, report=report)
    return exit_code(outcomes)


def _write_tags(console: Console, outcomes: "Sequence[Outcome]", base: str) -> None:
    from mantisreed.files import printable
    from mantisreed.pipeline.episodes import write_tags

    folders = []
    for outcome in outcomes:
        folders.extend([path.parent for path in (outcome.files)])
    if not folders:
        console.note("no transcript to be published")
        return
    file = folders[0] / "transcript-tags.xml"
    count = write_tags(file, outcomes, base)
    console.note(f"tags of {count} transcripts are in {printable(file)}")


def _filled(
    console: Console, sources: "Sequence[str]", **options: "Any"
) -> "tuple[list[Outcome], list[str]]":
    """What became of the rows of tables that had no results; these are in the tables then, but for
    the conflicts that are told.
    """
    from mantisreed.cli.filling import Filling
    from mantisreed.errors import OutputError

    filling = Filling(sources, options.get("column"))
    if filling.done:
        console.note(f"{filling.done} rows have their results already")
    if not filling.missing:
        return [], []
    try:
        outcomes = sent(console, filling.missing, on_outcome=filling.take, **options)
    except BaseException:
        filling.write()  # what was known by now
        raise
    filling.finish(outcomes)
    for conflict in filling.conflicts:
        console.problem(OutputError(conflict, advice="its results are in the outputs"))
    return outcomes, filling.conflicts


def sent(
    console: Console,
    sources: "Sequence[str | Source]",
    *,
    wait: bool = True,
    on_outcome: "Callable[[Outcome], None] | None" = None,
    **given: "Any",
) -> "list[Outcome]":
    """What became of recordings that were sent as the arguments of `run` say, with progress
    shown.
    """
    from pathlib import Path

    from mantisreed.audio.workers import DecodingWorkers

    with DecodingWorkers() as workers:
        workers.warm_up()  # while the rest of the program is loading

        from mantisreed.workspace import open_workspace

        config = given.pop("config", None)
        workspace = open_workspace(Path(config) if config else None)
        options = run_options(workspace, wait=wait, **given)
        return transcribed(
            console, sources, workspace, options, workers=workers, on_outcome=on_outcome
        )


def transcribed(
    console: Console,
    sources: "Sequence[str | Source]",
    workspace: "Workspace",
    options: "RunOptions",
    *,
    workers: "DecodingWorkers | None" = None,
    on_outcome: "Callable[[Outcome], None] | None" = None,
) -> "list[Outcome]":
    """What became of recordings, with progress shown."""
    from mantisreed.cli.progress import Progress
    from mantisreed.pipeline.transcribe import transcribe

    _warn(console, workspace, options.engine)
    with Progress(console) as progress:
        return transcribe(
            sources,
            workspace,
            options,
            workers=workers,
            on_event=progress.show,
            on_outcome=on_outcome or (lambda outcome: None),
        )


def _warn(console: Console, workspace: "Workspace", engine: str | None) -> None:
    """Say what is not as it should be with the engine; rows of a table may name others."""
    from mantisreed.errors import InputError
    from mantisreed.pipeline.open_files import fitted

    try:
        card = workspace.engine(engine)
    except InputError:
        return  # whoever needs it tells
    for source in workspace.open_secrets(card):
        console.note(f"warning: others on this machine can read {source}; chmod 600 closes it")
    told = fitted(card)[1]
    if told:
        console.note(f"warning: {told}")
