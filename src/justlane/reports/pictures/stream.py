"""A flow from groups over roles to places: three columns of blocks, and bands as wide as there are people."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from justlane.model.names import counted
from justlane.reports.pictures.paper import BLUE, GREY, INK, ORANGE, SKY, figure, plain_text, short_name
from justlane.reports.surveys.charts import Chart

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_MOST = 40
_GAP = 0.012
_WIDE = 0.02
_COLUMNS = (0.18, 0.5, 0.80)
_ROOM = 36
_SHADES = (BLUE, ORANGE, SKY, GREY, "#009E73", "#CC79A7", "#D55E00")

Band = tuple[str, str, int]


def flow(chart: Chart) -> Figure:
    """Each line's group, role and place."""
    rows = chart.rows[:_MOST]
    left_out = len(chart.rows) - len(rows)
    about = "width: people with an enabled account" + (
        f"; not drawn: {counted(left_out, 'line')} of fewer people" if left_out else ""
    )
    drawn = figure(chart.title, about)
    axes = drawn.add_axes((0.0, 0.02, 1.0, 0.86))
    axes.set(xlim=(0, 1), ylim=(0, 1))
    axes.axis("off")
    if not rows:
        axes.text(0.5, 0.5, "nothing is given to anybody", ha="center", color=INK)
        return drawn
    lines = [(str(g), str(r), str(s), int(n or 0)) for g, r, s, n in rows]
    total = sum(line[3] for line in lines)
    columns: list[list[str]] = [[line[0] for line in lines], [line[1] for line in lines], [line[2] for line in lines]]
    sizes = [line[3] for line in lines]
    names = [_ordered(list(zip(column, sizes, strict=True))) for column in columns]
    most = max(map(len, names))
    scale = (0.95 - _GAP * most) / total
    places = [_stacked(some, scale) for some in names]
    for part, title in enumerate(("groups and people", "roles", "places")):
        axes.text(_COLUMNS[part], 0.985, title, fontsize=10, color="#555555", ha=("right", "center", "left")[part])
    shade = {name: _SHADES[n % len(_SHADES)] for n, (name, _) in enumerate(names[1])}
    for first in (0, 1):
        bands = list(zip(columns[first], columns[first + 1], sizes, strict=True))
        _bands(axes, bands, (places[first], places[first + 1]), first, scale, shade)
    for part, some in enumerate(names):
        _blocks(axes, some, places[part], part, scale)
    return drawn


def _ordered(some: Sequence[tuple[str, int]]) -> list[tuple[str, int]]:
    found: dict[str, int] = {}
    for name, size in some:
        found[name] = found.get(name, 0) + size
    return sorted(found.items(), key=lambda item: (-item[1], item[0]))


def _stacked(some: Sequence[tuple[str, int]], scale: float) -> dict[str, float]:
    """Where each block begins, from the top."""
    found: dict[str, float] = {}
    at = 0.96
    for name, size in some:
        found[name] = at
        at -= size * scale + _GAP
    return found


def _blocks(axes: Axes, some: Sequence[tuple[str, int]], places: Mapping[str, float], part: int, scale: float) -> None:
    from matplotlib.patches import Rectangle

    x = _COLUMNS[part]
    for name, size in some:
        top = places[name]
        axes.add_patch(Rectangle((x - _WIDE / 2, top - size * scale), _WIDE, size * scale, facecolor=INK))
        said = f"{plain_text(short_name(name, _ROOM))}  {size:,}"
        middle = top - size * scale / 2
        if part == 0:
            axes.text(x - _WIDE, middle, said, ha="right", va="center", fontsize=9)
        elif part == 1:
            box = {"facecolor": "white", "alpha": 0.85, "pad": 1.5, "linewidth": 0}
            axes.text(x + _WIDE, middle, said, ha="left", va="center", fontsize=9, bbox=box)
        else:
            axes.text(x + _WIDE, middle, said, ha="left", va="center", fontsize=9)


def _bands(
    axes: Axes,
    bands: Sequence[Band],
    places: tuple[Mapping[str, float], Mapping[str, float]],
    first: int,
    scale: float,
    shade: Mapping[str, str],
) -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path

    x, end = _COLUMNS[first] + _WIDE / 2, _COLUMNS[first + 1] - _WIDE / 2
    middle = (x + end) / 2
    used = (dict.fromkeys(places[0], 0.0), dict.fromkeys(places[1], 0.0))
    order = sorted(bands, key=lambda band: (-places[0][band[0]], -places[1][band[1]]))
    starts = []
    for left, _, size in order:
        starts.append(places[0][left] - used[0][left])
        used[0][left] += size * scale
    ends: dict[int, float] = {}
    for number in sorted(range(len(order)), key=lambda n: (-places[1][order[n][1]], -starts[n])):
        right, size = order[number][1], order[number][2]
        ends[number] = places[1][right] - used[1][right]
        used[1][right] += size * scale
    for number, (left, right, size) in enumerate(order):
        top, other, wide = starts[number], ends[number], size * scale
        points = [(x, top), (middle, top), (middle, other), (end, other), (end, other - wide)]
        points += [(middle, other - wide), (middle, top - wide), (x, top - wide), (x, top)]
        codes = [Path.MOVETO, *[Path.CURVE4] * 3, Path.LINETO, *[Path.CURVE4] * 3, Path.CLOSEPOLY]
        colour = shade[right if first == 0 else left]
        axes.add_patch(PathPatch(Path(points, codes), facecolor=colour, alpha=0.45, linewidth=0))
