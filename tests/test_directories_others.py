"""What directories hold and exports leave out: read rightly, or refused with what would read it."""

import base64
from pathlib import Path
from typing import Any

from tests.directory_server import SUFFIX
from tests.support import EstateTest
from tests.test_domain_controller import sample
from tests.test_ldap import LdapTest

ESTATE = "estate: Office\ntime zone: Europe/Amsterdam\ndirectories: {office: {ldif: people.ldif}}\ninclude: [hall.yaml]\n"
HALL = """
platform: hall
for: Pumps.
habits: {decides: any-allow}
actions: {look: {means: Look.}}
roles: {watcher: {for: Looking., allows: look}}
bindings: [{give: watcher, to: group crew, at: hall, because: They look.}]
"""
DAN = "dn: uid=dan,dc=s\nobjectClass: inetOrgPerson\nuid: dan\ncn: Dan\n"
CREW = "dn: cn=crew,dc=s\nobjectClass: groupOfNames\ncn: crew\ndescription: All.\n"


def sid(last: int) -> str:
    octets = bytes((1, 2, 0, 0, 0, 0, 0, 5)) + (21).to_bytes(4, "little") + last.to_bytes(4, "little")
    return base64.b64encode(octets).decode()


class LdifTest(EstateTest):
    forked = True

    def crew(self, ldif: str | bytes, code: int = 0) -> list[str]:
        """Who is in the crew."""
        self.write({"estate.yaml": ESTATE, "hall.yaml": HALL, "people.ldif": ldif})
        found = self.lane("holders look hall --format json", code)
        return [holder["user"] for holder in found.json["holders"]] if code == 0 else [found.err]

    def test_who_is_in_a_group_however_it_is_said(self) -> None:
        cases: dict[str, str | bytes] = {
            "several values in a step, in another order": DAN.replace("uid=dan,", "uid=dan+cn=Dan,") + f"\n{CREW}member: CN=Dan+UID=dan,DC=s\n",
            "a string of bits behind the name": DAN + f"\n{CREW.replace('OfNames', 'OfUniqueNames')}uniqueMember: uid=dan,dc=s#'0101'B\n",
            "a login in other capitals": DAN + f"\n{CREW.replace('groupOfNames', 'posixGroup')}memberUid: Dan\n",
            "a primary group by number": DAN.replace("inetOrgPerson\n", "posixAccount\ngidNumber: 500\n") + f"\n{CREW.replace('groupOfNames', 'posixGroup')}gidNumber: 500\n",
            "a primary group by its identifier": DAN.replace("inetOrgPerson\n", f"user\nprimaryGroupID: 513\nobjectSid:: {sid(1104)}\n")
            + f"\n{CREW.replace('groupOfNames', 'group')}objectSid:: {sid(513)}\n",
            "a whole list that says so": DAN + f"\n{CREW}member;range=0-*: uid=dan,dc=s\n",
            "entries that are added": DAN.replace("\nobject", "\nchangetype: add\nobject") + f"\n{CREW}member: uid=dan,dc=s\n",
            "UTF-16": (DAN + f"\n{CREW}member: uid=dan,dc=s\n").encode("utf-16"),
            "what a client writes behind": f"version: 1\n\n{DAN}\n{CREW}member: uid=dan,dc=s\n\n# search result\nsearch: 2\nresult: 0 Success\n\n# numResponses: 3\n# numEntries: 2\n",
        }  # fmt: skip
        for says, ldif in cases.items():
            with self.subTest(says):
                self.assertEqual(self.crew(ldif), ["dan"])

    def test_a_group_that_holds_a_primary_group_holds_its_people(self) -> None:
        inner = "\ndn: cn=deck,dc=s\nobjectClass: posixGroup\ncn: deck\ngidNumber: 500\n"
        self.assertEqual(
            self.crew(DAN.replace("inetOrgPerson\n", "posixAccount\ngidNumber: 500\n") + inner + f"\n{CREW}member: cn=deck,dc=s\n"), ["dan"]
        )

    def test_what_is_a_part_or_no_entry_is_an_error_with_its_line(self) -> None:
        for ldif, line, says in (
            (DAN + f"\n{CREW}member;range=0-1499: uid=dan,dc=s\n", "people.ldif:10:1", "found 'member;range=0-1499', a part of what member holds"),
            (DAN.replace("\nobject", "\nchangetype: modify\nobject"), "people.ldif:2:1", "found a change record (modify), expected entries"),
            (DAN + "\nsearch: 2\nresult: 4 Size limit exceeded\n", "people.ldif:7:1", "the client ended with the result '4 Size limit exceeded'"),
            (DAN + "shadowExpire: soon\n", "people.ldif:5:1", "shadowexpire says 'soon', which is no date that is known"),
        ):
            said = self.crew(ldif, 2)[0]
            self.assertIn(line, said)
            self.assertIn(says, said)

    def test_machines_are_nobody_and_several_places_are_read(self) -> None:
        machine = "\ndn: cn=ws01,dc=s\nobjectClass: user\nobjectClass: computer\nsAMAccountName: WS01$\ncn: ws01\n"
        self.write({"hall.yaml": HALL, "people.ldif": DAN + machine + f"\n{CREW}member: uid=dan,dc=s\n"})
        for keys, count in (("{machines: people}", 2), ("{}", 1), ('{under: ["ou=x,dc=s", "uid=dan,dc=s"]}', 1), ('{under: ["ou=x,dc=s"]}', 0)):
            self.write({"estate.yaml": ESTATE.replace("people.ldif}", f"{{file: people.ldif, people: {keys}}}}}")})
            self.assertEqual(len(self.run_lane("people", "find", "*", "--format", "json").json["users"]), count, keys)

    def test_an_account_ends_on_its_day_in_every_question(self) -> None:
        ends = {"shadowExpire: 20089": "2025-01-01", "accountExpires: 133801632000000000": "2025-01-01", "pwdEndTime: 20250101000000Z": "2025-01-01"}
        for line, last in ends.items():
            with self.subTest(line):
                last = "2024-12-31" if line.startswith("shadow") else last
                self.write({"estate.yaml": ESTATE, "hall.yaml": HALL, "people.ldif": DAN + line + f"\n\n{CREW}member: uid=dan,dc=s\n"})
                self.assertEqual(self.lane("people show dan --format json").json["until"], last)
                self.lane("ask dan look hall", 1)
                self.lane(f"ask dan look hall --at-time {last}", 0)
                self.lane("ask dan look hall --at-time 2025-01-02", 1)
                self.assertEqual(self.lane("holders look hall --format json", 1).json["holders"], [])
                self.assertEqual([h["user"] for h in self.lane(f"holders look hall --at-time {last} --format json").json["holders"]], ["dan"])
                self.assertEqual(self.lane("reach dan --format json", 1).json["enabled"], False)
                self.lane(f"reach dan --at-time {last}")
                self.assertIn("the account of dan has ended", self.lane("ask dan look hall", 1).out)
        self.write({"people.ldif": DAN + f"shadowExpire: -1\naccountExpires: 0\naccountExpires: 9223372036854775807\n\n{CREW}member: uid=dan,dc=s\n"})
        self.lane("ask dan look hall")

    def test_a_date_of_ones_own_ends_an_account_too(self) -> None:
        estate = ESTATE.replace("people.ldif}", "{file: people.ldif, people: {disabled when: hireEnd is before today}}}")
        self.write({"estate.yaml": estate, "hall.yaml": HALL, "people.ldif": DAN + f"hireEnd: 2025-03-31\n\n{CREW}member: uid=dan,dc=s\n"})
        self.lane("ask dan look hall --at-time 2025-03-31")
        self.lane("ask dan look hall --at-time 2025-04-01", 1)


