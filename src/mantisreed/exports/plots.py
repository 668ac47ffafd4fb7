"""Pictures of recordings (waveform, speech, loudness, cuts) and of cues (reading speed,
lengths).
"""

import io
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.cuts import LONG_SILENCE
from mantisreed.audio.examine import STEP_SECONDS, Examination, Waveform
from mantisreed.errors import InputError
from mantisreed.extras import from_extra
from mantisreed.files import printable, write_whole
from mantisreed.subtitles.check import reading_speed
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.units import count_of, short_duration

with from_extra("plot", "what draws pictures"):
    from matplotlib.axes import Axes
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch
    from matplotlib.ticker import FuncFormatter, MaxNLocator, MultipleLocator

MOST_PANELS = 8
"""Recordings in one picture at most."""

_COLUMNS = 1600  # more outline points than this cannot be seen
_WATER, _SPEECH, _SEAM, _SHARED, _LOUD, _GREY = (
    "#3b6e8f",
    "#e3b34c",
    "#1d7a4f",
    "#c8553d",
    "#7a4b94",
    "#6b7280",
)
_BANDS = ("#dbeafe", "#e7e5e4")
# Steps of a time axis that people count in: seconds, minutes and hours.
_TICKS = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400, 21_600)


@dataclass(frozen=True, slots=True)
class CutPiece:
    """One piece in a picture: seconds, and whether it shares its beginning with the one before."""

    start: float
    end: float
    overlaps: bool


@dataclass(frozen=True, slots=True)
class CutRecording:
    """One recording with its cuts, in a picture; lanes are the channels that are sent apart, or
    one.
    """

    name: str
    duration: float
    waveform: Waveform
    lanes: Sequence[Sequence[CutPiece]]


def draw_examination(path: Path, name: str, found: Examination) -> None:
    """Waveform and speech above, loudness below, as a PNG.

    Raises:
        OutputError: it cannot be written.
        InputError: the file's name does not end in .png.
    """
    figure = Figure(figsize=(12.8, 7.2), layout="constrained")
    upper, lower = figure.subplots(2, 1, sharex=True, height_ratios=[3, 2])
    _draw_waveform(upper, found.waveform, found.duration)
    for start, end in found.speech:
        upper.axvspan(start, end, ymin=0.0, ymax=0.035, color=_SPEECH, linewidth=0)
    if found.duration:
        share = found.speech_seconds / found.duration
    else:
        share = 0.0
    upper.set_title(
        f"{safe(name)}  ·  {short_duration(found.duration)}, {share:.0%} speech", loc="left"
    )
    upper.legend(
        handles=[
            Patch(color=_WATER, label="samples"),
            Patch(color=_SPEECH, label="somebody speaks"),
        ],
        loc="upper right",
        ncols=2,
        frameon=False,
        bbox_to_anchor=(1.0, 1.1),
        borderaxespad=0.0,
    )
    _draw_loudness(lower, found)
    set_time_axis(lower, found.duration)
    save(figure, path)


def draw_cuts(path: Path, recordings: Sequence[CutRecording]) -> None:
    """The pieces of each recording over its waveform, as a PNG.

    Raises:
        OutputError: it cannot be written.
        InputError: the file's name does not end in .png.
    """
    panels = recordings[:MOST_PANELS]
    figure = Figure(
        figsize=(12.8, max(4.0, min(9.0, 2.4 * len(panels)) + 0.6)), layout="constrained"
    )
    for axes, recording in zip(np.atleast_1d(figure.subplots(len(panels), 1)), panels, strict=True):
        _draw_pieces(axes, recording)
        _draw_waveform(axes, recording.waveform, recording.duration)
        set_time_axis(axes, recording.duration)
    figure.legend(
        handles=[
            Patch(color=_WATER, label="samples"),
            Patch(color=_BANDS[0], label="a piece"),
            Patch(color=_BANDS[1], label="the next piece"),
            Patch(color=_SEAM, label="clean seam"),
            Patch(color=_SHARED, label="overlap"),
            Patch(facecolor="white", edgecolor=_GREY, label="not sent"),
        ],
        loc="outside lower center",
        ncols=6,
        frameon=False,
    )
    save(figure, path)


_MOST_FILES, _MOST_LABELS = 6, 8  # more rows, or labels beside each other, cannot be read
_MANY_CUES = 400  # from here on single cues are a comb in which nobody sees anything


