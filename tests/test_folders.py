"""Folders with access control lists, set and proved by processes that become the people. Needs root, as such a proof does."""

import contextlib
import grp
import os
import pwd
import shutil
import subprocess
import unittest
from datetime import UTC, datetime
from pathlib import Path

from justlane.model.errors import PlatformChangedError
from justlane.platforms.alignment.plan import plan
from justlane.platforms.folders import lists
from justlane.platforms.interface import connect
from tests.support import EstateTest

PEOPLE = {"jl-imke": ("jl-crew", "jl-keepers"), "jl-bram": ("jl-crew",), "jl-edda": ("jl-modellers",), "jl-vik": ()}
GROUPS = ("jl-crew", "jl-keepers", "jl-modellers")
PLATFORM = """
platform: share
for: Files that everybody works on.
habits: {decides: nearest, on the way: enter}
reached by: {connector: folders, folder: %s}
actions:
  enter: {applies to: [folder]}
  list: {applies to: [folder], implies: enter}
  change: {applies to: [folder], implies: enter}
  read: {applies to: [file]}
  write: {applies to: [file], implies: read, sensitive: yes}
roles:
  passer: {for: Whoever passes by., allows: enter}
  reader: {for: Whoever reads., allows: [list, read]}
  writer: {for: Whoever writes., builds on: reader, allows: [change, write]}
"""
GIVEN = """
bindings:
  - {give: reader, to: group jl-crew, at: share, because: They read.}
  - {give: passer, to: group jl-modellers, at: share, because: On their way.}
  - {give: writer, to: group jl-modellers, at: share/models, because: They write.}
  - {give: writer, to: group jl-keepers, at: share/models, because: They write too.}
  - {give: reader, to: user jl-bram, at: share/models, because: He checks them.}
"""


def ldif() -> str:
    people = [f"dn: uid={login},dc=s\nobjectClass: inetOrgPerson\nuid: {login}\ncn: {login}\n" for login in PEOPLE]
    groups = [
        f"dn: cn={g},dc=s\nobjectClass: groupOfNames\ncn: {g}\ndescription: x\n"
        + "".join(f"member: uid={u},dc=s\n" for u, own in PEOPLE.items() if g in own)
        for g in GROUPS
    ]
    return "\n".join([*people, *groups])


