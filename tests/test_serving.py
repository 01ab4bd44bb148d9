"""The service, really running: the three semantics, searches with paging, tokens and certificates, limits, reloading."""

import json
import os
import re
import signal
import socket
import ssl
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from typing import Any

import httpx
import trustme

from justlane.serving import answers
from tests.patience import until
from tests.support import EstateTest, free_port

ASKED = {
    "subject": {"type": "user", "id": "imke.vos"},
    "action": {"name": "see-station"},
    "resource": {"type": "organisation", "id": "fieldnet/north"},
}
PATH = "/access/v1/evaluation"


def served(port: int, processes: int, *words: str) -> list[str]:
    """The command that serves there."""
    where = ["--token-from", "file secrets/serve", "--listen", f"127.0.0.1:{port}"]
    return [sys.executable, "-m", "justlane", "serve", *where, "--processes", str(processes), *words]


class ServingTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()
        secrets = self.folder / "secrets"
        secrets.mkdir(mode=0o700)
        (secrets / "serve").touch(mode=0o600)
        (secrets / "serve").write_text("a-token")
        self.said: list[str] = []

    @contextmanager
    def serving(self, *words: str, scheme: str = "http", processes: int = 2, files: int = 0) -> Iterator[str]:
        port = free_port()
        command = served(port, processes, *words)
        if files:
            command = ["bash", "-c", f'ulimit -n {files}; exec "$@"', "bash", *command]
        process = subprocess.Popen(command, env=self.environment, stderr=subprocess.PIPE, text=True)

        def listen() -> None:
            assert process.stderr
            self.said.extend(process.stderr)

        reader = threading.Thread(target=listen, daemon=True)
        reader.start()
        try:
            self.wait_for(lambda: any("answering at" in line for line in self.said) or process.poll() is not None)
            self.process = process
            yield f"{scheme}://127.0.0.1:{port}"
        finally:
            process.send_signal(signal.SIGTERM)
            until(lambda: process.poll() is not None, lambda: self.said)
            code = process.returncode
            reader.join()
            assert process.stderr
            process.stderr.close()
        self.assertEqual(code, 0, self.said)
        self.assertNotIn("Traceback", "".join(self.said))

    def wait_for(self, happened: Callable[[], object]) -> None:
        until(happened, lambda: self.said, 0.05)

    def client(self, url: str, token: str = "a-token", **more: Any) -> httpx.Client:
        client = httpx.Client(base_url=url, headers={"Authorization": f"Bearer {token}"}, **more)
        self.addCleanup(client.close)
        return client

    def test_questions_searches_and_what_is_refused(self) -> None:
        with self.serving("--most-bytes", "20000", "--most-evaluations", "5", "--log-requests") as url:
            http = self.client(url)
            answer = http.post(PATH, json=ASKED, headers={"X-Request-ID": "r-1"})
            self.assertEqual((answer.json(), answer.headers["x-request-id"]), ({"decision": True}, "r-1"))
            several = {
                **ASKED,
                "evaluations": [{}, {"action": {"name": "manage-crew"}}, {"action": {}}, {"subject": {"type": "user", "id": "nobody.here"}}],
            }
            for semantic, wanted in (
                ("execute_all", [True, False, False, False]),
                ("deny_on_first_deny", [True, False]),
                ("permit_on_first_permit", [True]),
            ):
                found = http.post("/access/v1/evaluations", json={**several, "options": {"evaluations_semantic": semantic}}).json()["evaluations"]
                self.assertEqual([one["decision"] for one in found], wanted, semantic)
            self.assertEqual(found[0], {"decision": True})
            self.assertEqual(http.post("/access/v1/evaluations", json=ASKED).json(), {"decision": True}, "without evaluations it is one")
            for cell in (
                "imke.vos read-log fieldnet/north",
                "vik.sorrel see-station fieldnet/north",
                "bram.tolland change-alarm fieldnet/north/harbour/nb-07",
            ):
                user, action, scope = cell.split()
                kind = "buoy" if "nb" in scope else "organisation"
                for network in ("192.0.2.9", "198.51.100.9"):
                    asked = {
                        "subject": {"type": "user", "id": user},
                        "action": {"name": action},
                        "resource": {"type": kind, "id": scope},
                        "context": {"address": network, "multi_factor": True},
                    }
                    ran = self.run_lane("ask", user, action, scope, "--from-network", network, "--multi-factor", "--format", "json")
                    if ran.code < 2:
                        self.assertEqual(http.post(PATH, json=asked).json()["decision"], ran.json["answer"] == "yes", asked)
            self.searches(http)
            self.refusals(http)
            pages = {path: httpx.get(url + path) for path in ("/health", "/ready", "/openapi.json", "/.well-known/authzen-configuration", "/metrics")}
            self.assertEqual([p.status_code for p in pages.values()], [200, 200, 200, 200, 401])
            described = pages["/openapi.json"].json()
            for endpoint in pages["/.well-known/authzen-configuration"].json().values():
                self.assertTrue(endpoint == url or endpoint.removeprefix(url) in described["paths"])
            metrics = http.get("/metrics").text
            for line in metrics.splitlines():
                self.assertRegex(line, r'^(# (HELP|TYPE) \w+ .+|\w+(\{le="[^"]+"\})? [0-9.]+)$')
            counted = {name: float(value) for name, value in re.findall(r"^(\w+) ([0-9.]+)$", metrics, re.MULTILINE)}
            self.assertGreater(counted["justlane_evaluations_total"], 10)
            self.assertEqual(counted["justlane_refused_requests_total"], 4, "the page of counts too")
            self.assertEqual(counted["justlane_failed_requests_total"], 0)
        logged = [json.loads(line) for line in self.said if line.startswith("{")]
        self.assertIn(
            ("imke.vos", "see-station", "fieldnet/north", True),
            {(e.get("subject"), e.get("action"), e.get("resource"), e.get("decision")) for e in logged},
        )
        self.assertNotIn("Imke", "".join(self.said), "ids alone")

    def searches(self, http: httpx.Client) -> None:
        found: list[str] = []
        page: dict[str, Any] = {"limit": 7}
        while page["limit"]:
            answer = http.post("/access/v1/search/subject", json={**ASKED, "subject": {"type": "user"}, "page": page}).json()
            found += [one["id"] for one in answer["results"]]
            page = {"limit": 7 if answer["page"]["next_token"] else 0, "token": answer["page"]["next_token"]}
        holders = self.lane("holders see-station fieldnet/north --format json --no-multi-factor").json["holders"]
        self.assertEqual(found, sorted(h["user"] for h in holders))
        self.assertEqual(answer["page"]["total"], len(found))
        where = http.post("/access/v1/search/resource", json={**ASKED, "resource": {"type": "organisation"}}).json()
        self.assertEqual([one["id"] for one in where["results"]], ["fieldnet/inland", "fieldnet/north", "fieldnet/south"])
        what = http.post("/access/v1/search/action", json={k: v for k, v in ASKED.items() if k != "action"}).json()
        self.assertEqual(what["results"], [{"name": "read-log"}, {"name": "see-station"}])
        for path in ("subject", "resource", "action"):
            unknown = http.post(
                f"/access/v1/search/{path}", json={**ASKED, "resource": {"type": "x", "id": "nowhere/x"}, "subject": {"type": "user", "id": "who"}}
            )
            self.assertEqual(unknown.json()["results"], [], path)

    def refusals(self, http: httpx.Client) -> None:
        for path, body, status in (
            (PATH, {}, 400), (PATH, {**ASKED, "subject": 3}, 400), (PATH, {**ASKED, "context": {"time": "soon"}}, 400), (PATH, {**ASKED, "context": {"address": "x"}}, 400),
            ("/access/v1/evaluations", {**ASKED, "evaluations": [{}] * 6}, 413), ("/access/v1/evaluations", {**ASKED, "evaluations": [{}], "options": {"evaluations_semantic": "guess"}}, 400),
            (PATH, {**ASKED, "more": "x" * 20_000}, 413), ("/access/v1/search/subject", {**ASKED, "page": {"token": "%"}}, 400), ("/access/v1/search/subject", {**ASKED, "page": {"limit": 0}}, 400), ("/nowhere", {}, 404),
        ):  # fmt: skip
            answer = http.post(path, json=body)
            self.assertEqual((answer.status_code, answer.headers["content-type"]), (status, "application/problem+json"), (path, str(body)[:80]))
            self.assertEqual(answer.json()["status"], status)
        self.assertEqual(http.post(PATH, content=b"[" * 9000).status_code, 400)
        self.assertEqual(http.get(PATH).status_code, 405)
        for headers in ({}, {"Authorization": "Bearer wrong"}, {"Authorization": "Basic a-token"}):
            self.assertEqual(httpx.post(str(http.base_url).rstrip("/") + PATH, json=ASKED, headers=headers).status_code, 401)

    def test_it_reads_again_and_loses_no_request(self) -> None:
        bindings = self.folder / "bindings" / "field.yaml"
        sound = bindings.read_text()
        with self.serving() as url:
            http, answers, stop = self.client(url), list[tuple[int, bool | None]](), threading.Event()
            asked = {**ASKED, "subject": {"type": "user", "id": "vik.sorrel"}}

            def ask() -> None:
                with httpx.Client(headers=dict(http.headers)) as own:
                    while not stop.is_set():
                        answer = own.post(url + PATH, json=asked)
                        answers.append((answer.status_code, answer.json().get("decision")))

            threads = [threading.Thread(target=ask) for _ in range(3)]
            for thread in threads:
                thread.start()
            try:
                self.wait_for(lambda: len(answers) > 20)
                bindings.write_text(sound + "  - {give: station-watcher, to: user vik.sorrel, at: fieldnet, because: x.}\n")
                self.wait_for(lambda: (200, True) in answers[-30:])
                bindings.write_text(sound + "  - {give: no-such-role, to: user vik.sorrel, at: fieldnet, because: x.}\n")
                self.wait_for(lambda: not http.get("/ready").json()["files_are_sound"])
                self.assertIn((200, True), answers[-5:], "what was sound goes on answering")
                bindings.write_text(sound)
                self.wait_for(lambda: (200, False) in answers[-10:])
                victim = int(subprocess.run(["pgrep", "-P", str(self.process.pid)], capture_output=True, text=True, check=True).stdout.split()[0])
            finally:
                stop.set()
                for thread in threads:
                    thread.join()
            self.assertEqual({status for status, _ in answers}, {200}, "none was lost")
            os.kill(victim, signal.SIGKILL)
            self.wait_for(lambda: any("is started again" in line for line in self.said))
            self.wait_for(lambda: self.client(url).post(PATH, json=asked).status_code == 200)
        self.assertTrue(any("cannot be read; what was read before goes on" in line for line in self.said))

    def test_nothing_goes_on_when_whoever_looks_after_it_is_killed(self) -> None:
        port = free_port()
        with subprocess.Popen(served(port, 2), env=self.environment, stderr=subprocess.DEVNULL) as process:
            self.wait_for(lambda: self.is_open(port))
            time.sleep(0.5)
            process.kill()
        self.wait_for(lambda: not self.is_open(port))

    def is_open(self, port: int) -> bool:
        try:
            return httpx.get(f"http://127.0.0.1:{port}/health", timeout=2).status_code == 200
        except httpx.HTTPError:
            return False

    def test_half_requests_keep_nobody_out_and_no_question_stays_in_memory(self) -> None:
        with self.serving(processes=1, files=300) as url, ExitStack() as open_ones:
            address = ("127.0.0.1", int(url.rpartition(":")[2]))
            http = self.client(url)
            self.assertTrue(http.post(PATH, json=ASKED).json()["decision"])
            for number in range(400):
                half = open_ones.enter_context(socket.create_connection(address))
                half.sendall(b"POST / HTTP/1.1\r\nHost: x\r\n" if number % 2 else b"")
            fresh = self.client(url, timeout=60)
            self.assertTrue(fresh.post(PATH, json=ASKED).json()["decision"], "whoever comes new")
            self.assertTrue(http.post(PATH, json=ASKED).json()["decision"], "whoever was there")
            half.setblocking(False)
            with self.assertRaises(BlockingIOError, msg="and the last of those that keep others out waits still"):
                half.recv(1)
            slow = open_ones.enter_context(socket.create_connection(address))
            head = f"POST {PATH} HTTP/1.1\r\nHost: evil.example\r\nAuthorization: Bearer a-token\r\nContent-Length: 9\r\n\r\n"
            slow.sendall(head.encode())
            configuration = http.get("/.well-known/authzen-configuration", headers={"Host": "evil.example"}).json()
            self.assertEqual({value.split("/access")[0] for value in configuration.values()}, {url})
            memory = self.memory()
            for number in range(300):
                long = {**ASKED, "subject": {"type": "user", "id": f"{number}" + "x" * 900_000}, "context": {"method": f"{number}" + "y" * 100_000}}
                self.assertEqual(http.post(PATH, json=long).status_code, 400)
                odd = {**ASKED, "context": {"method": f"m{number}" + "y" * 150}}
                self.assertEqual(http.post(PATH, json=odd).status_code, 200)
            self.assertLess(self.memory() - memory, 30_000)
            slow.settimeout(40)
            self.assertIn(b"408", slow.recv(4096), "a body that does not come")

    def memory(self) -> int:
        """Kilobytes of all the service's processes."""
        listed = subprocess.run(["ps", "-o", "rss=", "--ppid", str(self.process.pid)], capture_output=True, text=True, check=True).stdout
        return sum(map(int, listed.split()))

    def test_a_role_and_a_day_mean_what_they_mean_everywhere(self) -> None:
        with self.serving(processes=1) as url:
            http = self.client(url)
            together = {
                "subject": {"type": "user", "id": "imke.vos"}, "action": {"name": "read-series"}, "resource": {"type": "store", "id": "siltstore"},
            }  # fmt: skip
            self.assertEqual(http.post(PATH, json={**together, "context": {"role": "nosuch"}}).status_code, 400)
            for role, wanted in (("nosuch", False), ("station-keeper", True)):
                asked = {**ASKED, "context": {"role": role}}
                self.assertEqual(http.post(PATH, json=asked).json(), {"decision": wanted}, role)
        question = answers._question(answers.QuestionContext(day="2026-07-01"), "Pacific/Auckland")
        self.assertEqual(question.dated.isoformat(), "2026-07-01T12:00:00+12:00")

    def test_certificates(self) -> None:
        authority, callers = trustme.CA(), trustme.CA()
        server, caller = authority.issue_cert("127.0.0.1"), callers.issue_cert("caller@saltmarsh.example")
        for name, blob in (("host.pem", server.cert_chain_pems[0]), ("host.key", server.private_key_pem), ("callers.pem", callers.cert_pem)):
            blob.write_to_path(str(self.top / name))
        words = (
            "--certificate",
            str(self.top / "host.pem"),
            "--key",
            str(self.top / "host.key"),
            "--client-authority",
            str(self.top / "callers.pem"),
        )
        with self.serving(*words, scheme="https", processes=1) as url:
            context = ssl.create_default_context()
            authority.configure_trust(context)
            with self.assertRaises(httpx.HTTPError):
                self.client(url, verify=context).post(PATH, json=ASKED)
            caller.configure_cert(context)
            self.assertTrue(self.client(url, verify=context).post(PATH, json=ASKED).json()["decision"])

    def test_nobody_is_let_in_by_mistake(self) -> None:
        for words, said in (
            ((), "nobody would be kept out"), (("--token-from", "secrets/serve"), "write `environment NAME`"), (("--client-authority", str(self.folder / "estate.yaml")), "needs an encrypted connection"),
            (("--token-from", "file secrets/serve", "--listen", "0.0.0.0:1"), "nothing is encrypted"), (("--token-from", "file secrets/serve", "--listen", "here"), "expected a host and a port"),
        ):  # fmt: skip
            ran = self.run_lane("serve", *words)
            self.assertEqual((ran.code, said in ran.err), (2, True), ran)


if __name__ == "__main__":
    unittest.main()
