"""From an estate to plain arrays, for questions about everybody on one platform."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

import numpy as np
from msgspec import Struct

from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.classes.scope_classes import open_scopes
from justlane.engine.compiled.circumstances import MOST_WORLDS, truths
from justlane.engine.compiled.count import Compiled, Count
from justlane.engine.compiled.flat import ALONE, BELOW, BUILT_IN, CEILING, GIVEN, ConditionSets, Flat, Ints, Masks
from justlane.engine.decision.circumstances import Space
from justlane.engine.decision.judge import Judge, Question, space_of
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import Person
from justlane.model.circumstances import ALWAYS, Condition
from justlane.model.estate import RolesHeld
from justlane.model.patterns import matching
from justlane.model.people import AUTHENTICATED, Principal, PrincipalKind

WORD = 64


class _Whom(Struct, frozen=True):
    """A principal, perhaps without some whom it stands for."""

    principal: Principal
    but_not: tuple[Principal, ...] = ()


class _Line(Struct, frozen=True):
    """One binding or ceiling, ready to be numbered."""

    whom: _Whom
    acting: str
    actions: frozenset[str]
    scope: str
    deny: bool = False
    here: int = BELOW
    condition: Condition = ALWAYS
    kind: int = GIVEN


def count_cells(index: EstateIndex, platform: str, question: Question, behind: PeopleByName | None = None) -> Count:
    """How many (user, action, scope) cells of a platform are allowed, `anonymous` counted as one user."""
    return Compiled(flatten(index, platform, question, behind)).count()


def flatten(index: EstateIndex, platform: str, question: Question, behind: PeopleByName | None = None) -> Flat:
    """One platform of an estate; `behind` is for all that it names."""
    prepared = index.platform(platform)
    habits = prepared.platform.habits
    space = _space(prepared, question, index.estate.time_zone)
    nobody = Judge(prepared, Person("", True, frozenset()), question, index.estate.time_zone)
    lines = [line for line in _lines(prepared) if nobody.in_date(line.condition)]
    conditions = {c: n for n, c in enumerate(dict.fromkeys(x.condition for x in lines if x.condition.circumstantial))}
    circumstances = ConditionSets(space.full, tuple(space.of(condition) for condition in conditions))
    worlds = truths(circumstances, range(len(conditions)), MOST_WORLDS)
    actions = {name: number for number, name in enumerate(prepared.platform.actions)}
    numbered = prepared.coverage.numbered
    number = numbered.number
    roles = {held: n for n, held in enumerate(dict.fromkeys(x.actions for x in lines))}
    acting = {name: n for n, name in enumerate(dict.fromkeys(x.acting for x in lines))}
    groups = {whom: n for n, whom in enumerate(dict.fromkeys(x.whom for x in lines))}
    if behind is None:
        behind = PeopleByName(index, platform, question.dated, prepared.named)
    users, member_user, member_group = _members(behind, groups)
    published = [prepared.published.get(x.whom.principal.name, []) if _limited(prepared, x) else [] for x in lines]
    limits = [(line, address) for line, some in enumerate(published) for address in some]
    return Flat(
        users=users,
        groups=max(len(groups), 1),
        member_user=member_user,
        member_group=member_group,
        nested_inner=_ints(()),
        nested_outer=_ints(()),
        scope_parent=numbered.parent,
        scope_kind=numbered.kind,
        gather_group=_ints(group for group, _ in numbered.gathers),
        gather_target=_ints(target for _, target in numbered.gathers),
        role_masks=_masks(list(roles), actions),
        kind_masks=_masks(
            [[a.name for a in prepared.platform.actions.values() if a.applies(k)] for k in numbered.kinds], actions
        ),
        bound_group=_ints(groups[x.whom] for x in lines),
        bound_role=_ints(roles[x.actions] for x in lines),
        bound_scope=_ints(number[x.scope] for x in lines),
        bound_acting=_ints(acting[x.acting] for x in lines),
        bound_deny=np.array([x.deny for x in lines], np.bool_),
        bound_here=np.array([x.here for x in lines], np.int8),
        bound_condition=_ints(conditions.get(x.condition, -1) for x in lines),
        worlds=np.zeros((0, len(conditions)), np.bool_) if worlds is None else worlds,
        circumstances=circumstances,
        bound_kind=np.array([x.kind for x in lines], np.int8),
        limited=np.array([_limited(prepared, x) for x in lines], np.bool_),
        limit_binding=_ints(n for n, _ in limits),
        limit_scope=_ints(number[address] for _, address in limits),
        decides=habits.decides.value,
        on_the_way=actions.get(habits.on_the_way, -1),
        sign_in=actions.get(habits.sign_in, -1),
        one_role=habits.roles_held is RolesHeld.ONE_AT_A_TIME,
        active=acting.get(question.role, -1) if question.role else None,
    )


def _ceilings(prepared: PlatformIndex) -> Iterable[_Line]:
    names = prepared.platform.actions
    for c in prepared.platform.ceilings:
        held = frozenset(a for pattern in c.patterns for a in matching(pattern, names))
        whom = _Whom(c.principal, c.but_not)
        yield _Line(whom, "", held, prepared.platform.name, condition=c.condition, kind=CEILING)


def _lines(prepared: PlatformIndex) -> Iterator[_Line]:
    """What an open default amounts to, the bindings in their order, and the ceilings."""
    platform = prepared.platform
    if platform.habits.open_role:
        held = frozenset(prepared.roles.holdings(platform.habits.open_role))
        whom, numbered = _Whom(AUTHENTICATED), prepared.coverage.numbered
        for number in np.flatnonzero(open_scopes(prepared, numbered)).tolist():
            yield _Line(whom, platform.habits.open_role, held, numbered.addresses[number], here=ALONE, kind=BUILT_IN)
    bundles = _bundles_with(prepared)
    for b in prepared.bindings:
        held = frozenset(prepared.roles.holdings(b.role))
        kind = BUILT_IN if b.built_in else GIVEN
        denied = () if b.allows or b.built_in else (b.role, *bundles.get(b.role, ()))
        for acting in denied or (b.acting,):  # a deny of a role counts however one came to act in it
            yield _Line(_Whom(b.principal), acting, held, b.scope, not b.allows, int(b.here_only), b.condition, kind)
    yield from _ceilings(prepared)


def _bundles_with(prepared: PlatformIndex) -> dict[str, tuple[str, ...]]:
    """Role -> what can be acted as that is a bundle with it; nothing where all roles count together."""
    if prepared.platform.habits.roles_held is RolesHeld.TOGETHER:
        return {}
    found: dict[str, dict[str, None]] = {}
    for b in prepared.bindings:
        if b.bundle and b.allows:
            found.setdefault(b.role, {})[b.acting] = None
    return {role: tuple(acting) for role, acting in found.items()}


def _limited(prepared: PlatformIndex, line: _Line) -> bool:
    """Whether a line counts only where the group that it names was published."""
    given = line.kind != CEILING and line.whom.principal.kind is PrincipalKind.GROUP
    return prepared.platform.habits.publication and given


def _space(prepared: PlatformIndex, question: Question, zone: str) -> Space:
    known = [b.condition for b in prepared.bindings] + [c.condition for c in prepared.platform.ceilings]
    return space_of(question, known, zone)


def _members(behind: PeopleByName, groups: dict[_Whom, int]) -> tuple[int, Ints, Ints]:
    """How many users there are, and (user, group) for those who are enabled and for whoever has not signed in."""
    numbers = np.full(len(behind.names), -1, np.int32)
    everyone = np.zeros(0, np.int32)
    users, found = [everyone], [everyone]
    for whom, number in groups.items():
        if whom.but_not or whom.principal == AUTHENTICATED:
            some = behind.any_of([whom.principal]) & ~behind.any_of(whom.but_not)
            users.append(np.flatnonzero(some).astype(np.int32))
            found.append(np.full(len(users[-1]), number, np.int32))
        else:
            numbers[behind.number(whom.principal)] = number
    plain = np.flatnonzero(numbers[behind.name] >= 0)
    member_user = np.concatenate([behind.user[plain], *users])
    member_group = np.concatenate([numbers[behind.name[plain]], *found])
    order = np.lexsort((member_group, member_user)) if len(users) > 1 else np.arange(len(member_user))
    return behind.nobody + 1, member_user[order], member_group[order]


def _ints(values: Iterable[int]) -> Ints:
    return np.fromiter(values, np.int32)


def _masks(sets: Sequence[Iterable[str]], actions: dict[str, int]) -> Masks:
    """Sets of actions as bits."""
    words = max(1, -(-len(actions) // WORD))
    masks = np.zeros((len(sets), words), np.uint64)
    for row, some in enumerate(sets):
        for action in some:
            word, bit = divmod(actions[action], WORD)
            masks[row, word] |= np.uint64(1 << bit)
    return masks
