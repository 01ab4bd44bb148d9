"""A real Subversion server: its file of rules written, checked by its own tool, and proved by checkouts and commits."""

import os
import shutil
import socket
import subprocess
import threading
import time
import unittest
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import ClassVar

from tests.support import EstateTest, free_port
from tests.test_postgresql import ldif

PLATFORM = """
platform: source
for: What the models are made of.
habits: {decides: last-match}
reached by:
  connector: subversion
  url: svn://127.0.0.1:%d/models
  repository: models
  file: rules
  passwords from: file secrets/people
  scratch: scratch
actions:
  read: {means: Look.}
  write: {means: Commit., implies: read, sensitive: yes}
scopes:
  surge: {is: folder, holds: {keys: folder}}
  scratch: folder
roles:
  reader: {for: Looking., allows: read}
  writer: {for: Committing., allows: write}
bindings:
  - {give: reader, to: group crew, at: source, because: They look.}
  - {give: writer, to: group modellers, at: source, because: They write.}
  - {give: writer, to: user imke.vos, at: source/scratch, because: To try things.}
  - {deny: writer, to: authenticated, at: source/surge/keys, because: Nobody.}
  - {give: reader, to: group keepers, at: source/surge/keys, because: But them.}
"""


APACHE = """
ServerRoot {top}
ServerName localhost
PidFile {top}/httpd.pid
ErrorLog {top}/error.log
Listen 127.0.0.1:{port}
{modules}
Redirect permanent /moved http://127.0.0.1:{trap}
<Location /svn>
  DAV svn
  SVNParentPath {root}
  AuthzSVNAccessFile {rules}
  AuthType Basic
  AuthName "Marsh"
  AuthBasicProvider file
  AuthUserFile {top}/words
  Require valid-user
</Location>
"""
MODULES = ("mpm_event", "authn_core", "authn_file", "auth_basic", "authz_core", "authz_user", "alias", "dav", "dav_svn", "authz_svn")


def require_subversion() -> None:
    if not all(map(shutil.which, ("svn", "svnadmin", "svnserve", "svnauthz"))):
        raise unittest.SkipTest("Subversion is not installed: apt-get install subversion")


class Trap(BaseHTTPRequestHandler):
    """Somebody who would like to be told a password."""

    seen: ClassVar[list[str]] = []

    def do_OPTIONS(self) -> None:
        self.seen.append(self.headers.get("Authorization", ""))
        self.send_response(401)
        self.send_header("WWW-Authenticate", 'Basic realm="Marsh"')
        self.send_header("Content-Length", "0")
        self.end_headers()

    do_GET, do_PROPFIND, do_POST = do_OPTIONS, do_OPTIONS, do_OPTIONS  # noqa: N815
    log_message = BaseHTTPRequestHandler.log_message


class SubversionTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        require_subversion()
        super().setUp()
        self.port = free_port()
        secrets = self.folder / "secrets"
        secrets.mkdir(mode=0o700)
        people = ("imke.vos", "bram.tolland", "edda.stroom", "vik.sorrel")
        (secrets / "people").touch(mode=0o600)
        (secrets / "people").write_text("".join(f"{login} {login}-word\n" for login in people))
        self.write({
            "estate.yaml": "estate: S\nfor: x.\ntime zone: UTC\ndirectories: {office: {ldif: people.ldif}}\ninclude: [source.yaml]\n",
            "source.yaml": PLATFORM % self.port, "people.ldif": ldif(),
            "rules": "[aliases]\nx = y\n[other:/secret]\nmallory = rw\n",
        })  # fmt: skip
        self.repository(people)

    def repository(self, people: tuple[str, ...]) -> None:
        self.root = self.top / "svn"
        self.root.mkdir()
        repository = self.root / "models"
        subprocess.run(["svnadmin", "create", str(repository)], check=True)
        (repository / "conf" / "svnserve.conf").write_text(
            f"[general]\nanon-access = none\nauth-access = write\npassword-db = passwd\nauthz-db = {self.folder / 'rules'}\n"
        )
        (repository / "conf" / "passwd").write_text("[users]\n" + "".join(f"{login} = {login}-word\n" for login in people))
        subprocess.run(
            ["svn", "-q", "mkdir", "-m", "x", "--parents", *(f"file://{repository}/{p}" for p in ("surge/keys", "scratch"))],
            check=True,
            env={**os.environ, "HOME": str(self.top)},
        )
        pid = self.root / "pid"
        words = ["svnserve", "-d", "-r", str(self.root), "--listen-host", "127.0.0.1", "--listen-port", str(self.port), "--pid-file", str(pid)]
        subprocess.run(words, check=True)
        while not pid.exists() or not pid.read_text().strip():
            time.sleep(0.02)
        self.addCleanup(os.kill, int(pid.read_text()), 15)

    def test_rules_are_written_checked_and_proved(self) -> None:
        self.lane("check --only beyond-the-platform")
        plan = self.lane("align source --dry-run --format json", 1).json
        says = {s["says"]: s["lines"] for s in plan["steps"]}
        self.assertEqual(says["[/] @modellers = rw"], ["source.yaml:23", "source.yaml:22"], "the line that names them first")
        self.assertIn("[/surge/keys] imke.vos = r" if "[/surge/keys] imke.vos = r" in says else "[/surge/keys] @keepers = r", says)
        self.lane("align source --yes")
        rules = (self.folder / "rules").read_text()
        self.assertIn("[models:/surge/keys]\n", rules)
        self.assertIn("[other:/secret]\nmallory = rw", rules, "what is not ours stays")
        self.lane("align source")
        result = self.lane("probe source --thorough --format json").json
        self.assertEqual([(p["action"], p["known_by"]) for p in result["proofs"]], [("read", "trying"), ("write", "trying")])
        listed = subprocess.run(
            ["svn", "ls", f"file://{self.root}/models/scratch"], check=True, capture_output=True, env={**os.environ, "HOME": str(self.top)}
        )
        self.assertEqual(listed.stdout, b"", "trials are taken back")
        (self.folder / "rules").write_text(
            rules.replace("[models:/scratch]\n", "[models:/scratch]\nvik.sorrel = rw\n") + "[:glob:/**]\nbram.tolland = rw\n"
        )
        drift = self.lane("drift source --format json", 1).json[0]
        self.assertIn(("added", "[/scratch] vik.sorrel = rw", 2), {(d["difference"], d["says"], d["means"]["more"]) for d in drift["differences"]})
        self.assertEqual(drift["unjudged"], ["[:glob:/**]: rules that this estate does not write"])
        found = self.lane("probe source --thorough --format json", 1).json["differences"]
        self.assertEqual({d["user"] for d in found}, {"vik.sorrel", "bram.tolland"})
        (self.folder / "rules").write_text(rules + "[other:/x]\n@nobody = rw\n")
        self.assertIn("E220003", self.lane("drift source", 1).out, "what its own tool does not accept is never called right")
        (self.folder / "rules").write_text(rules.replace("@modellers = rw", "vik.sorrel = rw") + "[other:/x]\n@nobody = rw\n")
        self.assertIn("svnauthz does not accept the new rules", self.lane("align source --yes", 3).err)
        (self.folder / "rules").write_text(rules.replace("@modellers = rw", "vik.sorrel = rw"))
        self.lane("align source --yes")
        self.assertEqual((self.folder / "rules").read_text(), rules)

    def test_over_http_the_password_goes_to_the_allowed_address_alone(self) -> None:
        modules = Path("/usr/lib/apache2/modules")
        if not (modules / "mod_dav_svn.so").exists():
            self.skipTest("a web server for Subversion is not installed: apt-get install apache2 libapache2-mod-svn")
        trap = HTTPServer(("127.0.0.1", 0), Trap)
        threading.Thread(target=trap.serve_forever, daemon=True).start()
        self.addCleanup(trap.server_close)
        self.addCleanup(trap.shutdown)
        self.lane("align source --yes")
        port = self.web_server(modules, trap.server_port)
        for where, code in (("svn", 0), ("moved", 3)):
            url = f"http://127.0.0.1:{port}/{where}/models"
            self.write({"source.yaml": (PLATFORM % self.port).replace(f"svn://127.0.0.1:{self.port}/models", url)})
            ran = self.lane("probe source --thorough --format json", code)
            self.assertIn('"differences": []' if where == "svn" else "which is not followed", ran.out + ran.err)
        self.assertEqual(Trap.seen, [], "nobody else is even asked")

    def web_server(self, modules: Path, trap: int) -> int:
        """The same repository by HTTP; its port."""
        port, web = free_port(), self.top / "web"
        web.mkdir()
        people = (self.folder / "secrets" / "people").read_text().split()
        hashed = [subprocess.run(["openssl", "passwd", "-apr1", word], capture_output=True, text=True, check=True).stdout for word in people[1::2]]
        (web / "words").write_text("".join(f"{login}:{word}" for login, word in zip(people[::2], hashed, strict=True)))
        loaded = "\n".join(f"LoadModule {name}_module {modules}/mod_{name}.so" for name in MODULES)
        said = APACHE.format(top=web, port=port, modules=loaded, trap=trap, root=self.root, rules=self.folder / "rules")
        (web / "conf").write_text(said + "User nobody\nGroup nogroup\n" * (os.geteuid() == 0))
        (self.folder / "rules").chmod(0o644)
        subprocess.run(["chmod", "-R", "a+rwX", str(self.root)], check=True)
        for place in (self.folder, self.top):
            place.chmod(0o755)
        server = subprocess.Popen(["/usr/sbin/apache2", "-DFOREGROUND", "-f", str(web / "conf")])
        self.addCleanup(server.wait)
        self.addCleanup(server.terminate)
        for _ in range(400):
            with socket.socket() as one:
                if one.connect_ex(("127.0.0.1", port)) == 0:
                    return port
            time.sleep(0.05)
        raise AssertionError((web / "error.log").read_text())

    def test_what_such_a_file_cannot_say_is_an_error_of_check(self) -> None:
        people = "".join(
            f"dn: uid={n},dc=s\nobjectClass: inetOrgPerson\nuid: {login}\ncn: x\n\n"
            for n, login in enumerate(("q, boss", "@staff", "*", "&joe", "a:b"))
        )
        people += "dn: cn=odd,dc=s\nobjectClass: groupOfNames\ncn: odd\ndescription: x\n" + "".join(f"member: uid={n},dc=s\n" for n in range(5))
        source = (PLATFORM % self.port).replace("  scratch: folder\n", '  scratch: folder\n  "a]b": folder\n')
        source += "  - {give: reader, to: group odd, at: source/scratch, because: x.}\n"
        self.write({"source.yaml": source, "people.ldif": ldif() + "\n\n" + people})
        found = [f["message"] for f in self.lane("check --only beyond-the-platform --format json", 2).json["findings"]]
        for name in ("path '/a]b'", "name 'q, boss'", "name '@staff'", "name '*'", "name '&joe'", "name 'a:b'"):
            self.assertTrue(any(message.endswith(name) for message in found), (name, found))
        unread = (
            (PLATFORM % self.port).replace("last-match", "deny-wins").replace("deny: writer, to: authenticated", "deny: reader, to: authenticated")
        )
        self.write({"source.yaml": unread, "people.ldif": ldif()})
        found = [f["message"] for f in self.lane("check --only beyond-the-platform --format json", 2).json["findings"]]
        self.assertTrue(any("writing without reading, for" in message and "source/surge/keys" in message for message in found), found)

    def test_what_is_not_understood_is_never_harmless_and_comments_stay(self) -> None:
        self.lane("align source --yes")
        rules = (self.folder / "rules").read_text().replace("[aliases]\nx = y\n", "[aliases]\njoe = CN=Joe\n")
        rules = rules.replace("[other:/secret]\n", "[other:/secret]\n# mallory knows why\n").replace(
            "[models:/scratch]\n", "[models:/scratch]\n# to play in\n&joe = rw\n"
        )
        (self.folder / "rules").write_text(rules + "[models:/lost/place]\nvik.sorrel = rw\n")
        drift = self.lane("drift source --format json", 1).json[0]
        said = {d["says"]: d for d in drift["differences"]}
        self.assertIn("not judged", said["[/scratch] &joe = rw"]["uncounted"])
        self.assertEqual(said["[/lost/place] vik.sorrel = rw"]["means"]["named"], ["vik.sorrel"])
        self.assertEqual(drift["new_places"], ["source/lost", "source/lost/place"])
        self.lane("align source --yes")
        after = (self.folder / "rules").read_text()
        self.assertIn("[other:/secret]\n# mallory knows why\nmallory = rw", after)
        self.assertIn("[models:/scratch]\n# to play in\n", after)
        self.lane("align source --undo --yes --even-so back", 0)
        self.assertEqual((self.folder / "rules").read_text(), rules + "[models:/lost/place]\nvik.sorrel = rw\n")

    def test_a_disabled_account_is_not_let_in_where_everybody_may_look(self) -> None:
        source = (PLATFORM % self.port).replace("to: group crew, at: source,", "to: [authenticated, anonymous], at: source,")
        self.write({"source.yaml": source})
        (self.root / "models/conf/svnserve.conf").write_text(
            (self.root / "models/conf/svnserve.conf").read_text().replace("anon-access = none", "anon-access = read")
        )
        with (self.folder / "secrets/people").open("a") as file:
            file.write("lena.gone lena.gone-word\n")
        self.lane("align source --yes")
        self.assertEqual(self.lane("probe source --everyone --format json", 1).json["let_in"], [], "what differs is what not signing in gives")

    def test_a_file_elsewhere_has_to_be_allowed(self) -> None:
        elsewhere = self.top / "elsewhere"
        elsewhere.write_text("")
        self.write({"source.yaml": (PLATFORM % self.port).replace("file: rules", f"file: {elsewhere}")})
        ran = self.lane("align source --yes", 2)
        self.assertIn(f"justlane trust add --changes {elsewhere}", ran.err)
        self.lane(f"trust add --changes {elsewhere}")
        self.lane("align source --yes")
        self.assertIn("[models:/]", elsewhere.read_text())
        self.assertIn(f"place {elsewhere}", self.lane("trust list --format csv").out)
        self.lane(f"trust remove --changes {elsewhere}")
        self.lane("drift source", 2)


if __name__ == "__main__":
    unittest.main()
