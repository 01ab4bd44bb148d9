"""Estates drawn at random over all habits, conditions and shapes."""

from __future__ import annotations

from datetime import UTC, date, datetime
from random import Random
from typing import Any

from hypothesis import strategies as st

from justlane.model.bindings import Binding, Ceiling, Publication, Sense
from justlane.model.circumstances import ALWAYS, Condition, Hours
from justlane.model.estate import Binds, Connection, Decides, Estate, Habits, Platform, RolesHeld, SecretPlace
from justlane.model.findings import Source
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Directory, Group, LocalGroup, LocalMember, Membership, Principal, PrincipalKind, User
from justlane.model.roles import Action, Pattern, Role
from justlane.model.scopes import PLATFORM_KIND, RESOURCE_GROUP_KIND, Gathered, Scope
from tests.oracle import Facts

AT = Source("x", 1, 1)
USERS, GROUPS, ACTIONS, KINDS = "uvw", "ghij", ["see", "see-log", "run", "edit"], ["box", "bag"]
ROLES = ["r1", "r2", "r3"]
NOW = datetime(2026, 11, 25, 12, 30, tzinfo=UTC)  # a Wednesday
ZONES = ["", "Asia/Tokyo", "America/St_Johns"]
NETWORKS = ["192.0.2.0/24", "192.0.2.0/25", "192.0.2.128/25", "198.51.100.0/24", "2001:db8::/32"]
PLACES = ["", "192.0.2.9", "192.0.2.200", "198.51.100.7", "203.0.113.1", "2001:db8::7"]
AGES = [None, 0, 14, 15, 16, 400]
_DICE = Random(26)
FACTS = [
    Facts(datetime(2026, 11, day, hour, 15, tzinfo=UTC), address, factor, method, _DICE.random() < 0.5, _DICE.choice(AGES))
    for day, hour in ((25, 12), (25, 23), (28, 3))
    for address in PLACES
    for factor in (False, True)
    for method in ("", "key", "pin")
]


def patterns(words: list[str]) -> tuple[Pattern, ...]:
    return tuple(Pattern(word, AT) for word in words)


def some(items: Any, most: int = 3) -> st.SearchStrategy[list[Any]]:
    return st.lists(st.sampled_from(items), max_size=most, unique=True)


hours = st.sampled_from([Hours(480, 1080), Hours(1320, 360), Hours(0, 1440), Hours(720, 721)])
real_conditions = st.builds(
    Condition,
    networks=some(NETWORKS, 2).map(tuple),
    multi_factor=st.sampled_from([None, None, True, False]),
    methods=some(["key", "pin"], 1).map(tuple),
    managed_device=st.sampled_from([None, None, None, True, False]),
    signed_in_within=st.sampled_from([0, 0, 0, 15, 240]),
    not_networks=st.one_of(st.just(()), st.just(()), some(NETWORKS, 1).map(tuple)),
    not_methods=st.one_of(st.just(()), st.just(()), some(["key", "pin"], 1).map(tuple)),
    weekdays=st.sampled_from([(), (), (2,), (0, 1, 2, 3, 4), (5, 6)]),
    hours=st.lists(hours, max_size=1).map(tuple),
    time_zone=st.sampled_from(ZONES),
    first_day=st.sampled_from([None, None, date(2026, 11, 25), date(2026, 12, 1)]),
    last_day=st.sampled_from([None, None, date(2026, 11, 25), date(2026, 11, 24)]),
)
ends = st.sampled_from([None, None, date(2026, 11, 24), date(2026, 11, 25)])
conditions = st.one_of(st.just(ALWAYS), st.just(ALWAYS), real_conditions)

REACHED = Connection("http", "http://127.0.0.1:1", SecretPlace("environment", "NONE"), AT)


