"""What others made in a PostgreSQL cluster: nothing of it is harmed, hidden or called harmless. The judge is the server."""

import json
from typing import Any

import psycopg

from tests.harm import snapshot
from tests.postgresql_server import PASSWORD, Running, require_postgresql, running
from tests.support import EstateTest
from tests.test_postgresql import ESTATE, GIVEN, PEOPLE, STORE, ldif

ALONE = "leave alone: [backup, watch]\n"


class OthersTest(EstateTest):
    forked = True
    server: Running

    @classmethod
    def setUpClass(cls) -> None:
        require_postgresql()
        cls.server = cls.enterClassContext(running())
        cls.server.sql("alter database saltmarsh rename to pristine", database="postgres")

    def setUp(self) -> None:
        super().setUp()
        self.sql("drop database if exists saltmarsh with (force)", database="postgres")
        for (name,) in self.sql("select quote_ident(rolname) from pg_roles where rolname !~ '^pg_|^keeper$'", database="postgres"):
            self.sql(f"drop owned by {name}; drop role {name}", database="postgres")
        self.sql("create database saltmarsh template pristine", database="postgres")
        store = (STORE % self.server.port).replace("actions:\n", f"  {ALONE}actions:\n", 1)
        self.write({"estate.yaml": ESTATE, "store.yaml": store, "given.yaml": "bindings: []\n", "people.ldif": ldif()})
        self.secret("store", PASSWORD)
        self.secret("people", "".join(f"{login} {login}-word\n" for login in PEOPLE))
        self.lane("scope pull store --below store/saltmarsh --yes")
        self.write({"given.yaml": GIVEN})

    def sql(self, text: str, **on: str) -> list[Any]:
        return self.server.sql(text, **on)

    def drift(self, code: int = 1) -> dict[str, Any]:
        return {d["says"]: d for d in self.lane("drift store --format json", code).json[0]["differences"]}

    def brought_into_line(self) -> None:
        self.assertIn("take over what is right: justlane drift store --adopt", self.lane("align store --yes", 2).err)
        self.lane("align store --yes --remove-undeclared")
        for login in ("imke.vos", "bram.tolland", "edda.stroom"):
            self.sql(f"alter role \"{login}\" password '{login}-word'")

    def may_read(self, login: str, table: str, password: str = "") -> bool:
        try:
            self.sql(f"select * from {table} limit 1", user=login, password=password or f"{login}-word")
        except psycopg.Error:
            return False
        return True


class UndoTest(OthersTest):
    def test_options_and_columns_come_back_row_for_row(self) -> None:
        self.brought_into_line()
        self.sql(
            'grant select, delete on buoys.moorings to "bram.tolland" with grant option; grant select (buoy), update (fathoms) on buoys.moorings to "bram.tolland"'
        )
        self.sql(
            'grant keepers to "imke.vos" with admin option; grant keepers to "edda.stroom" with admin option; alter role "edda.stroom" noinherit'
        )
        before = snapshot(self.server, "saltmarsh")
        says = {s["says"]: s for s in self.lane("align store --dry-run --format json", 1).json["steps"]}
        self.assertIn("UPDATE of the column fathoms on table store/saltmarsh/buoys/moorings to user bram.tolland", says)
        self.assertIn("user imke.vos in keepers: may no longer put others into it", says)
        self.assertIn("sign-in of edda.stroom: has what its groups have without taking them on (INHERIT)", says)
        self.lane("align store --yes")
        self.assertNotEqual(snapshot(self.server, "saltmarsh"), before)
        ran = self.lane("align store --undo --yes --even-so back")
        self.assertIn("holds again what it held before", ran.err)
        self.assertEqual(snapshot(self.server, "saltmarsh"), before)

    def test_what_does_not_come_back_is_named_and_ends_with_1(self) -> None:
        self.lane("align store --yes --remove-undeclared")
        self.sql("grant truncate on buoys.moorings to crew")
        ran = self.lane("align store --undo --yes --even-so back", 3)
        self.assertIn("group crew", ran.err)
        self.assertIn("TRUNCATE on table store/saltmarsh/buoys/moorings to group crew", " ".join(ran.err.split()))


