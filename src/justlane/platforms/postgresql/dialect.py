"""What a PostgreSQL cluster is told and says: roles that sign in are people, roles that do not are groups.

`PUBLIC` is `authenticated`. A place is `PLATFORM/DATABASE/SCHEMA/NAME`; a function's name has its argument types. The
privileges and where they apply are those of the manual, section 5.7 (Privileges).
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from justlane.engine.facts.index import EstateIndex
from justlane.model.estate import Decides, Estate
from justlane.model.findings import Source
from justlane.model.people import AUTHENTICATED, Principal, PrincipalKind
from justlane.platforms import plain_grants
from justlane.platforms.abilities import Abilities, Beyond, Settings
from justlane.platforms.interface import Declared, Dialect, Entry, Part, Reading, Step

_RELATION = ("table", "view")
PRIVILEGES: dict[str, dict[str, str]] = {
    "enter": {"database": "CONNECT", "schema": "USAGE"},
    "make-in": {"database": "CREATE", "schema": "CREATE"},
    "temporary": {"database": "TEMPORARY"},
    "select": {**dict.fromkeys(_RELATION, "SELECT"), "sequence": "SELECT"},
    "insert": dict.fromkeys(_RELATION, "INSERT"),
    "update": {**dict.fromkeys(_RELATION, "UPDATE"), "sequence": "UPDATE"},
    "delete": dict.fromkeys(_RELATION, "DELETE"),
    "truncate": dict.fromkeys(_RELATION, "TRUNCATE"),
    "references": dict.fromkeys(_RELATION, "REFERENCES"),
    "trigger": dict.fromkeys(_RELATION, "TRIGGER"),
    "use": {"sequence": "USAGE"},
    "execute": {"function": "EXECUTE"},
}
"""Action -> kind of place -> privilege."""

KINDS = ("database", "schema", "table", "view", "sequence", "function")
ALL_DATA = {
    "pg_read_all_data": frozenset(("enter", "select")),
    "pg_write_all_data": frozenset(("enter", "insert", "update", "delete")),
}
"""Roles that the server has by itself, and what their members may do everywhere below a database."""
ROW_SECURITY = "row security"
_LONGEST = 63


def grantee_of(text: object) -> Principal | None:
    """Whom a reading names: `public`, `user NAME` or `group NAME`; None for anything else."""
    if text == "public":
        return AUTHENTICATED
    kind, _, name = text.partition(" ") if isinstance(text, str) else ("", "", "")
    return Principal(PrincipalKind(kind), name) if kind in ("user", "group") and name else None


def grantee(principal: Principal) -> str:
    """A principal as a reading writes it."""
    return "public" if principal == AUTHENTICATED else str(principal)


def action_of(kind: str, privilege: str) -> str:
    """The action that a privilege is at a kind of place; empty if there is none."""
    return next((action for action, at in PRIVILEGES.items() if at.get(kind) == privilege), "")


class PostgresqlDialect(Dialect):
    """Roles, memberships and grants."""

    parts = ("people", "groups", "memberships", "grants", "owners", "superusers", "defaults")
    only_shown = frozenset(("owners", "superusers", "defaults"))
    everybody_signs_in = False
    settings = Settings(("url", "account"), ("token from", "trust", "passwords from", "leave alone"))
    abilities = Abilities(
        decides=frozenset((Decides.ANY_ALLOW,)),
        habits=frozenset(),
        required=(("on the way", "enter"),),
        conditions=frozenset(),
        principals=frozenset((PrincipalKind.GROUP, PrincipalKind.USER, PrincipalKind.AUTHENTICATED)),
        means=frozenset(("here only",)),
        actions=tuple((action, tuple(at)) for action, at in PRIVILEGES.items()),
        kinds=frozenset(KINDS),
        longest_name=_LONGEST,
    )

    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """Whoever is given something as a role, with memberships and one grant for each cell."""
        principals = dict.fromkeys(b.principal for b in plain_grants.in_date(index, platform, moment))
        people = plain_grants.people_behind(index, principals)
        groups = plain_grants.groups_behind(index, principals)
        grants: Part = {}
        lines: dict[tuple[str, str], tuple[Source, ...]] = {}
        scopes = index.platform(platform).platform.scopes
        for cell, sources in plain_grants.cells(index, platform, moment).items():
            entry = grant(cell.principal, scopes[cell.scope].kind, cell.action, cell.scope)
            name = " ".join(str(entry[key]) for key in ("privilege", "place", "to"))
            grants[name] = entry
            lines["grants", name] = sources
        parts: dict[str, Part] = {
            "people": {login: {"enabled": True} for login in people},
            "groups": {name: {} for name in groups},
            "memberships": dict(_memberships(index, groups, set(people))),
            "grants": grants,
        }
        return Declared(parts, lines)

    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """Grants, and what ownership, superusers and the server's own roles bring."""
        members: dict[str, list[Principal]] = {name: [] for name in reading.part("groups")}
        for entry in reading.part("memberships").values():
            member = grantee_of(entry.get("member"))
            if member and entry.get("inherits") is True:
                members.setdefault(str(entry.get("of")), []).append(member)
        directory = plain_grants.directory_of(reading.part("people"), members)
        return plain_grants.estate_of(index, platform, directory, _given(index, platform, reading))

    def words(self, part: str, name: str, entry: Entry) -> str:
        """As the server's own statements say it."""
        if part == "grants":
            more = " with grant option" if entry.get("grantable") else ""
            return f"{entry.get('privilege')} on {entry.get('kind')} {entry.get('place')} to {entry.get('to')}{more}"
        if part == "memberships":
            extra = "" if entry.get("inherits") else " (not inherited)"
            return f"{entry.get('member')} in {entry.get('of')}{extra}{' (may hand it out)' * bool(entry.get('admin'))}"
        said = {
            "people": f"sign-in of {name}",
            "groups": f"group {name}",
            "owners": f"{entry.get('owner')} owns {entry.get('kind')} {entry.get('place')}: may do everything there",
            "superusers": f"{name} {entry.get('may')}",
            "defaults": f"what {entry.get('owner')} makes is given at once: {entry.get('gives')}",
        }
        return said[part]

    def strokes(self, reading: Reading, steps: tuple[Step, ...]) -> tuple[tuple[Step, ...], ...]:
        """One transaction where one database is concerned; else first all that is added, a transaction for each."""
        by_database: dict[tuple[bool, str], list[Step]] = {}
        concerned = {database_of(step) for step in steps} - {""}
        if len(concerned) <= 1:
            return (steps,) if steps else ()
        for step in steps:
            by_database.setdefault((step.after is None, database_of(step)), []).append(step)
        added = sorted(key for key in by_database if not key[0])
        removed = sorted((key for key in by_database if key[0]), key=lambda key: (not key[1], key))
        return tuple(tuple(by_database[key]) for key in (*added, *removed))

    def as_grant(self, part: str, entry: Entry) -> tuple[Principal, frozenset[str], str, bool] | None:
        """A privilege without the right to hand it out."""
        to = grantee_of(entry.get("to")) if part == "grants" and not entry.get("grantable") else None
        action = action_of(str(entry.get("kind")), str(entry.get("privilege")))
        return (to, frozenset((action,)), str(entry.get("place")), True) if to and action else None

    def example_places(self) -> dict[str, str]:
        """One of each kind, and a second schema."""
        inner = {"t": "table", "v": "view", "q": "sequence", "f(integer)": "function"}
        tree = {"d": "database", "d/s": "schema", "d/x": "schema", "d/x/t": "table"}
        return {**tree, **{f"d/s/{name}": kind for name, kind in inner.items()}}

    def unjudged(self, reading: Reading) -> tuple[str, ...]:
        """Columns, rows, and places that are not declared."""
        return tuple(sorted(str(entry.get("says")) for entry in reading.part("unjudged").values()))

    def more_beyond(self, index: EstateIndex, platform: str) -> Iterator[Beyond]:
        """Places that stand in one another otherwise than in a cluster; names that are taken."""
        inside = {"database": "platform", "schema": "database", **dict.fromkeys(KINDS[2:], "schema")}
        scopes = index.platform(platform).platform.scopes
        for scope in scopes.values():
            if scope.parent and scope.kind in inside and scopes[scope.parent].kind != inside[scope.kind]:
                outer = inside[scope.kind]
                message = f"a {scope.kind} of a postgresql platform lies in a {outer}, not in {scope.parent}"
                yield Beyond(scope.source, message, "move it where it is", (scope.address,))
        directory = index.estate.directory
        for b in index.platform(platform).bindings:
            name, kind = b.principal.name, b.principal.kind
            if name.startswith("pg_") or name == "public":
                yield Beyond(b.source, f"{name} is a name of the server's own", "use another group", (name,))
            elif kind is PrincipalKind.GROUP and name in directory.users:
                message = f"{name} is a group and a user too, and both would be one role"
                yield Beyond(b.source, message, "use a group with another name", (name,))


