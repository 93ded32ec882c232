"""Charts of a profile as Matplotlib figures: histograms, bars of counts, rows over time, gaps, places on a map.

Colours are told apart by people with any colour vision and in print (dark blue, ochre, greys); text is taken as it is.
"""

from __future__ import annotations

import io
import logging
import math
import re
import warnings
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import date
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wadi.problems import shortened
from wadi.quality.compare import Point
from wadi.quality.figures import Numbers
from wadi.quality.profile import ColumnProfile, TableProfile
from wadi.quality.tables import TableSource
from wadi.store.whole_files import whole_file
from wadi.table.extras import needs

if TYPE_CHECKING:
    from matplotlib.figure import Figure

BLUE, OCHRE, GREY, INK = "#245a7f", "#c77f14", "#d7dbdf", "#22282d"
_SIZE = (8.0, 4.2)
_DPI = 120
_MOST_POINTS = 20_000
_SETTINGS: Any = {
    "font.family": ["DejaVu Sans", "Noto Sans CJK JP", "Noto Sans"], "font.size": 11, "text.parse_math": False,
    "axes.spines.top": False, "axes.spines.right": False, "axes.edgecolor": "#6a737b", "axes.labelcolor": INK,
    "text.color": INK, "xtick.color": INK, "ytick.color": INK, "axes.titlelocation": "left", "axes.titlesize": 13,
    "axes.titleweight": "bold", "figure.constrained_layout.use": True, "svg.hashsalt": "wadi",
}  # fmt: skip


def write_charts(profile: TableProfile, source: TableSource, folder: Path) -> list[Path]:
    """Draw every chart that the profile has something for into PNG files; returns them. Raises OSError."""
    written = []
    with _drawing():
        from matplotlib.backends.backend_agg import FigureCanvasAgg

        folder.mkdir(parents=True, exist_ok=True)
        for name, figure in _figures(profile, source):
            path = folder / f"{_file_name(profile.name)}-{_file_name(name)}.png"
            FigureCanvasAgg(figure)
            whole_file(path, partial(figure.savefig, format="png", dpi=_DPI))
            written.append(path)
    return written


@contextmanager
def _drawing() -> Iterator[None]:
    """Our settings while a figure is made; a letter that no font here has is a box, and no warning."""
    needs("matplotlib", "a chart", "charts")
    import matplotlib as mpl

    logging.getLogger("matplotlib.font_manager").setLevel(logging.ERROR)
    with mpl.rc_context(_SETTINGS), warnings.catch_warnings():
        warnings.filterwarnings("ignore", message=r"Glyph \d+")
        yield


def _file_name(name: str) -> str:
    return re.sub(r"[^\w.-]+", "-", name).strip("-") or "column"


def _figures(profile: TableProfile, source: TableSource) -> Iterator[tuple[str, Figure]]:
    for column in profile.columns:
        if column.first is not None and column.numbers is not None:
            yield column.column.name, over_time(column)
        elif column.numbers is not None and column.distinct > 2:
            yield column.column.name, histogram(column)
        elif column.frequent and column.distinct > 1 and column.frequent[0][1] > 1:
            yield column.column.name, bars(column)
    if any(column.filled < column.rows for column in profile.columns):
        yield "missing", gap_map(profile)
    for label, across, up in _places(source):
        points = _points(source, across, up)
        if points:
            yield label, scatter(label, points, profile.rows)


def _figure() -> tuple[Figure, Any]:
    from matplotlib.figure import Figure

    figure = Figure(figsize=_SIZE)
    axes = figure.add_subplot()
    axes.grid(axis="y", color=GREY, linewidth=0.8)
    axes.set_axisbelow(True)
    return figure, axes


def _titled(axes: Any, profile: ColumnProfile) -> None:
    missing = profile.rows - profile.filled
    gaps = f"; {missing:,} of {profile.rows:,} missing" if missing else f"; all {profile.rows:,} filled"
    axes.set_title(shortened(profile.column.name, 60) + gaps, loc="left")


def _with_unit(profile: ColumnProfile) -> str:
    return profile.column.name + (f" ({profile.column.unit})" if profile.column.unit else "")


