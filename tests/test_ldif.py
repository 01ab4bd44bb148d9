"""LDIF as directory servers export it, and LDIF that is damaged."""

import base64
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from justlane.directories.interface import read_people
from justlane.directories.ldif import LdifError, records
from justlane.directories.names import normalise
from justlane.files.people.population import Naming, Population
from justlane.files.people.snapshot_file import in_memory
from justlane.files.reading.directory_shapes import DirectoryShape
from justlane.model.people import Directory, Snapshot, SourceRead
from tests.support import PUMPHALL

ODD = (
    "\ufeffversion: 1\r\n# a comment that\r\n  goes on\r\n\r\ndn: uid=a,dc=x\r\nobjectClass: person\r\nobjectClass: top\r\n"
    "uid: a\r\ncn:: " + base64.b64encode("Zoë Marram".encode()).decode() + "\r\ncn;lang-en: Zoe\r\nuserAccountControl: 512\r\n\r\n"
    "dn: uid=b,dc=x\r\nobjectClass: user\r\nuid: b\r\nuserAccountControl: 514\r\n\r\n"
    "dn: uid=c,dc=x\r\nobjectClass: posixAccount\r\nuid: c\r\npwdAccountLockedTime: 000001010000Z\r\n\r\n"
    "dn: cn=one\\2C two,dc=x\r\nobjectClass: groupOfUniqueNames\r\ncn: one, two\r\nuniqueMember: UID=A , DC=X\r\n\r\n"
    "dn: cn=posix,dc=x\r\nobjectClass: posixGroup\r\ncn: posix\r\nmemberUid: b\r\nmemberUid: nobody\r\n\r\n"
    "dn: cn=all,dc=x\r\nobjectClass: groupOfNames\r\ncn: all\r\ndescription: Everybody, th\r\n e lot\r\n"
    "member: cn=One\\,  two, dc=x\r\nmember:\r\nmember: cn=all,dc=x\r\n\r\ndn: dc=x\r\nobjectClass: domain\r\ndc: x\r\n"
)

DAMAGED = [
    (PUMPHALL["people.ldif"][:-5], 24, "stops in the middle of a line"),
    (PUMPHALL["people.ldif"] + "# numEntries: 7\n", 25, "says that it holds 7 entries, but holds 4"),
    ("version: 2\ndn: dc=x\nobjectClass: top\n", 1, "LDIF version '2', expected 1"),
    ("uid: a\ndn: uid=a\n", 1, "must start with its dn"),
    ("dn: uid=a,dc=x\nuid: a\n", 1, "has no objectClass"),
    ("dn: uid=a,dc=x\nobjectClass person\n", 2, "expected `attribute: value`"),
    ("dn: uid=a,dc=x\nobjectClass: person\ncn:: w4\n", 3, "the base64 value of 'cn' is damaged"),
    ("dn: uid=a,dc=x\nobjectClass: person\nphoto:< file:///x\n", 3, "reference to another file"),
    ("dn: uid=a,dc=x\nchangetype: modify\nadd: cn\n", 2, "found a change record"),
    ("dn: uid=a,dc=x\nobjectClass: person\nuid: a\n\ndn: uid=a,dc=y\nobjectClass: person\nuid: a\n", 5, "second user named 'a'"),
    ("dn: ou=x\nobjectClass: group\n", 1, "has no name"),
    ("dn: uid=a,dc=x\nobjectClass: person\nuid:: YRtbMzFt\n", 1, r"the login 'a\x1b[31m' has characters that cannot be shown"),
]  # fmt: skip


def read(content: str | bytes, **more: object) -> tuple[Directory, list[str]]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "people.ldif"
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        people = Population()
        intake = read_people("office", DirectoryShape.model_validate({"ldif": {"file": "people.ldif", **more}}), Path(folder))
        people.add(intake, SourceRead("office", "ldif", "", "", {}, 0, 0), Naming())
    directory = in_memory(people, Snapshot(datetime.now(UTC), ())).whole()
    findings = people.findings
    return directory, [f"{f.severity} {f.source} {f.message}" for f in findings]