def draw_cues(files: Sequence[tuple[str, Sequence[Cue]]], rules: LayoutRules, path: Path) -> None:
    """Reading speed over time and how long cues stand, a row for each file, as a PNG.

    Raises:
        OutputError: it cannot be written.
        InputError: the file's name does not end in .png.
    """
    shown = files[:_MOST_FILES]
    if len(shown) > 1:
        height = 3.6 * max(1, len(shown))
    else:
        height = 6.4
    figure = Figure(figsize=(12.8, min(height, 24.0)), layout="constrained")
    panels = figure.subplots(max(1, len(shown)), 2, width_ratios=[4, 1], squeeze=False)
    for (name, cues), (speeds, lengths) in zip(shown, panels, strict=True):
        _draw_speeds(speeds, safe(name), cues, rules)
        _draw_lengths(lengths, cues, rules)
    if len(files) > len(shown):
        figure.suptitle(f"the first {len(shown)} of {len(files)} files", fontsize=10)
    save(figure, path)


def _draw_speeds(axes: Axes, name: str, cues: Sequence[Cue], rules: LayoutRules) -> None:
    """Reading speed over time: each cue, or of very many how dense they are; the fastest by their
    numbers.
    """
    limit = rules.speed
    middles = np.array([(cue.start + cue.end) / 2 for cue in cues])
    speeds = np.array([min(reading_speed(cue), 10.0 * limit) for cue in cues])
    # A few cues that nobody can read must not flatten all others; they stand at the upper edge.
    if len(speeds):
        highest = float(np.quantile(speeds, 0.98))
    else:
        highest = limit
    top = max(limit * 1.15, min(highest * 1.1, limit * 3.0))
    drawn = np.minimum(speeds, top * 0.98)
    is_fast = speeds > limit + 0.05
    end = max((cue.end for cue in cues), default=1.0)
    if len(cues) > _MANY_CUES:
        axes.hist2d(
            middles, drawn, bins=(120, 40), range=((0.0, end), (0.0, top)), cmap="Blues", cmin=1
        )
        axes.text(
            0.005, 0.02, "darker: more cues", transform=axes.transAxes, fontsize=8, color=_GREY
        )
    else:
        axes.vlines(middles, 0, drawn, color=_WATER, alpha=0.3, linewidth=1)
        axes.scatter(middles[~is_fast], drawn[~is_fast], s=14, color=_WATER, zorder=3)
        axes.scatter(middles[is_fast], drawn[is_fast], s=18, color=_SHARED, zorder=3)
    axes.axhline(limit, color=_SHARED, linewidth=1)
    axes.text(
        1.0,
        limit,
        f" limit {limit:g}",
        transform=axes.get_yaxis_transform(),
        va="center",
        fontsize=8,
    )
    for at in _apart(np.argsort(-speeds), middles, is_fast, 0.07 * end):
        if len(cues) > _MANY_CUES:
            axes.plot(middles[at], drawn[at], "o", markersize=3, color=_SHARED)
        if speeds[at] <= top:
            label = f"cue {at + 1}"
        else:
            label = f"cue {at + 1}: {speeds[at]:.0f}"
        axes.annotate(
            label,
            (middles[at], drawn[at]),
            (0, 5),
            textcoords="offset points",
            ha="center",
            fontsize=8,
        )
    axes.set_ylim(0, top * 1.06)
    axes.set_ylabel("characters/s")
    fast = int(is_fast.sum())
    if fast == 1:
        told = "1 cue is too fast"
    else:
        told = f"{fast} of {len(cues)} cues are too fast"
    axes.set_title(f"{name}: reading speed; {told}", loc="left", fontsize=11)
    set_time_axis(axes, end)
    bare(axes)


def _apart(
    order: NDArray[np.int64], middles: NDArray[np.float64], is_fast: NDArray[np.bool_], least: float
) -> list[int]:
    """The fastest cues whose labels do not cover each other."""
    found: list[int] = []
    for at in order:
        if not is_fast[at] or len(found) == _MOST_LABELS:
            break
        if all(abs(middles[at] - middles[other]) >= least for other in found):
            found.append(int(at))
    return found


def _draw_lengths(axes: Axes, cues: Sequence[Cue], rules: LayoutRules) -> None:
    """How many cues stand for how long."""
    edges = np.arange(0.0, max(rules.longest, 1.0) + 1.5, 0.25)
    lengths = [min(cue.end - cue.start, float(edges[-1]) - 0.01) for cue in cues]
    axes.hist(
        lengths, bins=edges.tolist(), color=_WATER, alpha=0.8, edgecolor="white", linewidth=0.4
    )
    for limit, what in ((rules.shortest, "shortest"), (rules.longest, "longest")):
        axes.axvline(limit, color=_SHARED, linewidth=1)
        axes.text(
            limit,
            0.99,
            f" {what} {limit:g} s ",
            transform=axes.get_xaxis_transform(),
            va="top",
            ha="left",
            fontsize=8,
            rotation=90,
        )
    axes.set_xlim(0, float(edges[-1]))
    axes.set_xlabel("seconds a cue stands")
    axes.set_ylabel("cues")
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    bare(axes)


