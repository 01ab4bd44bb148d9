"""The whole program on damaged input of every kind: `python -m tests.fuzzing [COUNT] [SEED]`.

Each input goes through the program in one process, one in a thousand through a real process too. Counted is what must never
be: confessions of a mistake, hangs, growth of memory, secrets and control characters in what is printed or kept, and ends that
say yes to something that was not read. Ends with 1 if anything was found. The same seed gives the same inputs.
"""

from __future__ import annotations

import asyncio
import contextlib
import io
import json
import os
import random
import re
import resource
import shutil
import signal
import socketserver
import subprocess
import sys
import tempfile
import threading
import time
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, NamedTuple

from tests.patience import finished, processor_time

with warnings.catch_warnings():
    warnings.simplefilter("ignore", DeprecationWarning)
    import httpx
    from ruamel.yaml import YAML

    from justlane.cli.main import run
    from justlane.standin.server import StandIn
    from justlane.standin.site import Nature, Site
    from tests.support import DEMO

SECRET = "the-fuzzed-secret-7c1"
HANGS_SECONDS = 10
"""Of processor time."""
MOST_GROWTH_KB = 400 << 10
ODD = ["\x1b[31m", "\u202e", "\x00", "\ud800", "\u2028", "\x85", "=1+1", "'", '"', "{", "[", "*", "&a", "*a", "!!x", "%", "\t", "\r\n"]
ODD += ["null", "~", "---", "...", "yes", "0x1f", "1e999", "9" * 400, "a" * 3000, "é", "𝔘", "..", "/", "a/../b", "group ", "2026-13-45"]
ODD += ["|", ">", "#", ": ", "- ", "?", "@", "`", "<<: *a", "\ufeff", "0.0.0.0/0", "::/0", "22:00-22:00", "24:00-00:00"]


MORE = b"""
administration: {actions: [repair-pump, "start-*"], at most: 9}
settings:
  - {to: [group staff, user ada.brook], brings: {start page: /east, language: nl}, kept: yes}
"""
DELEGATE = b"""only:
  scopes: pumphall/west
  roles: [watcher]
  actions: see-*
  groups: [staff, user ben.ferry]
  by: user ada.brook
bindings:
  - give: watcher
    to: group staff
    at: pumphall/west
    because: They look at it.
"""


class Ran(NamedTuple):
    code: int
    out: str
    err: str


class Trouble(NamedTuple):
    kind: str
    told: str


Case = Callable[["Worker", random.Random], "list[Trouble]"]


class _Alarm(BaseException):
    """An input took too long."""


def lane(*words: str) -> Ran:
    """The whole program in this process."""
    out, err = io.StringIO(), io.StringIO()
    kept = sys.argv
    sys.argv = ["justlane", *words]
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            run()
    except SystemExit as stop:
        return Ran(stop.code if isinstance(stop.code, int) else 1, out.getvalue(), err.getvalue())
    finally:
        sys.argv = kept
    return Ran(-1, out.getvalue(), err.getvalue())


def troubles(ran: Ran) -> list[Trouble]:
    """What must never be about what was printed and how it ended."""
    said = ran.out + ran.err
    found = []
    if "mistake in justlane itself" in said or "Traceback" in said:
        found.append(Trouble("confession", said[-1500:]))
    if SECRET in said:
        found.append(Trouble("secret", said[:300]))
    if not all(line.isprintable() for line in said.replace("\u200c", "").replace("\u200d", "").split("\n")):
        odd = {letter for letter in said if not letter.isprintable() and letter != "\n" and not letter.isspace()}
        if odd or re.search(r"[\r\t\x0b\x0c\x1c-\x1f\x85\u2028\u2029]", said):
            found.append(Trouble("control", repr(said[:300])))
    if ran.code not in (0, 1, 2, 3):
        found.append(Trouble("end", f"{ran.code}: {said[-200:]}"))
    if ran.code in (0, 1) and re.search(r"^error: |: error: |not sound", said, re.MULTILINE):
        found.append(Trouble("end", f"{ran.code} although something is wrong: {said[-300:]}"))
    return found


