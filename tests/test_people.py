"""`people`: snapshots, what is in them, what changed between them, and what keeps them safe."""

from __future__ import annotations

import csv
import io
import os
import re
import shutil
import signal
import sqlite3
import stat
import subprocess
import sys
import time
import unittest
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from justlane.directories.interface import read_people
from justlane.files.in_place.new_names import edited_line
from justlane.files.people import arrays, snapshots
from justlane.files.people.chosen import read_now
from justlane.files.reading.estate_files import read_all
from justlane.files.reading.shapes import EstateFile
from justlane.model.errors import RefusedError
from justlane.model.findings import Finding, Severity, Source
from tests.patience import finished
from tests.scim_server import TOKEN, ScimAnswers
from tests.support import EstateTest, Ran

LDIF = "people/saltmarsh.ldif"
DN = "ou=people,dc=saltmarsh,dc=example"
KEYRING = """
import keyring.backend
class Keyring(keyring.backend.KeyringBackend):
    priority = 1
    def set_password(self, service, name, password):
        pass
    def get_password(self, service, name):
        if name == "locked":
            raise RuntimeError("the-secret-is-xyz")
        return "{token}" if (service, name) == ("justlane", "partners") else None
"""


class PeopleTest(EstateTest):
    forked = True

    def pull(self, more: str = "", code: int = 0, /, **extra: str) -> Ran:
        return self.lane(f"people pull {more}", code, **extra)

    def edit(self, file: str, *pairs: tuple[str, str]) -> None:
        """Replace texts in a file, each once."""
        path = self.folder / file
        text = path.read_text()
        for old, new in pairs:
            assert old in text, old
            text = text.replace(old, new, 1)
        path.write_text(text)

    def changed_people(self) -> None:
        """The people of the sample estate a week later."""
        self.edit(
            LDIF,
            (f"member: uid=lotte.marsh,{DN}\n", ""),
            (f"member: uid=joost.baan,{DN}\n", f"member: uid=lotte.marsh,{DN}\nmember: uid=joost.baan,{DN}\n"),
            ("uid: piet.haverkamp\n", "uid: piet.haverkamp\npwdAccountLockedTime: 000001010000Z\n"),
            (f"dn: uid=rosa.wyke,{DN}\n", f"dn: uid=una.birk,{DN}\nobjectClass: person\nuid: una.birk\ncn: Una Birk\n\ndn: uid=rosa.wyke,{DN}\n"),
            (f"member: uid=joost.baan,{DN}\n", f"member: uid=joost.baan,{DN}\nmember: uid=una.birk,{DN}\n"),
            ("# numEntries: 58", "# numEntries: 59"),
        )  # fmt: skip


