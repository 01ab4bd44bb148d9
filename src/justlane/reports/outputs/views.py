"""What `reach`, `holders`, `given`, `role show` and `grid` write."""

from __future__ import annotations

from typing import Literal, TypedDict

from justlane.reports.outputs.answers import Binding, Box, Chain, Line, Number

Standing = Literal["counts", "ended", "not yet", "not published"]


class Grant(TypedDict):
    through: list[str]
    conditions: list[Box]
    binding: Number


class Reached(TypedDict):
    conditions: list[Box]
    grants: list[Grant]


class ReachedScope(TypedDict):
    scope: str
    kind: str
    actions: dict[str, Reached]
    inside: list[ReachedScope]


class Reach(TypedDict):
    user: str
    enabled: bool
    within: str | None
    narrowed_to: str | None
    scopes: int
    cells: int
    platforms: list[ReachedScope]
    bindings: list[Binding]


class Seen(TypedDict):
    scope: str
    kind: str
    on_the_way_only: bool
    holds: list[str]
    gathers: list[str]
    inside: int | None


class Sight(TypedDict):
    user: str
    enabled: bool
    within: str | None
    scopes: int
    sees: list[Seen]


class Holder(TypedDict):
    user: str
    conditions: list[Box]
    chains: list[Chain]


class Holders(TypedDict):
    action: str
    scope: str
    applicable: bool
    holders: list[Holder]
    bindings: list[Binding]


class GivenHere(TypedDict):
    binding: Number
    standing: Standing
    inherited: bool
    people: int


class PeopleHere(TypedDict):
    users: list[str]
    actions: dict[str, Reached]


class Published(Line):
    group: str
    scope: str


OnePlace = TypedDict(
    "OnePlace",
    {
        "scope": str,
        "kind": str,
        "for": str,
        "narrowed_to": str | None,
        "given": list[GivenHere],
        "people": list[PeopleHere],
        "published": list[Published],
        "bindings": list[Binding],
    },
)


class Assignment(TypedDict):
    binding: Number
    through: list[str]
    standing: Standing
    inherited: bool
    partly: bool


class PublishedOn(TypedDict):
    platform: str
    scope: str


Assignments = TypedDict(
    "Assignments",
    {
        "principal": str,
        "platform": str | None,
        "for": str,
        "enabled": bool,
        "people": int,
        "within": str | None,
        "given": list[Assignment],
        "published": list[PublishedOn],
        "bindings": list[Binding],
    },
)


class RoleStep(Line):
    sentence: str


class RoleAction(TypedDict):
    action: str
    sensitive: bool
    held: bool
    left_out: bool
    steps: list[RoleStep]


class RoleGiven(TypedDict):
    binding: Number
    standing: Standing
    people: int


OneRole = TypedDict(
    "OneRole",
    {
        "platform": str,
        "role": str,
        "for": str,
        "owner": str | None,
        "built_in": bool,
        "kinds": list[str],
        "copied_from": str | None,
        "administration": Literal["full", "limited", "none"],
        "builds_on": list[str],
        "built_on_by": list[str],
        "people": int,
        "actions": list[RoleAction],
        "given": list[RoleGiven],
        "bindings": list[Binding],
        "file": str | None,
        "line": int | None,
    },
)


class GridRow(TypedDict):
    names: list[str]
    outcomes: list[Literal["yes", "no", "only if"]]


class Grid(TypedDict):
    platform: str
    within: str
    of: Literal["action", "role", "place"]
    what: str
    rows_are: Literal["users", "groups"]
    columns: list[list[str]]
    rows: list[GridRow]


class GlanceColumn(TypedDict):
    scope: str
    cells: int


class GlanceField(TypedDict):
    much: Literal["none", "some", "full"]
    cells: int


class GlanceRow(TypedDict):
    names: list[str]
    fields: list[GlanceField]


class Glance(TypedDict):
    rows_are: Literal["users", "groups"]
    columns: list[GlanceColumn]
    rows: list[GlanceRow]


class AdministratorsBar(TypedDict):
    platform: str
    full: int
    in_part: int
    at_most: int | None


class AdministratorsChart(TypedDict):
    chart: Literal["administrators"]
    title: str
    rows: list[AdministratorsBar]
    notes: list[str]


class SensitiveBar(TypedDict):
    action: str
    platform: str
    people: int
    cells: int


class SensitiveChart(TypedDict):
    chart: Literal["sensitive"]
    title: str
    rows: list[SensitiveBar]
    notes: list[str]


class RolesBar(TypedDict):
    role: str
    platform: str
    people: int
    holds: int
    needed: int
    sensitive: int


class RolesChart(TypedDict):
    chart: Literal["roles"]
    title: str
    rows: list[RolesBar]
    notes: list[str]


class FlowBand(TypedDict):
    group: str
    role: str
    scope: str
    people: int


class FlowChart(TypedDict):
    chart: Literal["flow"]
    title: str
    rows: list[FlowBand]
    notes: list[str]


class ChangesBar(TypedDict):
    when: str
    source: Literal["commit", "edit", "people"]
    name: str
    people: int
    gained: int
    lost: int


class ChangesChart(TypedDict):
    chart: Literal["changes"]
    title: str
    rows: list[ChangesBar]
    notes: list[str]
