"""What a PostgreSQL cluster is told and says: roles that sign in are people, roles that do not are groups.

`PUBLIC` is `authenticated`. A place is `PLATFORM/DATABASE/SCHEMA/NAME`; a function's name has its argument types. The
privileges and where they apply are those of the manual, section 5.7 (Privileges).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

from justlane.engine.facts.index import EstateIndex
from justlane.model.estate import Decides, Estate
from justlane.model.findings import Source
from justlane.model.names import counted, some_of
from justlane.model.people import AUTHENTICATED, Principal, PrincipalKind
from justlane.platforms import plain_grants
from justlane.platforms.abilities import Abilities, Beyond, Settings
from justlane.platforms.entries import texts
from justlane.platforms.interface import Declared, Dialect, Entry, Part, Reading, Sort, Step
from justlane.platforms.postgresql import settlement
from justlane.platforms.postgresql.catalogue import name_of

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


SORTS = {
    "people": Sort("sign-in", "people who may sign in", neutral=True, accounts=True),
    "groups": Sort("group", "groups", neutral=True),
    "left_alone": Sort("grant to an account that is left alone", "grants to accounts that are left alone"),
}


class PostgresqlDialect(Dialect):
    """Roles, memberships and grants."""

    parts = ("people", "groups", "memberships", "grants", "columns", "left_alone", "owners", "superusers", "defaults")
    sorts = SORTS
    only_shown = frozenset(("owners", "superusers", "defaults"))
    beside = frozenset(("left_alone",))
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
        people = plain_grants.people_behind(index, principals, moment)
        groups = plain_grants.groups_behind(index, principals)
        grants: Part = {}
        lines: dict[tuple[str, str], tuple[Source, ...]] = {}
        scopes = index.platform(platform).platform.scopes
        for cell, sources in plain_grants.cells(index, platform, moment).items():
            entry = grant(cell.principal, scopes[cell.scope].kind, cell.action, cell.scope)
            name = name_of(entry)
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
            if member and _inherits(reading, member.name, entry):
                members.setdefault(str(entry.get("of")), []).append(member)
        directory = plain_grants.directory_of(reading.part("people"), members)
        return plain_grants.estate_of(index, platform, directory, _given(index, platform, reading))

    def words(self, part: str, name: str, entry: Entry) -> str:
        """As the server's own statements say it."""
        if part in settlement.GRANTS and "privilege" in entry:
            return settlement.in_words(entry)
        if "of" in entry:
            extra = "" if entry.get("inherits") else " (not inherited)"
            return f"{entry.get('member')} in {entry.get('of')}{extra}{' (may hand it out)' * bool(entry.get('admin'))}"
        gives = f"{', '.join(texts(entry.get('gives')))} to {entry.get('to')}"
        where = "/".join(str(entry[key]) for key in ("database", "schema") if entry.get(key))
        said = {
            "people": f"sign-in of {name}",
            "groups": f"group {name}",
            "owners": f"{entry.get('owner')} owns {entry.get('kind')} {entry.get('place')}: may do everything there",
            "superusers": f"{name} {entry.get('may')}",
            "defaults": f"what {entry.get('owner')} makes is given at once: {entry.get('sort')} in {where}: {gives}",
        }
        return said.get(part, name)

    def change_in_words(self, part: str, key: str, before: object, after: object) -> str:
        """In the words of what it means."""
        said = {
            ("grantable", True): "may hand it on",
            ("grantable", False): "may no longer hand it on",
            ("admin", True): "may put others into it",
            ("admin", False): "may no longer put others into it",
            ("enabled", True): "may sign in",
            ("enabled", False): "may no longer sign in",
            ("inherits", True): "has what its groups have without taking them on (INHERIT)",
            ("inherits", False): "has what its groups have only by taking them on (NOINHERIT)",
        }
        if key == "inherits" and after is None:
            after = True
        return said.get((key, after is True), super().change_in_words(part, key, before, after))

    def changes_in_words(self, part: str, before: Entry, after: Entry) -> Iterator[str]:
        """Who granted a membership, and whether a role is a person's, is told elsewhere."""
        told = ("by", "to", "member", "dormant")
        some = ({k: v for k, v in entry.items() if k not in told} for entry in (before, after))
        return super().changes_in_words(part, *some)

    def alike(self, part: str, held: Entry | None, wanted: Entry | None) -> bool:
        """A role that cannot sign in is nobody's; who granted a membership makes no difference; a name is one role."""
        some = [entry for entry in (held, wanted) if entry is None or not entry.get("dormant")]
        if part == "groups" and len(some) < 2:
            return not some or some[0] is None or _plain(part, held) == _plain(part, wanted)
        return _plain(part, held) == _plain(part, wanted)

    def settled(self, reading: Reading, steps: Sequence[Step], *, back: bool = False) -> list[Step]:
        """Roles that cannot go stay; what is left alone keeps what it can do."""
        return settlement.settle_steps(reading, steps, back=back)

    def remarks(self, reading: Reading, steps: Sequence[Step]) -> tuple[str, ...]:
        """Passwords of new people; what a role that is dropped had besides."""
        new = [step.name for step in steps if step.part == "people" and (step.after or {}).get("enabled") is True]
        said: list[str] = []
        if new:
            first = f"{settlement.sql_name(new[0])}"
            how = f"psql -c '\\password {first}'"
            what = counted(len(new), "person has", "people have")
            said.append(f"{what} no password yet, unless the server asks somebody else for it: {how}, and so on")
        elsewhere = [(s.name, tie) for s in steps if s.part == "people" for tie in _elsewhere(reading, s)]
        said += [f"{name} {tie}, and cannot sign in there either" for name, tie in elsewhere]
        dropped = [step.name for step in steps if step.part == "groups" and step.after is None and not step.by_hand]
        if dropped and "passwords unknown" in reading.part("unseen"):
            named = some_of(dropped, 3, len(dropped))
            said.append(
                f"whether {named} has a password cannot be seen by this account; --undo would not bring it back"
            )
        return (*said, *settlement.gained_anyway(reading, steps))

    def uncounted(self, index: EstateIndex, platform: str, reading: Reading, part: str, entry: Entry) -> str:
        """Single columns, what can be handed on, what the server's own roles and attributes bring."""
        if part == "superusers":
            return "" if entry.get("all") is True else "what that brings is in no count"
        if part == "defaults":
            return "what will be made is in no count"
        if part == "memberships":
            of = str(entry.get("of"))
            brings = [
                ("what the server gives that role is in no count", of.startswith("pg_") and of not in ALL_DATA),
                ("may put others into it", entry.get("admin") is True),
                ("may take it on by SET ROLE", not _inherits(reading, settlement.bare(entry.get("member")), entry)),
            ]
            return ", ".join(said for said, holds in brings if holds)
        if part not in settlement.GRANTS or "privilege" not in entry:
            return ""
        action = action_of(str(entry.get("kind")), str(entry.get("privilege")))
        declared = index.platform(platform).platform
        brings = [
            ("a single column is in no count", bool(entry.get("column"))),
            (f"{action or entry.get('privilege')} is no action of the estate", action not in declared.actions),
            ("the place is not known", str(entry.get("place")) not in declared.scopes),
            ("may hand it on", entry.get("grantable") is True),
        ]
        return ", ".join(said for said, holds in brings if holds)

    def new_places(self, index: EstateIndex, platform: str, reading: Reading) -> dict[str, str]:
        """Schemas, tables and so on that were made since the places were written down."""
        known = index.platform(platform).platform.scopes
        return {a: str(e.get("kind")) for a, e in sorted(reading.part("places").items()) if a not in known}

    def strokes(self, reading: Reading, steps: tuple[Step, ...]) -> tuple[tuple[Step, ...], ...]:
        """One transaction where one database is concerned; else first all that is added, a transaction for each. Roles
        are dropped last, each by itself, so that one that cannot be dropped keeps nothing else from being done."""
        drops = tuple((step,) for step in steps if step.part in ("people", "groups") and step.after is None)
        rest = settlement.in_order(reading, (s for s in steps if (s,) not in drops))
        by_database: dict[tuple[bool, str], list[Step]] = {}
        concerned = {database_of(step) for step in rest} - {""}
        if len(concerned) <= 1:
            return ((tuple(rest),) if rest else ()) + drops
        for step in rest:
            by_database.setdefault((settlement.takes(step), database_of(step)), []).append(step)
        added = sorted(key for key in by_database if not key[0])
        removed = sorted((key for key in by_database if key[0]), key=lambda key: (not key[1], key))
        return (*(tuple(by_database[key]) for key in (*added, *removed)), *drops)

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

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
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
        users = index.estate.directory.users
        some = [b for b in index.platform(platform).bindings if not b.built_in]
        named = {b.principal: b.source for b in reversed(some)}
        for principal, source in named.items():
            for name in plain_grants.groups_behind(index, [principal]) or [principal.name]:
                if name.startswith("pg_") or name == "public":
                    yield Beyond(source, f"{name} is a name of the server's own", "use another group", (name,))
                elif principal.kind is PrincipalKind.GROUP and name in users:
                    message = f"{name} is a group and a user too, and both would be one role"
                    yield Beyond(source, message, "use a group with another name", (name,))
        told = {principal.name for principal in named}
        everybody = (
            plain_grants.people_behind(index, named, datetime.now(UTC)),
            plain_grants.groups_behind(index, named),
        )
        for name in (name for some in everybody for name in some):
            if len(name.encode()) > _LONGEST and name not in told:
                message = f"a postgresql platform cannot express a name as long as {name!r}, which a group here holds"
                yield Beyond(next(iter(named.values())), message, f"at most {_LONGEST} bytes", (name,))