def _draw_waveform(axes: Axes, waveform: Waveform, duration: float) -> None:
    low, high = _columns(waveform.low, np.minimum), _columns(waveform.high, np.maximum)
    times = np.linspace(0.0, duration, len(low))
    axes.fill_between(times, low, high, color=_WATER, linewidth=0.3, zorder=3)
    if len(low):
        limit = min(1.0, max(0.05, 1.1 * float(max(-low.min(), high.max()))))
    else:
        limit = 1.0
    axes.set_ylim(-limit, limit)
    axes.set_ylabel("full scale = 1")
    axes.grid(axis="y", alpha=0.25)
    bare(axes)


def _draw_loudness(axes: Axes, found: Examination) -> None:
    loudness = _columns(found.waveform.loudness, np.maximum)
    times = np.linspace(0.0, len(found.waveform.loudness) * STEP_SECONDS, len(loudness))
    axes.plot(
        times, np.maximum(loudness, -70.0), color=_LOUD, linewidth=0.9, label="loudness of 0.4 s"
    )
    if found.loudness is not None:
        axes.axhline(
            found.loudness,
            color=_LOUD,
            linestyle="--",
            linewidth=1.2,
            label=f"all: {found.loudness:.1f} LUFS",
        )
    if found.noise is not None:
        axes.axhline(
            found.noise,
            color=_GREY,
            linestyle=":",
            linewidth=1.4,
            label=f"noise: {found.noise:.1f} dBFS",
        )
    axes.set_ylim(-72.0, 0.0)
    axes.yaxis.set_major_locator(MultipleLocator(12))
    axes.set_ylabel("LUFS, dBFS")
    axes.grid(alpha=0.25)
    axes.legend(loc="lower right", ncols=3, framealpha=0.9)
    bare(axes)


def _draw_pieces(axes: Axes, recording: CutRecording) -> None:
    lanes = max(1, len(recording.lanes))
    for lane, pieces in enumerate(recording.lanes):
        bottom, top = 1 - (lane + 1) / lanes, 1 - lane / lanes
        for number, piece in enumerate(pieces):
            axes.axvspan(
                piece.start, piece.end, bottom, top, color=_BANDS[number % 2], linewidth=0, zorder=1
            )
            if number:
                _draw_seam(axes, pieces[number - 1], piece, bottom, top)
            if (piece.end - piece.start) / max(recording.duration, 1e-9) > 0.02:
                axes.text(
                    (piece.start + piece.end) / 2,
                    top - 0.03,
                    str(number + 1) if lanes == 1 else f"channel {lane + 1}: {number + 1}",
                    transform=axes.get_xaxis_transform(),
                    ha="center",
                    va="top",
                    fontsize=9,
                    zorder=4,
                    bbox={
                        "boxstyle": "round,pad=0.15",
                        "facecolor": "white",
                        "edgecolor": "none",
                        "alpha": 0.8,
                    },
                )
    count = sum(map(len, recording.lanes))
    told = count_of(count, "piece") if count else "nobody speaks: nothing is sent"
    axes.set_title(
        f"{safe(recording.name)}  ·  {short_duration(recording.duration)}, {told}", loc="left"
    )


def _draw_seam(axes: Axes, before: CutPiece, after: CutPiece, bottom: float, top: float) -> None:
    if after.overlaps:
        axes.axvspan(
            after.start, before.end, bottom, top, color=_SHARED, alpha=0.8, linewidth=0.8, zorder=2
        )
    elif after.start - before.end < LONG_SILENCE:
        middle = (before.end + after.start) / 2
        axes.axvline(middle, bottom, top, color=_SEAM, linewidth=1.4, zorder=2)


def _columns(values: NDArray[np.float32], merge: np.ufunc) -> NDArray[np.float32]:
    """The values, or as many as can be seen, each of several."""
    if len(values) <= _COLUMNS:
        return values
    merged: NDArray[np.float32] = merge.reduceat(
        values, np.linspace(0, len(values), _COLUMNS, endpoint=False).astype(int)
    )
    return merged