@st.composite
def estates(draw: st.DrawFn, only: Decides | None = None) -> Estate:
    """Any shape: membership loops, empty groups, nested resource groups, roles on roles, exceptions, all habits."""
    decides = only or draw(st.sampled_from(list(Decides)))
    people = [Principal(PrincipalKind.USER, u) for u in USERS] + [Principal(PrincipalKind.GROUP, g) for g in GROUPS]
    directory = Directory(
        {u: User(u, u, draw(st.integers(0, 5)) > 0, AT) for u in USERS},
        {g: Group(g, "", tuple(Membership(p, AT) for p in draw(some(people, 2))), AT) for g in GROUPS},
    )
    scopes = draw(trees(decides is not Decides.NEAREST))
    addresses = list(scopes)
    actions = {name: Action(name, "", AT, patterns(draw(some(ACTIONS, 1))), tuple(draw(some([*KINDS, PLATFORM_KIND], 2)))) for name in ACTIONS}
    roles: dict[str, Role] = {}
    for name in ROLES:
        allows, excepts = draw(some([*ACTIONS, "see*", "*"])), draw(some(ACTIONS, 1))
        bases = draw(some(list(roles))) if roles else []
        roles[name] = Role(name, "", AT, patterns(allows), patterns(excepts), patterns(bases))
    local = {"l": LocalGroup("l", "", tuple(LocalMember(p, AT, "", draw(ends)) for p in draw(some(people, 2))), AT)}
    principals = [*people, Principal(PrincipalKind.LOCAL_GROUP, "l"), AUTHENTICATED, ANONYMOUS]
    seldom = st.integers(0, 4).map(lambda n: n == 0)
    habits = Habits(
        decides,
        draw(st.sampled_from(["", "", *ROLES])),
        draw(st.sampled_from(["", "", *ACTIONS])),
        draw(st.sampled_from(["", "", *ACTIONS])),
        draw(st.sampled_from(list(RolesHeld))),
        Binds.GROUPS_AND_USERS,
        draw(seldom),
    )
    effects = [Sense.ALLOW] if decides is Decides.ANY_ALLOW else [Sense.ALLOW, Sense.ALLOW, Sense.DENY]
    bindings = st.builds(
        Binding,
        st.sampled_from(principals),
        st.sampled_from(ROLES),
        st.sampled_from(addresses),
        st.just(""),
        st.just(AT),
        st.sampled_from(effects),
        seldom,
        conditions,
        seldom,
    )
    drawn = draw(st.lists(bindings, max_size=6))
    for name in draw(some(["k1", "k2"], 2)):
        pairs = draw(st.lists(st.tuples(st.sampled_from(ROLES), st.sampled_from(addresses)), min_size=1, max_size=3))
        for given in draw(some(principals, 2)):
            effect, condition = draw(st.sampled_from(effects)), draw(conditions)
            drawn += [Binding(given, role, scope, "", AT, effect, False, condition, False, name) for role, scope in pairs]
    left_out = st.one_of(st.just(()), some(principals, 2).map(tuple))
    patterns_never = st.sampled_from([("see",), ("*",), ("e*",)])
    ceilings = st.builds(Ceiling, st.sampled_from(principals), patterns_never, conditions, st.just(""), st.just(AT), left_out)
    publications = st.builds(Publication, st.sampled_from(GROUPS), st.sampled_from(addresses), st.just(AT))
    platform = Platform(
        "p",
        "",
        habits,
        AT,
        actions,
        scopes,
        roles,
        REACHED,
        local,
        tuple(draw(st.lists(publications, max_size=3))),
        tuple(draw(st.lists(ceilings, max_size=1))),
    )
    ordered = (*(b for b in drawn if b.built_in), *(b for b in drawn if not b.built_in))
    return Estate("e", "", "Europe/Amsterdam", directory, {"p": platform}, ordered, ())


@st.composite
def trees(draw: st.DrawFn, gathering: bool) -> dict[str, Scope]:
    """A tree of up to seven scopes, some of them resource groups that gather later ones."""
    addresses = ["p"]
    for n in range(draw(st.integers(1, 6))):
        addresses.append(f"{draw(st.sampled_from(addresses))}/s{n}")
    scopes: dict[str, Scope] = {"p": Scope("p", PLATFORM_KIND, "", AT)}
    for place, address in enumerate(addresses[1:], 1):
        # only what stands later in the list and not above it is gathered, so that no loop arises
        targets = [t for t in addresses[place + 1 :] if not address.startswith(t)] if gathering and draw(st.booleans()) else []
        gathered = tuple(Gathered(t, AT) for t in (draw(some(targets)) if targets else []))
        kind = RESOURCE_GROUP_KIND if gathered else draw(st.sampled_from(KINDS))
        scopes[address] = Scope(address, kind, "", AT, {}, gathered)
    return scopes