def database_of(step: Step) -> str:
    """The database in which a step has to be made; empty if any will do."""
    entry = step.after or step.before or {}
    if step.part not in settlement.GRANTS or "place" not in entry or entry.get("kind") == "database":
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


def _plain(part: str, entry: Entry | None) -> Entry | None:
    """What counts of a thing when two are compared."""
    if entry is None or (part == "people" and entry.get("enabled") is False):
        return None
    if part == "groups":
        return {key: value for key, value in entry.items() if key != "dormant"}
    if "of" in entry:
        return {**entry, "member": settlement.bare(entry.get("member")), "by": ""}
    return {**entry, **{key: settlement.bare(entry[key]) for key in ("to", "owner") if key in entry}}


def _inherits(reading: Reading, member: str, membership: Entry) -> bool:
    """Whether somebody has by themselves what a group has that they are in."""
    own = {**reading.part("people").get(member, {}), **reading.part("groups").get(member, {})}
    return membership.get("inherits") is True and own.get("inherits") is not False


def _elsewhere(reading: Reading, step: Step) -> list[str]:
    """What somebody who is to lose sign-in has in databases that nobody declared."""
    if (step.after or {}).get("enabled") is True:
        return []
    ties = texts(reading.part("roles").get(step.name, {}).get("ties"))
    known = [f" in database {address.split('/')[1]}" for address in reading.part("places") if address.count("/") == 1]
    return [tie for tie in ties if "in database" in tie and not tie.endswith(tuple(known))]


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
