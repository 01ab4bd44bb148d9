"""Faults at every step of align: a proxy between it and a stand-in, drawn plans of what goes wrong, and what must hold.

After the last run the platform holds what is declared, and every step happened exactly once: the stand-in's own log of
changes is the plan's list of steps, however often requests were cut, delayed, repeated or answered with an error, and
however often align was killed.

    python -m tests.faults COUNT SEED
"""

from __future__ import annotations

import asyncio
import json
import os
import random
import signal
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from multiprocessing import Process
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

from tests.patience import until
from tests.support import DEMO, free_port, wait_for

TOKEN = "a-token-of-the-faults"
FAULTS = ("cut before", "cut after", "half a body", "500 before", "500 after", "429", "delay", "twice", "nonsense")
_MOST_RUNS = 40


class Proxy:
    """Takes one request a connection, forwards it or not, and answers or not, as the plan says."""

    def __init__(self, backend: int) -> None:
        self.backend = backend
        self.faults: list[str] = []

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(ConnectionError, asyncio.IncompleteReadError):
            while (request := await self._message(reader)) is not None:
                if request.startswith(b"POST /plan "):
                    self.faults = json.loads(request.partition(b"\r\n\r\n")[2])
                    writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
                    continue
                fault = self.faults.pop(0) if self.faults else ""
                answer = await self._answered(request, fault)
                if answer is None:
                    break
                writer.write(answer)
                await writer.drain()
                if fault in ("half a body", "nonsense"):
                    break
        writer.close()

    async def _answered(self, request: bytes, fault: str) -> bytes | None:
        if fault == "cut before":
            return None
        if fault == "500 before":
            return b"HTTP/1.1 500 Sorry\r\nContent-Length: 5\r\n\r\nsorry"
        if fault == "429":
            return b"HTTP/1.1 429 Slowly\r\nRetry-After: 0\r\nContent-Length: 0\r\n\r\n"
        if fault == "delay":
            await asyncio.sleep(0.02)
        answer = await self._forwarded(request)
        if fault == "twice":
            answer = await self._forwarded(request)
        if fault == "cut after":
            return None
        if fault == "500 after":
            return b"HTTP/1.1 500 Sorry\r\nContent-Length: 5\r\n\r\nsorry"
        if fault == "nonsense":
            return b"HTTP/1.1 200 OK\r\nContent-Length: 7\r\n\r\n<html/>"
        return answer[: -max(len(answer) // 3, 1)] if fault == "half a body" else answer

    async def _forwarded(self, request: bytes) -> bytes:
        reader, writer = await asyncio.open_connection("127.0.0.1", self.backend)
        writer.write(request)
        answer = await self._message(reader)
        writer.close()
        assert answer is not None
        return answer

    async def _message(self, reader: asyncio.StreamReader) -> bytes | None:
        head = b""
        while not head.endswith(b"\r\n\r\n"):
            line = await reader.readline()
            if not line:
                return None
            head += line
        lengths = [int(line.split(b":")[1]) for line in head.lower().split(b"\r\n") if line.startswith(b"content-length:")]
        return head + (await reader.readexactly(lengths[0]) if lengths else b"")


def run_proxy(port: int, backend: int) -> None:
    async def run() -> None:
        server = await asyncio.start_server(Proxy(backend).serve, "127.0.0.1", port)
        async with server:
            await server.serve_forever()

    asyncio.run(run())


def run_standin(folder: str, port: int) -> None:
    """The stand-in of the small estate, without its command, and with a way to begin afresh."""
    import uvicorn
    from starlette.responses import JSONResponse
    from starlette.routing import Route

    from justlane.cli.platforms.standin import nature_of
    from justlane.directories.interface import read_people
    from justlane.files.opening.index import open_index
    from justlane.standin.server import StandIn
    from justlane.standin.site import PARTS, Site

    nature = nature_of(open_index(Path(folder), read_people, whole=True).estate, "pumphall")
    standin = StandIn(Site("pumphall", nature), None, TOKEN)

    async def begin(request: Any) -> JSONResponse:
        """Hold just this; answers with what was changed until now."""
        changed = standin.site.changed
        import msgspec

        held = await request.json()
        for part, kind in PARTS.items():
            setattr(standin.site, part, {name: msgspec.convert(entry, kind) for name, entry in held.get(part, {}).items()})
        standin.site.changed, standin.site.keys = [], {}
        standin._settle()
        return JSONResponse(changed)

    async def look(request: Any) -> JSONResponse:
        return JSONResponse(standin.site.changed)

    app = standin.app()
    app.router.routes[:0] = [Route("/begin", begin, methods=["POST"]), Route("/look", look)]
    uvicorn.run(app, host="127.0.0.1", port=port, log_level="error", access_log=False)


class Trial:
    """One estate, one stand-in, one proxy; many plans."""

    def __init__(self, top: Path) -> None:
        self.folder = top / "estate"
        self.folder.mkdir()
        for path in (DEMO / "pumphall").iterdir():
            if path.is_file():
                (self.folder / path.name).write_bytes(path.read_bytes())
        self.backend, self.port = free_port(), free_port()
        file = self.folder / "pumphall.yaml"
        reached = f"\nreached by:\n  connector: http\n  url: http://127.0.0.1:{self.port}\n  token from: file token\n"
        file.write_text(file.read_text().replace("\nactions:", reached + "\nactions:", 1))
        (self.folder / "token").touch(mode=0o600)
        (self.folder / "token").write_text(TOKEN)
        self.environment = {
            "JUSTLANE_ESTATE": str(self.folder),
            "XDG_CACHE_HOME": str(top / "cache"),
            "XDG_CONFIG_HOME": str(top / "config"),
            "PATH": os.environ["PATH"],
        }
        self.wanted = self._wanted()

    def _wanted(self) -> dict[str, Any]:
        from justlane.directories.interface import read_people
        from justlane.files.opening.index import open_index
        from justlane.platforms.over_http.dialect import declared_parts

        self.index = open_index(self.folder, read_people)
        return declared_parts(self.index, "pumphall", datetime.now(UTC)).parts

    def start(self) -> list[Process]:
        some = [
            Process(target=run_standin, args=(str(self.folder), self.backend), daemon=True),
            Process(target=run_proxy, args=(self.port, self.backend), daemon=True),
        ]
        for process in some:
            process.start()
        wait_for(f"http://127.0.0.1:{self.backend}/look", _Alive())  # type: ignore[arg-type]
        until(lambda: self.is_proxied())
        return some

    def is_proxied(self) -> bool:
        try:
            self.tell(self.port, "/plan", [])
        except OSError:
            return False
        return True

    def tell(self, port: int, path: str, body: Any) -> Any:
        request = Request(f"http://127.0.0.1:{port}{path}", json.dumps(body).encode(), {"Content-Type": "application/json"}, method="POST")
        with urlopen(request, timeout=10) as answer:
            content = answer.read()
            return json.loads(content) if content else None

    def look(self, path: str) -> Any:
        with urlopen(Request(f"http://127.0.0.1:{self.backend}{path}", headers={"Authorization": f"Bearer {TOKEN}"}), timeout=10) as answer:
            return json.loads(answer.read())

    def tried(self, seed: int) -> tuple[str, int, int]:
        """What went wrong in one drawn plan (empty for nothing), how many faults met align, and how often it ran."""
        draw = random.Random(seed)
        before = self._drawn_state(draw)
        self.tell(self.backend, "/begin", before)
        steps = self._steps(before)
        faults = [draw.choice(FAULTS) if draw.random() < 0.35 else "" for _ in range(draw.randint(0, 40))]
        self.tell(self.port, "/plan", faults)
        code, runs = -1, 0
        while code != 0 and runs < _MOST_RUNS:
            runs += 1
            kill = draw.random() * 0.5 if draw.random() < 0.25 and runs < _MOST_RUNS // 2 else None
            code = self._align(kill)
        done, held = Counter(map(tuple, self.look("/look"))), self.look("/holds")
        met = sum(map(bool, faults))
        if code != 0:
            return f"it still ended with {code} after {runs} runs", met, runs
        if any(held[part] != self.wanted[part] for part in self.wanted):
            return "the platform does not hold what is declared", met, runs
        if done != steps:
            return f"more than once: {dict(done - steps)}, not at all: {dict(steps - done)}", met, runs
        return "", met, runs

    def _drawn_state(self, draw: random.Random) -> dict[str, Any]:
        """Nothing, or what is declared with some things missing, changed and added."""
        if draw.random() < 0.4:
            return {}
        held = json.loads(json.dumps(self.wanted))
        for entries in held.values():
            for name in list(entries):
                if draw.random() < 0.2:
                    del entries[name]
        for group in held["groups"].values():
            if draw.random() < 0.3:
                group["members"] = [*group["members"][1:], "user stranger"]
        held["bindings"] = {n: b for n, b in held["bindings"].items() if b["principal"].split()[-1] in {**held["groups"], **held["people"]}}
        held["roles"]["left-over"] = {"allows": ["see-pump"], "excepts": [], "builds_on": []}
        return dict(held)

    def _steps(self, before: dict[str, Any]) -> Counter[tuple[str, str]]:
        """What a run without faults does."""
        from justlane.jobs.circumstances import now
        from justlane.platforms.alignment.plan import plan
        from justlane.platforms.interface import Reading

        planned = plan(self.index, "pumphall", Reading("0", before), now())
        return Counter((step.part, step.name) for step in planned.steps)

    def _align(self, kill: float | None) -> int:
        """Run align in a copy of this process; kill it after some seconds, if that is wanted. Its exit code, or -9."""
        child = os.fork()
        if child == 0:
            from justlane.cli.main import run

            try:
                log = os.environ.get("FAULTS_LOG", os.devnull)
                os.environ.clear()
                os.environ.update(self.environment)
                nowhere = os.open(log, os.O_RDWR | os.O_APPEND)
                for handle in range(3):
                    os.dup2(nowhere, handle)
                sys.argv = ["justlane", "align", "pumphall", "--yes", "--most-removals", "1000"]
                run()
            except SystemExit as stop:
                os._exit(int(stop.code or 0))
            finally:
                os._exit(99)
        if kill is not None:
            time.sleep(kill)
            with suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


class _Alive:
    def poll(self) -> None:
        return None


@contextmanager
def trial() -> Iterator[Trial]:

    with tempfile.TemporaryDirectory() as top:
        found = Trial(Path(top).resolve())
        processes = found.start()
        try:
            yield found
        finally:
            for process in processes:
                process.terminate()


def main() -> None:
    count, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 500, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    wrong, met, runs, started = [], 0, 0, time.monotonic()
    with trial() as on:
        for number in range(count):
            said, faults, times = on.tried(seed * 1_000_000 + number)
            met, runs = met + faults, runs + times
            if said:
                wrong.append(f"plan {seed * 1_000_000 + number}: {said}")
    print(f"{count} plans from seed {seed}, {met} faults, {runs} runs of align, {time.monotonic() - started:.0f} s: {len(wrong)} wrong")
    print("\n".join(wrong))
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
