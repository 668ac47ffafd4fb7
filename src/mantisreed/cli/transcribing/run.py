"""`mantisreed run`: recordings in, transcripts and subtitles out."""

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.cli.console import Console
from mantisreed.cli.transcribing.run_arguments import Arguments
from mantisreed.errors import InputError
from mantisreed.units import count_of

if TYPE_CHECKING:
    from collections.abc import Callable

    from mantisreed.pipeline.outcomes import Outcome
    from mantisreed.sources.recordings import Source


def run(console: Console, asked: Arguments) -> int:
    """Run the pipeline and show what came out. 0 when every recording is done, 3 when some only
    wait, else 1.
    """
    _check_use(asked)
    if asked.stdout:
        from mantisreed.cli.transcribing.printing import run_to_stdout

        return run_to_stdout(console, asked)
    if asked.live:
        from mantisreed.cli.transcribing.live import run_live

        return run_live(console, asked)

    from mantisreed.cli.outcomes import exit_code_of_tables, show_outcomes

    conflicts: list[str] = []
    if "-" in asked.sources:
        outcomes = _with_input(console, asked)
    elif asked.fill:
        outcomes, conflicts = _filled(console, asked.sources, **asked.options)
    else:
        outcomes = sent(console, asked.sources, **asked.options)
    show_outcomes(console, outcomes, as_json=asked.as_json, report=asked.report)
    if asked.publish_at is not None:
        _write_tags(console, outcomes, asked.publish_at)
    return exit_code_of_tables(outcomes, conflicts)


def _check_use(asked: Arguments) -> None:
    """See that arguments go together.

    Raises:
        InputError: one has no effect with the others.
    """
    elsewhere = asked.live or asked.fill or asked.publish_at is not None or asked.as_json
    no_effect = "has no effect with --live, --fill, --publish-at or --json"
    is_input = "-" in asked.sources
    is_only_input = list(asked.sources) == ["-"]
    # The first that is true is told.
    rows = (
        (asked.stdout and elsewhere, "--stdout", no_effect),
        (asked.no_keep and elsewhere, "--no-keep", no_effect),
        (
            asked.no_keep and not asked.stdout,
            "--no-keep",
            "leaves nothing: --stdout prints the text",
        ),
        (
            asked.live and (asked.fill or not is_only_input),
            "--live",
            "hears standard input: the only source is -",
        ),
        (asked.pause is not None and not asked.live, "--pause", "has no effect without --live"),
        (asked.pcm is not None and not asked.live, "--pcm", "has no effect without --live"),
        (asked.name is not None and not is_input, "--name", "has no effect without the source -"),
        (asked.fill and is_input, "--fill", "has no effect with the source -"),
    )
    for is_wrong, option, what in rows:
        if is_wrong:
            raise InputError(what, where=option)


def _with_input(console: Console, asked: Arguments) -> "list[Outcome]":
    """What became of recordings, a whole one from standard input among them."""
    from mantisreed.sources.finding import find_recordings
    from mantisreed.sources.streams import DEFAULT_NAME, drop_input, kept_input
    from mantisreed.workspace import open_workspace

    if sys.stdin.isatty():
        raise InputError("standard input is a terminal: pipe a recording into it", where="-")
    hidden = open_workspace(asked.options.get("config")).hidden
    kept = kept_input(sys.stdin.buffer, hidden, asked.name or DEFAULT_NAME)
    others = [source for source in asked.sources if source != "-"]
    found = find_recordings(others, on_note=lambda note: console.notes([note]))
    outcomes = sent(console, [kept, *found], **asked.options)
    for outcome in outcomes:
        if outcome.recording.key == kept.key and outcome.transcript is not None:
            drop_input(kept)
    return outcomes


def _write_tags(console: Console, outcomes: "Sequence[Outcome]", base: str) -> None:
    from mantisreed.files import printable
    from mantisreed.pipeline.episodes import write_tags

    folders = []
    for outcome in outcomes:
        folders.extend([path.parent for path in outcome.files])
    if not folders:
        console.note("no transcript to be published")
        return
    file = folders[0] / "transcript-tags.xml"
    count = write_tags(file, outcomes, base)
    console.note(f"tags of {count_of(count, 'transcript')} are in {printable(file)}")


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
        have = "has its" if filling.done == 1 else "have their"
        console.note(f"{count_of(filling.done, 'row')} {have} results already")
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