class ClosingTest(OthersTest):
    def test_a_retired_group_in_default_privileges_keeps_no_door_open(self) -> None:
        self.sql("create role retired; grant usage on schema buoys to retired; grant select on buoys.readings, buoys.moorings to retired")
        self.sql("create role mia login password 'mia-word'; create role tom login password 'tom-word'; grant retired to mia, tom")
        self.sql("alter default privileges in schema buoys grant select on tables to retired")
        self.assertTrue(self.may_read("mia", "buoys.readings", "mia-word"))
        plan = " ".join(self.lane("align store --dry-run", 1).out.split())
        self.assertIn(
            "by hand remove: group retired: it stays as a role without anybody, since it stands in default privileges in database saltmarsh", plan
        )
        self.assertIn('DROP OWNED BY "retired"; DROP ROLE "retired"', plan)
        self.lane("align store --yes --remove-undeclared", 1)
        for login in ("mia", "tom"):
            self.assertFalse(self.may_read(login, "buoys.readings", f"{login}-word"))
        self.assertEqual(self.sql("select count(*) from pg_auth_members where roleid = 'retired'::regrole"), [(0,)])
        self.sql('drop owned by "retired"; drop role "retired"')
        self.lane("align store")

    def test_what_the_server_refuses_stops_nothing_else(self) -> None:
        """An event trigger stands in for whatever one does not think of: it refuses one grant, by its table."""
        self.brought_into_line()
        self.sql('grant delete on buoys.moorings to "bram.tolland"; grant truncate on buoys.readings to crew')
        self.sql("""create function public.no() returns event_trigger language plpgsql as
            'begin if current_query() like ''%TRUNCATE%'' then raise insufficient_privilege; end if; end'; create event trigger no on ddl_command_start execute function public.no()""")
        self.sql("revoke execute on function public.no() from public")
        ran = self.lane("align store --yes", 3)
        self.assertIn("not made: remove TRUNCATE on table store/saltmarsh/buoys/readings to group crew", ran.err)
        self.assertEqual(self.sql("select has_table_privilege('bram.tolland', 'buoys.moorings', 'delete')"), [(False,)])
        notes = [json.loads(line) for line in (self.folder / "journal/store.jsonl").read_text().splitlines()]
        self.assertIn("refused", {note["event"] for note in notes})
        self.sql("drop event trigger no; drop function public.no()")
        self.lane("align store --yes")