class LookingTest(PeopleTest):
    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def test_what_there_is(self) -> None:
        self.assertIn("nothing was pulled", self.lane("people show").out)
        self.assertIn("40 users, 15 groups, 50 memberships", self.pull().out)
        known = self.lane("people show --format json").json
        self.assertEqual([(d["directory"], d["kind"], d["users"]) for d in known["directories"]], [("office", "ldif", 40)])
        self.assertEqual(known["kept"], [known["snapshot"]])
        rows = {g["group"]: g for g in self.lane("people groups --format json").json}
        crews = rows["field-crews"]
        self.assertEqual((crews["people"], crews["in_all"], crews["enabled"], crews["groups"]), (0, 15, 14, 3))
        self.assertEqual(list(rows), sorted(rows))
        self.assertEqual([g["group"] for g in self.lane("people groups CREW --format json").json], [n for n in rows if "crew" in n])
        found = self.lane("people find VOS --format json").json
        self.assertEqual([u["user"] for u in found["users"]], ["imke.vos"])
        self.assertEqual(len(self.lane("people find *crew --format json").json["groups"]), 3)
        self.assertEqual(len(self.lane("people find zoë --format json").json["users"]), 1)
        self.lane("people find nobody-at-all", 1)
        self.lane("people groups nothing-at-all", 1)
        table = list(csv.reader(io.StringIO(self.lane("people groups --format csv").out)))
        self.assertEqual(len(table), 18)
        person = self.lane("people show lotte.marsh").out
        self.assertIn("northern-crew", person)
        self.assertRegex(person, r"field-crews +northern-crew +people/saltmarsh.ldif:\d+")
        self.assertIn("did you mean lotte.marsh", self.lane("people show lote.marsh", 2).err)

    def test_questions_about_an_earlier_time(self) -> None:
        self.pull()
        self.lane("ask lotte.marsh restart-station fieldnet/north/harbour/nb-07")
        self.changed_people()
        self.lane("ask lotte.marsh restart-station fieldnet/north/harbour/nb-07", 1)
        time.sleep(1.1)
        self.pull()
        first, second = snapshots.names(self.folder)
        for when in (first, first[:19]):
            said = self.lane(f"ask lotte.marsh restart-station fieldnet/north/harbour/nb-07 --as-of {when}").out
            self.assertIn("northern-crew", said)
        self.lane(f"ask lotte.marsh restart-station fieldnet/north/harbour/nb-07 --as-of {second}", 1)
        today = datetime.now(UTC).strftime("%Y-%m-%d")
        self.lane(f"ask lotte.marsh restart-station fieldnet/north/harbour/nb-07 --as-of {today}", 1)
        ask = "holders restart-station fieldnet/north/harbour/nb-07 --format json"
        then, now = ({h["user"] for h in self.lane(f"{ask} --as-of {w}").json["holders"]} for w in (first, second))
        self.assertEqual(then - now, {"lotte.marsh", "piet.haverkamp"})
        self.assertIn("disabled", self.lane("people show piet.haverkamp").out)
        self.assertNotIn("disabled", self.lane(f"people show piet.haverkamp --as-of {first}").out)
        self.assertIn("una.birk", self.lane("people find una").out)
        self.lane(f"people find una --as-of {first}", 1)
        self.assertIn("no snapshot of 2020-01-01 or before", self.lane("ask x y z --as-of 2020-01-01", 2).err)
        for when in ("yesterday", "2026-13-45", "2026-02-30", "2026-11-25T25"):
            self.assertIn("write a day or a time", self.lane(f"people groups --as-of {when}", 2).err)

    def test_what_changed_and_what_access_that_gave_or_took(self) -> None:
        before = self.top / "before"
        shutil.copytree(self.folder, before)
        self.assertIn("there is no snapshot yet", self.lane("people changes", 2).err)
        self.pull()
        self.assertIn("there is only one snapshot", self.lane("people changes", 2).err)
        self.pull()
        self.assertIn("nobody changed", self.lane("people changes").out)
        self.changed_people()
        self.pull()
        found = self.lane("people changes --format json", 1).json
        moves = {p["name"]: (p["moves"], p["into"], p["out_of"]) for p in found["people"]}
        self.assertEqual(moves, {
            "lotte.marsh": (["moved"], ["southern-crew"], ["northern-crew"]),
            "piet.haverkamp": (["disabled"], [], []),
            "una.birk": (["joined"], ["southern-crew"], []),
        })  # fmt: skip
        whole = self.lane(f"compare {before} {self.folder} --format json", 1).json
        self.assertEqual(found["access"]["groups"], whole["groups"])
        self.assertGreater(found["access"]["gained"], 100)
        text = self.lane("people changes", 1).out
        self.assertIn("lotte.marsh  Lotte Marsh  moved; into southern-crew; out of northern-crew", text)
        rows = list(csv.DictReader(io.StringIO(self.lane("people changes --format csv", 1).out)))
        self.assertEqual(sum(r["what"] == "access" for r in rows), whole["gained"] + whole["lost"])
        first, second, third = snapshots.names(self.folder)
        self.assertEqual(self.lane(f"people changes {first} --upto {second}").code, 0)
        self.assertIn("is not before", self.lane(f"people changes {third} --upto {first}", 2).err)
        self.edit("platforms/fieldnet.yaml", ("platform: fieldnet", "platfrom: fieldnet"))
        ran = self.lane("people changes", 1)
        self.assertIn("cannot be told while the estate is not sound", ran.err)
        self.assertIn("una.birk", ran.out)

    def test_somebody_who_left_and_is_still_named(self) -> None:
        self.pull()
        text = (self.folder / LDIF).read_text()
        text = re.sub(r"# vik\.sorrel, people.*\n(?:.+\n)+\n|member: uid=vik\.sorrel.*\n", "", text)
        (self.folder / LDIF).write_text(text.replace("# numEntries: 58", "# numEntries: 57"))
        self.pull()
        before = snapshots.names(self.folder)[0]
        said = self.lane("check", 2).out
        self.assertIn("the directory has no user 'vik.sorrel' any more", said)
        self.assertIn(f"take it out: it was last seen in {before}", said)
        self.lane(f"ask vik.sorrel read-log fieldnet/north/harbour --as-of {before}")
        self.lane("ask vik.sorrel read-log fieldnet/north/harbour", 2)
        found = self.lane("people changes --format json", 1).json
        self.assertEqual(([p["moves"] for p in found["people"]], found["access"]["lost"]), ([["left"]], 32))

    def test_a_login_that_somebody_else_has_now(self) -> None:
        self.pull()
        self.edit(LDIF, ("cn: Imke Vos\n", "cn: Ivo Vos\n"))
        text = (self.folder / LDIF).read_text()
        at = text.index("entryUUID: ", text.index("uid: imke.vos")) + len("entryUUID: ")
        (self.folder / LDIF).write_text(text[:at] + "00000000" + text[at + 8 :])
        self.pull()
        found = self.lane("people changes --format json", 1).json
        moves = {(p["name"], p["title"]): p["moves"] for p in found["people"]}
        self.assertEqual(moves, {("imke.vos", "Ivo Vos"): ["joined"], ("imke.vos (before)", "Imke Vos"): ["left"]})
        self.assertEqual(found["access"]["gained"], found["access"]["lost"])
        self.assertIn("manage-crew", str(found["access"]), "what she was given in person is told too")

    def test_names_that_the_directory_changed(self) -> None:
        self.pull()
        text = (self.folder / LDIF).read_text()
        text = text.replace("cn=contractors,", "cn=outside-hands,").replace("cn: contractors\n", "cn: outside-hands\n")
        (self.folder / LDIF).write_text(re.sub(r"\b(uid[:=] ?)imke\.vos\b", r"\1imke.deelder", text))
        ran = self.lane("check", 2)
        self.assertRegex(ran.out, r"bindings/field.yaml:\d+:\d+: error: the group 'contractors' is called 'outside-hands' now")
        self.assertRegex(" ".join(ran.out.split()), r"the user 'imke.vos' is called 'imke.deelder' now")
        before = {p: p.read_text() for p in self.folder.rglob("*.yaml")}
        ran = self.lane("people renames", 1)
        self.assertIn("+ to: group outside-hands", ran.out)
        self.assertEqual({p: p.read_text() for p in before}, before)
        self.assertIn("nobody to ask", self.lane("people renames --write", 2).err)
        self.lane("people renames --write --yes")
        self.assertIn("people renames", self.lane("journal show").out)
        self.lane("check", 1)
        self.lane("ask imke.deelder manage-crew fieldnet/north/harbour")
        for path, old in before.items():
            new = path.read_text()
            self.assertEqual(new.replace("outside-hands", "contractors").replace("imke.deelder", "imke.vos"), old)
        self.assertIn("every name in the estate is known", self.lane("people renames").err)
        self.pull()
        found = self.lane("people changes --format json", 1).json
        self.assertEqual(
            [(p["name"], p["was"]) for p in found["people"] + found["groups"]], [("imke.deelder", "imke.vos"), ("outside-hands", "contractors")]
        )
        self.assertEqual(found["access"]["gained"] + found["access"]["lost"], 0)


