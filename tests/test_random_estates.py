"""Two decisions that share no code, the engine's and the stand-in's, on estates drawn at random."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from justlane.engine.deciding import cells_of, may
from justlane.engine.explaining import Change, answer
from justlane.engine.index import EstateIndex
from justlane.model.bindings import Binding
from justlane.model.estate import Estate, Habits, Platform
from justlane.model.findings import Source
from justlane.model.people import Directory, Group, Membership, Principal, PrincipalKind, User
from justlane.model.roles import Action, Pattern, Role
from justlane.model.scopes import Gathered, Scope
from justlane.standin.ruling import Ruling
from justlane.standin.site import Binding as HeldBinding
from justlane.standin.site import Group as HeldGroup
from justlane.standin.site import Nature, Person, Site
from justlane.standin.site import Role as HeldRole

AT = Source("x", 1, 1)
USERS, GROUPS, ACTIONS, KINDS = "uvwx", "ghijk", ["see", "see-log", "run", "edit"], ["box", "bag"]


def patterns(words: list[str]) -> tuple[Pattern, ...]:
    return tuple(Pattern(word, AT) for word in words)


@st.composite
def estates(draw: st.DrawFn) -> Estate:
    """Any shape: membership loops, empty groups, nested resource groups, roles on roles, exceptions."""
    some = lambda items, most=3: st.lists(st.sampled_from(items), max_size=most, unique=True)  # noqa: E731
    people = [Principal(PrincipalKind.USER, u) for u in USERS] + [Principal(PrincipalKind.GROUP, g) for g in GROUPS]
    directory = Directory(
        {u: User(u, u, draw(st.integers(0, 4)) > 0, AT) for u in USERS},
        {g: Group(g, "", tuple(Membership(p, AT) for p in draw(some(people))), AT) for g in GROUPS},
    )
    addresses = ["p"]
    for n in range(draw(st.integers(1, 7))):
        addresses.append(f"{draw(st.sampled_from(addresses))}/s{n}")
    groups = {a for a in addresses[1:] if draw(st.booleans())}
    scopes = {}
    for place, a in enumerate(addresses):
        # only what stands later in the list and not above it is gathered, so that no loop arises
        targets = [t for t in addresses[place + 1 :] if not a.startswith(t)] if a in groups else []
        gathered = tuple(Gathered(t, AT) for t in (draw(some(targets)) if targets else []))
        scopes[a] = Scope(a, "resource group" if gathered else draw(st.sampled_from(KINDS)), "", AT, {}, gathered)
    actions = {
        name: Action(name, "", AT, tuple(draw(some(ACTIONS, 1))), tuple(draw(some(KINDS, 1)))) for name in ACTIONS
    }
    roles: dict[str, Role] = {}
    for name in ("r1", "r2", "r3"):
        allows, excepts = draw(some([*ACTIONS, "see*", "*"])), draw(some(ACTIONS, 1))
        roles[name] = Role(
            name, "", AT, patterns(allows), patterns(excepts), patterns(draw(some(list(roles))) if roles else [])
        )
    principals = [*people, Principal(PrincipalKind.AUTHENTICATED), Principal(PrincipalKind.ANONYMOUS)]
    bindings = st.builds(
        Binding,
        st.sampled_from(principals),
        st.sampled_from(list(roles)),
        st.sampled_from(addresses),
        st.just(""),
        st.just(AT),
    )
    platform = Platform("p", "", Habits(), AT, actions, scopes, roles)
    return Estate("e", "", "UTC", directory, {"p": platform}, tuple(draw(st.lists(bindings, max_size=5))), ())


def standing_in(estate: Estate) -> Ruling:
    """The stand-in that holds what an estate declares."""
    platform, directory = estate.platforms["p"], estate.directory
    words = lambda some: [p.text for p in some]  # noqa: E731
    nature = Nature(
        {s.address: s.kind for s in platform.scopes.values()},
        {s.address: [g.address for g in s.gathers] for s in platform.scopes.values()},
        {a.name: list(a.implies) for a in platform.actions.values()},
        {a.name: list(a.applies_to) for a in platform.actions.values()},
    )
    return Ruling(
        Site(
            "p",
            nature,
            people={u.login: Person(u.enabled) for u in directory.users.values()},
            groups={g.name: HeldGroup([str(m.member) for m in g.members]) for g in directory.groups.values()},
            roles={
                r.name: HeldRole(words(r.allows), words(r.excepts), words(r.builds_on)) for r in platform.roles.values()
            },
            bindings={str(n): HeldBinding(str(b.principal), b.role, b.scope) for n, b in enumerate(estate.bindings)},
        )
    )


class RandomEstatesTest(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(estates())
    def test_the_engine_and_the_stand_in_agree_on_every_cell(self, estate: Estate) -> None:
        index, ruling = EstateIndex(estate), standing_in(estate)
        for user in USERS:
            cells = cells_of(index, user, "p")
            for scope in estate.platforms["p"].scopes:
                for action in ACTIONS:
                    expected = ruling.allows(user, action, scope)
                    self.assertEqual(may(index, user, action, scope), expected, (user, action, scope))
                    self.assertEqual(action in cells.get(scope, {}), expected)

    @settings(max_examples=150, deadline=None)
    @given(estates(), st.sampled_from(USERS), st.sampled_from(ACTIONS), st.data())
    def test_every_chain_holds_link_by_link_and_every_no_has_a_reason(
        self, estate: Estate, user: str, action: str, data: st.DataObject
    ) -> None:
        scope = data.draw(st.sampled_from(list(estate.platforms["p"].scopes)))
        result = answer(EstateIndex(estate), user, action, scope)
        self.assertEqual(bool(result.failures), not result.allowed)
        for chain in result.chains:
            at = Principal(PrincipalKind.USER, user)
            for step in chain.memberships:
                self.assertEqual(step.member, at)
                self.assertIn(at, [m.member for m in estate.directory.groups[step.group.name].members])
                at = step.group
            self.assertIn(chain.binding.principal, (at, Principal(PrincipalKind.AUTHENTICATED)))
            place = chain.binding.scope
            for cover in chain.coverage:
                self.assertEqual(cover.outer, place)
                outer, inner = estate.platforms["p"].scopes[cover.outer], estate.platforms["p"].scopes[cover.inner]
                linked = (
                    inner.address in [g.address for g in outer.gathers]
                    if cover.gathers
                    else inner.parent == outer.address
                )
                self.assertTrue(linked)
                place = cover.inner
            self.assertEqual(place, scope)
        for miss in result.misses:
            if miss.change is Change.GIVE_HERE_TOO:
                more = Binding(miss.binding.principal, miss.binding.role, scope, "", AT)
                changed = Estate(
                    estate.name, "", "UTC", estate.directory, estate.platforms, (*estate.bindings, more), ()
                )
                self.assertTrue(may(EstateIndex(changed), user, action, scope))
