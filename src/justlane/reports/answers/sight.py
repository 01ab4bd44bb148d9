"""What one person sees: whatever they reach, and the containers on the way to it. Counts never include the rest."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.questions.sight import Seen, Sight
from justlane.model.names import counted
from justlane.reports.outputs.views import Sight as SightJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


def plain(result: Sight) -> SightJson:
    """What they see as JSON values, each scope after the one that contains it."""
    return {
        "user": result.user,
        "enabled": result.enabled,
        "within": result.within,
        "scopes": result.counted,
        "sees": [
            {
                "scope": seen.address,
                "kind": seen.kind,
                "on_the_way_only": seen.on_the_way,
                "holds": list(seen.holds),
                "gathers": list(seen.gathers),
                "inside": seen.inside,
            }
            for seen in result.scopes.values()
        ],
    }


def sheet(result: Sight) -> Sheet:
    """One row for each scope, and one for each that a resource group gathers."""
    rows: list[tuple[object, ...]] = []
    for seen in result.scopes.values():
        inside = "" if seen.inside is None else seen.inside
        rows.append((seen.address, seen.kind, "yes" if seen.on_the_way else "no", inside, ""))
        for address in seen.gathers:
            rows.append((address, result.scopes[address].kind, "no", "", seen.address))
    return Sheet(("scope", "kind", "on the way only", "seen inside", "gathered by"), rows)


def text(result: Sight, look: Look) -> str:
    """The tree for a person."""
    return render(_lines(result), look)


def _lines(result: Sight) -> Iterator[Line]:
    where = f" within {result.within}" if result.within else ""
    if not result.scopes:
        why = "" if result.enabled else ": the account is disabled, or has ended"
        yield line((result.user, "name"), f" sees nothing{where}{why}")
        return
    yield line((result.user, "name"), f" sees {counted(result.counted, 'scope')}{where}")
    if result.within and "/" in result.within:
        yield line((f"what is outside {result.within} is not looked at, and not counted", "dim"))
    for address, seen in result.scopes.items():
        if "/" not in address:
            yield line()
            yield from _scope(result, seen, "", "")


def _scope(result: Sight, seen: Seen, branch: str, hanging: str) -> Iterator[Line]:
    count = f", {seen.inside} inside" if seen.inside else ""
    way = ", on the way" if seen.on_the_way else ""
    name = seen.address.rpartition("/")[2]
    yield line((branch, "tree"), (name, "name"), (f"  {seen.kind}{count}{way}", "dim"), hanging=hanging)
    inner: list[Seen | str] = [*(result.scopes[address] for address in seen.holds), *seen.gathers]
    for place, item in enumerate(inner, 1):
        last = place == len(inner)
        before, below = hanging + ("└─ " if last else "├─ "), hanging + ("   " if last else "│  ")
        if isinstance(item, Seen):
            yield from _scope(result, item, before, below)
        else:
            kind = result.scopes[item].kind if item in result.scopes else ""
            yield line((before, "tree"), "gathers ", (item, "name"), (f"  {kind}", "dim"), hanging=below)
