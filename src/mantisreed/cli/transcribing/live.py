"""`mantisreed run - --live`: a line for each phrase as it is understood, and subtitles that
grow.
"""

import sys
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, show_problems, write_report
from mantisreed.cli.transcribing.run_arguments import Arguments
from mantisreed.errors import InputError
from mantisreed.options import PIECES
from mantisreed.pipeline.incoming.live import DEFAULT_PAUSE, LiveOptions, PhraseOutcome, listen
from mantisreed.pipeline.options_given import run_options
from mantisreed.sources.streams import StreamFormat
from mantisreed.units import clock, duration_given
from mantisreed.workspace import open_workspace

_SHORTEST_PAUSE = 0.2  # seconds; within words there are shorter ones


def run_live(console: Console, asked: Arguments) -> int:
    """Hear standard input to its end. 1 when a phrase has no answer, else 0."""
    if sys.stdin.isatty():
        raise InputError(
            "standard input is a terminal: pipe a recording into it",
            where="-",
            advice="RECORDER | mantisreed run - --live",
        )
    silence = duration_given(asked.pause, "--pause")
    if silence is not None and silence < _SHORTEST_PAUSE:
        raise InputError(f"a pause has to last {_SHORTEST_PAUSE:g} s or more", where="--pause")
    # A phrase is one piece of one channel.
    of_pieces = {option.name for option in PIECES}
    # Their defaults are those of files.
    given = {name: value for name, value in asked.options.items() if name not in of_pieces}
    workspace = open_workspace(asked.options.get("config"))
    options = run_options(workspace, given)
    if options.second_opinion is not None:
        raise InputError(
            "has no effect with --live: phrases are written as they come", where="--second-opinion"
        )
    if options.writing is not None and options.writing.redaction is not None:
        raise InputError(
            "a phrase is written before it is known what is said around it, so that nothing is "
            "hidden in it",
            where="--redact",
            advice="run it without --live, or `mantisreed redact` afterwards",
        )
    form = None
    if asked.pcm is not None:
        form = StreamFormat.named(asked.pcm)
    live = LiveOptions(DEFAULT_PAUSE if silence is None else silence, form=form, name=asked.name)

    def tell(phrase: PhraseOutcome) -> None:
        _tell(console, phrase, as_json=asked.as_json)

    def tell_text(start: float, text: str) -> None:
        if asked.as_json:
            console.document({"start": round(start, 3), "state": "hearing", "text": text})
        else:
            console.note(f"{clock(start)}  {text} …")

    console.note("listening; Ctrl-C ends it and writes all files")
    heard = listen(sys.stdin.buffer, workspace, options, live, tell, tell_text)
    if asked.report is not None:
        write_report(asked.report, [heard.outcome])
    counted = (
        f"{heard.phrases} {'phrase' if heard.phrases == 1 else 'phrases'} in {heard.seconds:.0f} s"
    )
    console.note(f"{counted}{f', {heard.failed} without a reply' if heard.failed else ''}")
    show_problems(console, [heard.outcome])
    return exit_code([heard.outcome])


def _tell(console: Console, phrase: PhraseOutcome, *, as_json: bool) -> None:
    """A line for a phrase: its time, and what was said, or why there is nothing."""
    text = " ".join(passage.text for passage in phrase.passages)
    if as_json:
        told: dict[str, Any] = {
            "start": round(phrase.start, 3),
            "end": round(phrase.end, 3),
            "state": phrase.state,
        }
        if phrase.state == "done":
            told["text"] = text
        if phrase.error:
            told["error"] = str(phrase.error)
        console.document(told)
        return
    if phrase.state == "done":
        said = text
    else:
        said = f"({phrase.state}{f': {phrase.error}' if phrase.error else ''})"
    console.result(f"{clock(phrase.start)}  {said}")
