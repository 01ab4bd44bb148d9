"""What others put on a platform, drawn by chance, with an estate beside it: aligned, then taken back.

By the system's own client, everybody who is left alone can do exactly what they could before, and what is taken back is row
for row, or byte for byte, what it was.

    python -m tests.harm postgresql|subversion|folders|shelf|stand-in|sheet COUNT SEED
"""

from __future__ import annotations

import os
import pwd
import random
import subprocess
import sys
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psycopg

from tests.harm_held import Sheet, Shelf, StandIn
from tests.postgresql_server import PASSWORD, Running, running
from tests.support import EstateTest

SNAPSHOT = {
    "roles": """select rolname, rolcanlogin, rolsuper, rolcreaterole, rolcreatedb, rolbypassrls, rolinherit, rolreplication, rolconnlimit,
        rolpassword, shobj_description(oid, 'pg_authid') from pg_authid where rolname !~ '^pg_'""",
    "memberships": """select g.rolname, m.rolname, admin_option, coalesce(b.rolname, '') from pg_auth_members a join pg_roles g on g.oid = roleid
        join pg_roles m on m.oid = member left join pg_roles b on b.oid = grantor where m.rolname !~ '^pg_'""",
    "databases": """select datname, x.grantor::regrole::text, x.grantee::regrole::text, privilege_type, is_grantable from pg_database,
        aclexplode(coalesce(datacl, acldefault('d', datdba))) x where datname = current_database()""",
    "schemas": """select nspname, x.grantor::regrole::text, x.grantee::regrole::text, privilege_type, is_grantable from pg_namespace,
        aclexplode(coalesce(nspacl, acldefault('n', nspowner))) x where nspname !~ '^pg_|^information'""",
    "relations": """select c.oid::regclass::text, relowner::regrole::text, x.grantor::regrole::text, x.grantee::regrole::text, privilege_type, is_grantable
        from pg_class c join pg_namespace n on n.oid = relnamespace,
        aclexplode(coalesce(relacl, acldefault((case relkind when 'S' then 's' else 'r' end)::"char", relowner))) x
        where nspname !~ '^pg_|^information' and relkind in ('r', 'v', 'S')""",
    "columns": """select attrelid::regclass::text, attname, x.grantor::regrole::text, x.grantee::regrole::text, privilege_type, is_grantable
        from pg_attribute, aclexplode(attacl) x where attrelid >= 16384""",
    "functions": """select p.oid::regprocedure::text, x.grantor::regrole::text, x.grantee::regrole::text, privilege_type, is_grantable from pg_proc p
        join pg_namespace n on n.oid = pronamespace, aclexplode(coalesce(proacl, acldefault('f', proowner))) x where nspname !~ '^pg_|^information'""",
    "defaults": """select defaclrole::regrole::text, defaclobjtype::text, x.grantor::regrole::text, x.grantee::regrole::text, privilege_type
        from pg_default_acl, aclexplode(defaclacl) x""",
}
_MAY = """
select {who}, 'database', privilege from unnest(array['CONNECT', 'CREATE', 'TEMPORARY']) privilege
    where has_database_privilege({who}, current_database(), privilege)
union all select {who}, nspname, privilege from pg_namespace, unnest(array['USAGE', 'CREATE']) privilege
    where nspname !~ '^pg_|^information' and has_schema_privilege({who}, oid, privilege)
union all select {who}, c.oid::regclass::text, privilege from pg_class c join pg_namespace n on n.oid = relnamespace,
    unnest(array['SELECT', 'INSERT', 'UPDATE', 'DELETE', 'TRUNCATE', 'SELECT WITH GRANT OPTION']) privilege
    where nspname !~ '^pg_|^information' and relkind in ('r', 'v') and has_table_privilege({who}, c.oid, privilege)
union all select {who}, attrelid::regclass::text || '.' || attname, privilege from pg_attribute a join pg_class c on c.oid = attrelid
    join pg_namespace n on n.oid = relnamespace, unnest(array['SELECT', 'UPDATE']) privilege
    where nspname !~ '^pg_|^information' and relkind = 'r' and attnum > 0 and has_column_privilege({who}, attrelid, attnum, privilege)
union all select {who}, p.oid::regprocedure::text, 'EXECUTE' from pg_proc p join pg_namespace n on n.oid = pronamespace
    where nspname !~ '^pg_|^information' and has_function_privilege({who}, p.oid, 'EXECUTE')
"""
TABLES = ("buoys.readings", "buoys.moorings", "models.runs")
_PEOPLE, _GROUPS = ("p0", "p1", "p2", "p3"), ("g0", "g1", "g2")
_OTHERS, _ALONE = ("y0", "y1", "z0"), ("x0", "x1")
_STORE = """
platform: store
for: Where the readings are kept.
habits: {decides: any-allow, on the way: enter}
reached by:
  connector: postgresql
  url: postgresql://127.0.0.1:%d/marsh
  account: keeper
  token from: file secrets/store
  leave alone: [x0, x1]
actions:
  enter: {applies to: [database, schema]}
  select: {applies to: [table, view, sequence]}
  update: {applies to: [table, view, sequence]}
  delete: {applies to: [table, view]}
  execute: {applies to: [function]}
roles:
  reader: {for: Looking., allows: [enter, select]}
  writer: {for: Writing., builds on: reader, allows: [update]}
  remover: {for: Taking out., allows: [enter, delete]}
  caller: {for: Computing., allows: [enter, execute]}
"""
_ESTATE = """
estate: Saltmarsh
time zone: UTC
directories: {office: {ldif: people.ldif}}
include: [store.yaml, given.yaml]
"""
_SCOPES = ("store", "store/marsh", "store/marsh/buoys", "store/marsh/models", "store/marsh/buoys/readings", "store/marsh/models/runs")