class LeftAloneTest(OthersTest):
    def test_what_came_through_public_or_was_handed_on_stays(self) -> None:
        self.sql("create role backup login password 'backup-word'; create role watch login password 'watch-word'")
        self.sql("grant usage on schema buoys to backup, watch, public; grant select on buoys.readings to public")
        self.sql(
            "create role owl login password 'owl-word'; grant select on buoys.moorings to owl with grant option; set role owl; grant select on buoys.moorings to watch"
        )
        alone = {"backup": "buoys.readings", "watch": "buoys.moorings"}
        for login, table in alone.items():
            self.assertTrue(self.may_read(login, table))
        says = {s["says"] for s in self.lane("align store --dry-run --format json", 1).json["steps"] if s["keeps"]}
        self.assertIn("CONNECT on database store/saltmarsh to user backup, which is left alone and had it through others", says)
        self.assertIn("SELECT on table store/saltmarsh/buoys/moorings to user watch, handed on by owl", says)
        self.lane("align store --yes --remove-undeclared")
        for login, table in alone.items():
            self.assertTrue(self.may_read(login, table), f"{login} is left alone")
        self.assertFalse(self.may_read("owl", "buoys.moorings", "owl-word"))
        self.lane("align store")

    def test_what_was_granted_on_is_a_step_of_its_own(self) -> None:
        self.brought_into_line()
        self.sql("grant usage on schema buoys to crew")
        self.sql(
            'grant select on buoys.moorings to "imke.vos" with grant option; set role "imke.vos"; grant select on buoys.moorings to "edda.stroom"'
        )
        before = snapshot(self.server, "saltmarsh")
        says = [s["says"] for s in self.lane("align store --dry-run --format json", 1).json["steps"]]
        on, by = (
            f"SELECT on table store/saltmarsh/buoys/moorings to user {said}"
            for said in ("edda.stroom, handed on by imke.vos", "imke.vos with grant option")
        )
        self.assertLess(says.index(on), says.index(by))
        self.lane("align store --yes")
        self.lane("align store --undo --yes --even-so back")
        self.assertEqual(snapshot(self.server, "saltmarsh"), before)

    def test_the_account_that_aligns_never_shuts_itself_out(self) -> None:
        self.sql(
            "create role steward login createrole password 'steward-word'; alter database saltmarsh owner to steward; alter schema buoys owner to steward"
        )
        self.sql("alter schema models owner to steward; alter table buoys.readings owner to steward; alter table buoys.moorings owner to steward")
        self.sql("alter view models.levels owner to steward; alter sequence buoys.trips owner to steward")
        self.sql("alter function models.surge owner to steward; alter function models.forget owner to steward; alter schema public owner to steward")
        store = (self.folder / "store.yaml").read_text().replace("account: keeper", "account: steward").replace("[backup, watch]", "[keeper]")
        self.write({"store.yaml": store})
        self.secret("store", "steward-word")
        self.lane("align store --yes --remove-undeclared")
        self.lane("align store")
        self.assertEqual(self.sql("select 1", user="steward", password="steward-word"), [(1,)])


class NotHarmlessTest(OthersTest):
    def test_undeclared_tables_are_judged_and_what_a_scope_gives_stays_there(self) -> None:
        self.brought_into_line()
        self.sql("alter default privileges in schema buoys grant select on tables to crew")
        self.sql('create table buoys.later (buoy text); create table models.secret (word text); grant update on models.secret to "bram.tolland"')
        said = self.drift()["UPDATE on table store/saltmarsh/models/secret to user bram.tolland"]
        self.assertEqual((said["difference"], said["means"]["more"], said["means"]["named"]), ("added", 1, ["bram.tolland"]))
        plan = self.lane("align store --dry-run --format json", 1).json
        self.assertIn("store/saltmarsh/buoys/later", plan["new_places"])
        self.assertNotIn("SELECT on table store/saltmarsh/buoys/later to group crew", {s["says"] for s in plan["steps"]})
        self.assertIn("INSERT on table store/saltmarsh/buoys/later to group keepers", {s["says"] for s in plan["steps"]}, "what the scope gives")
        self.lane("align store --yes", 1)
        self.assertTrue(self.may_read("bram.tolland", "buoys.later"))
        self.assertIn("2 places not declared", " ".join(self.lane("drift store", 1).out.split()))

    def test_a_column_a_role_of_the_server_and_an_option_are_never_called_harmless(self) -> None:
        self.brought_into_line()
        self.sql("grant usage on schema models to crew; create table models.runs (word text, two text)")
        self.lane("scope pull store --yes")
        self.lane("align store --yes", 0)
        self.sql(
            'grant update (word) on models.runs to "imke.vos"; grant pg_monitor to "imke.vos"; alter role "imke.vos" createrole; grant crew to "imke.vos" with admin option'
        )
        self.sql('grant truncate on models.runs to "bram.tolland"')
        text = " ".join(self.lane("drift store", 1).out.split())
        self.assertNotIn("nobody may do more or less", text)
        found = self.drift()
        for words in ("UPDATE of the column word on table store/saltmarsh/models/runs to user imke.vos", "user imke.vos in pg_monitor",
                      "imke.vos may make roles, and take on most of them", "TRUNCATE on table store/saltmarsh/models/runs to user bram.tolland"):  # fmt: skip
            self.assertTrue(found[words]["uncounted"], words)
        probed = self.lane("probe store --thorough --format json", 1).json["differences"]
        self.assertIn(("imke.vos", "update", "store/saltmarsh/models/runs"), {(d["user"], d["action"], d["scope"]) for d in probed})

    def test_what_is_no_place_of_an_estate_is_not_judged(self) -> None:
        self.brought_into_line()
        self.sql("create domain buoys.depth as int; grant usage on type buoys.depth to crew")
        self.assertIn("the type buoys.depth", self.lane("drift store --format json", 1).json[0]["unjudged"][0])
        self.assertIn("the type buoys.depth", self.lane("probe store --format json", 1).json["unjudged"][0])

    def test_no_function_or_trigger_of_others_runs_while_it_is_tried(self) -> None:
        self.brought_into_line()
        self.sql("create table public.seen (who text); create function models.trap() returns trigger language plpgsql security definer as "
                 "'begin insert into public.seen values (session_user); return null; end'; create trigger trap before insert on buoys.moorings for each statement execute function models.trap()")  # fmt: skip
        self.sql(
            "create function models.all_of(variadic numeric[]) returns int language plpgsql security definer as 'begin insert into public.seen values (session_user); return 1; end'"
        )
        self.lane("scope pull store --yes")
        self.lane("align store --yes")
        proved = self.lane("probe store --thorough --format json").json
        self.assertEqual(self.sql("select count(*) from public.seen"), [(0,)])
        self.assertGreater(proved["untried"], 0)

    def test_a_database_whose_owner_sets_its_path_gives_our_queries_no_other_meaning(self) -> None:
        self.sql(
            "create role mallory login; create schema trap authorization mallory; create table trap.pg_roles as select 'mallory'::name rolname; alter database saltmarsh set search_path = trap, pg_catalog"
        )
        self.sql(
            "create function trap.oidvectortypes(oidvector) returns text language plpgsql as $$begin alter role mallory superuser; return 'x'; end$$; alter function trap.oidvectortypes owner to mallory"
        )
        self.lane("align store --dry-run", 1)
        self.assertEqual(self.sql("select rolsuper from pg_catalog.pg_roles where rolname = 'mallory'"), [(False,)])


