"""Scores as text, as a page, as a picture and as JSON."""

import html
import statistics
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from mantisreed.exports.pages import whole_page
from mantisreed.review.runs import runs_where
from mantisreed.review.scoring import AlignmentStep, ErrorCounts, Score, calibration, over_time
from mantisreed.units import clock

_AROUND = 4  # words that are right, shown on both sides of an error

_STYLE = """\
:root { color-scheme: light dark; --ink: #1c2328; --paper: #fdfdfb;
  --said: #b3261e; --heard: #14663f; --quiet: #5b6770; }
@media (prefers-color-scheme: dark) {
  :root { --ink: #e4e8ea; --paper: #14191d; --said: #ff9a90; --heard: #7fd6a8; --quiet: #9aa7b0; }
}
body { margin: 0 auto; padding: 2rem 1rem 4rem; max-width: 52rem; color: var(--ink);
  background: var(--paper);
  font: 1rem/1.7 system-ui, sans-serif; overflow-wrap: anywhere; }
del { color: var(--said); }
ins { color: var(--heard); font-weight: 600; text-decoration: none; }
time { color: var(--quiet); font-size: .85rem; font-variant-numeric: tabular-nums; }
"""


def described_score(score: Score) -> dict[str, Any]:
    """A score as JSON has it; rates are shares, times are in seconds."""
    described: dict[str, Any] = {
        "words": score.words.length,
        "wer": round(score.words.rate, 5),
        "cer": round(score.characters.rate, 5),
        "substitutions": score.words.substitutions,
        "deletions": score.words.deletions,
        "insertions": score.words.insertions,
        "speakers": {name: _described(errors) for name, errors in score.speakers.items()},
        "speaker_permuted_wer": None if score.permuted is None else round(score.permuted.rate, 5),
        "speaker_names": score.names,
        "start_errors": described_times(score.time_errors),
        "worst": [
            {
                "start": one.start,
                "end": one.end,
                "errors": one.errors,
                "said": one.said,
                "heard": one.heard,
            }
            for one in score.worst
        ],
        "confusions": [
            {"said": said, "heard": heard, "count": count}
            for said, heard, count in score.confusions
        ],
        "calibration": [
            {"confidence": round(mean, 4), "right": round(right, 4), "words": count}
            for mean, right, count in calibration(score.steps)
        ],
    }
    return described


def _described(errors: ErrorCounts) -> dict[str, Any]:
    return {
        "words": errors.length,
        "wer": round(errors.rate, 5),
        "substitutions": errors.substitutions,
        "deletions": errors.deletions,
        "insertions": errors.insertions,
    }


def described_times(times: Sequence[float]) -> dict[str, float] | None:
    """Mean and 95th percentile of the errors' sizes, and the median with its sign, in seconds."""
    if not times:
        return None
    sizes = sorted(map(abs, times))
    return {
        "mean_seconds": round(statistics.fmean(sizes), 3),
        "p95_seconds": round(sizes[min(len(sizes) - 1, int(0.95 * len(sizes)))], 3),
        "median_shift_seconds": round(statistics.median(times), 3),
    }


def alignment_lines(steps: Sequence[AlignmentStep]) -> Iterator[str]:
    """The stretches that differ, with some words around: `[said -> heard]`, `[-not heard]`, `[+not
    said]`.
    """
    is_near = [False] * len(steps)
    for at, step in enumerate(steps):
        if step.kind != "equal":
            low, high = max(0, at - _AROUND), min(len(steps), at + _AROUND + 1)
            is_near[low:high] = [True] * (high - low)
    for first, last in runs_where(is_near):
        start = next((step.start for step in steps[first:last] if step.start is not None), None)
        time = clock(start)[:8] if start is not None else "--:--:--"
        yield f"{time}  {' '.join(filter(None, map(_marked, steps[first:last])))}"


def _marked(step: AlignmentStep) -> str:
    said = step.reference.shown if step.reference else ""
    heard = step.heard.shown if step.heard else ""
    match step.kind:
        case "equal":
            return _right(step)
        case "substitution":
            return f"[{said} -> {heard}]"
        case "deletion":
            return f"[-{said}]"
        case _:
            return f"[+{heard}]"


def _right(step: AlignmentStep) -> str:
    """A word that was heard right, written once however many parts it is said in."""
    assert step.reference is not None
    if step.reference.part == 0:
        return step.reference.written
    return ""


def alignment_page(score: Score, title: str) -> str:
    """The whole alignment as a page by itself."""
    passages: list[list[AlignmentStep]] = []
    number = -1
    for step in score.steps:
        if step.reference is not None and step.reference.passage != number:
            number = step.reference.passage
            passages.append([])
        if not passages:
            passages.append([])
        passages[-1].append(step)
    written = "".join(
        f"<p>{_time_of(own)}{' '.join(filter(None, map(_tagged, own)))}</p>\n" for own in passages
    )
    legend = "<p><del>said and not heard</del>, <ins>heard and not said</ins></p>"
    main = f"<p>{html.escape(summary_of(score))}</p>\n{legend}\n{written}"
    return whole_page(title, _STYLE, main, ' lang="en"')


def _time_of(steps: Sequence[AlignmentStep]) -> str:
    start = next((step.start for step in steps if step.start is not None), None)
    if start is None:
        return ""
    return f"<time>{clock(start)[:8]}</time> "


def _tagged(step: AlignmentStep) -> str:
    if step.kind == "equal":
        return html.escape(_right(step))
    if step.reference:
        said = html.escape(step.reference.shown)
    else:
        said = ""
    heard = html.escape(step.heard.shown) if step.heard else ""
    return " ".join([f"<del>{said}</del>"] * bool(said) + [f"<ins>{heard}</ins>"] * bool(heard))


def summary_of(score: Score) -> str:
    """One sentence."""
    words = score.words
    return (
        f"word error rate {words.rate:.2%} ({words.substitutions} substitutions, "
        f"{words.deletions} deletions, "
        f"{words.insertions} insertions of {words.length} words), character error rate "
        f"{score.characters.rate:.2%}"
    )


def draw_scores(scores: Sequence[tuple[str, Score]], path: Path) -> None:
    """Error rate over time, and how often words of each confidence are right, as a PNG; one line a
    transcript.

    Raises:
        OutputError: it cannot be written.
        InputError: the file's name does not end in .png.
    """
    from mantisreed.exports.plots import draw_lines

    rates, right = [], []
    for name, score in scores:
        starts = [step.start for step in score.steps if step.start is not None]
        width = max(10.0, max(starts, default=0.0) / 40)
        rates.append((name, over_time(score.steps, width)))
        right.append((name, [(mean, share) for mean, share, _ in calibration(score.steps)]))
    draw_lines(rates, right, path)
