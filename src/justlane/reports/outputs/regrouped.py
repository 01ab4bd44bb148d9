"""What `regroup` writes."""

from __future__ import annotations

from typing import TypedDict

from justlane.reports.outputs.answers import Line


class PlainLine(TypedDict):
    role: str
    to: str
    scope: str


class ReplacedLine(TypedDict):
    role: str
    to: str
    scope: str
    line: Line


class Gaining(TypedDict):
    user: str
    cells: int


class Regrouping(TypedDict):
    number: int
    people: int
    give: list[PlainLine]
    in_place_of: list[ReplacedLine]
    gaining: list[Gaining]


class LineCount(TypedDict):
    lines: int
    to_persons: int
    persons: int
    sensitive_to_persons: int


class RoleAt(TypedDict):
    role: str
    scope: str


class NewGroup(TypedDict):
    name: str
    users: list[str]
    lines: list[RoleAt]
    saves: int


class Regrouped(TypedDict):
    platform: str
    before: LineCount
    after: LineCount
    weight: int
    bound: int
    left_as_they_are: int
    proposals: list[Regrouping]
    to_persons: list[PlainLine]
    new_groups: list[NewGroup]
