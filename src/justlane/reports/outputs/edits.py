"""What the editing commands write, and those that look at roles, scopes and the journal."""

from __future__ import annotations

from typing import Literal, TypedDict

from justlane.reports.outputs.answers import Binding, Effect
from justlane.reports.outputs.answers import Edit as AnEdit
from justlane.reports.outputs.changes import Alike, Finding


class ChangedLines(TypedDict):
    line: int
    old: list[str]
    new: list[str]


class ChangedFile(TypedDict):
    file: str
    lines: list[ChangedLines]


class Remark(TypedDict):
    kind: str
    message: str
    source: str | None


class Refusal(TypedDict):
    kind: Literal["locked-out", "last-administrator", "too-many-administrators", "broken-expectation"]
    message: str


class Acting(TypedDict):
    platform: str
    role: str
    gains: bool
    loses: bool
    users: list[str]
    places: int


OnDay = TypedDict("OnDay", {"from": str, "effect": Effect, "groups": list[Alike] | None, "acting": list[Acting]})


class Proposal(TypedDict):
    command: str
    changes: list[ChangedFile]
    effect: Effect
    groups: list[Alike] | None
    acting: list[Acting]
    later: list[OnDay]
    changes_nothing: bool
    remarks: list[Remark]
    refusals: list[Refusal]
    warnings: list[Finding]


class Entry(TypedDict):
    number: int
    when: str
    who: str
    system_login: str
    yours: bool
    command: str
    reason: str
    even_so: str
    undoes: int | None
    undone_by: int | None
    people: int
    gained: int
    lost: int
    names: list[str]
    changes: list[ChangedFile]


class Edits(TypedDict):
    edits: list[Entry]


class Wholeness(TypedDict):
    lines: int
    broken: list[int]


class Administrators(TypedDict):
    platform: str
    actions: list[str]
    full: list[str]
    limited: list[str]
    at_most: int | None
    too_many: bool


RoleInShort = TypedDict(
    "RoleInShort",
    {
        "platform": str,
        "role": str,
        "for": str,
        "kinds": list[str],
        "built_in": bool,
        "copied_from": str | None,
        "owner": str | None,
        "administration": Literal["full", "limited", "none"],
        "people": int,
        "sensitive": int,
        "actions": list[str],
        "holds_all_of": list[str],
        "file": str,
        "line": int,
    },
)


class Roles(TypedDict):
    roles: list[RoleInShort]


class RolesBeside(TypedDict):
    platform: str
    first: str
    second: str
    equal: bool
    only_first: list[str]
    only_second: list[str]
    both: list[str]
    sensitive: list[str]


class Fit(TypedDict):
    role: str | None
    excess: list[str]
    sensitive: int


class Fitting(TypedDict):
    platform: str
    group: str | None
    required: list[str]
    said: list[str]
    fits: list[Fit]


ScopeBranch = TypedDict(
    "ScopeBranch",
    {
        "scope": str,
        "kind": str,
        "for": str,
        "depth": int,
        "bindings": list[int],
        "gathers": list[str],
        "gathered_by": list[str],
        "open": bool,
    },
)


class Need(TypedDict):
    user: str
    action: str
    scope: str


class Offer(TypedDict):
    edits: list[AnEdit]
    sentences: list[str]
    commands: list[str | None]
    excess: int
    proven: bool
    against: list[str]
    effect: Effect


class Offers(TypedDict):
    needs: list[Need]
    take_away: bool
    met: list[Need]
    impossible: list[Need]
    offers: list[Offer]


class ScopeTree(TypedDict):
    scopes: list[ScopeBranch]
    left_out: int
    bindings: list[Binding]


class ReviewStanding(TypedDict):
    review: str
    owner: str
    made: str
    by: str
    state: str
    asked: int
    keep: int
    remove: int
    ask: int
    outstanding: list[str]
    to_remove: list[str]
    gone: list[str]
    new: list[str]
    answered_by: list[str]
