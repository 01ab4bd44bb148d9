"""Safe with what others wrote: hostile estates, repositories, caches, services and days. One test for each promise of docs/security.md."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import pty
import re
import signal
import socket
import sqlite3
import stat
import subprocess
import sys
import time
from pathlib import Path
from typing import Any
from unittest import mock

from justlane.files.allowed import permissions
from justlane.files.disk import beneath, durable
from justlane.files.disk.identity import who
from justlane.files.reading.folder import files_included
from justlane.model import interruption, patterns, secrecy, visible
from justlane.model.circumstances import ALWAYS
from justlane.model.errors import StorageError
from justlane.outside.limits import Limits, Watch
from justlane.platforms.alignment.journal import RunJournal
from justlane.platforms.over_http.dialect import condition_of
from tests.directory_server import answering
from tests.oracle import like
from tests.patience import processor_time, until
from tests.scim_server import TOKEN, ScimAnswers
from tests.support import EstateTest

ASK = "ask ada.brook repair-pump pumphall/west/pump-3"
SCIM = "estate: Partners\ntime zone: UTC\ndirectories:\n  partners:\n    scim: {{url: '{url}', encryption: none, token from: {place}, wait at most: {wait}}}\n"


class GateTest(EstateTest):
    forked = True

    def test_what_was_not_read_is_never_sound(self) -> None:
        for content in ("---", "null", "~", "", "# nothing\n", "[]", "expectations:\n  - ["):
            with self.subTest(content):
                self.pumphall(pumphall=("give: watcher", "give: wotcher"))
                self.write({"expectations.yaml": content})
                ran = self.lane("check", 2)
                self.assertIn("not sound", ran.out)
                self.assertRegex(ran.out, r"expectations.yaml:\d+:\d+: error")
                self.assertEqual(self.lane("check --format json", 2).json["errors"], 1)
                for command in ("verify", "tally", ASK, "compare --person ada.brook --with ben.ferry"):
                    self.lane(command, 2)

    def test_conditions_that_cut_too_finely_are_told_beforehand(self) -> None:
        methods = "".join(f"  - {{give: watcher, to: group staff, at: pumphall, when: {{signed in by: m{n}}}, because: B.}}\n" for n in range(900))
        hours = "".join(
            f"  - {{give: watcher, to: group staff, at: pumphall, when: {{between: '{n // 60:02}:{n % 60:02}-{n // 60:02}:{n % 60 + 1:02}', days: {day}}}, because: B.}}\n"
            for n in range(0, 1440, 6)
            for day in ("mon", "tue", "wed")
        )
        networks = "".join(
            f"  - {{give: watcher, to: group staff, at: pumphall, when: {{from network: 198.51.{n}.0/24}}, because: B.}}\n" for n in range(40)
        )
        self.pumphall(pumphall=("bindings:\n", f"bindings:\n{methods}{hours}{networks}"))
        self.assertIn("the conditions on pumphall cut the circumstances into", " ".join(self.lane("check", 1).out.split()))
        self.assertIn("ask for one situation", self.lane("ask ben.ferry see-pump pumphall", 2).err)
        self.lane("ask ben.ferry see-pump pumphall --signed-in-by m7")

    def test_a_thousand_conditions_of_their_own_are_answered(self) -> None:
        from benchmarks.conditions import write

        write(self.folder, 1000)
        self.lane("check", 1)
        ran = self.lane("ask ada see p/s1", 1)
        self.assertTrue(ran.out.startswith("only if  ada may see at p/s1\n      from 198.51."))
        self.assertIn("another way (1000 of 1000)", ran.out)


class FolderTest(EstateTest):
    """A clone must not reach out of its folder."""

    def setUp(self) -> None:
        super().setUp()
        self.pumphall()
        self.outside = self.top / "outside"
        self.outside.mkdir()

    def test_nothing_is_written_through_a_link(self) -> None:
        start_up = self.outside / "profile"
        start_up.write_text("# mine\n")
        (self.folder / "journal").mkdir()
        (self.folder / "journal" / "p.jsonl").symlink_to(start_up)
        (self.folder / "snapshots").symlink_to(self.outside)
        (self.folder / "standin").symlink_to(self.outside)
        (self.folder / "schemas").symlink_to(self.outside)
        with self.assertRaisesRegex(StorageError, "p.jsonl is a link, and links are not followed"):
            RunJournal(self.folder, "p").write("started", why="echo harm")
        self.assertIn("snapshots is a link", self.lane("people pull", 3).err)
        for name in ("standin/x.json", "schemas/x.json", "../x", str(self.outside / "x")):
            with self.assertRaises(StorageError):
                durable.write_atomically(self.folder, name, b"x")
        done = subprocess.run(
            [sys.executable, "-m", "justlane", "schema"], cwd=self.folder, env=self.environment, capture_output=True, text=True, check=False
        )
        self.assertEqual((done.returncode, "schemas is a link" in done.stderr), (3, True))
        os.mkfifo(self.folder / "pipe.jsonl")
        with self.assertRaisesRegex(StorageError, "cannot be written"):
            durable.append_durably(self.folder, "pipe.jsonl", b"x")
        self.assertEqual((start_up.read_text(), os.listdir(self.outside)), ("# mine\n", ["profile"]))

    def test_personal_data_is_closed_whatever_the_umask(self) -> None:
        before = os.umask(0)
        try:
            RunJournal(self.folder, "p").write("started")
            self.lane("people pull")
            self.lane(ASK)
        finally:
            os.umask(before)
        kept = [*(self.folder / "journal").iterdir(), *(self.folder / "snapshots").glob("*.sqlite"), *(self.top / "cache").rglob("*.sqlite")]
        self.assertEqual({stat.S_IMODE(path.stat().st_mode) for path in kept}, {0o600})
        folders = {stat.S_IMODE((self.folder / name).stat().st_mode) for name in ("journal", "snapshots")}
        self.assertEqual(folders | {stat.S_IMODE((self.top / "cache" / "justlane").stat().st_mode)}, {0o700})

    def test_include_follows_no_link_and_opens_no_pipe(self) -> None:
        secret = self.outside / "shadow.yaml"
        secret.write_text("root:$6$abracadabra\n")
        (self.folder / "a.yaml").symlink_to(secret)
        (self.folder / "deep").symlink_to(self.outside)
        os.mkfifo(self.folder / "pipe.yaml")
        for pattern, told in (
            ("a.yaml", "a.yaml: error: the file cannot be read: a.yaml is a link, and links are not followed"),
            ('"a*.yaml"', "a.yaml is a link"),
            ('"*/shadow.yaml"', "deep is a link"),
            ("deep/shadow.yaml", "deep is a link"),
            ("pipe.yaml", "it is a folder, a pipe or a device, expected a file"),
            (str(secret), "no file matches"),
            ("../outside/shadow.yaml", "no file matches"),
        ):  # fmt: skip
            with self.subTest(pattern):
                self.pumphall(estate=("- expectations.yaml", f"- {pattern}"))
                ran = self.lane("check", 2)
                self.assertIn(told, " ".join(ran.out.split()))
                self.assertNotIn("abracadabra", ran.out + ran.err)

    def test_patterns_of_include(self) -> None:
        self.write(dict.fromkeys(("b/one.yaml", "b/c/two.yaml", "b/.hidden.yaml", "three.yml"), "x"))
        for pattern, found in (
            ("b/*.yaml", ["b/one.yaml"]), ("b/**/*.yaml", ["b/c/two.yaml", "b/one.yaml"]), ("**/two.yaml", ["b/c/two.yaml"]),
            ("th**e.yml", ["three.yml"]), ("b/.*", ["b/.hidden.yaml"]), ("b", []), ("*", ["estate.yaml", "expectations.yaml", "people.ldif", "pumphall.yaml", "three.yml"]),
            ("b/c/**", []), ("nowhere/*", []), ("", []), ("/b/one.yaml", []), ("b/../b/one.yaml", []), ("x" * 5000, []), ("*/" * 400, []),
        ):  # fmt: skip
            self.assertEqual(files_included(self.folder, pattern), found, pattern)

    def test_people_from_elsewhere_have_to_be_allowed_and_are_never_shown(self) -> None:
        foreign = self.outside / "shadow"
        foreign.write_text("root:$6$abracadabra:1:2\n")
        for name in (str(foreign), "../outside/shadow"):
            self.write({"estate.yaml": f"estate: E\ndirectories: {{o: {{ldif: {name}}}}}\n"})
            ran = self.lane("check", 2)
            self.assertIn(f"justlane trust add --file {foreign}", " ".join(ran.out.split()))
            self.assertNotIn("abracadabra", ran.out)
        self.assertEqual(self.run_lane("trust", "add", "--file", str(foreign)).code, 0)
        ran = self.lane("check", 2)
        self.assertRegex(ran.out, r"shadow:1:1: error: this cannot be read as ldif")
        self.assertNotIn("abracadabra", ran.out)
        self.write({"estate.yaml": f"estate: E\ndirectories: {{o: {{csv: {{people: {foreign}, memberships: m.csv}}}}}}\n", "m.csv": "group,member\n"})
        self.assertNotIn("abracadabra", self.lane("check", 2).out)
        foreign.write_text("dn: uid=x,dc=y\nobjectClass: person\nuid: xenia\n")
        self.write({"estate.yaml": f"estate: E\ndirectories: {{o: {{ldif: {foreign}}}}}\n"})
        self.assertIn("xenia", self.lane("people find x").out)
        self.assertEqual(self.run_lane("trust", "remove", "--file", str(foreign)).code, 0)
        self.lane("people find x", 2)
        (self.folder / "link.ldif").symlink_to(foreign)
        self.write({"estate.yaml": "estate: E\ndirectories: {o: {ldif: link.ldif}}\n"})
        self.assertIn("link.ldif is a link", self.lane("check", 2).out)


class RepositoryTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        self.pumphall()
        self.repository = self.top
        self.git("init", "-q")
        self.commit()

    def git(self, *words: str) -> str:
        own = ("-c", "user.name=A", "-c", "user.email=a@example.org", "-c", "protocol.file.allow=always")
        return subprocess.run(["git", "-C", str(self.repository), *own, *words], check=True, capture_output=True, text=True).stdout

    def commit(self) -> None:
        self.git("add", "-A", "estate")
        self.git("commit", "-q", "-m", "x")

    def test_revisions_are_read_as_they_were_committed(self) -> None:
        """Below the top of the repository, whatever the attributes say."""
        self.assertIn("nothing changes", self.lane("compare").out)
        self.write({"estate.yaml": (self.folder / "estate.yaml").read_text().replace("Pump Hall", "$Format:%H$")})
        self.write({".gitattributes": "expectations.yaml export-ignore\n*.yaml export-subst\npumphall.yaml export-ignore filter=bad\n"})
        self.commit()
        self.assertIn("nothing changes", self.lane("compare").out)
        path = self.folder / "pumphall.yaml"
        path.write_text(path.read_text().replace("give: mechanic", "give: watcher"))
        result = self.lane("compare HEAD --format json", 1).json
        self.assertEqual((result["people"], result["gained"]), (1, 0))
        for revision, told in (("--output=x", "neither a folder nor a revision"), ("nope", "neither a folder"), ("HEAD:estate", "neither a folder")):
            self.assertIn(told, self.run_lane("compare", "--", revision).err)
        self.git("mv", "estate", "moved")
        self.git("commit", "-q", "-m", "moved")
        self.git("mv", "moved", "estate")
        self.assertIn("did not exist in 'HEAD'", self.lane("compare HEAD", 2).err)

    def test_a_link_in_a_revision_is_data(self) -> None:
        (self.folder / "expectations.yaml").unlink()
        (self.folder / "expectations.yaml").symlink_to("/etc/passwd")
        self.commit()
        (self.folder / "expectations.yaml").unlink()
        self.write({"expectations.yaml": "expectations: []\n"})
        ran = self.lane("compare HEAD", 2)
        self.assertIn("expectations.yaml is a link", ran.err)
        self.assertNotIn("root:", ran.err)

    def test_no_configured_program_runs_and_nothing_is_fetched(self) -> None:
        witness = self.top / "witness"
        harm = f"sh -c 'echo harm >> {witness}'"
        for key in ("core.fsmonitor", "core.sshCommand", "core.pager", "diff.external", "filter.bad.smudge", "filter.bad.clean", "core.gitProxy",
                    "core.alternateRefsCommand", "core.askPass", "credential.helper", "remote.origin.uploadpack", "gpg.program"):  # fmt: skip
            self.git("config", key, harm)
        hooks = self.top / "hooks"
        hooks.mkdir()
        for name in ("post-checkout", "reference-transaction", "post-index-change", "fsmonitor-watchman"):
            (hooks / name).write_text(f"#!/bin/sh\n{harm}\n")
            (hooks / name).chmod(0o755)
        self.git("config", "core.hooksPath", str(hooks))
        self.write({".gitattributes": "* filter=bad\n"})
        witness.unlink(missing_ok=True)
        self.assertIn("nothing changes", self.lane("compare").out)
        # a clone that holds only a part, whose missing objects a configured command would bring
        blob = self.git("rev-parse", "HEAD:estate/expectations.yaml").strip()
        (self.top / ".git" / "objects" / blob[:2] / blob[2:]).unlink()
        for key, value in (("extensions.partialClone", "origin"), ("core.repositoryformatversion", "1"), ("remote.origin.url", f"ext::{harm}"),
                           ("remote.origin.promisor", "true"), ("protocol.ext.allow", "always"), ("protocol.allow", "always")):  # fmt: skip
            self.git("config", key, value)
        witness.unlink(missing_ok=True)
        self.assertIn("is not in the repository", self.lane("compare", 3).err)
        self.assertFalse(witness.exists())


class SecretTest(EstateTest):
    """A secret goes only where the person lets it go."""

    def setUp(self) -> None:
        super().setUp()
        self.service = self.enterContext(ScimAnswers(lambda kind, page: page))
        self.port = self.service.server.server_address[1]
        (self.folder / "token").touch(0o600)
        (self.folder / "token").write_text(TOKEN)

    def describe(self, place: str = "file token", url: str = "", wait: int = 2) -> None:
        self.write({"estate.yaml": SCIM.format(url=url or f"http://127.0.0.1:{self.port}/scim", place=place, wait=wait)})

    def test_only_after_it_was_allowed(self) -> None:
        self.describe()
        self.assertIn("9 users", self.lane("people pull").out)
        foreign = self.top / "token"
        foreign.touch(0o600)
        foreign.write_text(TOKEN)
        for place, extra in (("environment MY_TOKEN", {"MY_TOKEN": TOKEN}), (f"file {foreign}", {}), ("file ../token", {})):
            with self.subTest(place):
                self.describe(place)
                asked = len(self.service.asked)
                ran = self.lane("people pull", 2, **extra)
                self.assertIn("you have not allowed that", ran.err)
                self.assertNotIn(TOKEN, ran.err)
                self.assertEqual(len(self.service.asked), asked, "nothing was sent")
                said = place if place.startswith("env") else f"file {foreign}"
                words = ["--secret", said, "--to", f"127.0.0.1:{self.port}"]
                self.assertIn(f"justlane trust add --secret '{said}' --to 127.0.0.1:{self.port}\n", ran.err)
                self.assertEqual(self.run_lane("trust", "add", *words).code, 0)
                self.lane("people pull", **extra)
                self.assertIn(said, self.lane("trust list --format json").out)
                self.assertEqual(self.run_lane("trust", "remove", *words).code, 0)
                self.assertEqual(self.run_lane("trust", "remove", *words).code, 1)
                self.lane("people pull", 2, **extra)

    def test_another_host_port_authority_or_way_is_another_question(self) -> None:
        for url, told in (
            ("https://partner.example/", "partner.example:443, encrypted"),
            ("https://partner.example:8443/", "partner.example:8443, encrypted"),
            ("http://partner.example/", "--to partner.example:80 --readable"),
            ("http://127.0.0.1.partner.example/", "127.0.0.1.partner.example:80"),
        ):  # fmt: skip
            self.describe(url=url)
            self.assertIn(told, self.lane("people pull", 2).err)
        use = permissions.Use("environment X", "a.example", 443)
        for other in (("environment Y", "a.example", 443), ("environment X", "b.example", 443), ("environment X", "a.example", 444),
                      ("environment X", "a.example", 443, "abc"), ("environment X", "a.example", 443, "", True)):  # fmt: skip
            self.assertNotEqual(use, permissions.Use(*other))

    def test_a_dry_run_sends_nothing_either(self) -> None:
        seen: list[bytes] = []
        with answering(lambda client: seen.append(client.recv(9999))) as port:
            self.pumphall(
                pumphall=("habits:", f"reached by: {{connector: stand-in, url: 'http://127.0.0.1:{port}', token from: environment HOME}}\nhabits:")
            )
            for command in ("align pumphall --dry-run", "probe pumphall", "meddle pumphall none"):
                self.assertIn("the token in environment HOME to 127.0.0.1", self.lane(command, 2, HOME="abracadabra").err)
        self.assertEqual(seen, [])

    def test_the_person_is_asked_at_the_prompt_once(self) -> None:
        self.describe("environment MY_TOKEN")
        for said, code in (("n\n", 2), ("y\n", 0), ("", 0)):
            output, ended = self.at_a_terminal(said, "people", "pull", MY_TOKEN=TOKEN)
            self.assertEqual(ended, code, output)
            self.assertEqual("may it go there, from now on?" in output, bool(said), output)
            self.assertNotIn(TOKEN, output)
        self.describe("environment MY_TOKEN", f"http://localhost.example:{self.port}/")
        output, ended = self.at_a_terminal("y\n", "people", "pull", MY_TOKEN=TOKEN)
        self.assertIn("NOT ENCRYPTED", output)
        self.assertEqual(ended, 2, "the word was not typed")
        output, ended = self.at_a_terminal("readable\n", "people", "pull", MY_TOKEN=TOKEN)
        self.assertEqual(ended, 3, "sent, and nobody is there")

    def at_a_terminal(self, answer: str, *words: str, **extra: str) -> tuple[str, int]:
        ours, theirs = pty.openpty()
        command = [sys.executable, "-m", "justlane", *words]
        process = subprocess.Popen(command, env={**self.environment, **extra}, stdin=theirs, stdout=theirs, stderr=theirs, close_fds=True)
        os.close(theirs)
        os.write(ours, answer.encode())
        output = b""
        while True:
            try:
                piece = os.read(ours, 65536)
            except OSError:
                break
            output += piece
            if not piece:
                break
        os.close(ours)
        return output.decode(), process.wait()

    def test_a_pipe_or_a_device_is_no_secret(self) -> None:
        (self.folder / "token").unlink()
        os.mkfifo(self.folder / "token", 0o600)
        self.describe()
        self.assertIn("a pipe or a device", self.lane("people pull", 3).err)
        self.describe("file /dev/zero")
        self.assertIn("cannot be read", self.lane("people pull", 3).err)
        (self.folder / "token").unlink()
        (self.folder / "token").symlink_to(self.top / "elsewhere")
        self.describe()
        self.assertIn("links are not followed", self.lane("people pull", 3).err)

    def test_a_permission_that_others_could_have_written_is_not_believed(self) -> None:
        self.describe("environment MY_TOKEN")
        self.run_lane("trust", "add", "--secret", "environment MY_TOKEN", "--to", f"127.0.0.1:{self.port}")
        file = self.top / "config" / "justlane" / "permissions.json"
        self.assertEqual(stat.S_IMODE(file.stat().st_mode), 0o600)
        for damage in (lambda: file.chmod(0o666), lambda: file.parent.chmod(0o777), lambda: file.write_text("{")):
            damage()
            self.assertIn("permissions.json", self.lane("people pull", 3, MY_TOKEN=TOKEN).err)
            file.parent.chmod(0o700)
            file.chmod(0o600)

    def test_a_secret_that_comes_back_is_neither_shown_nor_kept(self) -> None:
        def echo(kind: str, page: dict[str, object]) -> object:
            if kind == "Groups":
                return {**page, "Resources": [{"id": "g", "displayName": f"crew {TOKEN}", "members": []}], "totalResults": 1}
            page["Resources"][0]["displayName"] = TOKEN  # type: ignore[index]
            return page

        self.describe()
        self.service.change = echo
        ran = self.lane("people pull", 2)
        self.assertNotIn(TOKEN, ran.out + ran.err)
        self.service.change = lambda kind, page: (
            {**page, "Resources": [{**u, "displayName": TOKEN} for u in page["Resources"]]} if kind == "Users" else page
        )
        self.assertNotIn(TOKEN, self.lane("people pull").out)
        for path in [*(self.folder / "snapshots").iterdir(), *(self.top / "cache").rglob("*.sqlite")]:
            self.assertNotIn(TOKEN.encode(), path.read_bytes())
        body = json.dumps({"detail": f"you sent Authorization: Bearer {TOKEN}"}).encode()
        self.service.change = lambda kind, page: (403, {}, body)
        self.assertIn("Bearer …", self.lane("people pull", 3).err)
        secrecy.keep_secret('mum"s/the word')
        RunJournal(self.folder, "p").write("started", why='mum"s/the word', name="mum%22s%2Fthe%20word")
        self.assertNotIn("the word", (self.folder / "journal" / "p.jsonl").read_text().replace("%20", " "))


class CacheTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.pumphall()
        self.lane(ASK)
        self.cache = self.top / "cache" / "justlane"
        self.kept = next(path for path in self.cache.iterdir() if path.suffix == ".sqlite" and ".people" not in path.name)

    def turn(self, noted: bool = True) -> None:
        """Somebody rewrites the kept answer, and the note of what was written."""
        with sqlite3.connect(self.kept) as tables:
            tables.execute("DELETE FROM bindings")
        tables.close()
        if noted:
            self.kept.with_suffix(".digest").write_text(hashlib.blake2b(self.kept.read_bytes(), digest_size=16).hexdigest())

    def test_it_is_believed_only_if_it_is_ours(self) -> None:
        self.turn(noted=False)
        self.lane(ASK)
        self.turn()
        self.lane(ASK, 1)
        for folder, file in ((0o777, 0o600), (0o700, 0o666)):
            self.turn()
            self.kept.chmod(file)
            self.cache.chmod(folder)
            self.lane(ASK)
            self.cache.chmod(0o700)
            if file != 0o600:
                self.assertEqual(stat.S_IMODE(self.kept.stat().st_mode), 0o600, "it was made anew")
        if os.geteuid() == 0:
            self.turn()
            os.chown(self.kept, 12345, -1)
            self.lane(ASK)
        self.cache.rename(self.top / "moved")
        self.cache.symlink_to(self.top / "moved")
        self.turn()
        self.lane(ASK)

    def test_tables_that_are_not_ours_are_refused_at_once(self) -> None:
        self.lane("people pull")
        snapshot = next((self.folder / "snapshots").glob("*.sqlite"))
        whole = snapshot.read_bytes()
        endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i AS id, 'x' AS login, '' AS name, 1 AS enabled, '' AS stable, 0 AS source, 0 AS line, x'' AS held FROM n"
        for script in (
            f"ALTER TABLE users RENAME TO gone; CREATE VIEW users AS {endless}", "CREATE TRIGGER t AFTER INSERT ON users BEGIN SELECT 1; END",
            "CREATE TABLE more (x)", "DROP INDEX users_by_login", "UPDATE users SET name = x'ff'", "UPDATE users SET enabled = 'maybe'",
            "UPDATE users SET source = 99", "UPDATE users SET held = x'ffffffff00000000'", "UPDATE groups SET members = x'0a000000ffffffff'",
            "UPDATE head SET body = x'00'", "UPDATE head SET shown = x'90'", "DELETE FROM head",
        ):  # fmt: skip
            with self.subTest(script[:50]):
                snapshot.write_bytes(whole)
                with sqlite3.connect(snapshot) as tables:
                    tables.executescript(script)
                tables.close()
                began = processor_time()
                for command in ("people groups", "people show ada.brook", "people find a", ASK):
                    self.assertIn(self.run_lane(*command.split()).code, (0, 3))
                codes = {
                    self.run_lane(*command.split(), "--as-of", snapshot.stem).code
                    for command in ("people groups", "people show ada.brook", "people show mechanics", "people find a")
                }
                self.assertIn(3, codes)
                self.assertLess(processor_time() - began, 20)


class ServiceTest(EstateTest):
    """What comes back from outside keeps within limits."""

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "token").touch(0o600)
        (self.folder / "token").write_text(TOKEN)

    def pull(self, port: int, wait: int = 2) -> str:
        self.write({"estate.yaml": SCIM.format(url=f"http://127.0.0.1:{port}/scim", place="file token", wait=wait)})
        ran = self.lane("people pull", 3)
        return " ".join(ran.err.split())

    def test_limits_of_time_bytes_and_depth(self) -> None:
        def dripping(client: socket.socket) -> None:
            client.recv(9999)
            for byte in b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\n" + b"{" * 900:
                client.sendall(bytes([byte]))
                time.sleep(0.2)

        def endless(client: socket.socket) -> None:
            client.recv(9999)
            client.sendall(b"HTTP/1.1 200 OK\r\n\r\n")
            while True:
                client.sendall(b"[" * (1 << 20))

        def bomb(client: socket.socket) -> None:
            client.recv(9999)
            client.sendall(b"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: 4\r\n\r\n\x1f\x8b\x08\x00")

        def deep(client: socket.socket) -> None:
            client.recv(9999)
            body = b'{"totalResults": 1, "Resources": ' + b"[" * 200_000 + b"}"
            client.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % len(body) + body)

        def headers(client: socket.socket) -> None:
            client.recv(9999)
            client.sendall(b"HTTP/1.1 200 OK\r\n")
            while True:
                client.sendall(b"X-More: " + b"x" * 1000 + b"\r\n")

        for serve, wait, told in (
            (dripping, 2, "took more than 2 seconds in all"), (endless, 60, "an answer has more than 268,435,456 bytes"), (bomb, 2, "its answer is compressed"),
            (deep, 2, "it is nested too deeply"), (headers, 5, "not HTTP as agreed"),
        ):  # fmt: skip
            with self.subTest(told), answering(serve) as port:
                self.assertIn(told, self.pull(port, wait))

    def test_a_platform_is_held_to_them_too_and_a_bad_certificate_is_named(self) -> None:
        from tests.directory_server import Authority

        def plain(client: socket.socket) -> None:
            client.recv(9999)
            client.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n{}")

        with answering(plain) as port:
            for url, told in ((f"http://127.0.0.1:{port}", "answered nonsense to /holds"), (f"https://127.0.0.1:{port}", "no safe connection")):
                said = self.platform(url)
                self.assertIn(told, said)
                self.assertNotIn("start it", said)
        Authority(self.top)
        import ssl

        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(self.top / "good.pem", self.top / "good.key")

        def safe(client: socket.socket) -> None:
            with context.wrap_socket(client, server_side=True) as inner:
                plain(inner)

        with answering(safe) as port:
            said = self.platform(f"https://localhost:{port}")
            self.assertIn("its certificate is unknown here", said)
            self.assertNotIn("start it", said)
            (self.folder / "ca.pem").write_bytes((self.top / "ca.pem").read_bytes())
            self.assertIn("answered nonsense to /holds", self.platform(f"https://localhost:{port}", ", trust: ca.pem"))

    def platform(self, url: str, more: str = "") -> str:
        self.pumphall(pumphall=("habits:", f"reached by: {{connector: stand-in, url: '{url}', token from: file token{more}}}\nhabits:"))
        return " ".join(self.lane("align pumphall --dry-run", 3).err.split())

    def test_a_directory_server_that_drips(self) -> None:
        def dripping(client: socket.socket) -> None:
            client.recv(9999)
            for byte in b"\x30\x84\x00\x00\x40\x00" + b"\x02" * 900:
                client.sendall(bytes([byte]))
                time.sleep(0.2)

        with answering(dripping) as port:
            settings = f"{{url: 'ldap://127.0.0.1:{port}', encryption: none, sign in as: cn=x, password from: file token, wait at most: 2}}"
            self.write({"estate.yaml": f"estate: E\ndirectories: {{o: {{ldap: {settings}}}}}\n"})
            self.assertIn("took more than 2 seconds in all", self.lane("people pull", 3).err)

    def test_local_groups_publications_and_ceilings_are_shown_and_changed(self) -> None:
        self.saltmarsh()
        with self.standing_in("planboard"):
            said = " ".join(self.lane("align planboard --dry-run", 1).out.split())
            self.assertRegex(said, r"add local group planners with group release-managers, user platforms/planboard.yaml:\d+ imke.vos")
            self.assertIn("add publication: group auditors to planboard", said)
            self.lane("align planboard --yes")
            path = self.folder / "platforms" / "planboard.yaml"
            path.write_text(path.read_text().replace("[group release-managers, user imke.vos]", "[group release-managers]"))
            ran = self.lane("align planboard --dry-run", 1)
            self.assertIn("change  local group planners: members lose user imke.vos", ran.out)
            self.assertRegex(ran.out, r"for people: 0 cells gained, \d+ lost, 1 membership taken away")
            self.assertIn("local group planners", self.lane("align planboard --dry-run --format csv", 1).out)
            ran = self.lane("align planboard --yes --most-removals 0", 2)
            self.assertIn("1 membership,", ran.err)
            self.lane("align planboard --yes")

    def test_the_limit_counts_what_is_taken_from_people(self) -> None:
        self.saltmarsh()
        with self.standing_in("siltstore"):
            self.assertIn("never *", self.lane("align siltstore --dry-run", 1).out)
            self.lane("align siltstore --yes --most-removals 0")
            ldif = self.folder / "people" / "saltmarsh.ldif"
            whole = ldif.read_text()
            ldif.write_text(re.sub(r"(uid: (?!odd)[a-z.]+\n)", r"\1loginDisabled: TRUE\n", whole))
            ran = self.lane("align siltstore --yes --most-removals 30", 2)
            self.assertRegex(ran.err, r"[\d,]+ cells, 0 memberships, 3\d accounts")
            ldif.write_text(whole)
            platform = self.folder / "platforms" / "siltstore.yaml"
            platform.write_text(platform.read_text().replace("allows: write-series", "allows: read-series", 1))
            self.assertRegex(self.lane("align siltstore --yes --most-removals 0", 2).err, r"would take \d+ things away")

    def test_a_condition_that_a_platform_made_up_is_none(self) -> None:
        odd: tuple[Any, ...] = ({"weekdays": [2**70]}, {"weekdays": [-1]}, {"hours": [[0, 2**70]]}, {"time_zone": "../x"}, 7, [{}])
        for made_up in odd:
            self.assertEqual(condition_of(made_up), ALWAYS, made_up)
        self.assertNotEqual(condition_of({"weekdays": [6], "hours": [[0, 1440]]}), ALWAYS)

    def test_names_that_are_steps_of_an_address_are_refused_at_the_door(self) -> None:
        self.write({"estate.yaml": "estate: E\ndirectories: {o: {ldif: p.ldif}}\n"})
        for login in ("..", "."):
            self.write({"p.ldif": f"dn: uid=x,dc=y\nobjectClass: person\nuid: {login}\n"})
            self.assertIn("cannot be shown", self.lane("people groups", 2).err)
        self.pumphall(pumphall=("  watcher:", "  ..:"))
        self.assertIn("that is not . or ..", " ".join(self.lane("check", 2).out.split()))


class ShownTest(EstateTest):
    forked = True

    def test_controls_never_arrive(self) -> None:
        self.pumphall(pumphall=("because: Everybody on shift answers the telephone.", 'because: "\\x1b[32mye\\u202es\\nno \\x9b1m\\x7f"'))
        for form in ("text", "json"):
            ran = self.run_lane("ask", "ben.ferry", "see-pump", "pumphall", "--format", form)
            self.assertEqual(ran.code, 0)
            self.assertTrue(all(line.isprintable() for line in ran.out.split("\n")), ran.out)
        self.assertIn(r"\x1b[32mye\u202es", self.run_lane("ask", "ben.ferry", "see-pump", "pumphall").out)
        self.assertEqual(
            self.run_lane("ask", "ben.ferry", "see-pump", "pumphall", "--format", "json").json["bindings"][0]["reason"],
            "\x1b[32mye\u202es\nno \x9b1m\x7f",
        )
        ran = self.run_lane("ask", "\x1b[2Jx", "see-pump", "pumphall")
        self.assertIn(r"\x1b[2Jx", ran.err)
        RunJournal(self.folder, "p").write("started", why="\x1b]0;x\x07\u202e\x9b")
        line = (self.folder / "journal" / "p.jsonl").read_text().rstrip("\n")
        self.assertTrue(line.isprintable())
        self.assertEqual(json.loads(line)["why"], "\x1b]0;x\x07\u202e\x9b")

    def test_formulas_are_harmless_and_read_back(self) -> None:
        for value, written in (
            ("=1+1", "'=1+1"),
            ("+x", "'+x"),
            ("-x", "'-x"),
            ("@x", "'@x"),
            ("\tx", r"'\x09x"),
            ("'=x", "''=x"),
            ("x", "x"),
            ("'x", "'x"),
            (-3, -3),
            ("", ""),
            ("''", "''"),
        ):
            self.assertEqual(visible.cell(value), written)
            if isinstance(value, str) and value.isprintable():
                self.assertEqual(visible.uncell(str(written)), value)
        self.write({
            "estate.yaml": "estate: E\ndirectories: {o: {csv: {people: p.csv, memberships: m.csv}}}\n",
            "p.csv": "login,name\nada,'=1+1\n'@ben,B\n", "m.csv": "group,member,for\ncrew,ada,'-x\n",
        })  # fmt: skip
        self.assertEqual([u["user"] for u in self.lane("people find * --format json").json["users"]], ["ada", "@ben"])
        self.assertIn("user,ada,'=1+1,", self.lane("people find ada --format csv").out)

    def test_colours_are_left_out_where_nobody_wants_them(self) -> None:
        from justlane.cli.common import terminal

        tty = mock.Mock(isatty=lambda: True)
        for environment, coloured in (({}, True), ({"NO_COLOR": "1"}, False), ({"NO_COLOR": ""}, True), ({"TERM": "dumb"}, False)):
            with mock.patch.dict(os.environ, environment):
                self.assertEqual(terminal.has_colours(tty), coloured, environment)
        self.assertFalse(terminal.is_terminal(None))


class OddDayTest(EstateTest):
    """Time, depth and odd machines."""

    forked = True

    def test_patterns_take_linear_time_and_mean_what_they_meant(self) -> None:
        began = time.process_time()
        self.assertFalse(patterns.is_like("*a" * 60 + "*b", "a" * 5000))
        self.assertTrue(patterns.is_like("*a" * 60 + "*", "a" * 5000))
        self.assertLess(time.process_time() - began, 2)
        for pattern in ("", "*", "a*", "*a", "a*b", "*a*b*", "a**b", "ab*ba", "*ab*ab", "aba*aba"):
            for name in ("", "a", "b", "ab", "ba", "aba", "abba", "abab", "aabb", "ababa", "abaaba"):
                self.assertEqual(patterns.is_like(pattern, name), like(pattern, name), (pattern, name))

    def test_depth_and_size_end_in_an_answer_or_a_clear_error(self) -> None:
        deep = "".join(f"{'  ' * (2 * n + 1)}s{n}:\n{'  ' * (2 * n + 2)}is: box\n{'  ' * (2 * n + 2)}holds:\n" for n in range(1000))
        roles = "roles:\n  r0: {for: x, allows: see-*}\n" + "".join(f"  r{n}: {{for: x, builds on: r{n - 1}}}\n" for n in range(1, 1001))
        chain = (
            "".join(f"  g{n}: {{is: resource group, gathers: [pumphall/g{n + 1}]}}\n" for n in range(999))
            + "  g999: {is: resource group, gathers: [pumphall/east]}\n"
        )
        for stem, old, new, code, told in (
            ("pumphall", "scopes:\n", f"scopes:\n{deep}{'  ' * 2001}x: pump\n", 2, "nested too deeply"),
            ("expectations", "expectations:", "expectations: " + "[" * 3000, 2, "nested too deeply"),
            ("expectations", "expectations:", "expectations: " + "[" * 120 + "]" * 120 + "\nbundles:", 2, "nested more than 100 deep here"),
            ("pumphall", "roles:\n", roles, 1, "nobody holds the role r1000"),
            ("pumphall", "scopes:\n", f"scopes:\n{chain}", 0, "1,007 scopes"),
            ("expectations", "at most: 3", f"at most: {'9' * 5000}", 2, "(5,000 characters)"),
            ("estate", "include:", f"people: {{pull every: {'9' * 5000} weeks}}\ninclude:", 2, "expected a span"),
            ("pumphall", "allows: see-*", f"allows: {'x' * 1_000_000}", 2, "there is no action"),
            ("pumphall", "  watcher:", f"  {'w' * 500}:", 2, "at most 200 characters"),
            ("estate", "- pumphall.yaml", f"- {'p' * 5000}", 2, "no file matches"),
            ("estate", "- pumphall.yaml", "- pump**hall.yaml", 0, "sound"),
            ("estate", "include:", "situations: {x: {at time: 0001-01-01 00:00}}\ninclude:", 2, "between the years 1900 and 2999"),
        ):  # fmt: skip
            with self.subTest(told, stem=stem):
                self.pumphall(**{stem: (old, new)})
                began = processor_time()
                ran = self.lane("check", code)
                self.assertIn(told, " ".join(ran.out.split()))
                self.assertLess(len(ran.out), 20_000)
                self.assertLess(processor_time() - began, 15)
                if not code:
                    self.lane("reach ada.brook")

    def test_odd_surroundings(self) -> None:
        self.pumphall()
        bare = {
            "HOME": "",
            "XDG_CACHE_HOME": "",
            "XDG_CONFIG_HOME": "",
            "TERM": "dumb",
            "NO_COLOR": "1",
            "LC_ALL": "C",
            "PYTHONIOENCODING": "latin-1",
        }
        self.lane(ASK, **bare)
        with mock.patch("getpass.getuser", side_effect=KeyError("uid not found")):
            self.assertEqual(who(), f"user {os.getuid()}")
        gone = self.top / "gone"
        gone.mkdir()
        script = (
            f"import os, sys; os.chdir({str(gone)!r}); os.rmdir({str(gone)!r}); os.execv(sys.executable, [sys.executable, '-m', 'justlane', 'check'])"
        )
        environment = {k: v for k, v in self.environment.items() if k != "JUSTLANE_ESTATE"}
        done = subprocess.run([sys.executable, "-c", script], env=environment, capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, "the current folder cannot be used" in done.stderr), (2, True), done)
        odd = os.fsencode(self.top) + b"/estate\xff"
        os.rename(self.folder, odd)
        for command in ("check", ASK, "people pull", "people groups"):
            ran = subprocess.run(
                [sys.executable, "-m", "justlane", *command.split(), "--estate", odd], env=self.environment, capture_output=True, check=False
            )
            self.assertEqual((ran.returncode, ran.stderr), (0, b""), ran)
        ran = subprocess.run(
            [sys.executable, "-m", "justlane", "ask", b"\xff\x1b", "see-pump", "pumphall", "--estate", odd],
            env=self.environment,
            capture_output=True,
            check=False,
        )
        self.assertIn(rb"'\udcff\x1b'", ran.stderr)

    def test_a_reader_who_leaves_changes_no_answer_and_a_full_disk_is_told(self) -> None:
        self.pumphall()
        python = f"{sys.executable} -m justlane"
        for user, code in (("ada.brook", 0), ("ben.ferry", 1)):
            ask = f"{python} ask {user} repair-pump pumphall/west/pump-3"
            for script in (
                f"{ask} >&-",
                f"({ask}; echo $? >&3) 3>&1 >/dev/null | cat",
                f"({ask}; echo $? >&3) 3>code | true; cat code >/dev/null; exit $(cat code)",
            ):
                done = subprocess.run(["bash", "-c", script], env=self.environment, cwd=self.top, capture_output=True, text=True, check=False)
                self.assertEqual(done.returncode if not done.stdout.strip().isdigit() else int(done.stdout), code, (script, done))
        done = subprocess.run(
            ["bash", "-c", f"{python} reach ada.brook > /dev/full"], env=self.environment, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 3)
        self.assertIn("standard output cannot be written: No space left on device", done.stderr)

    def test_a_line_that_a_full_disk_cut_is_closed_before_the_next(self) -> None:
        journal = RunJournal(self.folder, "p")
        journal.write("started", of=2)
        path = self.folder / "journal" / "p.jsonl"
        path.write_bytes(path.read_bytes() + b'{"run": "x", "wh')
        journal.write("sending", 1, 2)
        lines = path.read_bytes().split(b"\n")
        self.assertEqual((len(lines), json.loads(lines[2])["event"], lines[3]), (4, "sending", b""))

    def test_unfinished_files_are_swept_when_nobody_holds_them(self) -> None:
        left, held = (self.folder / f"{durable.UNFINISHED}{name}" for name in ("left", "held"))
        left.write_text("x")
        held.write_text("x")
        with held.open() as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            durable.write_atomically(self.folder, "new", b"y")
            self.assertEqual((left.exists(), held.exists()), (False, True))
        durable.write_atomically(self.folder, "new", b"y")
        self.assertFalse(held.exists())
        os.mkfifo(left)
        left2 = self.folder / f"{durable.UNFINISHED}link"
        left2.symlink_to(self.folder / "new")
        durable.write_atomically(self.folder, "new", b"z")
        self.assertEqual((self.folder / "new").read_bytes(), b"z")

    def test_new_and_demo_leave_nothing_or_all_of_it(self) -> None:
        command = [sys.executable, "-m", "justlane", "demo", str(self.top / "walk")]
        for wait in (0.05, 0.12, 0.15, 0.18, 0.21, 0.24, 0.3, 0.6):
            process = subprocess.Popen(command, env=self.environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(wait)
            process.kill()
            process.wait()
            if (self.top / "walk").exists():
                for name in ("estate.yaml", "secrets/siltstore.token", "platforms/siltstore.yaml"):
                    self.assertTrue((self.top / "walk" / name).exists(), (wait, name))
        command += ["--all"]
        walking = subprocess.Popen(command, env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert walking.stdout is not None
        for line in walking.stdout:
            if "sound, with warnings" in line:
                break
        walking.kill()
        walking.wait()
        walking.stdout.close()
        self.assertEqual([p.name for p in self.top.iterdir() if p.name.startswith(durable.UNFINISHED)], [])
        self.no_stand_in_is_left()
        walking = subprocess.Popen(
            command, env=self.environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, start_new_session=True
        )
        assert walking.stderr is not None
        self.assertTrue(any("holds the sample estate already" in line for line in walking.stderr))  # it has begun: the walk itself is tried elsewhere
        os.killpg(walking.pid, signal.SIGKILL)
        walking.wait()
        walking.stderr.close()
        self.no_stand_in_is_left()

    def no_stand_in_is_left(self) -> None:
        """They end with the demo that started them, before their folder is removed."""
        until(lambda: not self.stand_ins(), self.stand_ins, 0.1)

    def stand_ins(self) -> list[str]:
        found = subprocess.run(["ps", "-eo", "args"], capture_output=True, text=True, check=True).stdout
        return [line for line in found.splitlines() if "standin" in line and str(self.top) in line]


class InterruptTest(EstateTest):
    def test_an_interruption_that_got_lost_is_raised_again(self) -> None:
        class Careless:
            def __del__(self) -> None:
                signal.raise_signal(signal.SIGINT)

        from justlane.cli.common import interruption as stopping
        from justlane.cli.common.progress import TerminalProgress

        before = signal.signal(signal.SIGINT, signal.default_int_handler)
        try:
            with mock.patch.object(sys, "unraisablehook"):
                stopping.heed()
                careless = Careless()
                del careless  # Python prints what a destructor raises, and goes on
            with self.assertRaises(KeyboardInterrupt):
                TerminalProgress().reach(1)
            with self.assertRaises(KeyboardInterrupt):
                interruption.check()
        finally:
            interruption.settle()
            stopping._seen = False
            signal.signal(signal.SIGINT, before)

    def test_it_is_noticed_while_an_answer_is_awaited(self) -> None:
        def once(seconds: float) -> bytes:
            self.assertLess(seconds, 1)
            interruption.note()
            raise TimeoutError

        self.addCleanup(interruption.settle)
        with self.assertRaises(KeyboardInterrupt):
            Watch(Limits(60), "x").read(once, TimeoutError)

    def test_the_second_ends_at_once(self) -> None:
        script = (
            "import time\nfrom justlane.cli.common.interruption import heed\nheed()\n"
            "for said in ('first', 'second'):\n  try: print('ready' * (said == 'first'), flush=True); time.sleep(60)\n"
            "  except KeyboardInterrupt: print(said, flush=True)\n"
        )
        heeding = lambda: signal.signal(signal.SIGINT, signal.default_int_handler)  # noqa: E731 # a background job ignores it
        process = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, preexec_fn=heeding)
        assert process.stdout is not None
        for said in ("ready", "first"):
            self.assertEqual(process.stdout.readline().strip(), said)
            process.send_signal(signal.SIGINT)
        self.assertEqual(process.wait(), 3)
        process.communicate()


class DoorTest(EstateTest):
    """Nobody goes around the doors."""

    def test_only_the_doors_open_write_talk_and_print(self) -> None:
        source = Path(__file__).parent.parent / "src" / "justlane"
        for pattern, doors in (
            (r"click\.echo|(?<![\w.])print\(|sys\.std(out|err)\.write", {"cli/common/terminal.py", "platforms/folders/trial.py"}),
            (r"httpx\.(Client|get|post)|urllib\.request|http\.client", {"outside/http.py", "cli/platforms/demo.py"}),
            (r"\.write_(bytes|text)\(|(?<![\w.])open\(|\.open\(\"", {"files/disk/git.py", "directories/ldap_session.py"}),
            (r"\.read_(bytes|text)\(", {"cli/platforms/demo.py"}),
            (r"re\.escape|fnmatch|\.glob\(", {"files/in_place/new_names.py", "standin/decisions.py", "cli/editing/new.py"}),
            (r"pickle|yaml\.load|eval\(|shell=True", set()),
            (r"permissions\(\)\.secrets", {"outside/secrets.py"}),
        ):  # fmt: skip
            found = {p.relative_to(source).as_posix() for p in source.rglob("*.py") if re.search(pattern, p.read_text())}
            self.assertLessEqual(found, doors, pattern)

    def test_a_descriptor_that_is_no_file_is_closed_again(self) -> None:
        (self.folder / "sub").mkdir()
        before = len(os.listdir("/proc/self/fd"))
        for name in ("sub", "nothing", "sub/nothing", "..", "/etc/passwd", "a\0b"):
            self.assertFalse(beneath.is_file(self.folder, name))
        self.assertEqual(len(os.listdir("/proc/self/fd")), before)
