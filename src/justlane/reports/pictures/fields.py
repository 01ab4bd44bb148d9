"""Grids as pictures: people or groups down, places or actions across, a mark in each field."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from justlane.engine.surveys.glance import Field, Glance, Much
from justlane.engine.surveys.grid import Grid
from justlane.model.circumstances import Outcome
from justlane.model.names import counted
from justlane.reports.pictures.paper import BLUE, GREY, INK, ORANGE, SKY, figure, plain_text, short_name
from justlane.reports.surveys.grid import heading

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_MOST_ROWS, _MOST_COLUMNS = 46, 44
_NAME_ROOM, _PLACE_ROOM = 34, 30
_HALF = -1.0


class _Board(NamedTuple):
    """A grid, whatever it is of."""

    title: str
    down: str
    across: str
    columns: Sequence[str]
    rows: Sequence[tuple[str, Sequence[float]]]
    """Of each field the share: all is 1, nothing is 0; `_HALF` where some circumstances are meant."""
    legend: tuple[str, str, str]
    """What it is called if it is all, some, nothing."""
    left_out: str


def grid(result: Grid) -> Figure:
    """Who may do an action where, or what at a place."""
    marks = {Outcome.YES: 1.0, Outcome.ONLY_IF: _HALF, Outcome.NO: 0.0}
    rows = [
        (row.names, [marks[outcome] for outcome in row.outcomes])
        for row in result.rows
        if any(outcome is not Outcome.NO for outcome in row.outcomes)
    ]
    inside = "" if result.of == "place" else f"{result.within}/"
    columns = [_several([name.removeprefix(inside) for name in names], _PLACE_ROOM) for names in result.columns]
    across = "actions" if result.of == "place" else f"places in {result.within}"
    legend, more = ("yes", "only if", "no"), (result.left_rows, result.left_people)
    return _drawn(_board(heading(result), result.of_groups, across, columns, rows, legend, more))


def glance(result: Glance) -> Figure:
    """Everybody beside everything."""
    rows = [
        (row.names, [_share(field, cells) for field, cells in zip(row.fields, result.cells, strict=True)])
        for row in result.rows
        if any(field.cells for field in row.fields)
    ]
    columns = [short_name(column, _PLACE_ROOM) for column in result.columns]
    title = "How much of what can be done there"
    return _drawn(_board(title, result.of_groups, "places", columns, rows, ("full", "some", "none"), (0, 0)))


def _share(field: Field, cells: int) -> float:
    if field.much is not Much.SOME:
        return float(field.much is Much.FULL)
    return min(max(field.cells / cells, 0.01), 0.99)


def _board(
    title: str,
    of_groups: bool,
    across: str,
    columns: Sequence[str],
    rows: Sequence[tuple[Sequence[str], list[float]]],
    legend: tuple[str, str, str],
    more: tuple[int, int],
) -> _Board:
    """What is to be drawn, cut to what can be read; `more`: how many classes, with how many people, are not here."""
    kept = [n for n in range(len(columns)) if any(marks[n] for _, marks in rows)][:_MOST_COLUMNS]
    shown = rows[:_MOST_ROWS]
    one = "group" if of_groups else "person"
    named = [(_several(names, _NAME_ROOM), [marks[n] for n in kept]) for names, marks in shown]
    everybody = sum(len(names) for names, _ in rows) + more[1]
    every = len(rows) + more[0]
    classes = counted(every, "access class", "access classes")
    told = f"{counted(everybody, one, 'groups' if of_groups else 'people')} in {classes}"
    left = [
        *([f"{every - len(shown):,} more classes"] if len(shown) < every else []),
        *([f"{len(columns) - len(kept):,} more columns, most of them empty"] if len(kept) < len(columns) else []),
    ]
    about = f"{told}; those that are alike stand together" + (f"; not drawn: {', '.join(left)}" if left else "")
    down = "groups, each as somebody in it alone" if of_groups else "people, those who have the same in one row"
    return _Board(title, down, across, [columns[n] for n in kept], named, legend, about)


def _several(names: Sequence[str], room: int) -> str:
    """Several names as one label."""
    more = f" +{len(names) - 1:,}" if len(names) > 1 else ""
    return short_name(names[0], room - len(more)) + more if names else ""


def _drawn(board: _Board) -> Figure:
    from matplotlib.patches import Patch

    drawn = figure(board.title, board.left_out)
    if not board.rows:
        drawn.text(0.5, 0.5, "nobody, anywhere", ha="center", color=INK)
        return drawn
    longest_row = max(len(name) for name, _ in board.rows)
    longest_column = max(map(len, board.columns))
    left, top = 0.05 + 0.0062 * longest_row, 0.17 + 0.0072 * longest_column
    width, height = len(board.columns), len(board.rows)
    axes = drawn.add_axes((left, 0.07, 0.97 - left, 0.93 - top - 0.03))
    axes.set(xlim=(-0.5, width - 0.5), ylim=(height - 0.5, -0.5))
    size = min(9.5, 420 / max(height, 1), 560 / max(width, 1))
    _mark(axes, board.rows, size - 1)
    axes.set_xticks(range(width), [plain_text(name) for name in board.columns], rotation=60, ha="left", fontsize=size)
    axes.set_yticks(range(height), [plain_text(name) for name, _ in board.rows], fontsize=size)
    axes.xaxis.tick_top()
    axes.tick_params(length=0, colors=INK)
    for n in range(width + 1):
        axes.axvline(n - 0.5, color="#dddddd", linewidth=0.5)
    for n in range(height + 1):
        axes.axhline(n - 0.5, color="#dddddd", linewidth=0.5)
    for spine in axes.spines.values():
        spine.set_color(GREY)
    axes.set_xlabel(plain_text(board.across), fontsize=9.5, color="#555555")
    axes.set_ylabel(board.down, fontsize=9.5, color="#555555")
    some = Patch(facecolor=SKY, edgecolor=GREY, label=board.legend[1])
    if not any(0 < mark < 1 for _, marks in board.rows for mark in marks):
        some = Patch(facecolor=ORANGE, edgecolor=INK, hatch="////", label=board.legend[1])
    handles = [
        Patch(facecolor=BLUE, edgecolor=INK, label=board.legend[0]),
        some,
        Patch(facecolor="white", edgecolor=GREY, label=board.legend[2]),
    ]
    drawn.legend(handles=handles, loc="upper right", ncols=3, frameon=False, bbox_to_anchor=(0.98, 0.985), fontsize=10)
    return drawn


def _mark(axes: Axes, rows: Sequence[tuple[str, Sequence[float]]], size: float) -> None:
    from matplotlib.patches import Rectangle

    for y, (_, marks) in enumerate(rows):
        for x, mark in enumerate(marks):
            corner = (x - 0.42, y - 0.4)
            if mark == _HALF:
                axes.add_patch(Rectangle(corner, 0.84, 0.8, facecolor=ORANGE, edgecolor=INK, linewidth=0, hatch="////"))
            elif mark == 1:
                axes.add_patch(Rectangle(corner, 0.84, 0.8, facecolor=BLUE, edgecolor="none"))
            elif mark:
                axes.add_patch(Rectangle(corner, 0.84 * mark, 0.8, facecolor=SKY, edgecolor="none"))
                axes.add_patch(Rectangle(corner, 0.84, 0.8, facecolor="none", edgecolor="#bbbbbb", linewidth=0.6))
                axes.text(x, y, f"{mark:.0%}", ha="center", va="center", fontsize=size, color=INK)
            else:
                axes.plot(x, y, marker=".", markersize=2, color="#bbbbbb")
