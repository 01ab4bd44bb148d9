"""What `ask` writes, and the parts that other commands write too."""

from __future__ import annotations

from typing import Literal, TypedDict

Number = int
"""The place of a binding in `bindings`."""


class Line(TypedDict):
    """A line of a file; null where nothing is written."""

    file: str | None
    line: int | None


class Addresses(TypedDict):
    inside: str
    but_not: list[str]


class Times(TypedDict):
    days: list[str]
    hours: list[str]


class SignedIn(TypedDict):
    """How many minutes ago somebody signed in; without an upper end, or when is not known, null."""

    over_minutes: int
    within_minutes: int | None


class Sides(TypedDict):
    """What has two sides: which of them is asked for, null for either."""

    multi_factor: bool | None
    managed_device: bool | None


class Box(Sides):
    """Circumstances; what is empty or null asks for nothing."""

    addresses: list[Addresses]
    methods: list[str]
    other_methods: bool
    times: list[Times]
    signed_in: list[SignedIn]


Binding = TypedDict(
    "Binding",
    {
        "effect": Literal["allow", "deny"],
        "principal": str,
        "role": str,
        "scope": str,
        "here_only": bool,
        "when": str | None,
        "from": str | None,
        "until": str | None,
        "built_in": bool,
        "bundle": str | None,
        "pattern": str | None,
        "account": str | None,
        "reason": str,
        "file": str | None,
        "line": int | None,
    },
)


class Step(Line):
    kind: Literal["member", "given", "published", "builds on", "allows", "implies", "covers"]
    sentence: str


class Chain(TypedDict):
    binding: Number
    conditions: list[Box]
    account: str | None
    steps: list[Step]


class Need(Line):
    action: str
    scope: str
    chains: list[Chain]


class Ceiling(Line):
    never: list[str]
    to: str
    but_not_to: list[str]
    when: str | None
    reason: str


class Failure(Line):
    failing: str
    action: str
    scope: str
    roles: list[str]
    reason: str | None
    bindings: list[Number]


class Edit(TypedDict):
    edit: Literal[
        "give",
        "withdraw",
        "allow in role",
        "except no longer",
        "except",
        "publish",
        "unpublish",
        "drop role",
        "join",
        "leave",
        "enable",
    ]
    bindings: list[Binding]
    platform: str | None
    role: str | None
    action: str | None
    group: str | None
    scope: str | None
    user: str | None


class Who(TypedDict):
    people: int
    named: list[str]


class Moved(TypedDict):
    action: str
    sensitive: bool
    people: int
    cells: int


class Extent(TypedDict):
    people: int
    places: int


class Effect(TypedDict):
    people: int
    gaining: Who
    losing: Who
    gained: int
    lost: int
    gains: list[Moved]
    losses: list[Moved]


class Miss(TypedDict):
    change: str
    role: str | None
    conditions: list[Box]
    binding: Number | None
    edit: Edit | None
    reaches: Extent | None
    effect: Effect | None
    against: list[str]


class Ask(TypedDict):
    user: str
    action: str
    scope: str
    answer: Literal["yes", "no", "only if"]
    conditions: list[Box]
    roles: list[str]
    needs: list[Need]
    chains: list[Chain]
    ceilings: list[Ceiling]
    failures: list[Failure]
    misses: list[Miss]
    bindings: list[Binding]


class Brought(TypedDict):
    scope: str
    actions: list[str]


class ForUser(TypedDict):
    user: str
    person: str
    action: str
    scope: str
    answer: Literal["yes", "no", "only if"]
    why: str | None
    role: str | None
    group: str | None
    owner: str | None
    brings: list[Brought]
    sensitive: list[str]
    elsewhere: bool
    text: str