class FoldersTest(EstateTest):
    forked = True

    @classmethod
    def setUpClass(cls) -> None:
        if os.geteuid() or not all(map(shutil.which, ("useradd", "getfacl", "setfacl"))):
            raise unittest.SkipTest("needs root and access control lists: apt-get install acl")
        for group in GROUPS:
            with contextlib.suppress(KeyError):
                grp.getgrnam(group)
                continue
            subprocess.run(["groupadd", group], check=True)
        for login, groups in PEOPLE.items():
            with contextlib.suppress(KeyError):
                pwd.getpwnam(login)
                continue
            subprocess.run(["useradd", "-M", "-N", "-s", "/usr/sbin/nologin", "-G", ",".join(groups), login], check=True)

    @classmethod
    def tearDownClass(cls) -> None:
        for login in PEOPLE:
            subprocess.run(["userdel", login], check=False, capture_output=True)
        for group in GROUPS:
            subprocess.run(["groupdel", group], check=False, capture_output=True)

    def setUp(self) -> None:
        super().setUp()
        self.top.chmod(0o755)
        self.share = self.top / "share"
        for path in ("models/surge.txt", "models/keys/a.key", "notes/today.txt"):
            file = self.share / path
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text("x")
        self.write({
            "estate.yaml": "estate: S\nfor: x.\ntime zone: UTC\ndirectories: {office: {ldif: people.ldif}}\ninclude: [share.yaml, given.yaml]\n",
            "share.yaml": PLATFORM % self.share, "given.yaml": "bindings: []\n", "people.ldif": ldif(),
        })  # fmt: skip

    def getfacl(self, path: str) -> set[str]:
        done = subprocess.run(["getfacl", "-cp", str(self.share / path)], check=True, capture_output=True, text=True)
        return set(done.stdout.split("\n")) - {""}

    def test_lists_are_set_and_proved(self) -> None:
        self.assertIn(f"trust add --changes {self.share}", self.lane("scope pull share --yes", 2).err)
        self.lane(f"trust add --changes {self.share}")
        self.lane("scope pull share --yes")
        self.write({"given.yaml": GIVEN})
        self.lane("check --only beyond-the-platform")
        self.lane("align share --yes --remove-undeclared")
        said = self.getfacl("models")
        self.assertLessEqual(
            {"group:jl-modellers:rwx", "group:jl-keepers:rwx", "group:jl-crew:r-x", "other::---", "default:group:jl-keepers:rwx"}, said
        )
        self.assertIn("group:jl-crew:r--", self.getfacl("notes/today.txt"))
        proved = self.lane("probe share --thorough --format json").json
        self.assertEqual({p["known_by"] for p in proved["proofs"]}, {"trying"})
        self.assertEqual(next(p["asked"] for p in proved["proofs"] if p["action"] == "write"), 0, "a system answers by trying alone")
        self.assertGreater(proved["tried"], 50)
        self.assertEqual(
            sorted(p.name for p in self.share.rglob("*")), ["a.key", "keys", "models", "notes", "surge.txt", "today.txt"], "nothing is left"
        )
        # behind our back: a mask cut off by chmod, an owner, somebody more, a link
        (self.share / "models").chmod(0o700)
        subprocess.run(["setfacl", "-m", "u:jl-edda:rwx", str(self.share / "notes")], check=True)
        os.chown(self.share / "notes" / "today.txt", pwd.getpwnam("jl-vik").pw_uid, -1)
        (self.share / "models" / "surge.txt").unlink()
        (self.share / "models" / "surge.txt").symlink_to("/etc/passwd")
        drift = self.lane("drift share --format json", 1).json[0]
        says = {d["says"]: d["means"] for d in drift["differences"]}
        self.assertGreater(says["rwx on share/notes to user jl-edda"]["more"], 0)
        self.assertTrue(any("effective" in words and "group jl-keepers" in words for words in says), says)
        self.assertTrue(any(words.startswith("jl-vik owns share/notes/today.txt with rw-") for words in says), says)
        self.assertEqual([u.split(":")[0] for u in drift["unjudged"]], ["share/models/surge.txt"])
        found = self.lane("probe share --thorough --format json", 1).json["differences"]
        self.assertIn(
            ("jl-edda", "enter", "share/models", True, False), {(d["user"], d["action"], d["scope"], d["declared"], d["does"]) for d in found}
        )
        self.assertIn(
            ("jl-edda", "change", "share/notes", False, True), {(d["user"], d["action"], d["scope"], d["declared"], d["does"]) for d in found}
        )
        (self.share / "models" / "surge.txt").unlink()
        (self.share / "models" / "surge.txt").write_text("x")
        self.assertIn("the rest is for you", self.lane("align share --yes", 1).err)
        os.chown(self.share / "notes" / "today.txt", 0, -1)
        self.lane("align share --yes")
        self.lane("probe share --thorough")
        self.assertIn(
            "otherwise than before: jl-vik owns share/notes/today.txt", self.lane("align share --undo --yes", 1).err, "somebody else's doing"
        )

    def test_a_folder_that_is_swapped_while_the_question_stands_is_not_touched(self) -> None:
        self.lane(f"trust add --changes {self.share}")
        self.lane("scope pull share --yes")
        self.write({"given.yaml": GIVEN})
        index = self.index()
        connector = connect(index.estate.platforms["share"], self.folder, lambda *_: False)
        reading = connector.read()
        planned = plan(index, "share", reading, datetime.now(UTC))
        (self.share / "models").rename(self.share / "models-before")
        shutil.copytree(self.share / "models-before", self.share / "models")
        (self.share / "models-before").rename(self.top / "away")
        before = self.getfacl("models")
        with self.assertRaises(PlatformChangedError):
            connector.change(planned.strokes[0], reading.revision, "key")
        self.assertEqual(self.getfacl("models"), before)

    def test_the_kernels_form_is_what_its_own_tools_say(self) -> None:
        path = self.share / "models"
        subprocess.run(["setfacl", "-m", "u:jl-vik:r-x,g:jl-crew:rw-,d:g:jl-crew:r--", str(path)], check=True)
        handle = os.open(path, os.O_RDONLY)
        self.addCleanup(os.close, handle)
        for name in (lists.ACCESS, lists.DEFAULT):
            was = self.getfacl("models")
            lists.write(handle, name, lists.read(handle, name))
            self.assertEqual(self.getfacl("models"), was)
        self.assertEqual(lists.mask_of(lists.read(handle, lists.ACCESS)), 7)
        other = os.open(Path(self.share / "notes"), os.O_RDONLY)
        self.addCleanup(os.close, other)
        self.assertEqual([lists.letters(e.rights) for e in lists.read(other, lists.ACCESS)], ["rwx", "r-x", "r-x"])


if __name__ == "__main__":
    unittest.main()
