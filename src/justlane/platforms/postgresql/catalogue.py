"""The catalogue of a cluster, read in one go for each database: places, and what they give to whom.

Queries are on the catalogues of the manual, chapter 53; privileges that were never granted are the server's defaults
(`acldefault`).
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

from justlane.platforms.entries import texts
from justlane.platforms.interface import Entry, Part

KIND_OF_RELATION = {"r": "table", "p": "table", "f": "table", "v": "view", "m": "view", "S": "sequence"}

ROLES = """
select rolname, rolcanlogin, rolsuper, rolcreaterole, rolbypassrls, rolinherit, oid::int8, rolreplication, rolcreatedb,
       rolconnlimit <> -1 or rolvaliduntil is not null
from pg_catalog.pg_roles order by 1
"""
MEMBERS_15 = """
select g.rolname, m.rolname, true, a.admin_option, coalesce(b.rolname, '')
from pg_catalog.pg_auth_members a
join pg_catalog.pg_roles g on g.oid = a.roleid join pg_catalog.pg_roles m on m.oid = a.member
left join pg_catalog.pg_roles b on b.oid = a.grantor order by 1, 2
"""
"""Up to version 15 it is the member itself that inherits or not."""
MEMBERS_16 = """
select g.rolname, m.rolname, bool_or(a.inherit_option), bool_or(a.admin_option), coalesce(min(b.rolname), '')
from pg_catalog.pg_auth_members a
join pg_catalog.pg_roles g on g.oid = a.roleid join pg_catalog.pg_roles m on m.oid = a.member
left join pg_catalog.pg_roles b on b.oid = a.grantor group by 1, 2 order by 1, 2
"""
DATABASES = """
select d.datname, r.rolname, x.grantee::int8, x.privilege_type, x.is_grantable, x.grantor::int8
from pg_catalog.pg_database d join pg_catalog.pg_roles r on r.oid = d.datdba
left join lateral aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) x on true
where not d.datistemplate and d.datallowconn
"""
_OURS = "n.nspname !~ '^pg_' and n.nspname <> 'information_schema'"
SCHEMAS = f"""
select n.nspname, r.rolname, x.grantee::int8, x.privilege_type, x.is_grantable, x.grantor::int8
from pg_catalog.pg_namespace n join pg_catalog.pg_roles r on r.oid = n.nspowner
left join lateral aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) x on true
where {_OURS}
"""
RELATIONS = f"""
select n.nspname, c.relname, c.relkind::text, r.rolname,
       x.grantee::int8, x.privilege_type, x.is_grantable, x.grantor::int8, c.relrowsecurity
from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
join pg_catalog.pg_roles r on r.oid = c.relowner
left join lateral aclexplode(coalesce(
    c.relacl, acldefault((case c.relkind when 'S' then 's' else 'r' end)::"char", c.relowner))) x on true
where c.relkind in ('r', 'p', 'f', 'v', 'm', 'S') and {_OURS}
"""
FUNCTIONS = f"""
select n.nspname, p.proname || '(' || oidvectortypes(p.proargtypes) || ')', 'function', r.rolname,
       x.grantee::int8, x.privilege_type, x.is_grantable, x.grantor::int8, false
from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
join pg_catalog.pg_roles r on r.oid = p.proowner
left join lateral aclexplode(coalesce(p.proacl, acldefault('f', p.proowner))) x on true
where {_OURS}
"""
COLUMNS = f"""
select n.nspname, c.relname, c.relkind::text, r.rolname, x.grantee::int8, x.privilege_type, x.is_grantable,
       x.grantor::int8, a.attname
from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid
join pg_catalog.pg_namespace n on n.oid = c.relnamespace join pg_catalog.pg_roles r on r.oid = c.relowner
cross join lateral aclexplode(a.attacl) x where a.attacl is not null and not a.attisdropped and {_OURS}
"""
DEFAULTS = """
select r.rolname, coalesce(n.nspname, ''), d.defaclobjtype::text, x.grantee::int8, x.privilege_type
from pg_catalog.pg_default_acl d join pg_catalog.pg_roles r on r.oid = d.defaclrole
left join pg_catalog.pg_namespace n on n.oid = d.defaclnamespace
cross join lateral aclexplode(d.defaclacl) x where x.grantee <> d.defaclrole
"""
TIES = """
select refobjid::int8, case
    when deptype = 'o' and classid = 'pg_default_acl'::regclass then 'has default privileges of its own'
    when deptype = 'o' then 'owns something'
    when deptype = 'r' then 'stands in a policy of row security'
    when classid = 'pg_default_acl'::regclass then 'stands in default privileges'
    else 'holds something' end, coalesce(b.datname, ''),
    deptype = 'a' and classid in
        ('pg_class'::regclass, 'pg_namespace'::regclass, 'pg_proc'::regclass, 'pg_database'::regclass)
