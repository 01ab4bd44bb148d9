"""A real PostgreSQL cluster, brought into line and proved by really signing in."""

import unittest
from typing import Any

from tests.postgresql_server import PASSWORD, Running, require_postgresql, running
from tests.support import EstateTest

ESTATE = """
estate: Saltmarsh
for: The data store.
time zone: Europe/Amsterdam
directories: {office: {ldif: people.ldif}}
include: [store.yaml, given.yaml]
"""
STORE = """
platform: store
for: Where the readings are kept.
habits: {decides: any-allow, on the way: enter}
reached by:
  connector: postgresql
  url: postgresql://127.0.0.1:%d/saltmarsh
  account: keeper
  token from: file secrets/store
  passwords from: file secrets/people
actions:
  enter: {means: Go in., applies to: [database, schema]}
  make-in: {applies to: [database, schema], sensitive: yes}
  select: {applies to: [table, view, sequence]}
  insert: {applies to: [table, view]}
  update: {applies to: [table, view, sequence]}
  delete: {applies to: [table, view], sensitive: yes}
  use: {applies to: [sequence]}
  execute: {applies to: [function]}
roles:
  reader: {for: Whoever looks at readings., allows: [enter, select]}
  writer: {for: Whoever writes readings., builds on: reader, allows: [insert, update, use]}
  caller: {for: Whoever runs models., allows: [enter, execute]}
"""
GIVEN = """
bindings:
  - {give: reader, to: group crew, at: store/saltmarsh, because: They look.}
  - {give: writer, to: group keepers, at: store/saltmarsh/buoys, because: They write.}
  - {give: caller, to: group modellers, at: store/saltmarsh, because: They compute.}
"""
PEOPLE = {"imke.vos": "crew keepers", "bram.tolland": "crew", "edda.stroom": "modellers", "vik.sorrel": "", "lena.gone": "crew"}


def ldif() -> str:
    said = []
    for login in PEOPLE:
        off = "pwdAccountLockedTime: 000001010000Z\n" if login == "lena.gone" else ""
        said.append(f"dn: uid={login},dc=s\nobjectClass: inetOrgPerson\nuid: {login}\ncn: {login}\n{off}")
    for group, description in (("crew", "At sea."), ("keepers", "Of data."), ("modellers", "Of surges.")):
        members = "".join(f"member: uid={login},dc=s\n" for login, groups in PEOPLE.items() if group in groups.split())
        more = "member: cn=keepers,dc=s\n" if group == "crew" else ""
        said.append(f"dn: cn={group},dc=s\nobjectClass: groupOfNames\ncn: {group}\ndescription: {description}\n{members}{more}")
    return "\n".join(said)


class StoreTest(EstateTest):
    """With a server of its own."""

    forked = True
    server: Running

    @classmethod
    def setUpClass(cls) -> None:
        require_postgresql()
        cls.server = cls.enterClassContext(running())

    def setUp(self) -> None:
        super().setUp()
        self.write({"estate.yaml": ESTATE, "store.yaml": STORE % self.server.port, "given.yaml": "bindings: []\n", "people.ldif": ldif()})
        secrets = self.folder / "secrets"
        secrets.mkdir(mode=0o700)
        for name, text in (("store", PASSWORD), ("people", "".join(f"{login} {login}-word\n" for login in PEOPLE if login != "edda.stroom"))):
            (secrets / name).touch(mode=0o600)
            (secrets / name).write_text(text)

    def probed(self, code: int) -> Any:
        return self.lane("probe store --thorough --format json", code).json


class ManagedTest(StoreTest):
    def test_of_what_is_not_managed_nothing_is_taken(self) -> None:
        """By the server's own functions: who may do what outside is the same before and after."""
        sql = self.server.sql
        self.lane("scope pull store --yes")
        self.write({"given.yaml": GIVEN})
        sql('create role "otto.left" login')
        sql('grant usage on schema models to "otto.left"')
        sql('grant select on buoys.moorings to "otto.left"')
        outside = (
            "select rolname, has_schema_privilege(oid, 'models', 'usage'), has_function_privilege(oid, 'models.forget()', 'execute'), "
            "has_database_privilege(oid, current_database(), 'connect') from pg_roles where not rolname like 'pg_%' order by 1"
        )
        before = sql(outside)
        path = self.folder / "store.yaml"
        path.write_text(path.read_text().replace("\nroles:", "\nmanages: {places: store/saltmarsh/buoys}\nroles:", 1))
        ran = self.lane("align store --yes --remove-undeclared", 2)
        self.assertIn("bram.tolland at store/postgres", ran.err, "whoever gets an account may do what everybody may, outside too")
        self.assertEqual(sql(outside), before)
        self.lane("align store --yes --remove-undeclared --even-so x")
        self.assertLessEqual(set(before), set(sql(outside)))
        self.assertEqual(
            sql("select rolcanlogin from pg_roles where rolname = 'otto.left'"), [(True,)], "an account is there for what is outside too"
        )
        self.assertEqual(sql("select has_table_privilege('otto.left', 'buoys.moorings', 'select')"), [(False,)])
        self.assertTrue(self.lane("drift store --format json").json[0]["outside"])