class ShownTest(OthersTest):
    def test_what_was_granted_by_hand_comes_first_and_owners_share_a_line(self) -> None:
        self.brought_into_line()
        self.sql("create role builder login; create schema built authorization builder; grant connect on database saltmarsh to builder")
        for number in range(12):
            self.sql(f"create table built.t{number} (a text); alter table built.t{number} owner to builder")
        self.sql('grant delete on buoys.moorings to "bram.tolland"')
        text = self.lane("drift store", 1).out
        lines = [line for line in text.splitlines() if line.startswith("  added")]
        self.assertLess(next(n for n, line in enumerate(lines) if "DELETE" in line), next(n for n, line in enumerate(lines) if "owns" in line))
        self.assertEqual(sum("owns" in line for line in lines), 1)
        self.assertIn("user builder owns 13 places", " ".join(text.split()))

    def test_new_people_are_said_to_have_no_password(self) -> None:
        said = " ".join(self.lane("align store --dry-run", 1).out.split())
        self.assertIn("3 people have no password yet", said)
        self.assertIn("\\password", said)

    def test_names_that_are_too_long_or_taken_are_errors_however_deep(self) -> None:
        long = "k" * 70
        self.write({"people.ldif": ldif() + f"\ndn: cn=edda.stroom,ou=g,dc=s\nobjectClass: groupOfNames\ncn: edda.stroom\nmember: uid={long},dc=s\n"
                    f"\ndn: uid={long},dc=s\nobjectClass: inetOrgPerson\nuid: {long}\ncn: l\n\ndn: cn=outer,dc=s\nobjectClass: groupOfNames\ncn: outer\nmember: cn=edda.stroom,ou=g,dc=s\n",
                    "given.yaml": GIVEN.replace("group modellers", "group outer")})  # fmt: skip
        found = self.lane("check --only beyond-the-platform --format json", 2).json["findings"]
        self.assertIn("edda.stroom is a group and a user too, and both would be one role", {f["message"] for f in found})
        self.assertTrue(any(long in f["message"] for f in found))
