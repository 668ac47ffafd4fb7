"""`mantisreed run`: recordings in, transcripts and subtitles out."""

import sys
from typing import TYPE_CHECKING, Any

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.cli.console import Console
from mantisreed.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from mantisreed.pipeline.outcomes import Outcome
    from mantisreed.sources.recordings import Source


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
    **options: Any,
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
        from mantisreed.cli.transcribing.printing import run_to_stdout

        return run_to_stdout(
            console, sources, name=name, report=report, keep=not no_keep, **options
        )
    if live:
        from mantisreed.cli.transcribing.live import run_live

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


def _wrong_use(option: str, what: str) -> InputError:
    return InputError(what, where=option)


def _run_input(
    console: Console,
    sources: "Sequence[str]",
    *,
    name: str | None,
    as_json: bool,
    report: str | None,
    **options: Any,
) -> int:
    """Run with a whole recording from standard input among the sources."""
    from mantisreed.cli.outcomes import exit_code, show_outcomes
    from mantisreed.sources.finding import find_recordings
    from mantisreed.sources.streams import DEFAULT_NAME, drop_input, kept_input
    from mantisreed.workspace import open_workspace

    if sys.stdin.isatty():
        raise _wrong_use("-", "nothing is piped into standard input")
    config = options.get("config")
    hidden = open_workspace(config).hidden
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
    console: Console, sources: "Sequence[str]", **options: Any
) -> "tuple[list[Outcome], list[str]]":
    """What became of the rows of tables that had no results; these are in the tables then, but for
    the conflicts that are told.
    """
    from mantisreed.cli.transcribing.filling import Filling
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
    **given: Any,
) -> "list[Outcome]":
    """What became of recordings that were sent as the arguments say, with progress shown."""
    with DecodingWorkers() as workers:
        # The workers start while the rest of the program is loading, which is why it loads here.
        workers.warm_up()
        from mantisreed.cli.transcribing.sending import send

        return send(console, sources, given, wait=wait, workers=workers, on_outcome=on_outcome)