from pg_catalog.pg_shdepend d left join pg_catalog.pg_database b on b.oid = d.dbid
where refclassid = 'pg_authid'::regclass and deptype in ('o', 'a', 'r', 'i') group by 1, 2, 3, 4
union select setrole::int8, 'has settings of its own', '', false from pg_catalog.pg_db_role_setting where setrole <> 0
union select objoid::int8, 'has a comment', '', false from pg_catalog.pg_shdescription
where classoid = 'pg_authid'::regclass
union select objoid::int8, 'has a label', '', false from pg_catalog.pg_shseclabel where classoid = 'pg_authid'::regclass
order by 1, 2, 3
"""
"""Role -> what it would take with it if it were dropped, in which database, and whether a reading shows that anyway."""
PASSWORDS = "select oid::int8 from pg_catalog.pg_authid where rolpassword is not null"
MAY_SEE_PASSWORDS = "select has_table_privilege('pg_catalog.pg_authid', 'select')"
OTHER_GRANTS = f"""
select 'the type ' || n.nspname || '.' || t.typname from pg_catalog.pg_type t
join pg_catalog.pg_namespace n on n.oid = t.typnamespace where t.typacl is not null and {_OURS}
union select 'the language ' || lanname from pg_catalog.pg_language where lanacl is not null and lanispl
union select 'the foreign server ' || srvname from pg_catalog.pg_foreign_server where srvacl is not null
union select 'the foreign data wrapper ' || fdwname from pg_catalog.pg_foreign_data_wrapper where fdwacl is not null
union select 'the tablespace ' || spcname from pg_catalog.pg_tablespace where spcacl is not null
union select 'the large object ' || oid from pg_catalog.pg_largeobject_metadata where lomacl is not null order by 1
"""
"""What may be granted on and is no place of an estate."""
_DEPTH = {"database": 1, "schema": 2, "table": 3, "view": 3, "sequence": 3, "function": 3}
PARTS = (
    "people", "groups", "memberships", "grants", "columns", "owners", "superusers", "defaults", "left_alone", "roles",
    "places", "unseen", "unjudged",
)  # fmt: skip
"""What a reading has. `left_alone` are grants to accounts that are left alone, and memberships with them; `roles` says
of some roles what ties them, `places` where things are, `unseen` what this account may not look at."""
SORT = {"r": "tables", "S": "sequences", "f": "functions", "T": "types", "n": "schemas"}


class KnownRoles(NamedTuple):
    """The roles of a cluster."""

    by_oid: dict[int, str]
    sign_in: frozenset[str]
    left_alone: frozenset[str]
    """The account that aligns, and what the estate says is not its business."""
    inherits_itself: bool
    """Whether it is the member that inherits what it is in, or not; in newer servers each membership says."""

    def named(self, name: str) -> str:
        """`user NAME` or `group NAME`."""
        return f"user {name}" if name in self.sign_in else f"group {name}"

    def grantee(self, oid: int) -> str:
        """The same of a number; 0 is PUBLIC."""
        return "public" if oid == 0 else self.named(self.by_oid.get(oid, f"(gone {oid})"))


class GrantRow(NamedTuple):
    """One item of an access list."""

    oid: int | None
    """To whom; None if the list is empty."""
    privilege: str
    grantable: bool
    grantor: int
    column: str = ""


class HeldRoles:
    """What a reading is collected in."""

    def __init__(self, platform: str, known: KnownRoles) -> None:
        self._platform, self._known = platform, known
        self.places: dict[str, str] = {platform: "platform"}
        """Address -> kind."""
        self.parts: dict[str, Part] = {name: {} for name in PARTS}

    def roles(self, rows: Iterable[Any], members: Iterable[Any], ties: dict[str, list[str]]) -> None:
        """People, groups, who is in what, and who may do everything. Call it last: a role that holds nothing and in
        which nobody is, is dormant: as good as a group, and as good as none."""
        alone = self._known.left_alone
        some = [row for row in members if not row[1].startswith("pg_")]
        in_use = {str(entry["to"]) for part in ("grants", "columns") for entry in self.parts[part].values()}
        in_use |= {f"group {name}" for of, m, *_ in some if not {of, m} & alone for name in (of, m)}
        for name, can_login, superuser, createrole, bypasses, inherits, _, replicates, makes, limited in rows:
            if name.startswith("pg_"):
                continue
            may = self._may(superuser, createrole, bypasses, replicates, makes)
            if may and name not in alone:
                self.parts["superusers"][name] = {"may": may, "all": bool(superuser)}
            entry: Entry = {} if inherits or not self._known.inherits_itself else {"inherits": False}
            if name in alone:
                self.parts["roles"][name] = {"alone": True, "all": bool(superuser)}
            elif can_login:
                self.parts["people"][name] = {"enabled": True, **entry}
            elif f"group {name}" in in_use:
                self.parts["groups"][name] = entry
            else:
                self.parts["groups"][name] = {"dormant": True, **entry}
            why = [*ties.get(name, ()), *(["has limits of its own"] if limited else [])]
            why += [may] if may else []
            if why and name not in alone:
                self.parts["roles"].setdefault(name, {})["ties"] = why
        for of, member, inherits, admin, by in some:
            row: Entry = {"of": of, "member": self._known.named(member), "inherits": inherits, "admin": admin, "by": by}
            part = "left_alone" if {of, member} & alone else "memberships"
            self.parts[part][f"{member} in {of}"] = row

    @staticmethod
    def _may(superuser: bool, createrole: bool, bypasses: bool, replicates: bool, makes: bool) -> str:
        if superuser:
            return "is a superuser: may do everything"
        said = {
            "make roles, and take on most of them": createrole,
            "read all that is stored, by replication": replicates,
        }
        said |= {"make databases": makes}
        may = [what for what, holds in said.items() if holds]
        found = [f"may {' and '.join(may)}"] if may else []
        return ", ".join([*found, *(["is not held by row security"] if bypasses else [])])

    def place(self, address: str, kind: str, owner: str, given: GrantRow) -> None:
        """One place with one of its grants; what the owner holds as such is shown once."""
        if address.count("/") > _DEPTH[kind]:
            self.unknown(f"the {kind} {address}: a name with a slash cannot be declared")
            return
        if address not in self.places:
            self.places[address] = kind
            if address.count("/") > 0:
                self.parts["places"][address] = {"kind": kind, "owner": owner}
            if owner not in self._known.left_alone and not owner.startswith("pg_"):
                named = self._known.named(owner)
                self.parts["owners"][address] = {"owner": named, "kind": kind, "place": address}
        if given.oid is not None:
            self._grant(address, kind, owner, given)

    def _grant(self, address: str, kind: str, owner: str, given: GrantRow) -> None:
        """A grant; one that the owner did not make says who did, and several to the same are apart."""
        assert given.oid is not None
        to, by = self._known.grantee(given.oid), self._known.by_oid.get(given.grantor, f"(gone {given.grantor})")
        name = to.partition(" ")[2]
        if name == owner:
            return
        entry: Entry = {"to": to, "privilege": given.privilege, "kind": kind, "place": address}
        entry |= {"grantable": given.grantable}
        entry |= {"column": given.column} if given.column else {}
        entry |= {"by": by} if by != owner else {}
        part = "left_alone" if name in self._known.left_alone else "columns" if given.column else "grants"
        self.parts[part][name_of(entry)] = entry

    def database(self, name: str, schemas: Iterable[Any], objects: Iterable[Any], columns: Iterable[Any]) -> None:
        """What one database holds."""
        top = f"{self._platform}/{name}"
        for schema, owner, *given in schemas:
            self.place(f"{top}/{schema}", "schema", owner, GrantRow(*given))
        for schema, item, relkind, owner, oid, privilege, grantable, grantor, by_rows in objects:
            kind = KIND_OF_RELATION.get(relkind, relkind)
            address = f"{top}/{schema}/{item}"
            self.place(address, kind, owner, GrantRow(oid, privilege, grantable, grantor))
            if by_rows and "row security" not in self._known.left_alone:
                self.unknown(f"row security decides row by row in {address}")
        for schema, item, relkind, owner, *given in columns:
            self.place(f"{top}/{schema}/{item}", KIND_OF_RELATION.get(relkind, relkind), owner, GrantRow(*given))

    def defaults(self, database: str, rows: Iterable[Any]) -> None:
        """What is given at once on whatever somebody makes."""
        for owner, schema, sort, oid, privilege in rows:
            to = self._known.grantee(oid)
            if to.partition(" ")[2] in self._known.left_alone:
                continue
            name = f"{owner} {sort} {database}/{schema} {to.partition(' ')[2] or to}"
            entry = self.parts["defaults"].setdefault(name, {
                "owner": owner, "sort": SORT.get(sort, sort), "database": database, "schema": schema, "to": to,
                "gives": [],
            })  # fmt: skip
            entry["gives"] = sorted({*texts(entry["gives"]), privilege})

    def unknown(self, says: str) -> None:
        """Something whose meaning is not known."""
        self.parts["unjudged"][says] = {"says": says}


def name_of(entry: Entry) -> str:
    """How a reading calls a grant: by what, where, to whom, and by whom if that is not the owner."""
    to = str(entry["to"]).partition(" ")[2] or "public"
    column = f" ({entry['column']})" if entry.get("column") else ""
    by = f" by {entry['by']}" if entry.get("by") else ""
    return f"{entry['privilege']}{column} {entry['place']} {to}{by}"