class RenamingTest(unittest.TestCase):
    def test_only_the_name_is_replaced(self) -> None:
        for line, column, old, new, expected in (
            ("    to: group up  # group up", 9, "up", "down", "    to: group down  # group up"),
            ("to: group group", 5, "group", "team", "to: group team"),
            ("to: 'user us'", 5, "us", "we", "to: 'user we'"),
            ("holds: [group a, group a-b, local group a]", 18, "a-b", "c", "holds: [group a, group c, local group a]"),
            ("- {group: a, to: a/a}", 11, "a", "b", "- {group: b, to: a/a}"),
            ("who: ann.lee", 6, "ann.lee", "ann.o lee", "who: ann.o lee"),
            ("to: group upper", 5, "up", "down", ""),
            ("to: group up", 5, "up", "a: b", ""),
        ):  # fmt: skip
            edit = Finding("renamed", Severity.ERROR, Source("a.yaml", 3, column), "", "", old, new)
            if expected:
                self.assertEqual(edited_line(line, edit), expected)
            else:
                with self.assertRaisesRegex(RefusedError, "a.yaml:3: '.*' cannot be replaced here"):
                    edited_line(line, edit)


class SeveralTest(PeopleTest):
    def test_two_directories(self) -> None:
        self.pumphall(
            estate=(
                "  office:\n    ldif: people.ldif\n",
                "  office:\n    ldif: people.ldif\n  guild:\n    csv: {people: g.csv, memberships: m.csv}\n    RULE\n",
            )
        )
        self.write({"g.csv": "login,enabled\nada.brook,no\ncleo.dam,yes\n", "m.csv": "group,member\nstaff,ada.brook\nstaff,cleo.dam\n"})
        text = (self.folder / "estate.yaml").read_text()

        def rule(line: str, code: int) -> Ran:
            (self.folder / "estate.yaml").write_text(text.replace("    RULE\n", line and f"    {line}\n"))
            return self.lane("people groups --format json", code)

        ran = rule("", 2)
        self.assertRegex(ran.err, r"g.csv:2:1: error: the user 'ada.brook' is in two directories, at\s+people.ldif:3 too")
        self.assertRegex(ran.err, r"m.csv:2:1: error: the group 'staff' is in two directories, at\s+people.ldif:19 too")
        self.assertIn("`login becomes`", ran.err)
        ran = rule('login becomes: "*.guild"', 2)
        self.assertNotIn("ada.brook", ran.err)
        sizes = {g["group"]: g["in_all"] for g in rule('{login becomes: "*.guild", group becomes: guild-*}'[1:-1].replace(", ", "\n    "), 0).json}
        self.assertEqual(sizes, {"guild-staff": 2, "mechanics": 1, "staff": 2})
        self.assertIn("cleo.dam.guild", self.lane("people find cleo").out)
        rule("same login: same person\n    group becomes: guild-*", 0)
        person = self.lane("people show ada.brook --format json").json
        self.assertEqual(([b["group"] for b in person["in"]], person["enabled"]), (["mechanics", "guild-staff", "staff"], True))

    def test_a_group_that_nobody_comes_by_is_flagged_wherever_it_is_named(self) -> None:
        self.saltmarsh()
        text = (self.folder / LDIF).read_text()
        (self.folder / LDIF).write_text(re.sub(r"(cn: contractors\n(?:.+\n)*?)((?:member: .*\n)+)", r"\1", text))
        said = " ".join(self.lane("check", 1).out.split())
        self.assertRegex(said, r"sensor-calibrator is given to group contractors, which is empty")
        self.assertRegex(said, r"platforms/planboard.yaml:52:\d+: warning: local group \S+ holds group contractors, which is empty")
        self.assertRegex(said, r"planboard/storm-season has group contractors published to it, which is empty")
        (self.folder / LDIF).write_text(re.sub(r"(uid: (?:vik.sorrel|dana.brine)\n)", r"\1loginDisabled: TRUE\n", text))
        self.assertIn("which has only disabled members", " ".join(self.lane("check", 1).out.split()))


