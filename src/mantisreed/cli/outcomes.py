"""What became of recordings: as a table, as JSON, as a report in CSV, and the last line that says
what to do.
"""

import csv
import io
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from copy import copy
from datetime import datetime
from decimal import Decimal
from itertools import chain
from pathlib import Path
from typing import Any

import rich.table
from rich.text import Text

from mantisreed.cli.console import Console, described_error, plain_table
from mantisreed.destinations.stored_outputs import shown_folder
from mantisreed.errors import InterruptedRunError, MantisreedError
from mantisreed.exports.tables import harmless_cell
from mantisreed.files import printable, write_whole
from mantisreed.jobs.budget import money_text
from mantisreed.pipeline.outcomes import Outcome, State
from mantisreed.pipeline.results import FollowUpOutcome
from mantisreed.units import short_duration

_STATES: tuple[State, ...] = (
    "done",
    "no speech",
    "incomplete",
    "suspect",
    "working",
    "waiting",
    "failed",
)
_REPORT = (
    *(
        "recording",
        "job",
        "engine",
        "state",
        "length_s",
        "language",
        "words",
        "confidence",
        "doubts",
        "billed_s",
        "cost",
        "reported_s",
        "reported_cost",
    ),
    *("currency", "unconfirmed_attempts", "files", "changes", "error", "advice"),
)


def show_outcomes(
    console: Console,
    outcomes: Sequence[Outcome],
    *,
    as_json: bool = False,
    report: str | None = None,
) -> None:
    """What came out to stdout; what went wrong, and the last line, to stderr; all of it to the
    report.
    """
    if report is not None:
        write_report(report, outcomes)
    if as_json:
        console.document({"recordings": list(map(_described, outcomes))})
    elif any(outcome.transcript for outcome in outcomes):
        console.note("")
        console.table(_table(outcomes))
    show_problems(console, outcomes)


def show_problems(console: Console, outcomes: Sequence[Outcome]) -> None:
    """What went wrong, each reason to wait once, and the last line."""
    waiting: dict[str, list[Outcome]] = {}
    for outcome in outcomes:
        for remark in outcome.remarks:
            console.note(f"note: {remark}")
        for change in described_changes(outcome.changes):
            console.note(f"note: {outcome.recording.name}: {change}")
        if outcome.error and outcome.state == "waiting":
            waiting.setdefault(str(outcome.error), []).append(outcome)
        elif outcome.error:
            console.problem(outcome.error, outcome.recording.label)
        # Also of recordings that are done: their text is there, and not where it should be.
        for problem in problems_of_follow_ups(outcome):
            console.problem(problem)
    # A thousand recordings that wait for one engine have one reason.
    for alike in waiting.values():
        error = alike[0].error
        assert error is not None
        if len(alike) == 1:
            about = alike[0].recording.label
        else:
            about = f"{len(alike)} recordings wait"
        console.problem(error, about)
    console.note(last_line(outcomes))


def problems_of_follow_ups(outcome: Outcome) -> list[MantisreedError]:
    """What went wrong with what was to be done after a transcript, with the recording's name."""
    problems = []
    for followed in outcome.follow_ups:
        if followed.error is not None:
            error = copy(followed.error)
            error.where = ": ".join(
                filter(None, (outcome.recording.label, followed.name, followed.error.where))
            )
            problems.append(error)
    return problems


def exit_code(outcomes: Iterable[Outcome]) -> int:
    """0 when everything is done, 130 when the user stopped it, 3 when some only wait, else 1."""
    outcomes = list(outcomes)
    # First: whatever else happened, somebody wanted it to stop here.
    if any(isinstance(outcome.error, InterruptedRunError) for outcome in outcomes):
        return 130
    states: set[str] = {str(outcome.state) for outcome in outcomes} - {"done", "no speech"}
    followed = chain.from_iterable(outcome.follow_ups for outcome in outcomes)
    states |= {str(one.state) for one in followed} - {"done"}
    if not states:
        return 0
    if states <= {"waiting", "working"}:
        return 3
    return 1


