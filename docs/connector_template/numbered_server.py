"""A small service to try `numbered_connector.py` on: numbers for names, pages, limits, and answers that lag behind.

    python numbered_server.py PORT TOKEN SECONDS-OF-DELAY ADDRESS...

`GET /accounts`, `GET /places` and `GET /grants` answer `{"items": [...], "next": N}`, three to a page (`?after=N`).
`POST /grants` with `{"account": 7, "place": 3, "right": "look"}` gives, `DELETE /grants/N` takes. Lists show a change
only after the delay. More than ten requests within a second are answered with 429 and `Retry-After`.
"""

from __future__ import annotations

import json
import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

PAGE, MOST = 3, 10


class Numbered(ThreadingHTTPServer):
    """What it holds, and when each change shows."""

    def __init__(self, port: int, token: str, delay: float, places: list[str]) -> None:
        """Four people, and some places."""
        super().__init__(("127.0.0.1", port), Handler)
        self.token, self.delay = token, delay
        people = ("ada.brook", "bea.quay", "cleo.marsh", "dan.shore")
        self.accounts: dict[int, Any] = {n: {"number": n, "login": login} for n, login in enumerate(people, 7)}
        self.places: dict[int, Any] = {n: {"number": n, "address": address} for n, address in enumerate(places, 1)}
        self.grants: dict[int, Any] = {}
        self.changes: list[tuple[float, int, Any]] = []
        """(from when it shows, number of the grant, what it is from then on; None for gone)"""
        self.asked: list[float] = []
        self.number = 100

    def shown(self) -> dict[int, Any]:
        """The grants as lists show them now."""
        now = time.monotonic()
        for _, number, grant in [c for c in self.changes if c[0] <= now]:
            self.grants.pop(number, None)
            if grant is not None:
                self.grants[number] = grant
        self.changes = [c for c in self.changes if c[0] > now]
        return self.grants


class Handler(BaseHTTPRequestHandler):
    """One request."""

    server: Numbered

    def log_message(self, *_: Any) -> None:
        """Nothing is said."""

    def _answer(self, status: int, body: Any, **headers: str) -> None:
        content = json.dumps(body).encode()
        self.send_response(status)
        for name, value in {"Content-Type": "application/json", "Content-Length": str(len(content)), **headers}.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        self.wfile.write(content)

    def _welcome(self) -> bool:
        now = time.monotonic()
        self.server.asked = [at for at in self.server.asked if now - at < 1] + [now]
        if self.headers.get("Authorization") != f"Bearer {self.server.token}":
            self._answer(401, {"wrong": "the token"})
        elif len(self.server.asked) > MOST:
            self._answer(429, {"wrong": "too many requests"}, Retry_After="1")
        else:
            return True
        return False

    def do_GET(self) -> None:
        """A page of a list."""
        if not self._welcome():
            return
        path, _, query = self.path.partition("?")
        known = {"/accounts": self.server.accounts, "/places": self.server.places, "/grants": self.server.shown()}
        some = known.get(path)
        if some is None:
            self._answer(404, {"wrong": "nothing there"})
            return
        after = int(query.partition("after=")[2] or 0)
        numbers = sorted(number for number in some if number > after)
        page = numbers[:PAGE]
        self._answer(200, {"items": [some[n] for n in page], "next": page[-1] if len(numbers) > PAGE else None})

    def do_POST(self) -> None:
        """A new grant, or a new place."""
        content = json.loads(self.rfile.read(int(self.headers.get("Content-Length", 0))) or b"{}")
        if not self._welcome():
            return
        if self.path == "/places":
            self.server.places[content["number"]] = content
            self._answer(201, content)
            return
        if content.get("account") not in self.server.accounts or content.get("place") not in self.server.places:
            self._answer(422, {"wrong": "no such account or place"})
            return
        self.server.number += 1
        grant = {**content, "number": self.server.number}
        self.server.changes.append((time.monotonic() + self.server.delay, self.server.number, grant))
        self._answer(201, grant)

    def do_DELETE(self) -> None:
        """A grant is taken."""
        if self._welcome():
            number = int(self.path.rpartition("/")[2])
            self.server.changes.append((time.monotonic() + self.server.delay, number, None))
            self._answer(200, {"number": number})


if __name__ == "__main__":
    Numbered(int(sys.argv[1]), sys.argv[2], float(sys.argv[3]), sys.argv[4:]).serve_forever()
