"""People from a real directory server (slapd), over TLS, page by page; and every way in which that fails."""

from __future__ import annotations

import socket
import tempfile
import threading
from pathlib import Path

from justlane.engine.facts.membership import user
from tests.directory_server import SECRET, SUFFIX, Authority, DirectoryServer, answering
from tests.support import EstateTest

PEOPLE = 40
ESTATE = """
estate: Tide Office
for: Reads the tides.
time zone: Europe/Amsterdam
directories:
  office:
    ldap:
{settings}
people: {{may vanish: 100 %}}
"""


def content() -> str:
    """Groups of every kind, nested, in a loop; people enabled and disabled."""
    text = ""
    for n in range(PEOPLE):
        off = "pwdAccountLockedTime: 00000101000000Z\n" if n % 10 == 9 else ""
        text += (
            f"dn: uid=p{n:02},ou=people,{SUFFIX}\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\n"
            f"uid: p{n:02}\ncn: Person {n}\nsn: {n}\nuidNumber: {n + 1000}\ngidNumber: {n % 3 + 500}\n"
            f"homeDirectory: /boats/p{n:02}\n{off}\n"
        )
    inside = {"deck": ["uid=p00,ou=people", "uid=p01,ou=people", "cn=mast,ou=groups"]}
    inside |= {"mast": ["uid=p02,ou=people", "cn=deck,ou=groups"], "ship": ["cn=deck,ou=groups", "uid=p09,ou=people"]}
    inside |= {f"g{n}": [f"uid=p{p:02},ou=people" for p in range(n, PEOPLE, 7)] for n in range(7)}
    inside["all"] = [f"cn=g{n},ou=groups" for n in range(7)]
    for name, members in inside.items():
        listed = "".join(f"member: {m},{SUFFIX}\n" for m in members)
        text += f"dn: cn={name},ou=groups,{SUFFIX}\nobjectClass: groupOfNames\ncn: {name}\n{listed}description: Æ {name}\n\n"
    text += f"dn: cn=unique,ou=groups,{SUFFIX}\nobjectClass: groupOfUniqueNames\ncn: unique\n"
    text += f"uniqueMember: UID=P03 , ou=People,{SUFFIX}\n\n"
    text += f"dn: cn=by-login,ou=groups,{SUFFIX}\nobjectClass: posixGroup\ncn: by-login\ngidNumber: 700\nmemberUid: p04\nmemberUid: p05\n\n"
    return text


def described(port: int, **changed: str) -> str:
    """The settings of a directory on a port, some of them changed; an empty one is left out."""
    known = {
        "url": f"ldaps://localhost:{port}",
        "trust": "ca.pem",
        "sign in as": f'"cn=reader,{SUFFIX}"',
        "password from": "file tide.password",
        "people": f'{{schema: inetOrgPerson, under: "ou=people,{SUFFIX}"}}',
        "groups": f'{{under: "ou=groups,{SUFFIX}"}}',
        "page size": "7",
    }
    known |= {key.replace("_", " "): value for key, value in changed.items()}
    return ESTATE.format(settings="\n".join(f"      {key}: {value}" for key, value in known.items() if value))


class LdapTest(EstateTest):
    """One server for all tests."""

    place: Path
    server: DirectoryServer

    @classmethod
    def setUpClass(cls) -> None:
        place = tempfile.TemporaryDirectory(prefix="lane")
        cls.addClassCleanup(place.cleanup)
        cls.place = Path(place.name)
        Authority(cls.place)
        cls.server = DirectoryServer(cls.place, content())
        cls.addClassCleanup(cls.server.stop)

    def setUp(self) -> None:
        super().setUp()
        for name in ("ca.pem", "other-ca.pem", "reader.pem", "reader.key"):
            (self.folder / name).write_bytes((self.place / name).read_bytes())
        (self.folder / "reader.key").chmod(0o600)
        (self.folder / "tide.password").touch(0o600)
        (self.folder / "tide.password").write_text(SECRET)

    def pull(self, code: int = 0, port: int = 0, /, **changed: str) -> str:
        """Pull as described; what was said."""
        self.write({"estate.yaml": described(port or self.server.safe, **changed)})
        ran = self.lane("people pull", code)
        self.assertNotIn(SECRET, ran.out + ran.err)
        return " ".join((ran.out + ran.err).split())

    def kept(self) -> list[bytes]:
        """The contents of all snapshots."""
        return [path.read_bytes() for path in sorted((self.folder / "snapshots").glob("*.sqlite"))]


