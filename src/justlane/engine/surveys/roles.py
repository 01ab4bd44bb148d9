"""Roles beside each other: which there are, two of them compared, and which one fits what people are required to do."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.roles import with_implied
from justlane.engine.questions.administrators import Fullness, fullness
from justlane.engine.questions.assignments import ways_from
from justlane.model.expectations import UserMay
from justlane.model.patterns import matching
from justlane.model.people import Principal
from justlane.model.roles import Role
from justlane.model.scopes import platform_of


class RoleInShort(Struct, frozen=True):
    """One role of a platform."""

    platform: str
    role: Role
    actions: tuple[str, ...]
    """What it holds."""
    sensitive: int
    """How many of them are sensitive."""
    people: int
    """Enabled people to whom it is given somewhere, each once."""
    administration: Fullness
    holds_all_of: tuple[str, ...]
    """Other roles all of whose actions it holds, and more."""


class RoleWanted(Struct, frozen=True):
    """Which roles are asked for; what is empty does not matter."""

    kind: str = ""
    """A free word of theirs."""
    action: str = ""
    """Something that they hold."""
    held_by: Principal | None = None
    """To whom they are given, directly or through others."""
    unused: bool = False
    """Those only that are given to nobody."""


class Roles(Struct, frozen=True):
    """Some roles."""

    roles: tuple[RoleInShort, ...]


def roles_of(index: EstateIndex, platforms: Iterable[str], wanted: RoleWanted, question: Question) -> Roles:
    """The roles of some platforms that are asked for, in the order in which they are declared."""
    found: list[RoleInShort] = []
    for name in platforms:
        prepared = index.platform(name)
        given = _given_to(index, prepared, wanted.held_by, question)
        for role in prepared.platform.roles.values():
            if wanted.kind and wanted.kind not in role.kinds:
                continue
            if wanted.action and not matching(wanted.action, prepared.roles.holdings(role.name)):
                continue
            if given is not None and role.name not in given:
                continue
            short = _in_short(index, prepared, role, question)
            if not wanted.unused or not short.people:
                found.append(short)
    return Roles(tuple(found))


def _given_to(
    index: EstateIndex, prepared: PlatformIndex, principal: Principal | None, question: Question
) -> set[str] | None:
    """The roles that somebody is given on a platform; None if nobody is asked about."""
    if principal is None:
        return None
    named = ways_from(index, principal, prepared.platform.name, question)
    return {binding.role for one in named for binding in prepared.bindings.of(one) if binding.allows}


def _in_short(index: EstateIndex, prepared: PlatformIndex, role: Role, question: Question) -> RoleInShort:
    from justlane.engine.classes.people_by_name import PeopleByName

    held = prepared.roles.holdings(role.name)
    actions = prepared.platform.actions
    to = list(dict.fromkeys(b.principal for b in prepared.bindings if b.role == role.name and b.allows))
    people = 0
    if to:
        behind = PeopleByName(index, prepared.platform.name, question.dated, to)
        people = int(behind.any_of(to)[: behind.nobody].sum())
    below = [
        other
        for other in prepared.platform.roles
        if other != role.name and prepared.roles.holdings(other) and set(prepared.roles.holdings(other)) < set(held)
    ]
    sensitive = sum(actions[action].sensitive for action in held)
    return RoleInShort(
        prepared.platform.name, role, tuple(held), sensitive, people, fullness(prepared, held), tuple(below)
    )


class Beside(Struct, frozen=True):
    """Two roles of a platform, side by side."""

    platform: str
    first: Role
    second: Role
    only_first: tuple[str, ...]
    only_second: tuple[str, ...]
    both: tuple[str, ...]
    sensitive: tuple[str, ...]
    """Those of all of them that are sensitive."""

    @property
    def equal(self) -> bool:
        """Whether they hold the same."""
        return not self.only_first and not self.only_second


def beside(prepared: PlatformIndex, first: str, second: str) -> Beside:
    """Compare what two roles hold."""
    one, other = prepared.roles.holdings(first), prepared.roles.holdings(second)
    actions = prepared.platform.actions
    return Beside(
        prepared.platform.name,
        prepared.platform.roles[first],
        prepared.platform.roles[second],
        tuple(a for a in actions if a in one and a not in other),
        tuple(a for a in actions if a in other and a not in one),
        tuple(a for a in actions if a in one and a in other),
        tuple(a for a in actions if actions[a].sensitive and (a in one or a in other)),
    )


class Fit(Struct, frozen=True):
    """A role that holds all that is required."""

    role: str
    """Empty for a new one."""
    excess: tuple[str, ...]
    """What it holds besides, sensitive actions first."""
    sensitive: int
    """How many of these are sensitive."""


class Fitting(Struct, frozen=True):
    """Which role fits what is required."""

    platform: str
    group: str
    required: tuple[str, ...]
    """Actions, with what they imply."""
    said: tuple[str, ...]
    """The sentences and options that require them."""
    fits: tuple[Fit, ...]
    """The one with the least excess first."""


def fitting(index: EstateIndex, platform: str, group: str, actions: Sequence[str]) -> Fitting:
    """The roles that hold what the people in a group are required to do, by expectations and by a list of actions."""
    prepared = index.platform(platform)
    said = [f"--action {action}" for action in actions]
    wanted = set(actions)
    for action, sentence in _required(index, platform, group):
        wanted.add(action)
        said.append(sentence)
    known = prepared.platform.actions
    required = with_implied(known, (action for action in wanted if action in known))
    fits = []
    for name in prepared.platform.roles:
        held = prepared.roles.holdings(name)
        if required and required <= set(held):
            excess = sorted(set(held) - required, key=lambda a: (not prepared.platform.actions[a].sensitive, a))
            fits.append(Fit(name, tuple(excess), sum(prepared.platform.actions[a].sensitive for a in excess)))
    fits.sort(key=lambda fit: (fit.sensitive, len(fit.excess), fit.role))
    if required and (not fits or fits[0].excess):
        fits.insert(0, Fit("", (), 0))
    ordered = tuple(a for a in prepared.platform.actions if a in required)
    return Fitting(platform, group, ordered, tuple(dict.fromkeys(said)), tuple(fits))


def _required(index: EstateIndex, platform: str, group: str) -> Iterator[tuple[str, str]]:
    """What the expectations require of somebody in the group, each with the line."""
    members = set(index.membership.users_in(group)) if group else set()
    for expectation in index.estate.expectations:
        if isinstance(expectation, UserMay) and expectation.user in members:
            for duty in expectation.duties:
                if platform_of(duty.scope) == platform:
                    where = expectation.source.line_address
                    yield duty.action, f"{expectation.user} may {duty.action} at {duty.scope} ({where})"