def exit_code_of_tables(outcomes: Iterable[Outcome], conflicts: Sequence[str]) -> int:
    """The same for tables that were filled in; 1 also where a result had no place."""
    return exit_code(outcomes) or int(bool(conflicts))


def write_report(file: str, outcomes: Sequence[Outcome]) -> None:
    """A CSV file (RFC 4180, UTF-8) with a row for each recording.

    Raises:
        OutputError: it cannot be written.
    """
    sink = io.StringIO(newline="")
    rows = csv.DictWriter(sink, _REPORT)
    rows.writeheader()
    for outcome in outcomes:
        row = _row(outcome)
        for key, value in row.items():
            if isinstance(value, str):
                row[key] = harmless_cell(value)  # a name may begin as a formula does
        rows.writerow(row)
    write_whole(Path(file), sink.getvalue().encode())


def last_line(outcomes: Sequence[Outcome]) -> str:
    """How many ended how, until when some wait, what is unconfirmed, and where the files are."""
    line = _counted_states(outcomes) or "no job to do anything about"
    line += _counted_doubts(outcomes) + _counted_follow_ups(outcomes)
    files = chain.from_iterable(outcome.files for outcome in outcomes)
    folders = dict.fromkeys(shown_folder(_near(path.parent)) for path in files)
    if folders:
        return f"{line}; files are in {', '.join(folders)}"
    return line


def _counted_states(outcomes: Sequence[Outcome]) -> str:
    """How many ended how, in an order from good to bad."""
    counts = Counter(outcome.state for outcome in outcomes)
    parts = [f"{counts[state]} {state}" for state in _STATES if counts[state]]
    # Only what an engine has asked for has a moment; the last one is when the command is worth
    # repeating for all.
    moments = [getattr(outcome.error, "until", None) for outcome in outcomes]
    if last := max(filter(None, moments), default=None):
        until = f" until {_moment(last)}"
        parts = [part + until if part.endswith("waiting") else part for part in parts]
    return ", ".join(parts)


def _counted_doubts(outcomes: Sequence[Outcome]) -> str:
    """How many requests may be charged for though nobody knows what became of them."""
    doubts = sum(outcome.job.unconfirmed for outcome in outcomes if outcome.job)
    if not doubts:
        return ""
    requests = "1 request is" if doubts == 1 else f"{doubts} requests are"
    return f"; {requests} unconfirmed and may be charged for, see `mantisreed jobs ID`"


def _counted_follow_ups(outcomes: Sequence[Outcome]) -> str:
    """How many follow-ups ended how, and what was sent to text services for them."""
    followed = list(chain.from_iterable(outcome.follow_ups for outcome in outcomes))
    if not followed:
        return ""
    states = Counter(one.state for one in followed)
    parts = ", ".join(f"{count} {state}" for state, count in states.items())
    characters = sum(one.tally.characters for one in followed)
    if not characters:  # everything was delivered, or answered before
        return f"; follow-ups: {parts}"
    words = sum(one.tally.words for one in followed)
    costs: dict[str | None, Decimal] = {}
    for one in followed:
        if one.tally.cost is not None:
            # Services may charge in different money, which cannot be added.
            known = costs.get(one.tally.currency, Decimal(0))
            costs[one.tally.currency] = known + one.tally.cost
    asked = [f"{characters} characters", f"{words} words to text services"]
    asked += [money_text(cost, currency) for currency, cost in costs.items()]
    return f"; follow-ups: {parts} ({', '.join(asked)})"


def _moment(seconds: float) -> str:
    moment = datetime.fromtimestamp(seconds)
    is_today = moment.date() == datetime.now().date()
    return moment.strftime("%H:%M:%S" if is_today else "%Y-%m-%d %H:%M")


def _near(folder: Path) -> Path:
    """The same folder, named from here if it is below: what a user sees is what can be typed."""
    here = Path.cwd()
    if folder.is_absolute() and folder.is_relative_to(here):
        return folder.relative_to(here)
    return folder