class LdifTest(unittest.TestCase):
    def test_everything_that_an_export_may_hold(self) -> None:
        directory, findings = read(ODD)
        self.assertEqual([(u.login, u.name, u.enabled) for u in directory.users.values()],
                         [("a", "Zoë Marram", True), ("b", "b", False), ("c", "c", False)])  # fmt: skip
        members = {name: [str(m.member) for m in g.members] for name, g in directory.groups.items()}
        self.assertEqual(members, {"one, two": ["user a"], "posix": ["user b"], "all": ["group one, two", "group all"]})
        self.assertEqual(directory.groups["all"].purpose, "Everybody, the lot")
        self.assertEqual(directory.groups["all"].members[0].source.line, 39)
        self.assertEqual(findings, ["warning people.ldif:32:1 the member 'nobody' is neither a user nor a group of the directory office"])

    def test_names_cannot_forge_what_is_shown(self) -> None:
        evil = base64.b64encode("Ada\x1b[31m\u202e\nadmin  yes".encode()).decode()
        directory, findings = read(f"dn: uid=a,dc=x\nobjectClass: person\nuid: a\ncn:: {evil}\n")
        self.assertEqual((directory.users["a"].name, findings), ("Ada [31m admin yes", []))

    def test_only_what_lies_below_a_place(self) -> None:
        people = {"under": "OU=People, DC=pumphall,DC=example", "name": "uid", "disabled when": "sn is nobody"}
        directory, _ = read(PUMPHALL["people.ldif"], people=people, groups={"under": "ou=none", "schema": "groupOfNames"})
        self.assertEqual(([u.name for u in directory.users.values()], len(directory.groups)), (["ada.brook", "ben.ferry"], 0))
        directory, _ = read(PUMPHALL["people.ldif"], people={"under": "ople,dc=pumphall,dc=example"}, groups={"for": "cn"})
        self.assertEqual((len(directory.users), directory.groups["staff"].purpose), (0, "staff"))

    def test_damage_is_an_error_with_its_line(self) -> None:
        for content, line, message in DAMAGED:
            with self.subTest(message=message):
                _, findings = read(content)
                self.assertTrue(findings and findings[0].startswith(f"error people.ldif:{line}:"), findings)
                self.assertIn(message, findings[0])
        self.assertIn("not UTF-8", read(b"dn: uid=a\nobjectClass: person\nuid: \xff\n")[1][0])

    def test_two_ways_to_write_a_name_are_one_name(self) -> None:
        for one, other in (
            ("CN=Crew , OU=Groups", "cn=crew,ou=groups"),
            ("cn=a\\2Cb,dc=x", "cn=a\\,b,dc=x"),
            ("cn=Z\\C3\\ABe", "cn=zëe"),
            ("cn=a+uid=b,dc=x", "CN=A + UID=B, DC=X"),
        ):
            self.assertEqual(normalise(one), normalise(other))
        self.assertNotEqual(normalise("cn=a\\,dc=x"), normalise("cn=a,dc=x"))

    @settings(max_examples=300, deadline=None)
    @given(st.text(alphabet="dn:cu=x,\r\n -#<1vers{é", max_size=60))
    def test_no_text_at_all_makes_it_stumble(self, content: str) -> None:
        try:
            list(records(content.splitlines(keepends=True)))
        except LdifError as error:
            self.assertGreaterEqual(error.line, 1)

    @settings(max_examples=100, deadline=None)
    @given(st.integers(0, len(PUMPHALL["people.ldif"]) - 1))
    def test_a_file_cut_off_anywhere_inside_a_line_is_noticed(self, length: int) -> None:
        content = PUMPHALL["people.ldif"][:length]
        _, findings = read(content)
        if content and not content.endswith("\n"):
            self.assertTrue(any(f.startswith("error") for f in findings))
