"""`mantisreed compare`: the same recordings through several engines, side by side."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from itertools import chain
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import exit_code, problems_of_follow_ups, show_problems
from mantisreed.cli.progress import ProgressDisplay
from mantisreed.cli.quality.score import read_reference
from mantisreed.files import printable
from mantisreed.jobs.budget import money_text
from mantisreed.pipeline.options_given import run_options
from mantisreed.review.comparing import Comparison, Difference
from mantisreed.units import clock, count_of, short_duration
from mantisreed.workbench.comparing import (
    Compared,
    ComparisonHooks,
    ComparisonOptions,
    EngineResult,
    ExpectedCost,
    compare,
)
from mantisreed.workspace import open_workspace

_WIDEST = 60  # characters of a reading that are shown


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `compare` is asked for; its arguments tell the same."""

    sources: Sequence[str]
    engines: str
    reference: Sequence[str] = ()
    limit: int = 12
    plot: str | None = None
    as_json: bool = False
    config: str | None = None
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Tell the cost, send, compare, show."""
    from mantisreed.exports.plots import check_picture

    if asked.plot is not None:
        check_picture(Path(asked.plot))
    workspace = open_workspace(asked.config)
    names = tuple(name.strip() for name in asked.engines.split(",") if name.strip())
    # A trial of engines sends no mail.
    options = run_options(workspace, asked.options | {"no_follow_ups": True})
    references = tuple(map(read_reference, asked.reference))
    with ProgressDisplay(console) as progress:
        hooks = ComparisonHooks(lambda costs: _tell_costs(console, costs), progress.show)
        found = compare(
            asked.sources, workspace, ComparisonOptions(names, options, references), hooks
        )
    if asked.plot is not None:
        _draw(found, Path(asked.plot))
    if asked.as_json:
        console.document(_described(found))
    else:
        _show(console, found, asked.limit)
    outcomes = list(chain.from_iterable(result.outcomes for result in found.results))
    if any(outcome.error or problems_of_follow_ups(outcome) for outcome in outcomes):
        show_problems(console, outcomes)
    return exit_code(outcomes)


def _draw(found: Compared, path: Path) -> None:
    """The recording with the most differences, and what there is to say of all."""
    from mantisreed.exports.comparison_plot import ComparisonPicture, Lane, draw_comparison

    numbers = range(len(found.recordings))
    counts = [len(one.differences) if one is not None else -1 for one in found.comparisons]
    # The one where there is most to see.
    chosen = max(numbers, key=lambda number: counts[number])
    comparison = found.comparisons[chosen]
    if comparison is not None:
        differences = comparison.differences
    else:
        differences = ()
    spans = [(one.start, one.end) for one in differences]
    lanes = [
        Lane(
            found.results[engine].engine,
            spans,
            [(one.start, one.end) for one in differences if one.odd[at]],
        )
        for at, engine in enumerate(found.having(chosen))
    ]
    rates = [result.word_error_rate for result in found.results]
    are_errors = any(rate is not None for rate in rates)
    doubtful = [result.doubtful_seconds / max(0.001, result.duration) for result in found.results]
    picture = ComparisonPicture(
        found.recordings[chosen].name,
        comparison.duration if comparison is not None else 0.0,
        lanes,
        [result.engine for result in found.results],
        found.agreement,
        rates if are_errors else doubtful,
        "Word error rate" if are_errors else "Sound whose text is doubtful",
    )
    draw_comparison(picture, path)


def _tell_costs(console: Console, costs: Sequence[ExpectedCost]) -> None:
    listed = ", ".join(f"{one.engine} {money_text(one.cost, one.currency)}" for one in costs)
    console.note(
        f"{short_duration(costs[0].seconds)} of sound, at most: {listed}; what is kept costs "
        "nothing again"
    )


def _show(console: Console, found: Compared, most: int) -> None:
    has_reference = any(result.word_error_rate is not None for result in found.results)
    rates: tuple[str, ...] = ()
    if has_reference:
        rates = (">WER", ">CER")
    console.note("")
    console.rows(
        ("engine", *rates, ">words", ">doubts", ">doubtful", ">seconds", ">cost", ">a good hour"),
        [_row_of(result, has_reference=has_reference) for result in found.results],
    )
    names = [result.engine for result in found.results]
    console.result("")
    console.rows(
        ("agreement", *(f">{name}" for name in names)),
        [
            (
                name,
                *(
                    "" if share is None or at == number else f"{share:.1%}"
                    for at, share in enumerate(row)
                ),
            )
            for number, (name, row) in enumerate(zip(names, found.agreement, strict=True))
        ],
    )
    for number, recording in enumerate(found.recordings):
        comparison = found.comparisons[number]
        if comparison is None:
            console.result(f"\n{recording.name}: there are no two transcripts to compare")
            continue
        longest = sorted(comparison.differences, key=lambda one: -one.words)[:most]
        # In the order in which they are heard.
        shown = sorted(longest, key=lambda one: one.start)
        count = len(comparison.differences)
        told = count_of(count, "difference")
        if len(shown) < count:
            told += f", the {len(shown)} longest"
        console.result(f"\n{recording.name}: {told}")
        own = [names[at] for at in found.having(number)]
        for difference in shown:
            _show_difference(console, difference, own)


def _show_difference(console: Console, difference: Difference, names: Sequence[str]) -> None:
    width = max(map(len, names))
    console.result(f"  {clock(difference.start)[:8]}")
    for name, reading, is_odd in zip(names, difference.readings, difference.odd, strict=True):
        if len(reading) <= _WIDEST:
            text = reading
        else:
            text = f"{reading[: _WIDEST - 1]}…"
        console.result(f"    {name:{width}} {'*' if is_odd else ' '} {text or '-'}")


def _row_of(result: EngineResult, *, has_reference: bool) -> tuple[str, ...]:
    rates = (result.word_error_rate, result.character_error_rate)
    if has_reference:
        shown = tuple("-" if rate is None else f"{rate:.2%}" for rate in rates)
    else:
        shown = ()
    hour = result.price_of_a_good_hour
    return (
        result.engine,
        *shown,
        str(result.words),
        str(result.doubts or "-"),
        f"{result.doubtful_seconds:.0f} s",
        f"{result.seconds:.1f}",
        money_text(result.cost, result.currency),
        "-" if hour is None else money_text(hour, result.currency),
    )


def _amount(amount: Decimal | None) -> float | None:
    if amount is None:
        return None
    return float(round(amount, 6))


def _described(found: Compared) -> dict[str, Any]:
    recordings = []
    for number, recording in enumerate(found.recordings):
        comparison = found.comparisons[number]
        compared = [found.results[at].engine for at in found.having(number)]
        if comparison is None:
            differences = []
        else:
            differences = _differences_as_json(comparison)
        recordings.append(
            {"recording": recording.label, "compared": compared, "differences": differences}
        )
    return {
        "engines": list(map(_result_as_json, found.results)),
        "agreement": [[_rounded(share, 4) for share in row] for row in found.agreement],
        "recordings": recordings,
    }


def _result_as_json(result: EngineResult) -> dict[str, Any]:
    files = chain.from_iterable(outcome.files for outcome in result.outcomes)
    return {
        "engine": result.engine,
        "words": result.words,
        "doubts": result.doubts,
        "doubtful_seconds": round(result.doubtful_seconds, 3),
        "wer": _rounded(result.word_error_rate, 5),
        "cer": _rounded(result.character_error_rate, 5),
        "seconds": round(result.seconds, 3),
        "cost": _amount(result.cost),
        "currency": result.currency,
        "price_of_a_good_hour": _amount(result.price_of_a_good_hour),
        "states": [outcome.state for outcome in result.outcomes],
        "files": list(map(printable, files)),
    }


def _differences_as_json(comparison: Comparison) -> list[dict[str, Any]]:
    return [
        {
            "start": one.start,
            "end": one.end,
            "readings": list(one.readings),
            "outvoted": list(one.odd),
        }
        for one in comparison.differences
    ]


def _rounded(share: float | None, digits: int) -> float | None:
    if share is None:
        return None
    return round(share, digits)
