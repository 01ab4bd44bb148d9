"""One role: what it holds and through which line, what it leaves out, and who has it where."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.roles import RoleStep
from justlane.engine.questions.administrators import Fullness, fullness
from justlane.engine.questions.one_person_or_group import purposes_in
from justlane.engine.questions.one_place import Standing, standing_of
from justlane.model.bindings import Binding
from justlane.model.findings import Source
from justlane.model.people import Principal, PrincipalKind
from justlane.model.roles import Pattern, Role


class RoleAction(Struct, frozen=True):
    """One action of the platform, as a role has it."""

    action: str
    sensitive: bool
    steps: tuple[RoleStep, ...]
    """The lines through which the role holds it; empty if it does not."""
    left_out: Source | None = None
    """The line that leaves it out on purpose."""


class RoleGiven(Struct, frozen=True):
    """A binding that gives, or denies, the role."""

    binding: Binding
    standing: Standing
    people: int
    """Enabled people whom its principal stands for."""
    inside: tuple[tuple[str, str], ...] = ()
    """Of a platform's own group: the directories' groups in it, each with what it is for."""


class OneRole(Struct, frozen=True):
    """All about one role."""

    platform: str
    role: Role
    actions: tuple[RoleAction, ...]
    """All of the platform: those that it holds first."""
    built_on_by: tuple[str, ...]
    """Roles that hold all of this one because they build on it."""
    given: tuple[RoleGiven, ...]
    people: int
    """Enabled people to whom it is given somewhere, each once."""
    administration: Fullness = Fullness.NONE
    """How much of the platform's administration is in it."""


def one_role(index: EstateIndex, platform: str, name: str, question: Question) -> OneRole:
    """All about a role of a platform."""
    from justlane.engine.classes.people_by_name import PeopleByName

    prepared = index.platform(platform)
    role = prepared.platform.roles[name]
    held = prepared.roles.holdings(name)
    actions = [
        RoleAction(a.name, a.sensitive, held.get(a.name, ()), _left_out(prepared.roles.left_out(name, a.name)))
        for a in prepared.platform.actions.values()
    ]
    actions.sort(key=lambda a: (not a.steps, not a.left_out))
    bindings = [binding for binding in prepared.bindings if binding.role == name]
    behind = PeopleByName(index, platform, question.dated, [b.principal for b in bindings])
    standings = [standing_of(index, binding, question) for binding in bindings]
    given = [
        RoleGiven(b, how, behind.count(b.principal), _inside(index, prepared, b.principal))
        for b, how in zip(bindings, standings, strict=True)
    ]
    counting = [g.binding.principal for g in given if g.binding.allows and g.standing is Standing.COUNTS]
    people = int(behind.any_of(counting)[: behind.nobody].sum())
    full = fullness(prepared, held)
    on_top = [r.name for r in prepared.platform.roles.values() if any(base.text == name for base in r.builds_on)]
    return OneRole(platform, role, tuple(actions), tuple(on_top), tuple(given), people, full)


def _inside(index: EstateIndex, prepared: PlatformIndex, principal: Principal) -> tuple[tuple[str, str], ...]:
    local = prepared.platform.local_groups.get(principal.name)
    if principal.kind is not PrincipalKind.LOCAL_GROUP or local is None:
        return ()
    return tuple(purposes_in(local, index.estate.directory.groups).items())


def _left_out(found: tuple[str, Pattern] | None) -> Source | None:
    return found[1].source if found else None
