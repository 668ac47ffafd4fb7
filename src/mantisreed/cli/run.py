"""`mantisreed run`: recordings in, transcripts and subtitles out."""

import argparse

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
    from collections.abc import Sequence
    from typing import Any

    from mantisreed.pipeline.outcomes import Outcome

EXAMPLES = """\
examples:
  mantisreed run note.wav --engine brook
  mantisreed run recordings/ --language en --to srt,vtt --into subtitles --spend-limit 2.50
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `run` takes."""
    parser.epilog = EXAMPLES
    add_sources(parser)
    add_sending(parser)
    add_pieces(parser)
    add_report(parser)


def run(
    console: Console, *, sources: "Sequence[str]", as_json: bool = False, report: str | None = None, **options: object
) -> int:
    """Run the pipeline and show what came out. 0 when every recording is done, 3 when some only wait, else 1."""
    outcomes = sent(console, sources, **options)  # type: ignore[arg-type]

    from mantisreed.cli.outcomes import exit_code, show_outcomes

    show_outcomes(console, outcomes, as_json=as_json, report=report)
    return exit_code(outcomes)


def sent(console: Console, sources: "Sequence[str]", *, wait: bool = True, **given: "Any") -> "list[Outcome]":
    """What became of recordings that were sent as the arguments of `run` say, with progress shown."""
    from pathlib import Path

    from mantisreed.audio.workers import DecodingWorkers

    with DecodingWorkers() as workers:
        workers.warm_up()  # while the rest of the program is loading

        from mantisreed.cli.progress import Progress
        from mantisreed.pipeline.open_files import fitted
        from mantisreed.pipeline.transcribe import transcribe
        from mantisreed.workspace import open_workspace

        config = given.pop("config", None)
        workspace = open_workspace(Path(config) if config else None)
        for source in workspace.open_secrets(workspace.engine(given.get("engine"))):
            console.note(f"warning: others on this machine can read {source}; chmod 600 closes it")
        told = fitted(workspace.engine(given.get("engine")))[1]
        if told:
            console.note(f"warning: {told}")
        options = run_options(workspace, wait=wait, **given)
        with Progress(console) as progress:
            return transcribe(sources, workspace, options, workers=workers, on_event=progress.show)