class CsvTest(EstateTest):
    forked = True
    PEOPLE = "login;name;enabled;until\ndan;Dän;ja;\nold;Old;ja;2025-01-01\noff;Off;nein;\n"
    GROUPS = "group;member\ncrew;Dan\ncrew;old\ncrew;off\n"

    def with_csv(self, more: str, people: bytes) -> None:
        estate = f"estate: O\ntime zone: UTC\ndirectories: {{office: {{csv: {{people: people.csv, memberships: groups.csv{more}}}}}}}\ninclude: [hall.yaml]\n"
        self.write({"estate.yaml": estate, "hall.yaml": HALL, "people.csv": people, "groups.csv": self.GROUPS})

    def test_other_words_and_letters_are_read_or_the_key_is_named_that_would(self) -> None:
        latin = self.PEOPLE.encode("latin-1")
        self.with_csv("", latin)
        self.assertIn("`encoding: latin-1`", " ".join(self.lane("check", 2).out.split()))
        self.with_csv(", encoding: latin-1", latin)
        self.assertIn("`words: {yes: …, no: …}`", " ".join(self.lane("check", 2).out.split()))
        self.with_csv(", encoding: latin-1, words: {yes: ja, no: nein}", latin)
        self.assertEqual([h["user"] for h in self.lane("holders look hall --format json").json["holders"]], ["dan"])
        self.assertEqual(self.lane("people show dan --format json").json["name"], "Dän")
        self.lane("ask old look hall --at-time 2025-01-01")
        self.with_csv("", b"login;until\ndan;soon\n")
        self.assertIn("people.csv:2:1: error: found 'soon' in the column 'until'", self.lane("check", 2).out)