def damaged(draw: random.Random, content: bytes) -> bytes:
    """A text with a few things replaced, taken out, put in, doubled or cut off."""
    for _ in range(draw.choice([1, 1, 1, 2, 4])):
        lines = content.split(b"\n")
        at, line = draw.randrange(len(content) + 1), draw.randrange(len(lines))
        match draw.randrange(9):
            case 0:
                content = content[:at]
            case 1:
                content = content[:at] + draw.randbytes(draw.randrange(1, 4)) + content[at + 1 :]
            case 2:
                content = content[:at] + draw.choice(ODD).encode("utf-8", "surrogatepass") + content[at:]
            case 3:
                content = b"\n".join(lines[:line] + lines[line + 1 :])
            case 4:
                content = b"\n".join([*lines[:line], lines[line], lines[line], *lines[line + 1 :]])
            case 5:
                content = b"\n".join([*lines[:line], b"  " * draw.randrange(3) + lines[line].strip(), *lines[line + 1 :]])
            case 6:
                key, colon, _ = lines[line].partition(b": ")
                lines[line] = key + colon + draw.choice(ODD).encode("utf-8", "surrogatepass")
                content = b"\n".join(lines)
            case 7:
                other = draw.randrange(len(lines))
                lines[line], lines[other] = lines[other], lines[line]
                content = b"\n".join(lines)
            case _:
                words = sorted(set(re.findall(rb"[\w./*-]{3,}", content))) or [b"x"]
                content = content.replace(draw.choice(words), draw.choice([*words, b"*", b"x" * 300]), 1)
    return content


def respelt(draw: random.Random, value: Any) -> Any:
    """JSON values with something replaced or taken out somewhere."""
    holders: list[tuple[Any, Any]] = []

    def visit(inner: Any) -> None:
        for key in list(inner if isinstance(inner, dict) else range(len(inner))) if isinstance(inner, dict | list) else ():
            holders.append((inner, key))
            visit(inner[key])

    visit(value)
    for _ in range(draw.choice([1, 1, 2, 3])):
        if holders:
            holder, key = draw.choice(holders)
            odd: list[Any] = [None, True, -1, 0, 10**30, 1.5, "", [], {}, [[]], {"a": {"b": []}}, *ODD]
            with contextlib.suppress(KeyError, IndexError):
                if draw.randrange(4):
                    holder[key] = draw.choice(odd)
                else:
                    del holder[key]
    return value


SETTINGS = b"""acting as: ada.brook
owners:
  group mechanics: user ada.brook
findings:
  person-without-end: {severity: error, but not: [ben.ferry]}
  sensitive-in-many-hands: {at most: 1}
  role-unheld: none
accepted:
  - {finding: reaches-everybody, about: group staff, because: It is so., until: 2030-12-31}
"""
REVIEW = b"""review,20260101-000000-user-ada-brook,for user ada.brook
row,decision,comment,role,which is for,given to,who are,people,"who, and through what",at,a place for,when,because,last changed,findings,line
00aa,keep,'=1,watcher,x,group staff,y,2,ada.brook,pumphall,z,,because,unknown,,pumphall.yaml:1
"""


class Worker:
    """One process's folder, servers and counts."""

    def __init__(self, top: Path) -> None:
        self.top = top
        self.pristine = {
            p.relative_to(DEMO / "pumphall").as_posix(): p.read_bytes()
            for p in sorted((DEMO / "pumphall").rglob("*"))
            if p.is_file() and "__pycache__" not in p.parts
        }
        self.pristine["pumphall.yaml"] += MORE
        self.pristine["delegates.yaml"] = DELEGATE
        root = self.pristine["estate.yaml"].replace(b"  - pumphall.yaml\n", b"  - pumphall.yaml\n  - delegates.yaml\n")
        self.pristine["estate.yaml"] = root + SETTINGS
        self.answers: Callable[[str, str], tuple[int, bytes]] = lambda method, path: (404, b"")
        self.ldap: Callable[[int, int], tuple[bytes, bool]] = lambda place, number: (b"", False)
        self.http = self._http_server()
        self.port = self.http.server_address[1]
        self.ldap_server = self._ldap_server()
        self.folder("kept", self.pristine)
        self.small = b"""estate: E
directories:
  office: {ldif: people.ldif}
"""

    def folder(self, name: str, files: dict[str, bytes]) -> Path:
        place = self.top / name
        shutil.rmtree(place, ignore_errors=True)
        for file, content in files.items():
            (place / file).parent.mkdir(parents=True, exist_ok=True)
            (place / file).write_bytes(content)
        return place

    def secret_in(self, place: Path) -> None:
        token = place / "token"
        token.touch(0o600)
        token.chmod(0o600)
        token.write_text(SECRET)

    def _http_server(self) -> ThreadingHTTPServer:
        worker = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def _any(self) -> None:
                self.rfile.read(int(self.headers.get("Content-Length") or 0))
                status, body = worker.answers(self.command, self.path)
                self.send_response_only(status)
                self.send_header("Content-Length", str(len(body)))
                self.send_header("Connection", "close")
                self.end_headers()
                with contextlib.suppress(OSError):
                    self.wfile.write(body)
                self.close_connection = True

            do_GET = do_POST = do_PUT = do_DELETE = _any  # noqa: N815 - what the library calls

            def log_message(self, *_: object) -> None:
                pass

        class Quiet(ThreadingHTTPServer):
            daemon_threads = True

            def handle_error(self, request: Any, client_address: Any) -> None:
                pass

        server = Quiet(("127.0.0.1", 0), Handler)
        threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
        return server

    def _ldap_server(self) -> int:
        from tests.test_damaged_answers import split

        worker = self

        class Handler(socketserver.BaseRequestHandler):
            def handle(self) -> None:
                place = 0
                with contextlib.suppress(OSError):
                    self.request.settimeout(5)
                    while request := self.request.recv(65536):
                        for number, body in split(request):
                            if body[0] == 0x42:
                                return
                            answer, goes_on = worker.ldap(place, number)
                            self.request.sendall(answer)
                            if not goes_on:
                                return
                            place += 1

        class Quiet(socketserver.ThreadingTCPServer):
            daemon_threads = True

            def handle_error(self, request: Any, client_address: Any) -> None:
                pass

        server = Quiet(("127.0.0.1", 0), Handler)
        threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
        return int(server.server_address[1])


