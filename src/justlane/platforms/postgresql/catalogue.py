"""The catalogue of a cluster, read in one go for each database: places, and what they give to whom.

Queries are on the catalogues of the manual, chapter 53; privileges that were never granted are the server's defaults
(`acldefault`).
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

from justlane.platforms.interface import Entry, Part

KIND_OF_RELATION = {"r": "table", "p": "table", "f": "table", "v": "view", "m": "view", "S": "sequence"}

ROLES = """
select rolname, rolcanlogin, rolsuper, rolcreaterole, rolbypassrls, rolinherit, oid::int8
from pg_catalog.pg_roles order by 1
"""
MEMBERS_15 = """
select g.rolname, m.rolname, m.rolinherit, a.admin_option
from pg_catalog.pg_auth_members a
join pg_catalog.pg_roles g on g.oid = a.roleid join pg_catalog.pg_roles m on m.oid = a.member order by 1, 2
"""
MEMBERS_16 = """
select g.rolname, m.rolname, bool_or(a.inherit_option), bool_or(a.admin_option)
from pg_catalog.pg_auth_members a
join pg_catalog.pg_roles g on g.oid = a.roleid join pg_catalog.pg_roles m on m.oid = a.member
group by 1, 2 order by 1, 2
"""
DATABASES = """
select d.datname, r.rolname, x.grantee::int8, x.privilege_type, x.is_grantable
from pg_catalog.pg_database d join pg_catalog.pg_roles r on r.oid = d.datdba
left join lateral aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) x on true
where not d.datistemplate and d.datallowconn
"""
_OURS = "n.nspname !~ '^pg_' and n.nspname <> 'information_schema'"
SCHEMAS = f"""
select n.nspname, r.rolname, x.grantee::int8, x.privilege_type, x.is_grantable
from pg_catalog.pg_namespace n join pg_catalog.pg_roles r on r.oid = n.nspowner
left join lateral aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) x on true
where {_OURS}
"""
RELATIONS = f"""
select n.nspname, c.relname, c.relkind::text, r.rolname,
       x.grantee::int8, x.privilege_type, x.is_grantable, c.relrowsecurity
from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
join pg_catalog.pg_roles r on r.oid = c.relowner
left join lateral aclexplode(coalesce(
    c.relacl, acldefault((case c.relkind when 'S' then 's' else 'r' end)::"char", c.relowner))) x on true
where c.relkind in ('r', 'p', 'f', 'v', 'm', 'S') and {_OURS}
"""
FUNCTIONS = f"""
select n.nspname, p.proname || '(' || oidvectortypes(p.proargtypes) || ')', 'function', r.rolname,
       x.grantee::int8, x.privilege_type, x.is_grantable, false