def _described(outcome: Outcome) -> dict[str, Any]:
    """One recording of `--json`."""
    described: dict[str, Any] = {"recording": outcome.recording.label, "state": outcome.state}
    if outcome.job:
        described["job"] = outcome.job.id
    if transcript := outcome.transcript:
        described |= {
            "duration": transcript.recording.duration,
            "engine": transcript.engine,
            "language": transcript.language,
            "words": len(transcript.words),
            "confidence": _rounded(transcript.mean_confidence),
            "doubts": outcome.doubts,
            "files": list(map(printable, outcome.files)),
            "changes": dict(outcome.changes),
            "notes": [*transcript.notes, *outcome.remarks],
        }
    if outcome.error:
        described["error"] = described_error(outcome.error)
    if outcome.follow_ups:
        described["follow_ups"] = list(map(_described_follow_up, outcome.follow_ups))
    return described


def _described_follow_up(one: FollowUpOutcome) -> dict[str, Any]:
    described: dict[str, Any] = {
        "name": one.name,
        "state": one.state,
        "characters": one.tally.characters,
    }
    described["words"] = one.tally.words
    if one.tally.cost is not None:
        described |= {"cost": float(one.tally.cost), "currency": one.tally.currency}
    if one.result is not None:
        described["files"] = list(map(printable, one.result.files))
    if one.error is not None:
        described["error"] = described_error(one.error)
    return described


def _row(outcome: Outcome) -> dict[str, Any]:
    row: dict[str, Any] = {"recording": outcome.recording.label, "state": outcome.state}
    if job := outcome.job:
        row |= {
            "job": job.id,
            "engine": job.engine,
            "billed_s": round(job.billed, 3),
            "cost": outcome.cost,
            "reported_s": _rounded(job.reported_seconds),
            "reported_cost": job.reported_cost,
        }
        row |= {
            "currency": job.currency,
            "unconfirmed_attempts": job.unconfirmed,
            "length_s": job.duration,
        }
    if transcript := outcome.transcript:
        row |= {
            "engine": transcript.engine,
            "length_s": transcript.recording.duration,
            "language": transcript.language,
            "words": len(transcript.words),
            "confidence": _rounded(transcript.mean_confidence),
            "doubts": outcome.doubts,
            "files": "; ".join(printable(path.name) for path in outcome.files),
            "changes": "; ".join(described_changes(outcome.changes)),
        }
    if outcome.error:
        row |= {"error": str(outcome.error), "advice": outcome.error.advice}
    return row


def _listed_formats(files: Sequence[Path]) -> str:
    """The files of a recording by their endings; by all of them where two formats end alike."""
    endings = [path.suffix.removeprefix(".") for path in files]
    return " ".join(
        ending
        if endings.count(ending) == 1
        else "".join(path.suffixes[-2:]).removeprefix(".") or path.name
        for ending, path in zip(endings, files, strict=True)
    )


def _rounded(confidence: float | None) -> float | None:
    if confidence is None:
        return None
    return round(confidence, 3)


def _table(outcomes: Sequence[Outcome]) -> rich.table.Table:
    table = plain_table()
    for heading, side in (
        ("recording", "left"),
        ("length", "right"),
        ("engine", "left"),
        ("language", "left"),
    ):
        table.add_column(heading, justify=side, overflow="fold")  # type: ignore[arg-type]
    table.add_column("words", justify="right")
    table.add_column("confidence", justify="right")
    table.add_column("doubts", justify="right")
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
            str(len(outcome.transcript.words)) if outcome.state != "no speech" else "none heard",
            "-" if confidence is None else f"{confidence:.2f}",
            str(outcome.doubts or "-"),
            _listed_formats(outcome.files),
        )
    return table


def described_changes(changes: Mapping[str, int]) -> list[str]:
    """How often each word was changed, for people."""
    return [
        f"{change}, {count} time{'s' if count > 1 else ''}" for change, count in changes.items()
    ]
