"""Small estates, drawn by chance, of which most are within the abilities of a connector. For its tests."""

from __future__ import annotations

from random import Random

from justlane.model.bindings import Binding, Sense
from justlane.model.circumstances import ALWAYS, AXES, Condition
from justlane.model.estate import Connection, Decides, Estate, Habits, Platform, RolesHeld, SecretPlace
from justlane.model.findings import Source
from justlane.model.people import (
    ANONYMOUS,
    AUTHENTICATED,
    Directory,
    Group,
    LocalGroup,
    LocalMember,
    Membership,
    Principal,
    PrincipalKind,
    User,
)
from justlane.model.roles import Action, Pattern, Role
from justlane.model.scopes import PLATFORM_KIND, RESOURCE_GROUP_KIND, Gathered, Scope
from justlane.platforms.abilities import Abilities
from justlane.platforms.interface import Dialect

_AT = Source("drawn.yaml", 1, 1)
_PLAIN = (("see", ()), ("edit", ()), ("run", ()))
_NAME = "p"


def drawn_estate(draw: Random, kind: str, dialect: Dialect) -> Estate:
    """One estate with one platform, `p`."""
    can = dialect.abilities
    users = {f"u{n}": User(f"u{n}", f"u{n}", n != 4, _AT) for n in range(6)}
    groups = _groups(draw)
    actions = _actions(can)
    roles = {f"r{n}": _role(draw, f"r{n}", list(actions), n) for n in range(4)}
    local = {"l0": _local(draw)} if "local groups" in can.means and draw.random() < 0.4 else {}
    habits = _habits(draw, can, list(actions), list(roles))
    scopes = _scopes(draw, can, dialect, gathering=habits.decides is not Decides.NEAREST)
    settings = {"file": "x", "account": "keeper", "folder": "x"}
    needed = {key: value for key, value in settings.items() if key in dialect.settings.needed}
    columns = {"group": "G", "user": "U", "role": "R", "place": "P"} if "columns" in dialect.settings.needed else {}
    url = "http://127.0.0.1:1" if "url" in dialect.settings.needed else ""
    token = SecretPlace("environment", "X") if "token from" in dialect.settings.needed else None
    options = {"drawn": "yes"} if "with" in dialect.settings.needed else {}
    connection = Connection(kind, url, token, _AT, settings=needed, columns=columns, options=options)
    platform = Platform(_NAME, "", habits, _AT, actions, scopes, roles, connection, local)
    bindings = tuple(
        Binding(
            _principal(draw, can, local),
            draw.choice(list(roles)),
            draw.choice(list(scopes)),
            "because",
            Source("drawn.yaml", 10 + n, 1),
            _effect(draw, can, habits),
            "here only" in can.means and draw.random() < 0.2,
            _condition(draw, can),
        )
        for n in range(draw.randint(1, 7))
    )
    return Estate("drawn", "", "UTC", Directory(users, groups), {_NAME: platform}, bindings, ())


def _groups(draw: Random) -> dict[str, Group]:
    found: dict[str, Group] = {}
    for n in range(4):
        members = [Principal(PrincipalKind.USER, f"u{m}") for m in range(6) if draw.random() < 0.4]
        members += [Principal(PrincipalKind.GROUP, f"g{m}") for m in range(n) if draw.random() < 0.3]
        found[f"g{n}"] = Group(f"g{n}", "", tuple(Membership(m, _AT) for m in members), _AT)
    return found


def _local(draw: Random) -> LocalGroup:
    members = [Principal(PrincipalKind.GROUP, f"g{n}") for n in range(4) if draw.random() < 0.5]
    return LocalGroup("l0", "", tuple(LocalMember(m, _AT) for m in members), _AT)


def _actions(can: Abilities) -> dict[str, Action]:
    implied: dict[str, list[str]] = {}
    for first, second in can.implies if can.actions else (("edit", "see"),):
        implied.setdefault(first, []).append(second)
    return {
        name: Action(name, "", _AT, tuple(Pattern(to, _AT) for to in implied.get(name, ())), tuple(kinds))
        for name, kinds in (can.actions or _PLAIN)
    }


def _scopes(draw: Random, can: Abilities, dialect: Dialect, *, gathering: bool) -> dict[str, Scope]:
    scopes = {_NAME: Scope(_NAME, PLATFORM_KIND, "", _AT)}
    for path, kind in dialect.example_places().items():
        scopes[f"{_NAME}/{path}"] = Scope(f"{_NAME}/{path}", kind, "", _AT)
    if gathering and "resource groups" in can.means and draw.random() < 0.4:
        some = draw.sample(list(scopes)[1:], min(2, len(scopes) - 1))
        gathers = tuple(Gathered(address, _AT) for address in some)
        scopes[f"{_NAME}/gathered"] = Scope(f"{_NAME}/gathered", RESOURCE_GROUP_KIND, "", _AT, gathers=gathers)
    return scopes


def _role(draw: Random, name: str, actions: list[str], number: int) -> Role:
    some = draw.sample(actions, draw.randint(1, min(3, len(actions))))
    below = (Pattern("r0", _AT),) if number > 1 and draw.random() < 0.3 else ()
    return Role(name, "", _AT, tuple(Pattern(action, _AT) for action in some), (), below)


def _habits(draw: Random, can: Abilities, actions: list[str], roles: list[str]) -> Habits:
    required = dict(can.required)

    def said(key: str, values: list[str]) -> str:
        if key in required:
            return required[key]
        return draw.choice(values) if key in can.habits and draw.random() < 0.25 else ""

    held = RolesHeld.ONE_AT_A_TIME if said("roles held", ["one-at-a-time"]) else RolesHeld.TOGETHER
    return Habits(
        draw.choice(sorted(can.decides, key=lambda one: one.value)),
        open_role=said("unbound", roles),
        sign_in=said("sign-in", actions),
        on_the_way=said("on the way", actions),
        roles_held=held,
    )


def _principal(draw: Random, can: Abilities, local: dict[str, LocalGroup]) -> Principal:
    known = [
        *(Principal(PrincipalKind.GROUP, f"g{n}") for n in range(4)),
        *(Principal(PrincipalKind.USER, f"u{n}") for n in range(6)),
        *(Principal(PrincipalKind.LOCAL_GROUP, name) for name in local),
        AUTHENTICATED,
        ANONYMOUS,
    ]
    return draw.choice([p for p in known if p.kind in can.principals])


def _effect(draw: Random, can: Abilities, habits: Habits) -> Sense:
    may = "deny" in can.means and habits.decides is not Decides.ANY_ALLOW
    return Sense.DENY if may and draw.random() < 0.3 else Sense.ALLOW


def _condition(draw: Random, can: Abilities) -> Condition:
    if draw.random() < 0.75:
        return ALWAYS
    known = [part for axis in AXES if axis.name in can.conditions for part in axis.parts]
    if not known:
        return ALWAYS
    part = draw.choice(known)
    return Condition(**{part.field: part.example})
