"""Who joined, left, moved or was disabled, and what access that gave or took."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from justlane.engine.changes.comparison import Alike, CellChange
from justlane.engine.changes.people_changes import Move, Movement, PeopleChanges
from justlane.model.names import counted
from justlane.model.scopes import platform_of
from justlane.reports.changes import comparison
from justlane.reports.outputs.people import Movement as MovementJson
from justlane.reports.outputs.people import PeopleChanges as PeopleChangesJson
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_STYLES = {Move.JOINED: "yes", Move.ENABLED: "yes", Move.LEFT: "no", Move.DISABLED: "no"}
_MOST_ACTIONS = 6
_MOST_PLACES = 3
_MOST_NAMES = 8


def plain(result: PeopleChanges) -> PeopleChangesJson:
    """The changes as JSON values."""
    return {
        "before": result.before,
        "after": result.after,
        "people": [_plain(change) for change in result.people],
        "groups": [_plain(change) for change in result.groups],
        "access": comparison.plain(result.access) if result.access else None,
    }


def _plain(change: Movement) -> MovementJson:
    return {
        "name": change.name,
        "title": change.title,
        "moves": [str(move) for move in change.moves],
        "was": change.was or None,
        "into": list(change.into),
        "out_of": list(change.out_of),
    }


def sheet(result: PeopleChanges) -> Sheet:
    """One row for each change: of a user, of a group, and of each cell that somebody gains or loses."""
    rows: list[tuple[object, ...]] = []
    for what, changes in (("user", result.people), ("group", result.groups)):
        for c in changes:
            moved = " and ".join(c.moves) + (f" from {c.was}" if Move.RENAMED in c.moves else "")
            rows.append((what, c.name, moved, ", ".join(c.into), ", ".join(c.out_of), "", ""))
    if result.access:
        cells = comparison.sheet(result.access)
        for user, action, scope, before, after, _ in cells.rows:
            rows.append(("access", user, f"{before} → {after}", "", "", action, scope))
    return Sheet(("what", "name", "change", "into", "out of", "action", "scope"), rows)


def text(result: PeopleChanges, look: Look) -> str:
    """The changes for a person."""
    return render(_lines(result), look)


def _lines(result: PeopleChanges) -> Iterator[Line]:
    if not result.people and not result.groups:
        yield line(("nobody changed", "yes"), f"  from {result.before} to {result.after}")
        return
    counts = [(move, sum(move in c.moves for c in result.people)) for move in Move]
    moves = ", ".join(f"{count} {move}" for move, count in counts if count) or "nobody"
    yield line(("people", "head"), f"  from {result.before} to {result.after}: {moves}")
    if result.access:
        gained, lost = result.access.gained, result.access.lost
        yield line(
            ("access", "head"), "  ", (f"{counted(gained, 'cell')} gained", "yes"), ", ", (f"{lost:,} lost", "no")
        )
    told = {id(group): tuple(_access(group)) for group in (result.access.groups if result.access else ())}
    access = {login: told[id(g)] for g in (result.access.groups if result.access else ()) for login in g.users}
    for change in result.people:
        yield line()
        yield from _person(change, access, known=result.access is not None)
    yield from _groups(result)
    changed = {change.name for change in result.people}
    for group in result.access.groups if result.access else ():
        others = [login for login in group.users if login not in changed]
        if others:
            more = f" and {len(others) - _MOST_NAMES} more" if len(others) > _MOST_NAMES else ""
            names = ", ".join(others[:_MOST_NAMES]) + more
            yield line()
            yield line((names, "name"), "  unchanged, but a group around them changed", hanging="    ")
            yield from told[id(group)]


def _person(change: Movement, access: Mapping[str, Sequence[Line]], *, known: bool) -> Iterator[Line]:
    yield _movement(change)
    if change.name in access:
        yield from access[change.name]
    elif known:
        yield line(("  no access changes", "dim"))


def _movement(change: Movement) -> Line:
    spans: list[Span | str] = [(change.name, "name"), f"  {change.title}  "]
    for place, move in enumerate(change.moves):
        spans += [" and " if place else "", (str(move), _STYLES.get(move, "warn"))]
    spans.append(f" from {change.was}" if Move.RENAMED in change.moves else "")
    spans.append(f"; into {', '.join(change.into)}" if change.into else "")
    spans.append(f"; out of {', '.join(change.out_of)}" if change.out_of else "")
    return line(*spans, hanging="    ")


def _groups(result: PeopleChanges) -> Iterator[Line]:
    if result.groups:
        yield line()
        yield line(("groups", "head"))
    for change in result.groups:
        yield _movement(change)


def _access(group: Alike) -> Iterator[Line]:
    """What somebody gains, loses, or has in other circumstances now, platform by platform."""
    found: dict[tuple[str, str], dict[str, list[CellChange]]] = {}
    for change in group.changes:
        kind = "moves" if change.gains == change.loses else "gains" if change.gains else "loses"
        found.setdefault((platform_of(change.scope), kind), {}).setdefault(change.action, []).append(change)
    for (platform, kind), actions in sorted(found.items()):
        style = {"gains": "yes", "loses": "no"}.get(kind, "warn")
        count = sum(map(len, actions.values()))
        told = [_action(action, cells) for action, cells in list(actions.items())[:_MOST_ACTIONS]]
        left = len(actions) - _MOST_ACTIONS
        more = f", and {left} more action{'s' * (left != 1)}" if left > 0 else ""
        where = f" {count:,} cell{'s' * (count != 1)} on {platform}: {', '.join(told)}{more}"
        yield line((f"  {kind}", style), where, hanging=" " * 10)


def _action(action: str, cells: list[CellChange]) -> str:
    sensitive = " (sensitive)" if cells[0].sensitive else ""
    if len(cells) > _MOST_PLACES:
        return f"{action}{sensitive} at {len(cells):,} scopes"
    return f"{action}{sensitive} at {', '.join(c.scope for c in cells)}"