class GrownTest(StoreTest):
    def test_grants_to_persons_become_a_few_lines_and_nobody_may_do_anything_else(self) -> None:
        """A hundred tables, by the server's own functions: before anything was declared, and after all was carried out."""
        sql = self.server.sql
        people = [f"p{n:02}.crew" for n in range(12)]
        groups = {"crew": people[:6], "keepers": people[6:9], "modellers": people[9:]}
        said = [f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: {p}\n" for p in people]
        for group, some in groups.items():
            members = "".join(f"member: uid={p},dc=s\n" for p in some)
            said.append(f"dn: cn={group},dc=s\nobjectClass: groupOfNames\ncn: {group}\ndescription: x\n{members}")
        self.write({"people.ldif": "\n".join(said)})
        script = [f'create role "{p}" login; grant connect on database saltmarsh to "{p}"' for p in people]
        script.append("create role stray login")
        for n, name in enumerate([*groups, "public"]):
            script.append(f"create schema grown{n}")
            script += [f"create table grown{n}.t{t:02} (a int)" for t in range(25)]
            rights = "select" if name in ("crew", "public") else "select, insert, update"
            for whom in [f'"{p}"' for p in groups.get(name, ())] or ["public"]:
                script += [f"grant usage on schema grown{n} to {whom}", f"grant {rights} on all tables in schema grown{n} to {whom}"]
        script += ['alter table grown0.t03 owner to "p07.crew"', "grant select on grown2.t07 to stray"]
        script.append('alter default privileges in schema grown1 grant select on tables to "p00.crew"')
        sql(";".join(script))
        ask = "r.rolname, c.oid::regclass::text, " + ", ".join(
            f"has_table_privilege(r.oid, c.oid, '{may}')" for may in ("select", "insert", "update", "delete")
        )
        ask = (
            f"select {ask} from pg_roles r, pg_class c where relnamespace::regnamespace::text like 'grown%' and rolname like 'p__.crew' order by 1, 2"
        )
        before = sql(ask)
        self.lane("scope pull store --yes")
        self.lane("drift store --adopt --yes")
        found = self.lane("regroup store --format json", 1).json
        self.assertEqual((found["before"]["to_persons"], found["after"]["lines"], found["weight"], found["bound"]), (300, 3, 3, 3))
        self.lane("regroup store --take all --yes")
        self.assertIn("give: writer\n    to: group keepers\n    at: store/saltmarsh/grown1\n", (self.folder / "store.yaml").read_text())
        self.lane("tidy store --yes")
        ran = self.lane("align store --yes --remove-undeclared --most-removals 5000", 1)
        self.assertIn("p07.crew owns table store/saltmarsh/grown0/t03", ran.out + ran.err, "what a command cannot take is for hands")
        self.assertEqual(sql(ask), before)
        self.assertEqual(
            sql("select count(*) from information_schema.role_table_grants where grantee like 'p__.crew' and grantee <> 'p07.crew'"), [(0,)]
        )


class PostgresqlTest(StoreTest):
    def test_from_the_catalogue_to_the_proof(self) -> None:
        sql = self.server.sql
        self.lane("scope pull store --yes")
        pulled = (self.folder / "store.yaml").read_text()
        for name in ("buoys", "readings: table", "trips: sequence", "levels: view", "surge(numeric, integer)", "public"):
            self.assertIn(name, pulled)
        self.assertIn("nothing new", self.lane("scope pull store").err)
        self.write({"given.yaml": GIVEN})
        self.lane("check --only beyond-the-platform", 0)
        planned = self.lane("align store --dry-run --format json", 1).json
        says = {s["says"]: s for s in planned["steps"]}
        self.assertIn("INSERT on table store/saltmarsh/buoys/readings to group keepers", says)
        self.assertEqual(says["USAGE on schema store/saltmarsh/buoys to group keepers"]["lines"], ["given.yaml:4"])
        self.assertEqual(says["CONNECT on database store/saltmarsh to public"]["change"], "remove", "what the server gives everybody is closed")
        self.assertEqual(says["EXECUTE on function store/saltmarsh/models/forget() to public"]["change"], "remove")
        self.assertNotIn("sign-in of lena.gone", says, "disabled")
        self.assertNotIn("sign-in of vik.sorrel", says, "nobody gives them anything")
        self.lane("align store --yes --remove-undeclared")
        self.lane("align store")
        self.lane("drift store")
        for login in PEOPLE:
            if login not in ("lena.gone", "vik.sorrel"):
                sql(f"alter role \"{login}\" password '{login}-word'")
        proved = self.probed(0)
        self.assertEqual(proved["kept_out"], [])
        self.assertEqual(proved["no_means"], ["edda.stroom"])
        self.assertGreater(proved["tried"], 20)
        self.assertEqual(sql("select count(*) from buoys.moorings"), [(1,)], "nothing is left of trying")
        # what was done behind our back
        sql('grant delete on buoys.moorings to "bram.tolland" with grant option')
        sql('alter role "imke.vos" superuser')
        sql('alter table buoys.readings owner to "bram.tolland"')
        sql('alter default privileges for role "bram.tolland" grant select on tables to public')
        sql("alter table buoys.moorings enable row level security")
        drift = self.lane("drift store --format json", 1).json[0]
        said = {d["says"]: d for d in drift["differences"]}
        self.assertEqual(
            said["DELETE on table store/saltmarsh/buoys/moorings to user bram.tolland with grant option"]["means"]["sensitive"], ["delete"]
        )
        for words in (
            "imke.vos is a superuser: may do everything",
            "user bram.tolland owns table store/saltmarsh/buoys/readings: may do everything there",
        ):
            self.assertGreater(said[words]["means"]["more"], 0)
        self.assertTrue(any(words.startswith("what bram.tolland makes is given at once: tables in saltmarsh") for words in said), said)
        self.assertIn("row security decides row by row in store/saltmarsh/buoys/moorings", drift["unjudged"])
        found = self.probed(1)["differences"]
        self.assertIn(
            ("bram.tolland", "delete", False, True),
            {(d["user"], d["action"], d["declared"], d["says"]) for d in found},
            "row security: asked, not tried",
        )
        self.assertIn("imke.vos", {d["user"] for d in found})
        ran = self.lane("align store --yes", 1)
        self.assertIn("the rest is for you", ran.err)
        self.assertEqual(sql("select has_table_privilege('bram.tolland', 'buoys.moorings', 'delete')"), [(False,)])
        sql('alter role "imke.vos" nosuperuser; alter table buoys.readings owner to keeper; alter table buoys.moorings disable row level security')
        sql('alter default privileges for role "bram.tolland" revoke select on tables from public')
        self.lane("align store --yes")
        self.probed(0)
        sql("alter table buoys.readings enable row level security")
        self.assertIn("row security decides row by row", " ".join(self.lane("align store", 1).out.split()), "never nothing to do")
        sql("alter table buoys.readings disable row level security")
        # what was done by hand, taken over
        sql('grant truncate, delete on buoys.moorings to crew; grant execute on function models.forget() to "bram.tolland"')
        ran = self.lane("drift store --adopt --yes")
        self.assertIn("not adopted: truncate to group crew at store/saltmarsh/buoys/moorings: the action is not declared", ran.err)
        given = (self.folder / "given.yaml").read_text()
        self.assertIn("give: held-delete", given)
        self.assertIn("give: caller\n    to: user bram.tolland\n    at: store/saltmarsh/models/forget()", given)
        sql("revoke truncate on buoys.moorings from crew")
        self.lane("drift store")
        # a leaver, and a group that nothing names any more
        self.write({"given.yaml": GIVEN.replace("group keepers", "user imke.vos").replace("group modellers", "group crew")})
        self.lane("align store --yes")
        self.assertEqual(sql("select rolcanlogin from pg_roles where rolname = 'edda.stroom'"), [(False,)], "never dropped, for what they own")
        self.assertEqual(sql("select count(*) from pg_roles where rolname in ('keepers', 'modellers')"), [(1,)], "keepers is in crew still")
        self.probed(0)
        self.lane("align store --undo --yes --even-so back")
        self.assertEqual(sql("select count(*) from pg_roles where rolname in ('keepers', 'modellers')"), [(2,)])

    def test_what_the_database_cannot_say_is_an_error_at_its_line(self) -> None:
        self.write(
            {
                "given.yaml": GIVEN
                + "  - {give: reader, to: anonymous, at: store, because: x.}\n  - {give: reader, to: group crew, at: store, when: {multi-factor: yes}, because: x.}\n",
                "store.yaml": (STORE % 1)
                .replace("select: {", "selct: {}\n  select: {")
                .replace(", on the way: enter", "")
                .replace("\nroles:", "\nscopes: {saltmarsh: {is: database, holds: {t: table, x: folder, buoys: schema}}}\nroles:"),
            }
        )
        found = {(f["line"], f["message"]) for f in self.lane("check --only beyond-the-platform --format json", 2).json["findings"]}
        self.assertEqual({(line, message.split("cannot express ")[-1]) for line, message in found}, {
            (2, "a postgresql platform always has `on the way: enter`"), (14, "the action 'selct'"), (21, "a table of a postgresql platform lies in a schema, not in store/saltmarsh"),
            (21, "a place that is a 'folder'"), (6, "a grant to anonymous"), (7, "a condition on the multi-factor"),
        })  # fmt: skip
        self.assertIn("nothing was changed", self.lane("align store --yes", 2).err)

    def test_who_cannot_be_reached_or_refuses_says_what_to_do(self) -> None:
        (self.folder / "secrets" / "store").write_text("wrong")
        self.assertIn("does not let keeper sign in", self.lane("drift store", 3).err)
        self.write({"store.yaml": STORE % 1})
        self.assertIn("start it, or correct the url", self.lane("drift store", 3).err)


if __name__ == "__main__":
    unittest.main()