class ReadingTest(LdapTest):
    def test_everybody_arrives_with_groups_of_every_kind(self) -> None:
        self.assertIn("40 users, 13 groups", self.pull())
        rows = self.lane("people groups --format json").json
        sizes = {g["group"]: (g["people"], g["in_all"], g["enabled"]) for g in rows}
        self.assertEqual(sizes["ship"], (1, 4, 3))
        self.assertEqual((sizes["deck"], sizes["mast"]), ((2, 3, 3), (1, 3, 3)))
        self.assertEqual(sizes["all"], (0, 40, 36))
        self.assertEqual((sizes["unique"], sizes["by-login"]), ((1, 1, 1), (2, 2, 2)))
        person = self.lane("people show p02 --format json").json
        self.assertEqual([b["group"] for b in person["in"]], ["mast", "g2", "deck", "all", "ship"])
        self.assertTrue(person["id"], "entryUUID, an operational attribute, was asked for")
        self.assertIn("Æ ship", self.lane("people show ship").out)
        self.assertIn("disabled", self.lane("people show p09").out)
        self.assertEqual(SECRET.encode() in self.kept()[0], False)

    def test_transitive_membership_is_what_the_server_itself_computes(self) -> None:
        self.pull()
        theirs: dict[str, set[str]] = {}
        login = ""
        for row in self.server.tool("ldapsearch", "-b", f"ou=people,{SUFFIX}", "(uid=*)", "uid", "memberOf").splitlines():
            key, _, value = row.partition(": ")
            login = value if key == "uid" else login
            if key == "dn":
                entry = theirs.setdefault(value.partition(",")[0].removeprefix("uid="), set())
            elif key == "memberOf":
                entry.add(value.partition(",")[0].removeprefix("cn="))
        self.assertEqual(len(theirs), PEOPLE)
        self.assertGreater(sum(map(len, theirs.values())), 80)
        index = self.index()
        for login, groups in theirs.items():
            ours = {p.name for p in index.membership.principals_of(user(login))} - {login, "unique", "by-login"}
            self.assertEqual(ours, groups, login)

    def test_groups_can_be_read_from_the_members(self) -> None:
        groups = f'{{schema: groupOfNames, under: "ou=groups,{SUFFIX}", members: memberOf}}'
        self.pull(groups=groups)
        sizes = {g["group"]: g["in_all"] for g in self.lane("people groups --format json").json}
        self.assertEqual((sizes["all"], sizes["ship"], sizes["g0"]), (40, 4, 6))

    def test_every_way_in(self) -> None:
        plain = f"ldap://localhost:{self.server.plain}"
        nobody = {"sign_in_as": "", "password_from": ""}
        for changed in (
            {"url": plain},
            {"url": plain, "encryption": "none"},
            {"url": plain, "sign_in_by": "nobody", **nobody},
            {"sign_in_by": "certificate", "certificate": "reader.pem", "key": "reader.key", **nobody},
            {"url": plain, "sign_in_by": "certificate", "certificate": "reader.pem", "key": "reader.key", **nobody},
            {"url": self.server.socket, "sign_in_by": "socket", **nobody},
            {"page_size": "1000"},
            {
                "people": f'{{where: "(&(uid=p0*)(!(uid=p00)))", under: "ou=people,{SUFFIX}"}}',
                "groups": f'{{under: "ou=groups,{SUFFIX}", where: "(cn=none)"}}',
            },
        ):
            with self.subTest(changed):
                said = self.pull(**changed)
                self.assertIn("9 users, 0 groups" if "where" in changed.get("people", "") else "40 users", said)

    def test_attributes_can_be_mapped(self) -> None:
        people = (
            f'{{schema: posixAccount, under: "ou=people,{SUFFIX}", login: uidNumber, name: [gecos, sn], id: uid, disabled when: gidNumber is 501}}'
        )
        self.pull(people=people, groups=f'{{under: "ou=groups,{SUFFIX}", name: [description, cn], for: cn}}')
        person = self.lane("people show 1001 --format json").json
        self.assertEqual((person["name"], person["id"], person["enabled"]), ("1", "p01", False))
        self.assertEqual([b["group"] for b in person["in"]][:2], ["Æ deck", "Æ g1"])