def _on_a_logarithmic_axis(axes: Any, numbers: Numbers, zero: float) -> None:
    """The axis in powers of ten, with the zeros as a bar at the left of it."""
    from matplotlib.ticker import FixedLocator, FuncFormatter, NullLocator

    lower, upper, _ = numbers.bins[0]
    axes.set_xscale("log")
    first, last = math.floor(math.log10(lower)), math.ceil(math.log10(numbers.most))
    ticks = [10.0**power for power in range(first, last + 1) if lower <= 10.0**power <= numbers.most * 1.01]
    if numbers.zeros:
        step = upper / lower
        axes.bar(
            zero / math.sqrt(step), numbers.zeros, width=zero * math.sqrt(step) - zero / math.sqrt(step), align="edge",
            color=GREY, edgecolor="#6a737b", linewidth=0.6,
        )  # fmt: skip
        ticks = [zero, *ticks]
    axes.xaxis.set_major_locator(FixedLocator(ticks))
    axes.xaxis.set_minor_locator(NullLocator())
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, place: "0" if value < lower * 0.99 else f"{value:,.6g}"))


def histogram(profile: ColumnProfile) -> Figure:
    """Numbers in bins, with the median; skewed ones on a logarithmic axis, which says so, with a bar of its own for zeros."""
    assert profile.numbers is not None
    figure, axes = _figure()
    bins = profile.numbers.bins
    for lower, upper, count in bins:
        axes.bar(lower, count, width=upper - lower, align="edge", color=BLUE, edgecolor="white", linewidth=0.6)
    low, high = bins[0][0], bins[-1][1]
    # A median of 0 is on no logarithmic axis: it is where the bar of the zeros is.
    zero = low * (low / bins[0][1]) ** 2
    median = profile.numbers.median
    at = median if median > 0 or not profile.numbers.is_logarithmic else zero
    axes.axvline(at, color=OCHRE, linewidth=2)
    is_left = at < (math.sqrt(low * high) if profile.numbers.is_logarithmic else (low + high) / 2)
    axes.annotate(
        f"median {median:,.6g}",
        (at, 1.0),
        xycoords=("data", "axes fraction"),
        xytext=(6 if is_left else -6, -4),
        textcoords="offset points",
        ha="left" if is_left else "right",
        va="top",
        color="#8a5708",
    )
    if profile.numbers.is_logarithmic:
        _on_a_logarithmic_axis(axes, profile.numbers, zero)
    axis = ", logarithmic axis" if profile.numbers.is_logarithmic else ""
    axes.set_xlabel(_with_unit(profile) + axis)
    axes.set_ylabel("rows")
    _whole(axes)
    _titled(axes, profile)
    return figure


def bars(profile: ColumnProfile) -> Figure:
    """The most frequent values with their counts."""
    figure, axes = _figure()
    shown = [(shortened(str(value), 32), count) for value, count in profile.frequent]
    axes.grid(visible=False)
    places = range(len(shown))
    axes.barh(places, [count for _, count in shown], color=BLUE)
    axes.set_yticks(list(places), [value for value, _ in shown])
    axes.invert_yaxis()
    most = max(count for _, count in shown)
    for place, (_, count) in enumerate(shown):
        axes.annotate(f"{count:,}", (count, place), xytext=(5, 0), textcoords="offset points", va="center")
    axes.set_xlim(0, most * 1.12)
    rest = profile.filled - sum(count for _, count in shown)
    more = profile.distinct - len(shown)
    axes.set_xlabel("rows" + (f"; {more:,} other values in {rest:,} rows are not shown" if more > 0 else ""))
    _titled(axes, profile)
    return figure


def over_time(profile: ColumnProfile) -> Figure:
    """Rows by their days, in bins."""
    assert profile.numbers is not None
    figure, axes = _figure()
    for lower, upper, count in profile.numbers.bins:
        axes.bar(
            lower, count, width=max(upper - lower, 0.5), align="edge", color=BLUE, edgecolor="white", linewidth=0.6
        )
    ticks = [profile.numbers.least + (profile.numbers.most - profile.numbers.least) * part / 5 for part in range(6)]
    days = sorted({round(tick) for tick in ticks})
    axes.set_xticks(days, [date.fromordinal(max(1, day)).isoformat() for day in days])
    axes.set_xlabel(profile.column.name)
    axes.set_ylabel("rows")
    _whole(axes)
    _titled(axes, profile)
    return figure


def _whole(axes: Any) -> None:
    from matplotlib.ticker import MaxNLocator, StrMethodFormatter

    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    axes.yaxis.set_major_formatter(StrMethodFormatter("{x:,.0f}"))