def set_time_axis(axes: Axes, duration: float) -> None:
    """Ticks at round seconds, minutes or hours."""
    axes.set_xlim(0.0, max(duration, 0.01))
    if duration < 4:
        axes.xaxis.set_major_locator(MaxNLocator(8))
        axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g} s"))
        return
    step = next(
        (tick for tick in _TICKS if duration / tick <= 12),
        _TICKS[-1] * math.ceil(duration / 12 / _TICKS[-1]),
    )
    axes.xaxis.set_major_locator(MultipleLocator(step))
    has_hours, has_seconds = duration >= 3600, step < 60 or duration < 3600
    axes.xaxis.set_major_formatter(
        FuncFormatter(lambda value, _: _time(value, has_hours, has_seconds))
    )


def _time(value: float, has_hours: bool, has_seconds: bool) -> str:
    minutes, seconds = divmod(round(value), 60)
    if has_hours:
        hours, minutes = divmod(minutes, 60)
    else:
        hours, minutes = (0, minutes)
    parts = ([f"{hours}", f"{minutes:02d}"] if has_hours else [f"{minutes}"]) + (
        [f"{seconds:02d}"] if has_seconds else []
    )
    return ":".join(parts) + (" h" if has_hours and not has_seconds else "")


def bare(axes: Axes) -> None:
    """Leave out the lines above and on the right."""
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def safe(name: str) -> str:
    """A name without what Matplotlib would take for mathematics, nor what its font lacks."""
    return "".join(char if ord(char) < 0x2500 else "?" for char in name).replace("$", r"\$")


def check_picture(path: Path) -> None:
    """See, before anything is done, that a picture can have this name.

    Raises:
        InputError: it does not end in .png.
    """
    if path.suffix.lower() != ".png":
        raise InputError(
            "pictures are PNG files", where=printable(path), advice="let its name end in .png"
        )


def save(figure: Figure, path: Path) -> None:
    """Write a picture as PNG.

    Raises:
        InputError: its name ends otherwise.
        OutputError: it cannot be written.
    """
    if path.suffix.lower() != ".png":
        raise InputError(
            "pictures are PNG files", where=printable(path), advice="let its name end in .png"
        )
    FigureCanvasAgg(figure)
    sink = io.BytesIO()
    figure.savefig(sink, format="png", dpi=100)
    write_whole(path, sink.getvalue())


def draw_lines(
    rates: Sequence[tuple[str, Sequence[tuple[float, float]]]],
    calibrations: Sequence[tuple[str, Sequence[tuple[float, float]]]],
    path: Path,
) -> None:
    """Error rates over time on the left, calibration of confidences on the right, as a PNG.

    Args:
        rates: by transcript: seconds and word error rate.
        calibrations: by transcript: confidence and the share of words that are right.
        path: where.

    Raises:
        OutputError: it cannot be written.
        InputError: the file's name does not end in .png.
    """
    figure = Figure(figsize=(12.8, 6.4), layout="constrained")
    left, right = figure.subplots(1, 2, width_ratios=[5, 3])
    colours = (_WATER, _SHARED, _SEAM, _LOUD, _SPEECH, _GREY)
    end = 1.0
    for number, (name, points) in enumerate(rates):
        colour = colours[number % len(colours)]
        end = max([end, *(at for at, _ in points)])
        left.step(
            [at for at, _ in points],
            [rate for _, rate in points],
            where="post",
            color=colour,
            label=safe(name),
        )
    for number, (name, points) in enumerate(calibrations):
        colour = colours[number % len(colours)]
        right.plot(
            [at for at, _ in points],
            [share for _, share in points],
            "o-",
            color=colour,
            label=safe(name),
        )
    right.plot([0, 1], [0, 1], color=_GREY, linewidth=0.8, linestyle="--")
    left.set_ylim(bottom=0)
    left.set_ylabel("word error rate")
    left.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:.0%}"))
    left.set_title("Errors over time", loc="left", fontsize=11)
    left.legend(fontsize=9, frameon=False)
    set_time_axis(left, end)
    right.set_xlim(0, 1)
    right.set_ylim(0, 1.02)
    right.set_xlabel("confidence, as the engine says it")
    right.set_ylabel("share of words that are right")
    right.set_title("Calibration; calibrated is the dashed line", loc="left", fontsize=11)
    if not any(points for _, points in calibrations):
        right.text(0.5, 0.5, "no confidences", ha="center", color=_GREY)
    for axes in (left, right):
        bare(axes)
    save(figure, path)