def database_of(step: Step) -> str:
    """The database in which a step has to be made; empty if any will do."""
    entry = step.after or step.before or {}
    if step.part != "grants" or entry.get("kind") == "database":
        return ""
    parts = str(entry.get("place")).split("/")
    return parts[1] if len(parts) > 1 else ""


def grant(to: Principal, kind: str, action: str, place: str) -> Entry:
    """A grant as a reading writes it."""
    return {"to": grantee(to), "privilege": PRIVILEGES[action][kind], "kind": kind, "place": place, "grantable": False}


def _memberships(index: EstateIndex, groups: list[str], people: set[str]) -> Iterator[tuple[str, Entry]]:
    for name in groups:
        for m in index.estate.directory.groups[name].members:
            known = m.member.name in (groups if m.member.kind is PrincipalKind.GROUP else people)
            if known and m.member.name != name:
                entry: Entry = {"of": name, "member": str(m.member), "inherits": True, "admin": False}
                yield f"{m.member.name} in {name}", entry


_Given = Iterator[tuple[Principal, frozenset[str], str, bool]]


def _given(index: EstateIndex, platform: str, reading: Reading) -> _Given:
    prepared = index.platform(platform)
    together: dict[tuple[Principal, str], set[str]] = {}
    for entry in reading.part("grants").values():
        to, action = grantee_of(entry.get("to")), action_of(str(entry.get("kind")), str(entry.get("privilege")))
        if to and action:
            together.setdefault((to, str(entry.get("place"))), set()).add(action)
    for (to, place), actions in together.items():
        yield to, frozenset(actions), place, True
    for entry in reading.part("owners").values():
        owner = grantee_of(entry.get("owner"))
        place = str(entry.get("place"))
        if owner and place in prepared.platform.scopes:
            yield owner, plain_grants.applicable(prepared, place), place, True
    everything = frozenset(prepared.platform.actions)
    for login, entry in reading.part("superusers").items():
        if entry.get("all") is True:
            yield Principal(PrincipalKind.USER, login), everything, platform, False
    for name, everywhere in ALL_DATA.items():
        yield Principal(PrincipalKind.GROUP, name), everywhere, platform, False


DIALECT = PostgresqlDialect()