def gap_map(profile: TableProfile) -> Figure:
    """Where along the table cells are missing: a line for each column, dark where all of a stretch are."""
    from matplotlib.colors import LinearSegmentedColormap
    from matplotlib.figure import Figure

    height = max(2.6, 1.5 + 0.28 * len(profile.columns))
    figure = Figure(figsize=(_SIZE[0], height))
    axes = figure.add_subplot()
    shades = LinearSegmentedColormap.from_list("gaps", ["#eef1f3", OCHRE, "#5b2d00"])
    image = axes.imshow(
        profile.gap_map, aspect="auto", cmap=shades, vmin=0, vmax=1, interpolation="nearest",
        extent=(0, profile.rows, len(profile.columns), 0),
    )  # fmt: skip
    names = [f"{shortened(column.column.name, 24)}  {1 - column.share:.0%}" for column in profile.columns]
    axes.set_yticks([place + 0.5 for place in range(len(names))], names)
    axes.tick_params(length=0)
    axes.set_xlabel("row of the table")
    axes.set_title(f"{profile.name}: where cells are missing", loc="left")
    bar = figure.colorbar(image, ax=axes, ticks=[0, 0.5, 1], fraction=0.03, pad=0.02)
    bar.ax.set_yticklabels(["none", "half", "all"])
    bar.set_label("missing")
    return figure


def _places(source: TableSource) -> Iterator[tuple[str, int, int]]:
    """Pairs of columns with longitude and latitude, by what stands before those words."""
    by_name = {column.name.lower(): place for place, column in enumerate(source.columns)}
    for name, place in by_name.items():
        for across, up in (("longitude", "latitude"), ("lon", "lat"), ("lng", "lat")):
            if name.endswith(across) and (other := by_name.get(name.removesuffix(across) + up)) is not None:
                label = source.columns[place].name[: -len(across)].rstrip("_") or "places"
                yield label, place, other
                break


def _points(source: TableSource, across: int, up: int) -> list[tuple[float, float]]:
    points: list[tuple[float, float]] = []
    for row in source.rows():
        if isinstance(row[across], int | float) and isinstance(row[up], int | float):
            points.append((row[across], row[up]))
            if len(points) == _MOST_POINTS:
                break
    return points


def scatter(label: str, points: list[tuple[float, float]], rows: int) -> Figure:
    """Places by longitude and latitude, in degrees."""
    from math import cos, radians

    figure, axes = _figure()
    axes.grid(axis="both", color=GREY, linewidth=0.8)
    axes.scatter([x for x, _ in points], [y for _, y in points], s=16, color=BLUE, alpha=0.6, edgecolors="none")
    middle = (min(y for _, y in points) + max(y for _, y in points)) / 2
    axes.set_aspect(1 / max(0.2, cos(radians(min(85.0, abs(middle))))), adjustable="datalim")
    axes.set_xlabel("longitude (°)")
    axes.set_ylabel("latitude (°)")
    shown = f"{len(points):,} of {rows:,} rows" if len(points) < rows else f"all {rows:,} rows"
    axes.set_title(f"{shortened(label, 40)}: {shown} with a place", loc="left")
    return figure


def draw_history(points: Sequence[Point], label: str, form: str, *, column: bool) -> bytes:
    """A series over runs as a figure: the bytes of a file of that form (`png`, `svg` …). Raises ValueError for one that is no
    picture's."""
    with _drawing():
        from matplotlib.backends.backend_agg import FigureCanvasAgg

        figure, axes = _figure()
        values = [point.value if column else point.rows for point in points]
        kept = [(at, value) for at, value in enumerate(values) if isinstance(value, int | float)]
        axes.plot(
            [at for at, _ in kept], [value for _, value in kept], color=BLUE, marker="o", markersize=5, linewidth=1.8
        )
        axes.margins(x=0.03, y=0.15)
        step = max(1, -(-len(points) // 8))
        places = list(range(0, len(points), step))
        axes.set_xticks(places, [points[at].began[:10] for at in places])
        for at, value in (kept[0], kept[-1]) if len(kept) > 1 else kept:
            axes.annotate(f"{value:,.6g}", (at, value), xytext=(0, 8), textcoords="offset points", ha="center")
        axes.set_xlabel("run")
        axes.set_ylabel("value" if column else "rows")
        axes.set_title(shortened(label, 70), loc="left")
        FigureCanvasAgg(figure)
        out = io.BytesIO()
        figure.savefig(out, format=form, dpi=_DPI)
        return out.getvalue()
