"""What `compare`, `tally`, `verify` and `check` write."""

from __future__ import annotations

from typing import Literal, TypedDict

from justlane.reports.outputs.answers import Binding, Box, Edit, Line
from justlane.reports.outputs.views import Grant


class CellChange(TypedDict):
    action: str
    scope: str
    sensitive: bool
    gains: bool
    loses: bool
    before: Literal["yes", "no", "only if"]
    before_conditions: list[Box]
    after: Literal["yes", "no", "only if"]
    after_conditions: list[Box]


class Alike(TypedDict):
    users: list[str]
    gained: int
    lost: int
    changes: list[CellChange]


class Comparison(TypedDict):
    before: str
    after: str
    gained: int
    lost: int
    people: int
    groups: list[Alike]


class Surplus(TypedDict):
    actions: list[str]
    scopes: list[str]
    conditions: list[Box]
    grants: list[Grant]


TwoPeople = TypedDict(
    "TwoPeople",
    {
        "person": str,
        "with": str,
        "shared": int,
        "person_only": list[Surplus],
        "with_only": list[Surplus],
        "bindings": list[Binding],
    },
)


class Tally(TypedDict):
    platform: str
    users: int
    user_classes: int
    scopes: int
    scope_classes: int
    actions: int
    cells: int
    always: int
    sometimes: int


class Exported(TypedDict):
    platform: str
    users: int
    user_classes: int
    scopes: int
    scope_classes: int
    rows: int


class Evidence(Line):
    fact: str


class Verdict(Line):
    expectation: str
    reason: str
    holds: bool
    evidence: list[Evidence]


class Verdicts(TypedDict):
    hold: int
    fail: int
    expectations: list[Verdict]


class Finding(TypedDict):
    rule: str
    severity: Literal["error", "warning", "note"]
    file: str
    line: int
    column: int
    message: str
    hint: str


class Flaw(Finding):
    about: list[str]
    consequence: str
    source_line: str
    fix: list[Edit]


class AcceptedFlaw(Flaw):
    accepted_because: str
    accepted_until: str
    accepted_at: str


class Checked(TypedDict):
    estate: str
    errors: int
    warnings: int
    notes: int
    complete: bool
    since: str | None
    platforms: dict[str, str]
    findings: list[Flaw]
    accepted: list[AcceptedFlaw]


class RuleOption(TypedDict):
    option: str
    meaning: str
    default: str


class Rule(TypedDict):
    rule: str
    severity: Literal["error", "warning", "note"] | None
    says: str
    options: list[RuleOption]
