"""A picture of several engines on the same recordings: where they differ, how far they agree, what
is wrong.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

from mantisreed.exports.plots import bare, safe, save, set_time_axis
from mantisreed.extras import from_extra

with from_extra("plot", "what draws pictures"):
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from matplotlib.ticker import FuncFormatter

_ALONE, _DIFFERS, _AGREES, _INK = "#c8553d", "#e3b34c", "#dbeafe", "#1f2933"

Span = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Lane:
    """One engine on one recording.

    Attributes:
        engine: its name.
        differs: stretches, in seconds, in which the engines differ.
        alone: those of them in which this one stands alone against a majority.
    """

    engine: str
    differs: Sequence[Span]
    alone: Sequence[Span]


@dataclass(frozen=True, slots=True)
class ComparisonPicture:
    """What is drawn.

    Attributes:
        recording: the name of the recording whose lanes are drawn.
        duration: of it, in seconds.
        lanes: one for each engine that understood something of it.
        engines: the names of all.
        agreement: between each two of them, as shares; None for what is not known.
        rates: by engine the share that is wrong, or doubtful; None for what is not known.
        rates_are: what they are, for the heading.
    """

    recording: str
    duration: float
    lanes: Sequence[Lane]
    engines: Sequence[str]
    agreement: Sequence[Sequence[float | None]]
    rates: Sequence[float | None]
    rates_are: str


def draw_comparison(picture: ComparisonPicture, path: Path) -> None:
    """Lanes over time above; agreement and rates below, as a PNG.

    Raises:
        OutputError: it cannot be written.
        InputError: the file's name does not end in .png.
    """
    figure = Figure(figsize=(12.8, 8.0), layout="constrained")
    grid = figure.add_gridspec(2, 2, height_ratios=[1.0, 1.25], width_ratios=[1, 1.1])
    _draw_lanes(figure.add_subplot(grid[0, :]), picture)
    left, right = figure.add_subplot(grid[1, 0]), figure.add_subplot(grid[1, 1])
    _draw_agreement(left, picture)
    _draw_rates(right, picture)
    save(figure, path)


def _draw_lanes(axes: Axes, picture: ComparisonPicture) -> None:
    for number, lane in enumerate(picture.lanes):
        axes.broken_barh([(0.0, picture.duration)], (number - 0.35, 0.7), color=_AGREES)
        least = picture.duration / 800  # what is shorter would not be seen
        for spans, colour in ((lane.differs, _DIFFERS), (lane.alone, _ALONE)):
            bars = [(start, max(least, end - start)) for start, end in spans]
            axes.broken_barh(bars, (number - 0.35, 0.7), color=colour)
    axes.set_yticks(range(len(picture.lanes)), [safe(lane.engine) for lane in picture.lanes])
    # The first engine on top, as in the table.
    axes.set_ylim(len(picture.lanes) - 0.4, -0.6)
    set_time_axis(axes, max(1.0, picture.duration))
    title = (
        f"{safe(picture.recording)}: blue all the same, yellow they differ, red alone against "
        "the majority"
    )
    axes.set_title(title, loc="left", fontsize=11)
    bare(axes)


def _draw_agreement(axes: Axes, picture: ComparisonPicture) -> None:
    count = len(picture.engines)
    values = [
        [float("nan") if share is None else share for share in row] for row in picture.agreement
    ]
    shares = chain.from_iterable(picture.agreement)
    known = [share for share in shares if share is not None]
    axes.imshow(values, cmap="Blues", vmin=min(0.5, *known), vmax=1.0)
    for row in range(count):
        for column in range(count):
            share = picture.agreement[row][column]
            if share is None:
                text = "-"
            else:
                text = f"{share:.1%}"
            # Dark ink cannot be read on the darkest blues.
            if share is not None and share > 0.85:
                colour = "white"
            else:
                colour = _INK
            axes.text(
                column, row, "" if row == column else text, ha="center", va="center", color=colour
            )
    names = list(map(safe, picture.engines))
    axes.set_xticks(range(count), names)
    axes.set_yticks(range(count), names)
    axes.tick_params(length=0)
    axes.set_title("Words in which two engines agree", loc="left", fontsize=11)
    for spine in axes.spines.values():
        spine.set_visible(False)


def _draw_rates(axes: Axes, picture: ComparisonPicture) -> None:
    rates = [0.0 if rate is None else rate for rate in picture.rates]
    axes.barh(range(len(rates)), rates, height=0.6, color=_ALONE)
    for number, rate in enumerate(picture.rates):
        axes.text(
            rates[number],
            number,
            f"  {'unknown' if rate is None else f'{rate:.1%}'}",
            va="center",
            color=_INK,
        )
    axes.set_yticks(range(len(rates)), list(map(safe, picture.engines)))
    axes.set_ylim(len(rates) - 0.4, -0.6)
    # Room for the figure behind the longest bar; and a bar, where all rates are zero.
    axes.set_xlim(0.0, max(0.01, *rates) * 1.25)
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:.0%}"))
    axes.set_title(picture.rates_are, loc="left", fontsize=11)
    bare(axes)