def snapshot(server: Running, database: str = "marsh") -> dict[str, list[Any]]:
    """All rows that say who may do what, by name."""
    return {name: sorted(server.sql(query, database), key=repr) for name, query in SNAPSHOT.items()}


def may(server: Running, who: str, database: str = "marsh") -> set[Any]:
    """What the server says that a role may do, by itself or by taking on (SET ROLE) what it is in."""
    roles = server.sql(f"select rolname from pg_roles where pg_has_role('{who}', oid, 'member') and rolname !~ '^pg_'", database)
    return {row[1:] for (role,) in roles for row in server.sql(_MAY.replace("{who}", f"'{role}'::name"), database)}


def ldif(draw: random.Random) -> str:
    """The people and groups of the estate."""
    said = [f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: {p}\n" for p in _PEOPLE]
    for number, group in enumerate(_GROUPS):
        members = [f"member: uid={p},dc=s\n" for p in _PEOPLE if draw.random() < 0.5]
        members += [f"member: cn={g},dc=s\n" for g in _GROUPS[:number] if draw.random() < 0.3]
        said.append(f"dn: cn={group},dc=s\nobjectClass: groupOfNames\ncn: {group}\ndescription: {group}\n{''.join(members)}")
    return "\n".join(said)


def given(draw: random.Random, scopes: tuple[str, ...], roles: tuple[str, ...], *, groups_only: bool = False) -> str:
    """What the estate declares."""
    lines = []
    for _ in range(draw.randint(1, 5)):
        whom = draw.choice([f"group {g}" for g in _GROUPS] + ([] if groups_only else [f"user {p}" for p in _PEOPLE]))
        lines.append(f"  - {{give: {draw.choice(roles)}, to: {whom}, at: {draw.choice(scopes)}, because: Drawn.}}")
    return "bindings:\n" + "\n".join(lines) + "\n"


def grown(draw: random.Random) -> Iterator[str]:
    """What ten years put into a database."""
    for name in (*_PEOPLE[: draw.randint(0, 4)], "y0", "y1", "x0"):
        yield f"create role {name} login {'' if draw.random() < 0.8 else 'noinherit'}"
    for name in (*_GROUPS[: draw.randint(0, 3)], "z0", "x1"):
        yield f"create role {name} nologin {'' if draw.random() < 0.8 else 'noinherit'}"
    if draw.random() < 0.3:
        yield "comment on role z0 is 'Nobody knows.'"
    if draw.random() < 0.3:
        yield "alter role y0 password 'long-forgotten'"
    if draw.random() < 0.3:
        yield "alter table models.runs owner to y1"
    if draw.random() < 0.4:
        yield f"alter default privileges in schema {draw.choice(('buoys', 'models'))} grant select on tables to {draw.choice(('z0', 'g0', 'y0', 'x1'))}"
    everybody = (*_PEOPLE, *_GROUPS, *_OTHERS, *_ALONE)
    for _ in range(draw.randint(0, 6)):
        of, member = draw.choice((*_GROUPS, "z0", "x1")), draw.choice(everybody)
        yield f"grant {of} to {member}{' with admin option' if draw.random() < 0.3 else ''}"
    for who in draw.sample(everybody, 4):
        yield f"grant usage on schema {draw.choice(('buoys', 'models'))} to {who}"
    for _ in range(draw.randint(2, 9)):
        table, who = draw.choice(TABLES), draw.choice(everybody)
        what = draw.choice(("select", "update", "delete", "truncate", "select (buoy)", "update (buoy)"))
        yield f"grant {what} on {table} to {who if draw.random() < 0.9 else 'public'}"
    for _ in range(draw.randint(0, 4)):
        table, first, second, third = draw.choice(TABLES), *draw.sample(everybody, 3)
        yield f"grant select on {table} to {first} with grant option; set role {first}; grant select on {table} to {second} with grant option"
        if draw.random() < 0.5:
            yield f"set role {second}; grant select on {table} to {third}"
    if draw.random() < 0.5:
        yield f"grant execute on function models.surge to {draw.choice(everybody)} with grant option"
    if draw.random() < 0.5:
        yield "create table buoys.new_one (buoy text)"


class Postgresql(EstateTest):
    """One drawn database after the other, on one server."""

    forked = True
    server: Running

    def drawn(self, seed: int) -> None:
        """Draw, align, look, take back, look."""
        draw = random.Random(seed)
        sql = self.server.sql
        self._fresh()
        for statement in grown(draw):
            try:
                sql(f"{statement}; reset role", "marsh")
            except psycopg.Error as error:  # who is not there, or may not: then it did not happen
                if error.sqlstate not in ("42704", "42501", "0LP01", "0P000", "22023"):
                    raise
        self.write({"estate.yaml": _ESTATE, "store.yaml": _STORE % self.server.port, "given.yaml": "bindings: []\n", "people.ldif": ldif(draw)})
        self.secret("store", PASSWORD)
        self.lane(f"scope pull store --yes{draw.choice(('', ' --below store/marsh'))}")
        if draw.random() < 0.5:
            sql("create table buoys.newer (buoy text); create function models.added(int) returns int language sql as 'select 1'", "marsh")
        self.write({"given.yaml": given(draw, _SCOPES, ("reader", "writer", "remover", "caller"))})
        before, alone = snapshot(self.server), {name: may(self.server, name) for name in _ALONE}
        planned = self.run_lane("align", "store", "--dry-run", "--format", "json")
        steps = planned.json["steps"]
        ran = self.run_lane("align", "store", "--yes", "--remove-undeclared", "--most-removals", "100000")
        self.assertIn(ran.code, (0, 1), ran)
        self.assertNotIn("not made", ran.err)
        self.assertNotIn("otherwise than", ran.err)
        for name in _ALONE:
            self.assertFalse(alone[name] - may(self.server, name), f"{name} is left alone")
            more = may(self.server, name) - alone[name]
            told = " ".join(r for r in planned.json["remarks"] if r.startswith(f"{name},"))
            self.assertFalse(
                [row for row in more if f"{row[1].split()[0]} on store/marsh/{row[0].replace('.', '/').removesuffix('/buoy')}" not in told],
                (name, told),
            )
        drift = self.run_lane("drift", "store", "--format", "json").json[0]["differences"]
        self.assertFalse([d["says"] for d in drift if d["part"] in ("grants", "columns", "memberships", "people")])
        self._only_what_was_shown(before, snapshot(self.server), steps)
        if steps:
            self.lane("align store --undo --yes --even-so drawn --most-removals 100000")
        self.assertEqual(snapshot(self.server), before)

    def _only_what_was_shown(self, before: dict[str, list[Any]], after: dict[str, list[Any]], steps: list[Any]) -> None:
        """Every row that changed is about somebody whom a step names."""
        said = " ".join(s["says"] + str(s["before"]) + str(s["after"]) for s in steps)
        for part in before:
            for row in set(map(repr, before[part])) ^ set(map(repr, after[part])):
                names = [n for n in (*_PEOPLE, *_GROUPS, *_OTHERS, *_ALONE) if repr(n) in row]
                self.assertTrue(any(name in said for name in names) or "'-'" in row, (part, row))

    def _fresh(self) -> None:
        sql = self.server.sql
        everybody = ", ".join((*_PEOPLE, *_GROUPS, *_OTHERS, *_ALONE))
        sql("drop database if exists marsh", "postgres")
        for (name,) in sql(f"select rolname from pg_roles where rolname = any(array{everybody.split(', ')})", "postgres"):
            sql(f"drop owned by {name}; drop role {name}", "postgres")
        sql("create database marsh", "postgres")
        sql("""create schema buoys; create schema models; create table buoys.readings (buoy text, metres int); create table buoys.moorings (buoy text);
            create table models.runs (buoy text); create view models.levels as select buoy from buoys.readings;
            create function models.surge(metres numeric) returns numeric language sql as 'select metres'""", "marsh")  # fmt: skip


_SOURCE = """
platform: source
for: What the models are made of.
habits: {decides: %s}
reached by: {connector: subversion, repository: models, file: rules}
actions:
  read: {means: Look.}
  write: {means: Commit., implies: read}
scopes:
  surge: {is: folder, holds: {keys: folder}}
  scratch: folder
roles:
  reader: {for: Looking., allows: read}
  writer: {for: Committing., allows: write}
"""
_PATHS = ("/", "/surge", "/surge/keys", "/scratch", "/elsewhere/deep")


class Subversion(EstateTest):
    """One drawn file of rules after the other; `svnauthz` is the judge."""

    forked = True
    server = None

    def drawn(self, seed: int) -> None:
        draw = random.Random(seed)
        rules = self._rules(draw)
        decides = draw.choice(("any-allow", "last-match", "nearest"))
        self.write({
            "estate.yaml": _ESTATE.replace("store", "source"), "source.yaml": _SOURCE % decides, "people.ldif": ldif(draw), "rules": rules,
            "given.yaml": given(draw, ("source", "source/surge", "source/surge/keys", "source/scratch"), ("reader", "writer")),
        })  # fmt: skip
        if self._ask("validate")[0]:
            return  # the server would not take it
        others = [("other", path) for path in ("/", "/secret")]
        before = {key: self._ask("accessof", *key) for key in self._questions(others)}
        planned = self.run_lane("align", "source", "--dry-run", "--format", "json")
        self.assertIn(planned.code, (0, 1), planned)
        ran = self.run_lane("align", "source", "--yes", "--remove-undeclared", "--most-removals", "100000")
        self.assertIn(ran.code, (0, 1), ran)
        self.assertNotIn("otherwise than", ran.err)
        self.assertEqual(self._ask("validate")[0], 0, (self.folder / "rules").read_text())
        told = " ".join(planned.json["remarks"])
        for (user, repository, path), said in before.items():
            if self._ask("accessof", user, repository, path) != said:
                self.assertIn(user, told, (user, repository, path))
        for comment in (line for line in rules.decode().splitlines() if line.startswith("#")):
            self.assertIn(comment, (self.folder / "rules").read_text())
        if planned.json["steps"]:
            self.lane("align source --undo --yes --even-so drawn --most-removals 100000")
        self.assertEqual((self.folder / "rules").read_bytes(), rules)

    def _questions(self, others: list[tuple[str, str]]) -> Iterator[tuple[str, str, str]]:
        for repository, path in others:
            yield from ((user, repository, path) for user in (*_PEOPLE, "y0", "q q"))

    def _ask(self, verb: str, *about: str) -> tuple[int, str]:
        words = [f"--{key}={value}" for key, value in zip(("username", "repository", "path"), about, strict=False)]
        done = subprocess.run(["svnauthz", verb, *words, str(self.folder / "rules")], capture_output=True, text=True, check=False)
        return done.returncode, done.stdout

    def _rules(self, draw: random.Random) -> bytes:
        said = ["# The rules of all repositories.", "", "[groups]"]
        groups = [*_GROUPS[: draw.randint(0, 3)], "old", "theirs"]
        for group in groups:
            members = [m for m in (*_PEOPLE, "y0", "q q") if draw.random() < 0.4] or ["y0"]
            said.append(f"{group} = {', '.join(members)}")
            if draw.random() < 0.3:
                said += [f"  , {draw.choice(_PEOPLE)}", "# who that is, nobody knows"]
        if draw.random() < 0.3:
            said += ["[aliases]", "joe = CN=Joe,O=Marsh"]
        names = [*(f"@{g}" for g in groups), *_PEOPLE, "y0", "q q", "*", "$anonymous", "$authenticated"]
        names += ["&joe", "~y0"] if "joe" in " ".join(said) and draw.random() < 0.4 else []
        for path in draw.sample(_PATHS, draw.randint(0, 4)):
            said += ["", f"[models:{path}]"]
            said += ["# mind this"] if draw.random() < 0.4 else []
            said += [f"{name} = {draw.choice(('r', 'rw', ''))}" for name in draw.sample(names, draw.randint(1, 4))]
        for path in ("/", "/secret"):
            said += ["", f"[other:{path}]", "# none of your business"]
            said += [f"{name} = {draw.choice(('r', 'rw', ''))}" for name in draw.sample(names, 3)]
        if draw.random() < 0.2:
            said += ["[:glob:/**/keys]", "* ="]
        return ("\n".join(said) + ("\n" if draw.random() < 0.8 else "")).replace("\n", draw.choice(("\n", "\n", "\r\n"))).encode()


_SHARE = """
platform: share
for: Files that everybody works on.
habits: {decides: nearest, on the way: enter}
reached by: {connector: folders, folder: %s, leave alone: [jl-x0, sticky]}
actions:
  enter: {applies to: [folder]}
  list: {applies to: [folder], implies: enter}
  change: {applies to: [folder], implies: enter}
  read: {applies to: [file]}
  write: {applies to: [file], implies: read}
roles:
  reader: {for: Whoever reads., allows: [list, read]}
  writer: {for: Whoever writes., builds on: reader, allows: [change, write]}
"""
_TREE = ("a/", "a/b/", "a/b/one", "a/two", "c/", "c/three")


class Folders(EstateTest):
    """One drawn tree after the other; `getfacl`, and processes that become somebody, are the judges. Needs root."""

    forked = True
    server = None

    @classmethod
    def accounts(cls) -> None:
        for group in ("jl-g0", "jl-g1"):
            subprocess.run(["groupadd", "-f", group], check=True)
        for login, groups in (("jl-p0", "jl-g0"), ("jl-p1", "jl-g0,jl-g1"), ("jl-p2", ""), ("jl-x0", "jl-g1"), ("jl-y0", "jl-g0")):
            subprocess.run(
                ["useradd", "-M", "-N", "-s", "/usr/sbin/nologin", *(["-G", groups] if groups else []), login], check=False, capture_output=True
            )

    def drawn(self, seed: int) -> None:
        self.accounts()
        draw = random.Random(seed)
        self.top.chmod(0o755)
        share = self.top / "share"
        self._grow(draw, share)
        people = "".join(f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: x\n\n" for p in ("jl-p0", "jl-p1", "jl-p2"))
        for group, members in (("jl-g0", ("jl-p0", "jl-p1")), ("jl-g1", ("jl-p1",))):
            people += f"dn: cn={group},dc=s\nobjectClass: groupOfNames\ncn: {group}\n" + "".join(f"member: uid={m},dc=s\n" for m in members) + "\n"
        self.write(
            {"estate.yaml": _ESTATE.replace("store", "share"), "share.yaml": _SHARE % share, "people.ldif": people, "given.yaml": "bindings: []\n"}
        )
        self.lane(f"trust add --changes {share}")
        self.lane("scope pull share --yes")
        lines = [
            f"  - {{give: {draw.choice(('reader', 'writer'))}, to: {draw.choice(('group jl-g0', 'group jl-g1', 'user jl-p2'))}, at: {draw.choice(('share', 'share/a', 'share/a/b', 'share/c'))}, because: x.}}"
            for _ in range(draw.randint(1, 4))
        ]
        self.write({"given.yaml": "bindings:\n" + "\n".join(lines) + "\n"})
        before, could = self._lists(share), self._can(share)
        planned = self.run_lane("align", "share", "--dry-run", "--format", "json")
        self.assertIn(planned.code, (0, 1), planned)
        ran = self.run_lane("align", "share", "--yes", "--remove-undeclared", "--most-removals", "100000")
        self.assertIn(ran.code, (0, 1), ran)
        self.assertNotIn("otherwise than", ran.err)
        self.assertEqual(self._can(share), could, "left alone")
        if planned.json["steps"]:
            self.lane("align share --undo --yes --even-so drawn --most-removals 100000")
        self.assertEqual(self._lists(share), before)

    def _grow(self, draw: random.Random, share: Path) -> None:
        share.mkdir()
        for name in _TREE:
            if name.endswith("/"):
                (share / name).mkdir()
            else:
                (share / name).write_text("x")
        if draw.random() < 0.3:
            (share / "c/link").symlink_to("/etc/passwd")
        if draw.random() < 0.3:
            os.link(share / "a/two", share / "c/same")
        for path in (share, *sorted(share.rglob("*"))):
            if path.is_symlink():
                continue
            path.chmod(draw.choice((0o755, 0o750, 0o700, 0o775, 0o644, 0o1777 if path.is_dir() else 0o600)) | (0o111 if path == share else 0))
            if draw.random() < 0.3:
                os.chown(path, pwd.getpwnam(draw.choice(("jl-y0", "jl-p0"))).pw_uid, -1)
            for _ in range(draw.randint(0, 3)):
                whom = draw.choice(("u:jl-x0", "u:jl-p0", "u:jl-y0", "g:jl-g0", "g:jl-g1", "m:"))
                default = "d:" if path.is_dir() and draw.random() < 0.3 else ""
                subprocess.run(
                    ["setfacl", "-m", f"{default}{whom}:{draw.choice(('r-x', 'rwx', '--x', 'r--', '---'))}", str(path)],
                    check=False,
                    capture_output=True,
                )

    def _lists(self, share: Path) -> str:
        return subprocess.run(["getfacl", "-R", "-p", str(share)], check=True, capture_output=True, text=True).stdout

    def _can(self, share: Path) -> str:
        """What an account that is left alone can open, list, enter and change, tried."""
        paths = [str(path) for path in (share, *sorted(share.rglob("*"))) if not path.is_symlink()]
        code = "import os, sys\nfor p in sys.argv[1:]: print(p, *(os.access(p, m) for m in (os.R_OK, os.W_OK, os.X_OK)))"
        account = pwd.getpwnam("jl-x0")
        own = {"user": account.pw_uid, "group": account.pw_gid, "extra_groups": os.getgrouplist("jl-x0", account.pw_gid)}
        return subprocess.run(["/usr/bin/python3", "-c", code, *paths], check=True, capture_output=True, text=True, cwd="/", **own).stdout  # type: ignore[call-overload, no-any-return]


KINDS: dict[str, Callable[[], Any]] = {
    "postgresql": Postgresql, "subversion": Subversion, "folders": Folders, "shelf": Shelf, "stand-in": StandIn, "sheet": Sheet,
}  # fmt: skip


@contextmanager
def trial(kind: str) -> Iterator[Any]:
    """Something on which cases of one kind can be drawn."""
    on = KINDS[kind]()
    with running("select 1;") if kind == "postgresql" else open_nothing() as server:
        on.server = server
        yield on


@contextmanager
def open_nothing() -> Iterator[None]:
    yield None


def main() -> int:
    kind, count, seed = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    wrong = 0
    with trial(kind) as on:
        for number in range(seed, seed + count):
            on.setUp()
            try:
                on.drawn(number)
            except (AssertionError, unittest.SkipTest) as error:
                wrong += 1
                print(f"{kind} {number}: {str(error)[-6000:]}", flush=True)
            finally:
                on.doCleanups()
            if (number - seed) % 50 == 49:
                print(f"{number - seed + 1} of {count}", file=sys.stderr, flush=True)
    print(f"{count} of {kind}: {wrong} wrong")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
