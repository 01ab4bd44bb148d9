"""How large each role is, against what its holders need."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.roles import with_implied
from justlane.model.expectations import UserMay
from justlane.model.patterns import matching
from justlane.model.people import PrincipalKind
from justlane.model.scopes import platform_of


class RoleSize(Struct, frozen=True):
    """One role that is given to somebody."""

    platform: str
    role: str
    people: int
    """Enabled people to whom it is given."""
    holds: int
    """How many actions it holds …"""
    sensitive: int
    """… how many of them are sensitive …"""
    needed: int
    """… and how many of them an expectation says that one of its holders may do, with what these imply."""


def role_sizes(index: EstateIndex, platform: str, question: Question) -> list[RoleSize]:
    """All roles of a platform that somebody is given, the largest first."""
    prepared = index.platform(platform)
    actions = prepared.platform.actions
    wanted = _required(index, platform)
    behind = PeopleByName(index, platform, question.dated, prepared.named)
    numbers = {login: number for number, login in enumerate(behind.numbered.logins) if login in wanted}
    found = []
    for role in prepared.platform.roles:
        to = list(dict.fromkeys(b.principal for b in prepared.bindings if b.role == role and b.allows))
        if not to:
            continue
        held = prepared.roles.holdings(role)
        reached = behind.any_of([p for p in to if p.kind is not PrincipalKind.ANONYMOUS])
        needed: set[str] = set()
        for login, number in numbers.items():
            if reached[number]:
                needed |= wanted[login]
        people = int(reached[: behind.nobody].sum())
        size = RoleSize(
            platform, role, people, len(held), sum(actions[a].sensitive for a in held), len(needed & set(held))
        )
        found.append(size)
    return sorted(found, key=lambda size: (-size.holds, size.role))


def _required(index: EstateIndex, platform: str) -> dict[str, set[str]]:
    """Login -> what expectations say that they may do on a platform, with what that implies."""
    actions = index.platform(platform).platform.actions
    found: dict[str, set[str]] = {}
    for expectation in index.estate.expectations:
        if isinstance(expectation, UserMay):
            for duty in expectation.duties:
                if platform_of(duty.scope) == platform:
                    found.setdefault(expectation.user, set()).update(matching(duty.action, actions))
    return {login: with_implied(actions, some) for login, some in found.items()}
