"""A SCIM service of the tests' own, right by itself and spoilt by whoever uses it."""

from __future__ import annotations

import contextlib
import json
import tempfile
import threading
from collections.abc import Callable
from email.utils import formatdate
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlparse

TOKEN = "the-token-of-the-tests"
Change = Callable[[str, dict[str, Any]], Any]
"""Given `Users` or `Groups` and the right page, what is answered: a page, bytes, or (status, headers, body)."""


class ScimAnswers:
    """Nine people in one group, in pages of four, until it is left."""

    def __init__(self, change: Change, people: int = 9) -> None:
        self.change = change
        self.users = [{"id": f"id-{n}", "userName": f"p{n}", "displayName": f"Person {n}", "active": True} for n in range(people)]
        self.groups = [{"id": "id-crew", "displayName": "crew", "members": [{"value": u["id"], "type": "User"} for u in self.users]}]
        self.asked: list[dict[str, str]] = []
        """The parameters of every request, with the address as `path`."""

    def page(self, kind: str, start: int, count: int) -> dict[str, Any]:
        everything = self.users if kind == "Users" else self.groups
        some = everything[start - 1 : start - 1 + count]
        return {"totalResults": len(everything), "startIndex": start, "itemsPerPage": len(some), "Resources": json.loads(json.dumps(some))}

    def __enter__(self) -> ScimAnswers:
        answers = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                url = urlparse(self.path)
                given = {key: values[0] for key, values in parse_qs(url.query).items()}
                answers.asked.append({"path": url.path, **given})
                kind = url.path.rsplit("/", 1)[-1]
                right = answers.page(kind, int(given.get("startIndex", 1)), int(given.get("count", 100)))
                if self.headers["Authorization"] != f"Bearer {TOKEN}":
                    self.answer(401, {}, b'{"detail": "who is that?"}')
                    return
                changed = answers.change(kind, right)
                status, headers, body = changed if isinstance(changed, tuple) else (200, {}, changed)
                self.answer(status, headers, body if isinstance(body, bytes) else json.dumps(body).encode())

            def answer(self, status: int, headers: dict[str, str], body: bytes) -> None:
                self.send_response_only(status)
                for name, value in {"Date": formatdate(usegmt=True), "Content-Length": str(len(body)), **headers}.items():
                    self.send_header(name, value)
                self.end_headers()
                with contextlib.suppress(BrokenPipeError):
                    self.wfile.write(body)
                self.close_connection = "Content-Length" in headers

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        self.thread = threading.Thread(target=self.server.serve_forever, args=(0.01,), daemon=True)
        self.thread.start()
        self.temporary = tempfile.TemporaryDirectory()
        self.folder = Path(self.temporary.name)
        token = self.folder / "token"
        token.touch(mode=0o600)
        token.write_text(TOKEN)
        return self

    def shape(self) -> dict[str, Any]:
        port = self.server.server_address[1]
        return {"scim": {"url": f"http://127.0.0.1:{port}/scim", "encryption": "none", "token from": "file token", "page size": 4, "wait at most": 2}}

    def __exit__(self, *_: object) -> None:
        self.server.shutdown()
        self.server.server_close()
        self.temporary.cleanup()
