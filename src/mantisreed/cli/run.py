"""`mantisreed run`: recordings in, transcripts and subtitles out."""

import argparse

from mantisreed.cli.arguments import add_engine, add_pieces, add_sources, piece_options
from mantisreed.cli.console import Console, described_error, plain_table

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any

    from mantisreed.pipeline.run import Outcome

_LARGE = 4_000_000  # bytes: some minutes, however it is encoded

EXAMPLES = """\
examples:
  mantisreed run note.wav --engine brook
  mantisreed run recordings/ --language en --to srt,vtt --into subtitles
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `run` takes."""
    parser.epilog = EXAMPLES
    add_sources(parser)
    add_engine(parser)
    add_pieces(parser)
    parser.add_argument("--language", metavar="TAG", help="language spoken, such as en or de-AT (default: any)")
    parser.add_argument("--translate-to", metavar="TAG", help="answer in this language, where the engine can")
    parser.add_argument("--hint", action="append", dest="hints", metavar="WORD", help="a name or rare word to expect")
    parser.add_argument("--to", metavar="FORMATS", help="output formats, of txt,srt,vtt,json (default: all)")
    parser.add_argument("--into", metavar="DIR", help="folder for outputs (default: transcripts/ by the settings)")
    parser.add_argument("--replace", action="store_true", help="overwrite outputs that were edited")
    parser.add_argument(
        "--afresh", action="store_true", help="ask again, and pay again, for what was answered before"
    )
    parser.add_argument("--json", action="store_true", dest="as_json", help="results as JSON on stdout")


def run(
    console: Console,
    *,
    sources: "Sequence[str]",
    config: str | None = None,
    engine: str | None = None,
    language: str | None = None,
    translate_to: str | None = None,
    hints: "Sequence[str] | None" = None,
    to: str | None = None,
    into: str | None = None,
    track: int | None = None,
    channels: str | None = None,
    piece_length: str | None = None,
    overlap: str | None = None,
    keep_silence: bool = False,
    replace: bool = False,
    afresh: bool = False,
    as_json: bool = False,
) -> int:
    """Run the pipeline and show what came out. 0 when every recording is done, 3 when some only wait, else 1."""
    from pathlib import Path

    from mantisreed.audio.workers import DecodingWorkers

    workers = DecodingWorkers()
    if any(_is_large(source) for source in sources):
        workers.warm_up()  # while the rest of the program is loading

    from mantisreed.cli.progress import Progress
    from mantisreed.pipeline.transcribe import transcribe
    from mantisreed.workspace import open_workspace

    workspace = open_workspace(Path(config) if config else None)
    for source in workspace.open_secrets(workspace.engine(engine)):
        console.note(f"warning: others on this machine can read {source}; chmod 600 closes it")
    with Progress(console) as progress:
        outcomes = transcribe(
            sources,
            workspace,
            engine=engine,
            language=language,
            translate_to=translate_to,
            hints=hints,
            to=None if to is None else [name.strip() for name in to.split(",") if name.strip()],
            into=into,
            pieces=piece_options(track, channels, piece_length, overlap, keep_silence),
            replace=replace,
            afresh=afresh,
            workers=workers,
            on_event=progress.show,
        )
    _show(console, outcomes, as_json=as_json)
    states = {outcome.state for outcome in outcomes} - {"done", "nothing heard"}
    return 0 if not states else 3 if states == {"waiting"} else 1


def _show(console: Console, outcomes: "Sequence[Outcome]", *, as_json: bool) -> None:
    """What came out to stdout; what went wrong, and the last line, to stderr."""
    if as_json:
        console.document({"recordings": [_described(outcome) for outcome in outcomes]})
    elif any(outcome.transcript for outcome in outcomes):
        console.note("")
        console.table(_table(outcomes))
    for outcome in outcomes:
        if outcome.error:
            console.problem(outcome.error, outcome.recording.shown)
    console.note(_last_line(outcomes))


def _is_large(source: str) -> bool:
    """Whether this is surely a long recording."""
    import os

    try:
        return os.path.getsize(source) > _LARGE  # noqa: PTH202 - Path takes longer to import
    except (OSError, ValueError):
        return False


def _described(outcome: "Outcome") -> "dict[str, Any]":
    """One recording of `--json`."""
    from mantisreed.files import shown

    described: dict[str, Any] = {"recording": outcome.recording.shown, "state": outcome.state}
    if transcript := outcome.transcript:
        described |= {
            "duration": transcript.recording.duration,
            "engine": transcript.engine,
            "language": transcript.language,
            "words": len(transcript.words),
            "confidence": _rounded(transcript.mean_confidence),
            "files": [shown(path) for path in outcome.files],
            "notes": transcript.notes,
        }
    if outcome.error:
        described["error"] = described_error(outcome.error)
    return described


def _rounded(confidence: float | None) -> float | None:
    return None if confidence is None else round(confidence, 3)


def _table(outcomes: "Sequence[Outcome]") -> object:
    from rich.text import Text

    from mantisreed.units import short_duration

    table = plain_table()
    for heading, side in (("recording", "left"), ("length", "right"), ("engine", "left"), ("language", "left")):
        table.add_column(heading, justify=side, overflow="fold")  # type: ignore[arg-type]
    table.add_column("words", justify="right")
    table.add_column("confidence", justify="right")
    table.add_column("files", overflow="fold")
    for outcome in outcomes:
        if not outcome.transcript:
            continue
        confidence = outcome.transcript.mean_confidence
        table.add_row(
            Text(outcome.recording.name),
            short_duration(outcome.transcript.recording.duration),
            outcome.transcript.engine,
            outcome.transcript.language or "-",
            str(len(outcome.transcript.words)) if outcome.state != "nothing heard" else "none heard",
            "-" if confidence is None else f"{confidence:.2f}",
            " ".join(path.suffix.removeprefix(".") for path in outcome.files),
        )
    return table


def _last_line(outcomes: "Sequence[Outcome]") -> str:
    from mantisreed.files import shown

    states = [outcome.state for outcome in outcomes]
    counts = ", ".join(
        f"{states.count(state)} {state}"
        for state in ("done", "nothing heard", "incomplete", "waiting", "failed")
        if state in states
    )
    folders = dict.fromkeys(shown(path.parent) for outcome in outcomes for path in outcome.files)
    return f"{counts}; files are in {', '.join(folders)}" if folders else counts