class MembersUnseenTest(LdapTest):
    def test_an_account_that_may_not_read_members_is_not_believed(self) -> None:
        said = self.pull(2, sign_in_as=f'"cn=no-members,{SUFFIX}"')
        self.assertIn("13 groups, and nobody is in any of them", said)
        self.assertIn("pull again with --fewer", said)
        self.assertEqual(self.kept(), [])
        self.pull()
        kept = self.kept()
        self.pull(2, sign_in_as=f'"cn=no-members,{SUFFIX}"')
        self.assertEqual(self.kept(), kept)

    def test_a_server_that_lets_the_account_read_no_pages_is_read_without(self) -> None:
        self.assertIn("40 users", self.pull(sign_in_as=f'"cn=no-pages,{SUFFIX}"'))

    def test_the_sample_configurations_read_a_real_server(self) -> None:
        for heading, group, people in (("A server of people and groups of names", "ship", 1), ("A server of accounts of machines", "by-login", 2)):
            text = sample(heading).replace("ldaps://directory.saltmarsh.example", f"ldaps://localhost:{self.server.safe}")
            text = text.replace("certificates/office.pem", "ca.pem").replace("environment OFFICE_PASSWORD", "file tide.password")
            self.write({"estate.yaml": f"estate: Office\ntime zone: UTC\n{text}"})
            self.lane("people pull --fewer")
            sizes: dict[str, Any] = {g["group"]: g["people"] for g in self.lane("people groups --format json").json}
            self.assertEqual(sizes[group], people, heading)


class VanishingTest(EstateTest):
    forked = True

    def pull(self, members: dict[str, int], code: int = 0) -> str:
        people = "login\n" + "".join(f"p{n}\n" for n in range(100))
        rows = (
            "group,member\n"
            + "".join(f"{group},p{n}\n" for group, count in members.items() for n in range(count))
            + "".join(f"{group},\n" for group in members)
        )
        self.write(
            {
                "estate.yaml": "estate: O\ntime zone: UTC\ndirectories: {office: {csv: {people: people.csv, memberships: groups.csv}}}\n",
                "people.csv": people,
                "groups.csv": rows,
            }
        )
        ran = self.lane("people pull", code)
        return " ".join((ran.out + ran.err).split())

    def test_memberships_groups_and_single_groups_may_not_vanish(self) -> None:
        whole = {"a": 100, "b": 60, "c": 12, "d": 80, "e": 3}
        self.pull(whole)
        for changed, says in (
            ({"a": 100, "b": 60, "c": 0, "d": 80, "e": 3}, "the group c had 12 people and has 0 now"),
            ({"a": 100, "b": 40, "c": 12, "d": 80, "e": 3}, "the group b had 60 people and has 40 now"),
            ({"a": 60, "b": 40, "c": 12, "d": 60, "e": 3}, "the directory office had 255 memberships and has 175 now"),
            ({"a": 100, "b": 60, "d": 80}, "the directory office had 5 groups and has 3 now"),
        ):
            self.assertIn(says, self.pull(changed, 2))
        self.pull(whole | {"b": 50, "e": 0})
        self.assertEqual(len(list(Path(self.folder, "snapshots").glob("*.sqlite"))), 2)