class FailingTest(LdapTest):
    def test_each_failure_of_the_account_says_what_to_do_and_overwrites_nothing(self) -> None:
        self.pull()
        before = self.kept()
        hidden = f'{{under: "ou=hidden,{SUFFIX}"}}'
        everything = f'{{under: "{SUFFIX}", where: "(objectClass=*)", login: [uid, cn, ou, o]}}'
        for changed, told, advice in (
            ({"password_from": "environment OTHER"}, "OTHER holds no password", "set the variable OTHER"),
            ({"sign_in_as": f'"cn=nobody,{SUFFIX}"'}, "password or the account is wrong", "check `sign in as`"),
            ({"sign_in_as": f'"cn=stale,{SUFFIX}"'}, "its password has expired", "have a new one set"),
            ({"sign_in_as": f'"cn=fresh,{SUFFIX}"'}, "must change its password at the first sign-in", "sign in once by hand"),
            ({"sign_in_as": f'"cn=locked,{SUFFIX}"'}, "the account is locked", "have it unlocked"),
            ({"sign_in_as": f'"cn=blind,{SUFFIX}"'}, "no people were found", "may not see them"),
            ({"people": hidden}, "may not see it", "the account's rights"),
            ({"sign_in_as": f'"cn=limited,{SUFFIX}"', "page_size": "5"}, "size limit was hit", "higher limits"),
            ({"sign_in_as": f'"cn=narrow,{SUFFIX}"'}, "refuses so large a page", "make `page size` smaller"),
            ({"people": everything}, "a part of the directory lies on another server", "read that server too"),
            ({"people": "{schema: inetOrgPerson}"}, "a part of the directory lies on another server: ldap://other", "`under`"),
            ({"people": '{under: "ou=people"}'}, "there is no such entry", "check `under`"),
            ({"people": '{under: "people"}'}, "distinguished name", "write it like"),
            ({"people": '{where: "(uid=p"}'}, "cannot be understood", "correct it"),
            ({"at_most": "30"}, "more than 30 entries", "raise `at most`"),
            ({"trust": ""}, "its certificate is unknown here", "`trust: FILE`"),
            ({"trust": "other-ca.pem"}, "its certificate is unknown here", "`trust: FILE`"),
            ({"trust": "other-ca.pem", "encryption": "none"}, "its certificate is unknown here", "`trust: FILE`"),
            ({"trust": "estate.yaml"}, "it holds no certificate", "name a PEM file"),
            ({"trust": "none.pem"}, "No such file", "name a PEM file"),
            ({"url": f"ldaps://localhost:{self.server.plain}"}, "no safe connection", "does not speak TLS"),
            ({"url": "ldaps://localhost:1"}, "nobody answers", "check the address"),
            ({"url": "ldaps://nowhere.invalid"}, "nobody answers", "check the address"),
            ({"url": f"ldap://localhost:{self.server.plain}", "encryption": "none", "sign_in_by": "certificate",
              "certificate": "reader.pem", "key": "reader.key", "sign_in_as": "", "password_from": ""}, "way", "sign in by"),
        ):  # fmt: skip
            with self.subTest(told, changed=changed):
                if "nowhere" in changed.get("url", ""):
                    self.assertIn("you have not allowed that", self.pull(2, **changed))
                    secret = ("--secret", f"file {self.folder / 'tide.password'}", "--to", "nowhere.invalid:636")
                    self.run_lane("trust", "add", *secret, "--authority", str(self.folder / "ca.pem"))
                said = self.pull(2 if "cannot be understood" in told else 3, **changed)
                self.assertIn(told, said)
                self.assertIn(advice, said)
                self.assertEqual(self.kept(), before)

    def test_a_wrong_password_is_not_told(self) -> None:
        self.write({"estate.yaml": described(self.server.safe)})
        (self.folder / "tide.password").write_text("a-wrong-one")
        ran = self.lane("people pull", 3)
        self.assertIn("the password or the account is wrong", ran.err)
        self.assertNotIn("a-wrong-one", ran.out + ran.err)

    def test_each_certificate_that_cannot_be_trusted(self) -> None:
        for certificate, told in (
            ("expired", "its certificate has expired"),
            ("early", "not valid yet: a clock is off"),
            ("other-host", "its certificate is for another host"),
        ):
            with self.subTest(certificate), tempfile.TemporaryDirectory(prefix="lane") as name:
                for path in self.place.glob("*.[pk]e[my]"):
                    (Path(name) / path.name).write_bytes(path.read_bytes())
                server = DirectoryServer(Path(name), "", certificate)
                self.addCleanup(server.stop)
                self.assertIn(told, self.pull(3, server.safe))
                self.assertIn(told, self.pull(3, url=f"ldap://localhost:{server.plain}"))

    def test_a_server_that_goes_away_in_the_middle(self) -> None:
        """A relay that stops after some of what the server says: every cut is an error, and nothing is taken."""
        whole = self._relayed(10**9, 0)
        before = self.kept()
        for cut in (200, whole // 3, whole // 2, whole - 20):
            self._relayed(cut, 3)
            self.assertEqual(self.kept(), before)

    def _relayed(self, most: int, code: int) -> int:
        """Pull through a relay that lets only so many bytes of the server's answers pass; how many came."""
        passed = 0

        def serve(client: socket.socket) -> None:
            nonlocal passed
            with socket.create_connection(("127.0.0.1", self.server.plain)) as upstream:
                thread = threading.Thread(target=_forward, args=(client, upstream), daemon=True)
                thread.start()
                while passed < most and (data := upstream.recv(min(1000, most - passed))):
                    client.sendall(data)
                    passed += len(data)
                client.shutdown(socket.SHUT_RDWR)

        with answering(serve) as port:
            said = self.pull(code, url=f"ldap://127.0.0.1:{port}", encryption="none")
        if code:
            self.assertRegex(said, "went away in the middle|nobody answers|does not say whether|cannot be understood")
        return passed

    def test_a_server_that_is_silent(self) -> None:
        held = threading.Event()

        def silent(connection: socket.socket) -> None:
            held.wait(3)

        with answering(silent) as port:
            said = self.pull(3, url=f"ldap://127.0.0.1:{port}", encryption="none", wait_at_most="1")
            held.set()
        self.assertRegex(said, "(no answer|nothing) within 1 second")


def _forward(source: socket.socket, target: socket.socket) -> None:
    try:
        while data := source.recv(4096):
            target.sendall(data)
    except OSError:
        return