class SafetyTest(PeopleTest):
    """Everything that must not be lost, believed or told."""

    def partners(self, service: ScimAnswers, **more: str) -> None:
        """An estate whose people come from a service."""
        settings = {"url": service.shape()["scim"]["url"], "encryption": "none", "token from": "file token", "page size": "4"} | more
        told = "".join(f"      {key}: {value}\n" for key, value in settings.items())
        self.write(
            {
                "token": TOKEN,
                "estate.yaml": f"estate: Partners\nfor: Tests.\ntime zone: UTC\ndirectories:\n  partners:\n    scim:\n{told}people: {{keep: 3}}\n",
            }
        )
        (self.folder / "token").chmod(0o600)

    def files(self) -> Mapping[str, bytes]:
        return {path.name: path.read_bytes() for path in (self.folder / "snapshots").iterdir()}

    def test_files_are_closed_and_as_many_are_kept_as_the_estate_says(self) -> None:
        self.pumphall(estate=("include:", "people: {keep: 3}\ninclude:"))
        for _ in range(5):
            self.pull()
        self.assertEqual(len(snapshots.names(self.folder)), 3)
        folder = self.folder / "snapshots"
        self.assertEqual(stat.S_IMODE(folder.stat().st_mode), 0o700)
        for path in folder.glob("*.sqlite"):
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
        self.assertEqual((folder / ".gitignore").read_text(), "*\n")
        stale = folder / ".justlane-unfinished.left-behind"
        stale.write_text("half")
        self.pull()
        self.assertFalse(stale.exists())
        folder.chmod(0o500)
        if os.geteuid() != 0:
            self.assertIn("cannot be written", self.pull("", 3).err)

    def test_a_reading_that_lost_many_is_not_believed(self) -> None:
        with ScimAnswers(lambda kind, page: page) as service:
            self.partners(service)
            self.pull()
            before = self.files()
            service.users = service.users[:6]
            ran = self.pull("", 2)
            self.assertIn("the directory partners had 9 users and has 6 now; nothing was changed", ran.err)
            self.assertEqual(self.files(), before)
            self.assertIn("6 users", self.pull("--fewer").out)

    def test_an_estate_that_asks_its_directories_says_when_nobody_has_been_read(self) -> None:
        with ScimAnswers(lambda kind, page: page) as service:
            self.partners(service)
            ran = self.lane("check", 2)
            self.assertRegex(ran.out, r"estate.yaml:4:\d+: error: nobody has been read from the directories yet")
            self.assertIn("justlane people pull", self.lane("people groups", 2).err)
            self.pull()
        self.lane("check")  # the service is gone, the snapshot is there
        self.assertIn("9", self.lane("people groups").out)
        self.edit("estate.yaml", ("page size: 4", "page size: 5"))
        self.assertIn("is read in another way", " ".join(self.lane("check", 1).out.split()))
        self.edit("estate.yaml", ("  partners:", "  more:\n    ldif: more.ldif\n  partners:"))
        self.assertIn("the directory more is not in the snapshot", " ".join(self.lane("check", 2).out.split()))

    def test_old_people_are_warned_of(self) -> None:
        with ScimAnswers(lambda kind, page: page) as service:
            self.partners(service)
            root = read_all(self.folder).files[0].shape
            assert isinstance(root, EstateFile)
            people, snapshot = read_now(self.folder, root, read_people)
        from msgspec.structs import replace

        snapshots.keep(self.folder, people, replace(snapshot, taken=datetime.now(UTC) - timedelta(days=8)), 3)
        for command in ("people groups", "people show p1"):
            self.assertIn("as of 8 days ago, older than the estate allows: justlane people pull", self.lane(command).err)
        self.edit("estate.yaml", ("keep: 3", "keep: 3, pull every: 2 weeks"))
        self.assertEqual(self.lane("people groups").err, "")

    def test_an_interrupted_pull_changes_nothing(self) -> None:
        slow = 0.0

        def change(kind: str, page: dict[str, Any]) -> Any:
            time.sleep(slow if page["startIndex"] > 1 else 0)
            return page

        with ScimAnswers(change) as service:
            self.partners(service)
            self.pull()
            before = self.files()
            slow = 30.0
            for sign, code in ((signal.SIGINT, 3), (signal.SIGTERM, None), (signal.SIGKILL, -9)):
                asked = len(service.asked)
                command = [sys.executable, "-m", "justlane", "people", "pull"]
                process = subprocess.Popen(
                    command,
                    env=self.environment,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    text=True,
                    preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a background job ignores it
                )
                while len(service.asked) < asked + 2 and process.poll() is None:
                    time.sleep(0.01)
                process.send_signal(sign)
                _, said = finished(process)
                self.assertIn(process.returncode, [code] if code else [3, -signal.SIGTERM, 143])
                self.assertNotIn("Traceback", said)
                self.assertEqual(self.files(), before)
                if code == 3:
                    self.assertIn("stopped: the people are as they were", said)

    def test_pulled_plugs_leave_whole_snapshots_only(self) -> None:
        self.pumphall()
        entries = "".join(f"dn: uid=p{n},dc=x\nobjectClass: person\nuid: p{n}\n\n" for n in range(15_000))
        (self.folder / "people.ldif").write_text((self.folder / "people.ldif").read_text() + "\n" + entries)
        began = time.monotonic()
        self.pull()
        whole = time.monotonic() - began
        for part in range(8):
            command = [sys.executable, "-m", "justlane", "people", "pull"]
            process = subprocess.Popen(command, env=self.environment, stdout=subprocess.DEVNULL)
            time.sleep(whole * (0.3 + part * 0.09))
            process.kill()
            process.wait()
            for name in snapshots.names(self.folder):
                self.assertEqual(snapshots.open_snapshot(self.folder, name).count("users"), 15_002)
        self.pull()

    def test_a_damaged_snapshot_is_named(self) -> None:
        with ScimAnswers(lambda kind, page: page) as service:
            self.partners(service)
            self.pull()
        path = next((self.folder / "snapshots").glob("*.sqlite"))
        whole = path.read_bytes()
        for damaged in (b"", whole[:100], whole[: len(whole) // 2], whole[:4096] + bytes(len(whole) - 4096), b"x" * 9000):
            path.write_bytes(damaged)
            ran = self.run_lane("people", "show", "p1")
            self.assertIn(ran.code, (2, 3), ran)
            self.assertIn("snapshot", ran.err)
            self.assertIn("pull", ran.err)
        self.pull("", 3)

    def test_a_snapshot_that_does_not_agree_with_itself(self) -> None:
        self.saltmarsh()
        self.pull()
        path = next((self.folder / "snapshots").glob("*.sqlite"))
        whole = path.read_bytes()
        for name, change in (
            ("members", lambda body: body[::-1]),
            ("members", lambda body: bytes(len(body))),
            ("logins", lambda body: body.replace(b"vik.sorrel", b"vik.sorrow")),
        ):
            path.write_bytes(whole)
            connection = sqlite3.connect(path)
            bodies = dict(connection.execute("SELECT name, body FROM arrays WHERE name <> 'digest'"))
            bodies[name] = change(bodies[name])
            for changed in ("digest", name):
                body = arrays._digest(bodies.values()) if changed == "digest" else bodies[name]
                connection.execute("UPDATE arrays SET body = ? WHERE name = ?", (body, changed))
            connection.commit()
            connection.close()
            for line in (
                "holders read-log fieldnet/north/harbour",
                "holders fieldnet/north",
                "verify",
                "tally",
                "grid read-log",
                "check",
                "people changes",
            ):
                ran = self.run_lane(*line.split(), XDG_CACHE_HOME=str(self.top / "fresh"))
                self.assertIn(ran.code, (0, 1, 2, 3), ran)
                self.assertNotIn("a mistake in justlane", ran.err, line)
                self.assertNotIn("Traceback", ran.err, line)
        path.write_bytes(whole)

    def test_secrets_come_from_the_keyring_and_go_nowhere(self) -> None:
        (self.top / "vault.py").write_text(KEYRING.replace("{token}", TOKEN))
        ours = {"PYTHONPATH": str(self.top), "PYTHON_KEYRING_BACKEND": "vault.Keyring"}
        with ScimAnswers(lambda kind, page: page) as service:
            self.partners(service, **{"token from": "keyring partners"})
            self.assertIn("you have not allowed that", self.pull("", 2, **ours).err)
            port = service.server.server_address[1]
            self.run_lane("trust", "add", "--secret", "keyring partners", "--to", f"127.0.0.1:{port}")
            self.pull(**ours)
            for name, backend, told in (
                ("others", "vault.Keyring", "python -m keyring set justlane others"),
                ("locked", "vault.Keyring", "the keyring did not give the token locked: RuntimeError"),
                ("partners", "keyring.backends.fail.Keyring", "this machine has no keyring that could hold a secret"),
            ):
                self.partners(service, **{"token from": f"keyring {name}"})
                said = self.pull("", 3, **{**ours, "PYTHON_KEYRING_BACKEND": backend}).err
                self.assertIn(told, " ".join(said.split()))
                self.assertNotIn("xyz", said)
            for kind, told in (("environment WHERE", "set the variable WHERE"), ("file none.token", "No such file")):
                self.partners(service, **{"token from": kind})
                self.assertIn(told, self.pull("", 3).err)
        for path in [*(self.folder / "snapshots").iterdir(), *(p for p in Path(self.top / "cache").rglob("*") if p.is_file())]:
            self.assertNotIn(TOKEN.encode(), path.read_bytes(), path)
