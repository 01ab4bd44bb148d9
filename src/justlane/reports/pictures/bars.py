"""Charts with bars: administrators, sensitive actions, roles, changes over time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from justlane.reports.pictures.paper import BLUE, INK, ORANGE, SKY, figure, plain_text, short_name
from justlane.reports.surveys.charts import Chart

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from justlane.platforms.survey import Survey

_MOST = 28
_ROOM = 34
_FEWEST = 7
"""So many bars there is room for at least, so that a single one is not a wall."""


def _lying(chart: Chart, names: Sequence[str], unit: str) -> tuple[Figure, Axes]:
    """A picture with a name for each lying bar."""
    from matplotlib.ticker import MaxNLocator

    left_out = len(chart.rows) - len(names)
    about = "; ".join([*chart.notes, *([f"not drawn: {left_out:,} more"] if left_out else [])])
    drawn = figure(chart.title, about)
    if not names:
        drawn.text(0.5, 0.5, "nothing is known", ha="center", color=INK)
    axes = drawn.add_axes((0.03 + 0.0068 * min(_ROOM, max(map(len, names), default=0)), 0.09, 0.70, 0.78))
    axes.set_yticks(range(len(names)), [plain_text(short_name(name, _ROOM)) for name in names], fontsize=10)
    axes.set_ylim(max(len(names), _FEWEST) - 0.4, -0.6)
    axes.set_xlabel(unit)
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(axis="x", color="#e5e5e5")
    axes.set_axisbelow(True)
    axes.tick_params(axis="y", length=0)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    return drawn, axes


def _numbers(chart: Chart, column: int) -> list[int]:
    return [int(row[column] or 0) for row in chart.rows[:_MOST]]


def administrators(chart: Chart) -> Figure:
    """Full administrators and those in part, with the limit as a line across."""
    names = [str(row[0]) for row in chart.rows[:_MOST]]
    drawn, axes = _lying(chart, names, "people")
    full, part = _numbers(chart, 1), _numbers(chart, 2)
    axes.barh(range(len(names)), full, 0.6, color=BLUE, label="administer it fully")
    axes.barh(range(len(names)), part, 0.6, left=full, color=SKY, hatch="....", edgecolor="white", label="in part")
    labelled = False
    for place, row in enumerate(chart.rows[:_MOST]):
        text = f"{full[place]} full, {part[place]} in part"
        if row[3] is not None:
            label = "" if labelled else "at most so many fully"
            labelled = True
            axes.plot([int(row[3])] * 2, [place - 0.42, place + 0.42], color=INK, linewidth=3, label=label)
            text += f"; at most {row[3]} fully" + (": too many" if full[place] > int(row[3]) else "")
        beyond = max(full[place] + part[place], int(row[3] or 0))
        axes.text(beyond + 0.1, place, text, va="center", fontsize=9.5, color=INK)
    _legend(drawn, axes)
    return drawn


def sensitive(chart: Chart) -> Figure:
    """How many people hold each sensitive action."""
    names = [f"{row[0]}  ({row[1]})" for row in chart.rows[:_MOST]]
    drawn, axes = _lying(chart, names, "people who hold it somewhere, in some circumstances")
    people = _numbers(chart, 2)
    axes.barh(range(len(names)), people, 0.65, color=BLUE)
    for place, (count, cells) in enumerate(zip(people, _numbers(chart, 3), strict=True)):
        axes.text(count + max(people) * 0.01, place, f"{count:,}  in {cells:,} cells", va="center", fontsize=9.5)
    return drawn


def survey(found: Survey) -> Figure:
    """How often each role of a platform is given to persons, and to groups."""
    noted = "; ".join(f"{one.says}: {len(one.items):,}" for one in found.noted[:3])
    title = f"{found.platform}: {found.grants:,} grants, {found.to_persons:,} of them to persons"
    rows = tuple((use.role, use.to_persons, use.to_groups) for use in found.use)
    chart = Chart("survey", title, ("role", "to persons", "to groups"), rows, (noted,) if noted else ())
    names = [str(row[0]) for row in rows[:_MOST]]
    drawn, axes = _lying(chart, names, "grants")
    persons, groups = _numbers(chart, 1), _numbers(chart, 2)
    axes.barh(range(len(names)), persons, 0.6, color=ORANGE, hatch="//", edgecolor="white", label="to persons")
    axes.barh(range(len(names)), groups, 0.6, left=persons, color=BLUE, label="to groups")
    most = max((a + b for a, b in zip(persons, groups, strict=True)), default=1)
    for place, (one, other) in enumerate(zip(persons, groups, strict=True)):
        said = ", ".join(f"{n:,} to {what}" for n, what in ((one, "persons"), (other, "groups")) if n)
        axes.text(one + other + most * 0.01, place, said, va="center", fontsize=9.5)
    _legend(drawn, axes)
    return drawn


def roles(chart: Chart) -> Figure:
    """What a role holds, and how much of it is needed."""
    names = [f"{row[0]}  ({row[1]})" for row in chart.rows[:_MOST]]
    drawn, axes = _lying(chart, names, "actions")
    holds, needed = _numbers(chart, 3), _numbers(chart, 4)
    axes.barh(range(len(names)), holds, 0.7, color=ORANGE, hatch="////", edgecolor="white", label="holds")
    axes.barh(range(len(names)), needed, 0.7, color=BLUE, label="of these needed by expectations")
    for place, (size, people) in enumerate(zip(holds, _numbers(chart, 2), strict=True)):
        people_said = f"{people:,} {'person' if people == 1 else 'people'}"
        axes.text(size + max(holds) * 0.01, place, people_said, va="center", fontsize=9.5, color=INK)
    _legend(drawn, axes)
    return drawn


def changes(chart: Chart) -> Figure:
    """Cells gained upward and lost downward, one pair of bars for each moment, in the order of time."""
    rows = chart.rows[-_MOST:]
    drawn = figure(chart.title, "; ".join(chart.notes))
    if not rows:
        drawn.text(0.5, 0.5, "nothing was kept yet: no commits, no edits, fewer than two snapshots", ha="center")
        return drawn
    axes = drawn.add_axes((0.08, 0.24, 0.89, 0.63))
    places: Any = range(len(rows))
    gained, lost = [int(row[4] or 0) for row in rows], [int(row[5] or 0) for row in rows]
    axes.bar(places, gained, 0.7, color=BLUE, label="gained")
    axes.bar(places, [-count for count in lost], 0.7, color=ORANGE, hatch="////", edgecolor="white", label="lost")
    axes.axhline(0, color=INK, linewidth=0.8)
    most = max([*gained, *lost, 1])
    axes.set_yscale("symlog", linthresh=10)
    axes.set_ylim(-most * 3, most * 3)
    for place, (up, down) in enumerate(zip(gained, lost, strict=True)):
        axes.text(place, up * 1.08 + 0.4, f"+{up:,}" if up else "", ha="center", va="bottom", fontsize=9)
        axes.text(place, -down * 1.08 - 0.4, f"−{down:,}" if down else "", ha="center", va="top", fontsize=9)
    labels = [f"{row[0]}\n{row[1]} {plain_text(short_name(str(row[2]), 12))}" for row in rows]
    axes.set_xticks(places, labels, rotation=40, ha="right", fontsize=8.5)
    axes.set_xlim(-0.8, max(len(rows), _FEWEST) - 0.2)
    axes.set_ylabel("(user, action, scope) cells, logarithmic beyond 10")
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(axis="y", color="#e5e5e5")
    axes.set_axisbelow(True)
    _legend(drawn, axes)
    return drawn


def _legend(drawn: Figure, axes: Axes) -> None:
    handles, labels = axes.get_legend_handles_labels()
    drawn.legend(
        handles, labels, loc="upper right", ncols=3, frameon=False, bbox_to_anchor=(0.98, 0.985), labelcolor=INK
    )