# the kinds of input


def estate_files(worker: Worker, draw: random.Random) -> list[Trouble]:
    files = dict(worker.pristine)
    name = draw.choice(["estate.yaml", "pumphall.yaml", "pumphall.yaml", "expectations.yaml", "delegates.yaml"])
    files[name] = damaged(draw, files[name])
    place = worker.folder("estate", files)
    command = draw.choice(["check", "check", "verify", "tally", "reach", "ask"])
    words = {"reach": ["ada.brook"], "ask": ["ada.brook", "repair-pump", "pumphall/west/pump-3"]}.get(command, [])
    form = draw.choice(["text", "json", "csv"])
    ran = lane(command, *words, "--estate", str(place), "--format", form)
    found = troubles(ran)
    if ran.code in (0, 1) and command in ("check", "verify", "tally"):
        try:
            whole = YAML(typ="safe", pure=True).compose(files[name].decode("utf-8-sig"))
            if whole is None or not whole.value:
                found.append(Trouble("end", f"{command} says {ran.code} of a file that holds nothing: {files[name][:200]!r}"))
        except Exception as error:
            found.append(Trouble("end", f"{command} says {ran.code} of a file that cannot be read: {error}"))
    return found


def ldif(worker: Worker, draw: random.Random) -> list[Trouble]:
    place = worker.folder("people", {"estate.yaml": worker.small, "people.ldif": damaged(draw, worker.pristine["people.ldif"])})
    command = draw.choice([["people", "groups"], ["people", "find", draw.choice(["a*", "b", "*a*e*"])], ["check"], ["people", "pull"]])
    return troubles(lane(*command, "--estate", str(place)))


def tables(worker: Worker, draw: random.Random) -> list[Trouble]:
    people, members = (b"login,name,enabled\nada,Ada,yes\nben,'=Ben,no\n", b"group,member,for\ncrew,ada,All\nall,group crew,=1\n")
    spoilt = damaged(draw, people if draw.randrange(2) else members)
    estate = b"estate: E\ndirectories:\n  office: {csv: {people: p.csv, memberships: m.csv}}\n"
    files = {"estate.yaml": estate, "p.csv": people, "m.csv": members}
    files["p.csv" if spoilt[:1] == b"l" else "m.csv"] = spoilt
    place = worker.folder("tables", files)
    return troubles(lane("people", draw.choice(["groups", "pull"]), "--estate", str(place)))


def arguments(worker: Worker, draw: random.Random) -> list[Trouble]:
    """Words of all kinds for an estate that is kept."""
    known = ["ada.brook", "ben.ferry", "anonymous", "repair-pump", "see-pump", "pumphall", "pumphall/west/pump-3", "mechanics"]
    options = ["--format", "json", "csv", "--as-role", "--from-network", "192.0.2.1", "--at-time", "2026-11-25 12:00", "--see"]
    options += ["--situation", "--signed-in-by", "--multi-factor", "--as-of", "--scope", "--user", "--person", "--with"]
    command = draw.choice(
        [["ask"], ["ask"], ["reach"], ["holders"], ["people", "show"], ["people", "find"], ["people", "groups"], ["tally"],
         ["compare"], ["people", "changes"], ["align"], ["probe"], ["trust", "add"], ["trust", "list"], ["check", "--about"], ["x"],
         ["check", "--format"], ["check", "--since"], ["check", "--only"], ["tidy", "--dry-run"], ["glance"], ["chart"], ["chart", "flow"],
         ["grid", "--at"], ["ask", "--for-user"], ["review", "status"], ["review", "out"]]
    )  # fmt: skip
    words = [draw.choice([*known, *known, *options, *ODD]) for _ in range(draw.choice([1, 2, 3, 3, 3, 4, 6]))]
    words = [word for word in words if "\0" not in word]
    if command[0] in ("align", "probe", "compare", "tally") and draw.randrange(4):
        return []
    if command == ["ask"] and draw.randrange(3):
        words = ["ada.brook", "repair-pump", draw.choice(["pumphall/west/pump-3", "pumphall/east/pump-1"]), *words[:2]]
    return troubles(lane(*command, *words, "--estate", str(worker.top / "kept")))


