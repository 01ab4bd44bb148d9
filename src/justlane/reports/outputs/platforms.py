"""What `align`, `drift`, `probe`, `survey` and `trust list` write."""

from __future__ import annotations

from typing import Any, Literal, TypedDict

from justlane.platforms.survey import Kind


class PlanEffect(TypedDict):
    gained: int
    lost: int
    memberships: int
    accounts: int
    entries: int


class PlanStep(TypedDict):
    change: Literal["add", "change", "remove"]
    part: str
    name: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    says: str
    keeps: bool
    uncounted: str
    lines: list[str]


class Plan(TypedDict):
    platform: str
    revision: str
    removals: int
    effect: PlanEffect
    steps: list[PlanStep]
    by_hand: list[PlanStep]
    unjudged: list[str]
    remarks: list[str]
    new_places: list[str]
    outside: list[PlanStep]
    reached: list[str]
    harmed: list[str]


class Difference(TypedDict):
    user: str
    action: str
    scope: str
    declared: bool
    says: bool | None
    does: bool | None
    situation: str


class Shown(TypedDict):
    lists: list[str]
    total: int


class ShownWrongly(TypedDict):
    user: str
    scope: str
    declared: Shown | None
    shown: Shown | None
    situation: str


class Coverage(TypedDict):
    people: int
    scopes: int
    kinds_of_people: int
    kinds_of_scopes: int
    drawn_people: int
    drawn_scopes: int
    unseen_people: int
    unseen_scopes: int
    seed: int | None


class Proof(TypedDict):
    action: str
    asked: int
    tried: int
    known_by: Literal["trying", "asking", "nothing"]


class ProbeNews(TypedDict):
    since: str
    new: list[Difference]
    gone: list[Difference]


class Probe(TypedDict):
    platform: str
    people: int
    scopes: int
    coverage: Coverage
    strength: str
    asked: int
    tried: int
    kept_out: list[str]
    let_in: list[str]
    shut_out: list[str]
    no_means: list[str]
    situations: list[str]
    proofs: list[Proof]
    news: ProbeNews | None
    differences: list[Difference]
    untried: int
    unanswered: int
    unjudged: list[str]
    looked: int
    shown_wrongly: list[ShownWrongly]


class SecretUse(TypedDict):
    secret: str
    host: str
    port: int | None
    authority: str
    readable: bool


class Permissions(TypedDict):
    secrets: list[SecretUse]
    files: list[str]
    places: list[str]


class Means(TypedDict):
    people: int
    named: list[str]
    more: int
    less: int
    sensitive: list[str]


class Drifted(TypedDict):
    difference: Literal["added", "missing", "changed"]
    part: str
    name: str
    says: str
    declared: dict[str, Any] | None
    held: dict[str, Any] | None
    means: Means | None
    uncounted: str


class Drift(TypedDict):
    platform: str
    against: str
    all: Means
    unjudged: list[str]
    new_places: list[str]
    differences: list[Drifted]
    outside: list[Drifted]
    reached: list[str]


class AlwaysHabit(TypedDict):
    habit: str
    value: str


class ConnectorAbilities(TypedDict):
    decides: list[str]
    habits: list[str]
    always: list[AlwaysHabit]
    conditions: list[str]
    gives_to: list[str]
    means: list[str]
    actions: dict[str, list[str]]
    kinds: list[str]
    needs: list[str]
    takes: list[str]
    by_hand: bool


class ConnectorKind(TypedDict):
    connector: str
    ships: bool
    module: str
    trouble: str | None
    abilities: ConnectorAbilities | None


class Promise(TypedDict):
    says: str
    tried: int
    broken: str | None


class Conformance(TypedDict):
    connector: str
    cases: int
    seed: int
    kept: bool
    promises: list[Promise]


class RoleUse(TypedDict):
    role: str
    to_persons: int
    to_groups: int


class Noted(TypedDict):
    kind: Kind
    says: str
    items: list[str]


class Survey(TypedDict):
    platform: str
    accounts: int
    groups: int
    places: int
    roles: int
    grants: int
    to_persons: int
    to_groups: int
    use: list[RoleUse]
    noted: list[Noted]


class AccountGuess(TypedDict):
    whose: str
    reason: str


class AccountOfPlatform(TypedDict):
    account: str
    standing: Literal["unknown", "said", "by rule"]
    whose: str | None
    given: int
    guesses: list[AccountGuess]


class Accounts(TypedDict):
    platform: str
    accounts: list[AccountOfPlatform]