from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
join pg_catalog.pg_roles r on r.oid = p.proowner
left join lateral aclexplode(coalesce(p.proacl, acldefault('f', p.proowner))) x on true
where {_OURS}
"""
COLUMNS = f"""
select distinct n.nspname, c.relname, a.attname
from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid
join pg_catalog.pg_namespace n on n.oid = c.relnamespace where a.attacl is not null and {_OURS}
"""
DEFAULTS = """
select r.rolname, coalesce(n.nspname, ''), d.defaclobjtype::text, d.defaclacl::text
from pg_catalog.pg_default_acl d join pg_catalog.pg_roles r on r.oid = d.defaclrole
left join pg_catalog.pg_namespace n on n.oid = d.defaclnamespace
"""
_DEPTH = {"database": 1, "schema": 2, "table": 3, "view": 3, "sequence": 3, "function": 3}
SORT = {"r": "tables", "S": "sequences", "f": "functions", "T": "types", "n": "schemas"}


class Known(NamedTuple):
    """The roles of a cluster."""

    by_oid: dict[int, str]
    sign_in: frozenset[str]
    left_alone: frozenset[str]
    """The account that aligns, and what the estate says is not its business."""

    def named(self, name: str) -> str:
        """`user NAME` or `group NAME`."""
        return f"user {name}" if name in self.sign_in else f"group {name}"

    def grantee(self, oid: int) -> str:
        """The same of a number; 0 is PUBLIC."""
        return "public" if oid == 0 else self.named(self.by_oid.get(oid, f"(gone {oid})"))


class Held:
    """What a reading is collected in."""

    def __init__(self, platform: str, known: Known) -> None:
        self._platform, self._known = platform, known
        self.places: dict[str, str] = {platform: "platform"}
        """Address -> kind."""
        names = ("people", "groups", "memberships", "grants", "owners", "superusers", "defaults", "unjudged")
        self.parts: dict[str, Part] = {name: {} for name in names}

    def roles(self, rows: Iterable[Any], members: Iterable[Any]) -> None:
        """People, groups, who is in what, and who may do everything. Call it last: a role that holds nothing and in
        which nobody is, is no group."""
        alone = self._known.left_alone
        some = [(of, m, inherits, admin) for of, m, inherits, admin in members if m not in alone and of not in alone]
        some = [row for row in some if not row[1].startswith("pg_")]
        in_use = {str(entry["to"]) for entry in self.parts["grants"].values()}
        in_use |= {f"group {name}" for of, m, *_ in some for name in (of, m)}
        for name, can_login, superuser, createrole, bypasses, *_ in rows:
            if name in alone or name.startswith("pg_"):
                continue
            if can_login:
                self.parts["people"][name] = {"enabled": True}
            elif f"group {name}" in in_use:
                self.parts["groups"][name] = {}
            may = "is a superuser: may do everything" if superuser else "may make roles" if createrole else ""
            may = may or ("is not held by row security" if bypasses else "")
            if may:
                self.parts["superusers"][name] = {"may": may, "all": bool(superuser)}
        for of, member, inherits, admin in some:
            entry: Entry = {"of": of, "member": self._known.named(member), "inherits": inherits, "admin": admin}
            self.parts["memberships"][f"{member} in {of}"] = entry

    def place(self, address: str, kind: str, owner: str, oid: int | None, privilege: str, grantable: bool) -> None:
        """One place with one of its grants; what the owner holds as such is shown once."""
        if address.count("/") > _DEPTH[kind]:
            self.unknown(f"the {kind} {address}: a name with a slash cannot be declared")
            return
        if address not in self.places:
            self.places[address] = kind
            if owner not in self._known.left_alone and not owner.startswith("pg_"):
                named = self._known.named(owner)
                self.parts["owners"][address] = {"owner": named, "kind": kind, "place": address}
        if oid is None:
            return
        to = self._known.grantee(oid)
        name = to.partition(" ")[2]
        if name != owner and name not in self._known.left_alone:
            entry: Entry = {"to": to, "privilege": privilege, "kind": kind, "place": address, "grantable": grantable}
            self.parts["grants"][f"{privilege} {address} {to}"] = entry

    def database(self, name: str, schemas: Iterable[Any], objects: Iterable[Any]) -> None:
        """What one database holds."""
        top = f"{self._platform}/{name}"
        for schema, *rest in schemas:
            self.place(f"{top}/{schema}", "schema", *rest)
        for schema, item, relkind, owner, oid, privilege, grantable, by_rows in objects:
            kind = KIND_OF_RELATION.get(relkind, relkind)
            address = f"{top}/{schema}/{item}"
            self.place(address, kind, owner, oid, privilege, grantable)
            if by_rows and "row security" not in self._known.left_alone:
                self.unknown(f"row security decides row by row in {address}")

    def columns(self, database: str, rows: Iterable[Any]) -> None:
        """Grants on single columns."""
        for schema, item, column in rows:
            self.unknown(f"a grant on the column {column} of {self._platform}/{database}/{schema}/{item} alone")

    def defaults(self, database: str, rows: Iterable[Any]) -> None:
        """What is given at once on whatever somebody makes."""
        for owner, schema, sort, acl in rows:
            where = f"{database}/{schema}" if schema else database
            gives = f"{SORT.get(sort, sort)} in {where}: {acl}"
            self.parts["defaults"][f"{owner} {sort} {where}"] = {"owner": owner, "gives": gives}

    def unknown(self, says: str) -> None:
        """Something whose meaning is not known."""
        self.parts["unjudged"][says] = {"says": says}