def reviews(worker: Worker, draw: random.Random) -> list[Trouble]:
    """Sheets of a review that somebody changed, and the register of reviews."""
    files = dict(worker.pristine)
    head, row = (line.split(",") for line in REVIEW.decode().replace('"who, and through what"', "who; and through what").splitlines()[1:3])
    shown = {name.replace(";", ","): text for name, text in zip(head[3:], row[3:], strict=True)}
    said = json.dumps({"key": "00aa", "said": shown}).encode()
    register = b'{"name":"20260101-000000-user-ada-brook","owner":"user ada.brook","made":"x","by":"y","state":"z","asked":[' + said + b"]}"
    files["reviews/20260101-000000-user-ada-brook.json"] = damaged(draw, register) if draw.randrange(2) else register
    files["sheet.csv"] = damaged(draw, REVIEW)
    if draw.randrange(3) == 0:
        files["sheet.csv"] = b"PK\x03\x04" + damaged(draw, REVIEW)
    place = worker.folder("reviews", files)
    if draw.randrange(4) == 0:
        return troubles(lane("review", "status", "--estate", str(place)))
    return troubles(lane("review", "in", str(place / "sheet.csv"), "--by", "ada.brook", "--dry-run", "--estate", str(place)))


def edits(worker: Worker, draw: random.Random) -> list[Trouble]:
    """Edits with words of all kinds, of damaged files; what is saved is sound, and what is not saved is as it was."""
    files = dict(worker.pristine)
    if draw.randrange(2):
        name = draw.choice(["pumphall.yaml", "pumphall.yaml", "expectations.yaml", "estate.yaml"])
        files[name] = damaged(draw, files[name])
    if draw.randrange(4) == 0:
        line = (
            b'{"event":"edit","number":1,"previous":"0","when":"2026-11-26","files":[{"file":"pumphall.yaml","before":"x","after":"y","hunks":[]}]}'
        )
        files["journal/estate/edits.jsonl"] = damaged(draw, line + b"\n" + line + b"\n")
    place = worker.folder("edited", files)

    def word(*likely: str) -> str:
        odd = [o for o in ODD if "\0" not in o]
        return draw.choice([*likely, *likely, *likely, draw.choice(odd)])

    role, other = word("watcher", "mechanic"), word("see-pump", "*", "*-pump", "repair-pump", "watcher")
    who = word("group staff", "mechanics", "user ben.ferry", "authenticated", "anonymous", "local group x", "bundle b")
    at = word("pumphall", "pumphall/east", "pumphall/diesel", "pumphall/west/pump-3", "pumphall/*", "pumphall/**/pump-*")
    text, new = word("Because.", "It is: so"), word("pumphall/west/pump-9", "pumphall/new", "fitter")
    command = draw.choice([
        ["give", role, "--to", who, "--at", at, "--because", text, *draw.choice([[], ["--when", word("multi-factor yes", "days mon")], ["--until", word("2030-01-01")]])],
        ["give", role, "--to", who, "--at", at, "--because", text, draw.choice(["--last", "--before", "--here-only"]), word("pumphall.yaml:50")],
        ["deny", role, "--to", who, "--at", at, "--because", text],
        ["withdraw", role, "--from", who, *draw.choice([["--at", at], ["--everywhere"], ["--line", word("pumphall.yaml:50")]])],
        ["role", "copy", role, new, "--for", text], ["role", "allow", role, other, "--except", other], ["role", "except", role, other],
        ["role", "drop", role, other], ["role", "describe", role, "--for", text, "--kind", other, "--owner", who], ["role", "fit", who, "--action", other],
        ["role", "list", "--with", other], ["role", "compare", role, other], ["scope", "add", new, "--is", word("pump", "folder"), "--has", word("a=b")],
        ["scope", "gather", at, new], ["scope", "release", "pumphall/diesel", at], ["scope", "move", at, word("pumphall/east", "pumphall/west")],
        ["scope", "tree", at], ["local-group", "add", new, "--on", "pumphall", "--for", text, "--holding", who], ["publish", who, "--to", at],
        ["expect", word("ada.brook", "ben.ferry"), other, "--at", at, *draw.choice([[], ["--not"]])],
        ["suggest", word("ada.brook", "ben.ferry"), other, at, *draw.choice([[], ["--take-away"]])], ["undo"], ["journal", "show"], ["journal", "check"],
    ])  # fmt: skip
    saves = command[0] not in ("suggest", "journal") and command[:2] not in (
        ["role", "fit"],
        ["role", "list"],
        ["role", "compare"],
        ["scope", "tree"],
    )
    more = draw.choice([["--yes"], ["--yes", "--even-so", text], ["--dry-run"]]) if saves else []
    before = {name: (place / name).read_bytes() for name in files if name.endswith(".yaml")}
    ran = lane(*[w.encode("utf-8", "surrogatepass").decode("utf-8", "surrogateescape") for w in command], *more, "--estate", str(place))
    found = troubles(ran)
    changed = any((place / name).read_bytes() != content for name, content in before.items())
    if changed and (ran.code or "--dry-run" in more or lane("check", "--estate", str(place)).code == 2):
        found.append(Trouble("end", f"{command} ended with {ran.code} and changed the files: {ran.err[-300:]}"))
    return found


