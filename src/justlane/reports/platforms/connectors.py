"""The kinds of connector there are, and what each can express."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from justlane.model.errors import UsageError
from justlane.platforms.interface import CONNECTORS, Dialect, kind_of
from justlane.reports.outputs.platforms import ConnectorAbilities as ConnectorAbilitiesJson
from justlane.reports.outputs.platforms import ConnectorKind as ConnectorKindJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


class Connectors(Struct, frozen=True):
    """Name -> where it comes from."""

    known: dict[str, str]


def plain(result: Connectors) -> list[ConnectorKindJson]:
    """The kinds as JSON values; what cannot be loaded says why."""
    return [_plain(name, origin) for name, origin in sorted(result.known.items())]


def _plain(name: str, origin: str) -> ConnectorKindJson:
    abilities: ConnectorAbilitiesJson | None = None
    trouble: str | None = None
    try:
        abilities = _plain_abilities(kind_of(name).DIALECT)
    except UsageError as error:
        trouble = error.message
    ships = name in CONNECTORS
    return {"connector": name, "ships": ships, "module": origin, "trouble": trouble, "abilities": abilities}


def _plain_abilities(dialect: Dialect) -> ConnectorAbilitiesJson:
    can = dialect.abilities
    return {
        "decides": sorted(can.decides),
        "habits": sorted(can.habits),
        "always": [{"habit": habit, "value": value} for habit, value in can.required],
        "conditions": sorted(can.conditions),
        "gives_to": sorted(can.principals),
        "means": sorted(can.means),
        "actions": {action: list(kinds) for action, kinds in can.actions},
        "kinds": sorted(can.kinds),
        "needs": list(dialect.settings.needed),
        "takes": list(dialect.settings.optional),
        "by_hand": dialect.by_people,
    }


def sheet(result: Connectors) -> Sheet:
    """One row for each kind."""
    columns = ("connector", "decides", "conditions", "gives to", "needs")
    rows = []
    for one in plain(result):
        can = one["abilities"]
        cells = (can["decides"], can["conditions"], can["gives_to"], can["needs"]) if can else ((),) * 4
        rows.append((one["connector"], *map(" ".join, cells)))
    return Sheet(columns, rows)


def text(result: Connectors, look: Look) -> str:
    """The kinds for a person."""
    return render(_lines(result), look)


def _lines(result: Connectors) -> Iterator[Line]:
    for number, one in enumerate(plain(result)):
        if number:
            yield line()
        origin = "" if one["ships"] else f"  of another package, {one['module']}"
        yield line((one["connector"], "name"), (origin, "dim"))
        can = one["abilities"]
        if can is None:
            yield line((f"  {one['trouble']}", "no"), hanging="  ")
            continue
        actions = ", ".join(can["actions"]) or "any"
        always = [f"always {one['habit']}: {one['value']}" for one in can["always"]]
        for what, says in (
            ("decides", ", ".join(can["decides"])),
            ("habits", ", ".join((*always, *can["habits"])) or "none"),
            ("conditions", ", ".join(can["conditions"]) or "none"),
            ("gives to", ", ".join(can["gives_to"])),
            ("also", ", ".join(can["means"]) or "nothing more"),
            ("actions", actions),
            ("needs", ", ".join(can["needs"]) or "nothing"),
        ):
            yield line((f"  {what:<11} ", "dim"), says, hanging=" " * 14)