def environment(worker: Worker, draw: random.Random) -> list[Trouble]:
    odd = ["", "/", "nowhere", "/dev/null", "/proc/self", *[o for o in ODD if "\0" not in o and "\ud800" not in o]]
    names = ["HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "NO_COLOR", "TERM", "COLUMNS", "LINES", "LANG", "LC_ALL", "TZ", "USER", "JUSTLANE_ESTATE"]
    kept = dict(os.environ)
    try:
        for name in draw.sample(names, draw.choice([1, 2, 3])):
            if draw.randrange(3):
                os.environ[name] = draw.choice(odd)
            else:
                os.environ.pop(name, None)
        words = [] if draw.randrange(4) == 0 else ["--estate", str(worker.top / "kept")]
        return troubles(lane("ask", "ada.brook", "see-pump", "pumphall", *words))
    finally:
        os.environ.clear()
        os.environ.update(kept)


def scim(worker: Worker, draw: random.Random) -> list[Trouble]:
    users = [{"id": f"i{n}", "userName": f"p{n}", "displayName": f"P {n}", "active": True} for n in range(3)]
    groups = [{"id": "g", "displayName": "crew", "members": [{"value": f"i{n}"} for n in range(3)]}]
    spoilt = draw.choice(["Users", "Groups"])

    def answer(method: str, path: str) -> tuple[int, bytes]:
        kind = "Users" if "/Users" in path else "Groups"
        listed = users if kind == "Users" else groups
        page: Any = {"totalResults": len(listed), "startIndex": 1, "Resources": listed}
        if kind != spoilt:
            return 200, json.dumps(page).encode()
        status = draw.choice([200] * 9 + [401, 403, 404, 500])
        body = json.dumps(respelt(draw, json.loads(json.dumps(page)))).encode() if status == 200 else b'{"detail": "' + SECRET.encode() + b'"}'
        return status, damaged(draw, body) if draw.randrange(3) == 0 else body

    worker.answers = answer
    estate = f"estate: E\ndirectories:\n  o: {{scim: {{url: 'http://127.0.0.1:{worker.port}/s', encryption: none, token from: file token, wait at most: 3}}}}\n"
    place = worker.folder("scim", {"estate.yaml": estate.encode()})
    worker.secret_in(place)
    ran = lane("people", "pull", "--estate", str(place))
    return [*troubles(ran), *kept_secrets(place)]


def ldap(worker: Worker, draw: random.Random) -> list[Trouble]:
    from tests.test_damaged_answers import LAST_PAGE, done, entry, joined

    people = [entry(f"uid=p{n},dc=x", objectClass=["person"], uid=[f"p{n}"]) for n in range(3)]
    group = entry("cn=crew,dc=x", objectClass=["groupOfNames"], cn=["crew"], member=["uid=p0,dc=x"])
    right = [[done(0x61)], [*people, done(0x65) + LAST_PAGE], [group, done(0x65) + LAST_PAGE]]
    spoilt = draw.randrange(3)

    def answer(place: int, number: int) -> tuple[bytes, bool]:
        body = b"".join(joined(number, right[min(place, 2)]))
        if place != spoilt:
            return body, True
        at = draw.randrange(len(body))
        other = body[:at] + draw.randbytes(draw.choice([0, 1, 2])) + body[at + 1 :]
        return draw.choice([body[:at], other, other, draw.randbytes(40), body + body, SECRET.encode()]), False

    worker.ldap = answer
    estate = f"""estate: E
directories:
  o: {{ldap: {{url: 'ldap://127.0.0.1:{worker.ldap_server}', encryption: none, sign in as: cn=x, password from: file token,
    people: {{under: dc=x}}, groups: {{under: dc=x}}, wait at most: 1}}}}
"""
    place = worker.folder("ldap", {"estate.yaml": estate.encode()})
    worker.secret_in(place)
    return [*troubles(lane("people", "pull", "--estate", str(place))), *kept_secrets(place)]


def platform(worker: Worker, draw: random.Random) -> list[Trouble]:
    condition = {
        "networks": ["192.0.2.0/24"],
        "hours": [[480, 960]],
        "weekdays": [1],
        "methods": ["pin"],
        "multi_factor": True,
        "signed_in_within": 15,
    }
    holds: Any = {
        "revision": "4",
        "people": {"ada.brook": {"enabled": True}, "x": {"enabled": True}},
        "groups": {"staff": {"members": ["user x", "group mechanics"]}, "mechanics": {"members": ["user ada.brook"]}},
        "local_groups": {"l": {"members": ["user x"]}},
        "roles": {"watcher": {"allows": ["see-*"], "excepts": [], "builds_on": []}, "r": {"allows": ["*"], "excepts": [], "builds_on": ["watcher"]}},
        "publications": {"p": {"group": "staff", "scope": "pumphall"}},
        "ceilings": {"c": {"principal": "group staff", "patterns": ["*"], "condition": condition, "reason": ""}},
        "bindings": {
            "b": {"principal": "user x", "role": "r", "scope": "pumphall", "deny": False, "here_only": False, "condition": condition, "place": 0}
        },
    }

    def answer(method: str, path: str) -> tuple[int, bytes]:
        said: Any = holds if path == "/holds" else {"revision": "5", "pass": "x", "done": True, "evaluations": [{"decision": True}] * 21}
        said = respelt(draw, json.loads(json.dumps(said))) if draw.randrange(3) else said
        status = draw.choice([200] * 12 + [401, 403, 404, 412, 500])
        if status != 200:
            said = {"title": draw.choice(ODD).encode("utf-8", "ignore").decode(), "detail": f"Authorization: Bearer {SECRET}"}
        body = json.dumps(said).encode()
        return status, damaged(draw, body) if draw.randrange(6) == 0 else body

    worker.answers = answer
    files = dict(worker.pristine)
    reached = f"reached by: {{connector: stand-in, url: 'http://127.0.0.1:{worker.port}', token from: file token}}\n"
    files["pumphall.yaml"] = files["pumphall.yaml"] + reached.encode()
    place = worker.top / f"platform-{worker.port}"
    if not place.exists():
        worker.folder(place.name, files)
        worker.secret_in(place)
    command = draw.choice([["align", "--dry-run"], ["align", "--dry-run", "--format", "csv"], ["align", "--yes"], ["probe"]])
    return [*troubles(lane(*command, "pumphall", "--estate", str(place))), *kept_secrets(place)]


RULES = b"[groups]\ncrew = ada.brook, @staff\nstaff = x\n[pumps:/east]\n@crew = rw\n* =\n[/]\n&a = r\n~x = \n[:glob:/**]\nx = r\n"
EXPORT = b"Team,Person,Right,Where\nstaff,,watcher,\n,ada.brook,mechanic,pumphall/east\n"
FORM = b"number,who,try,at,happened,note,mark\n1,ada.brook,see-pump,pumphall,yes,,00aa\n"
PAPER = b"# x\n<!-- run 00aa00aa00aa -->\n- [x] 1. Give. <!-- 00aa00aa00aa00aa -->\n"


def platform_files(worker: Worker, draw: random.Random) -> list[Trouble]:
    """Files of path rules, exports, sheets and forms that somebody else wrote."""
    files = dict(worker.pristine)
    if draw.randrange(2):
        reached = "reached by: {connector: subversion, file: rules, repository: pumps}\n"
        files["pumphall.yaml"] = files["pumphall.yaml"].replace(b"see-pump", b"read").replace(b"start-pump", b"write")
        files["rules"] = damaged(draw, RULES)
    else:
        reached = "reached by: {connector: sheet, file: export, columns: {group: Team, user: Person, role: Right, place: Where}}\n"
        files["export"] = damaged(draw, EXPORT if draw.randrange(3) else b'[{"Team": "staff", "Person": null, "Right": "watcher", "Where": ""}]')
        files["sheets/pumphall-trials.csv"], files["sheets/pumphall.md"] = damaged(draw, FORM), damaged(draw, PAPER)
        files["sheets/pumphall.csv"] = damaged(draw, b"number,done,mark\n1,yes,00aa00aa00aa00aa\n")
    files["pumphall.yaml"] += reached.encode()
    place = worker.folder("platform-files", files)
    command = draw.choice([["align", "--dry-run"], ["align", "--yes"], ["drift"], ["probe"], ["drift", "--adopt", "--dry-run"]])
    return troubles(lane(*command, "pumphall", "--estate", str(place)))


def standin(worker: Worker, draw: random.Random) -> list[Trouble]:
    """Nonsense to a stand-in: never 500, and afterwards it still decides."""
    nature = Nature({"p": "platform", "p/a": "box"}, {}, {"see": [], "run": ["see"]}, {"see": [], "run": ["box"]})
    app = StandIn(Site("p", nature), None, "t").app()
    entries: dict[str, Any] = {
        "people": {"enabled": True},
        "groups": {"members": ["user ada", "group g"]},
        "local_groups": {"members": ["group g"]},
        "roles": {"allows": ["se*"], "excepts": [], "builds_on": ["r"]},
        "publications": {"group": "g", "scope": "p"},
        "ceilings": {"principal": "authenticated", "patterns": ["run"], "condition": {"hours": [[0, 60]], "time_zone": "UTC"}, "reason": ""},
        "bindings": {"principal": "authenticated", "role": "r", "scope": "p", "condition": {"networks": ["192.0.2.0/24"], "first_day": "2026-01-01"}},
    }
    question: Any = {
        "subject": {"type": "user", "id": "ada"},
        "action": {"name": "see"},
        "resource": {"type": "box", "id": "p/a"},
        "context": {"address": "192.0.2.1", "time": "2026-11-25T12:00:00"},
    }

    async def talk() -> list[Trouble]:
        found: list[Trouble] = []
        transport = httpx.ASGITransport(app=app, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport, base_url="http://p", headers={"Authorization": "Bearer t"}) as client:
            revision = 0
            for name in ("people", "groups", "roles", *draw.sample(list(entries), 2)):
                said = respelt(draw, json.loads(json.dumps(entries[name]))) if draw.randrange(3) == 0 else entries[name]
                body = json.dumps(said).encode()
                body = damaged(draw, body) if draw.randrange(8) == 0 else body
                called = {"people": "ada", "groups": "g", "roles": "r"}.get(name, "x")
                answer = await client.put(f"/holds/{name}/{called}", content=body, headers={"If-Match": f'"{revision}"'})
                revision += answer.status_code == 200
                found += [Trouble("confession", f"{answer.status_code} to {name} {body!r}")] * (answer.status_code >= 500)
            for path in ("/access/v1/evaluation", "/access/v1/evaluations", "/sign-in"):
                asked = {**question, "user": "ada", "evaluations": [{}], "options": {"evaluations_semantic": "execute_all"}}
                for spoilt in (asked, respelt(draw, json.loads(json.dumps(asked)))):
                    answer = await client.post(path, content=json.dumps(spoilt).encode())
                    found += [Trouble("confession", f"{answer.status_code} to {path} {spoilt!r}")] * (answer.status_code >= 500)
        return found

    return asyncio.run(talk())


def snapshots(worker: Worker, draw: random.Random) -> list[Trouble]:
    """A snapshot, or the kept estate, that somebody else wrote into."""
    place = worker.top / "pulled"
    if not place.exists():
        worker.folder("pulled", worker.pristine)
        lane("people", "pull", "--estate", str(place))
        lane("ask", "ada.brook", "see-pump", "pumphall", "--estate", str(place))
    some = [*sorted((place / "snapshots").glob("*.sqlite")), *sorted((worker.top / "cache").rglob("*.sqlite"))]
    path = draw.choice(some) if some else place / "estate.yaml"
    whole = path.read_bytes()
    try:
        content = bytearray(whole)
        for _ in range(draw.choice([1, 3, 20])):
            content[draw.randrange(len(content))] = draw.randrange(256)
        path.write_bytes(content)
        command = draw.choice(
            [["ask", "ada.brook", "see-pump", "pumphall"], ["people", "groups"], ["people", "show", "ada.brook"], ["holders", "see-pump", "pumphall"]]
        )
        return troubles(lane(*command, "--estate", str(place)))
    finally:
        path.write_bytes(whole)


def kept_secrets(place: Path) -> list[Trouble]:
    """Secrets in whatever an estate keeps, but for where it is kept as one."""
    return [
        Trouble("secret", str(path)) for path in place.rglob("*") if path.is_file() and path.name != "token" and SECRET.encode() in path.read_bytes()
    ]


KINDS: dict[str, tuple[Case, int]] = {
    "estate files": (estate_files, 4),
    "LDIF": (ldif, 8),
    "tables": (tables, 7),
    "arguments": (arguments, 33),
    "edits": (edits, 10),
    "reviews": (reviews, 4),
    "environment": (environment, 11),
    "SCIM": (scim, 7),
    "LDAP": (ldap, 4),
    "platform answers": (platform, 3),
    "platform files": (platform_files, 3),
    "stand-in": (standin, 6),
    "snapshots and cache": (snapshots, 7),
}
"""Each kind of input, and how many of a hundred are of it."""


def worked(job: tuple[int, int, int]) -> tuple[Counter[str], list[str], int]:
    """So many inputs by one seed, every so many of them in a real process too."""
    count, seed, every = job
    with tempfile.TemporaryDirectory(prefix="lane-fuzz-") as name:
        os.environ.update({"XDG_CACHE_HOME": f"{name}/cache", "XDG_CONFIG_HOME": f"{name}/config", "COLUMNS": "100"})
        os.environ.pop("JUSTLANE_ESTATE", None)
        os.chdir(name)
        signal.signal(signal.SIGALRM, _too_long)
        worker = Worker(Path(name))
        draw = random.Random(seed)
        names, weights = list(KINDS), [weight for _, weight in KINDS.values()]
        counts: Counter[str] = Counter()
        told: list[str] = []
        memory = 0
        for number in range(count):
            kind = draw.choices(names, weights)[0]
            own = draw.getrandbits(48)
            counts[f"input {kind}"] += 1
            for trouble in _guarded(worker, KINDS[kind][0], own):
                counts[trouble.kind] += 1
                told.append(f"{trouble.kind} ({kind}, {own}): {trouble.told}")
            if number == min(300, count // 2):
                memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            if number % every == 0:
                counts["real processes"] += 1
                told += _really(worker, counts)
        growth = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - memory
        if growth > MOST_GROWTH_KB:
            counts["growth"] += 1
            told.append(f"growth: {growth >> 10} MB")
        return counts, told[:20], growth


def _guarded(worker: Worker, case: Case, seed: int) -> list[Trouble]:
    signal.setitimer(signal.ITIMER_PROF, HANGS_SECONDS)
    try:
        return case(worker, random.Random(seed))
    except _Alarm:
        return [Trouble("hang", f"more than {HANGS_SECONDS} s")]
    except Exception as error:
        return [Trouble("confession", f"{type(error).__name__}: {error}")]
    finally:
        signal.alarm(0)


def _too_long(number: int, frame: object) -> None:
    raise _Alarm


def _really(worker: Worker, counts: Counter[str]) -> Iterator[str]:
    """The last damaged estate once more, in a process of its own."""
    place = next((worker.top / n for n in ("estate", "people", "tables", "kept") if (worker.top / n).exists()), worker.top)
    words = [sys.executable, "-m", "justlane", "check", "--estate", str(place)]
    began = processor_time()
    with subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, errors="surrogateescape") as process:
        out, err = finished(process)
    for trouble in troubles(Ran(process.returncode, out, err)):
        counts[trouble.kind] += 1
        yield f"{trouble.kind} (a real process): {trouble.told}"
    if processor_time() - began > HANGS_SECONDS:
        counts["hang"] += 1
        yield "hang (a real process)"


NEVER = ("confession", "hang", "growth", "secret", "control", "end")


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 20261126
    portion = max(1, min(5000, count // 2))  # what each loads first takes longer than some hundred inputs
    jobs = [(min(portion, count - start), seed + start, 1000) for start in range(0, count, portion)]
    began = time.monotonic()
    total: Counter[str] = Counter()
    with ProcessPoolExecutor(os.cpu_count(), max_tasks_per_child=1) as pool:
        for counts, told, _ in pool.map(worked, jobs):
            total += counts
            for line in told:
                print(line, flush=True)
    print(f"{count:,} inputs in {time.monotonic() - began:.0f} s, seed {seed}; {total['real processes']:,} in real processes")
    for kind in KINDS:
        print(f"  {kind:<22}{total[f'input {kind}']:>9,}")
    print(", ".join(f"{total[name]} {name}" for name in NEVER))
    return 1 if any(total[name] for name in NEVER) else 0


if __name__ == "__main__":
    sys.exit(main())
