"""Several processes on one socket, and the one that looks after them.

It binds the socket, reads the estate again when its files, its snapshots or its people changed, and lets the processes
take up what was kept; none of them stops answering for that. A process that ends by itself is started again.
"""

from __future__ import annotations

import os
import signal
import socket
import ssl
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from justlane.engine.facts.index import EstateIndex
from justlane.model.errors import JustLaneError, UnreachableError
from justlane.serving.answers import Answers
from justlane.serving.application import AnsweringService, ServiceLimits
from justlane.serving.counters import Counters

_LOOK_SECONDS, _AGAIN_SECONDS, _GRACE_SECONDS = 0.5, 1.0, 10
_SKIPPED = (".git", "journal", "readings", "probes", "sheets", "standin")
_RARELY = (200_000, 50, 100)
_MOST_BACKLOG = 512


class Transport(NamedTuple):
    """How others reach the service."""

    host: str
    port: int
    certificate: str
    key: str
    client_authority: str
    """PEM of the authorities whose client certificates are let in; empty to ask for none."""


class ServicePlan(NamedTuple):
    """What to serve, and how."""

    folder: Path
    reopen: Callable[[], EstateIndex]
    """Reads the estate, or takes up what was kept of it."""
    transport: Transport
    processes: int
    token: str
    limits: ServiceLimits
    log: Callable[[str], None]
    log_requests: bool
    url: str = ""
    """How others reach the service; empty for the address that it listens on."""


def state_of(folder: Path) -> int:
    """Changes with every file of the estate, by size, time and number; what we write there ourselves is left out."""
    found: list[tuple[str, int, int, int]] = []
    for here, folders, files in os.walk(folder):
        folders[:] = [name for name in folders if name not in _SKIPPED and not name.startswith(".")]
        for name in files:
            path = os.path.join(here, name)
            try:
                known = os.stat(path, follow_symlinks=False)
            except OSError:
                continue
            found.append((path, known.st_size, known.st_mtime_ns, known.st_ino))
    return hash(tuple(sorted(found)))


def serve(plan: ServicePlan, ready: Callable[[str], None]) -> None:
    """Serve until somebody ends it. UnreachableError if the address cannot be had, or what reading an estate raises."""
    plan.reopen()  # before anything is promised
    sockets = _bound(plan.transport)
    counters = Counters(plan.processes)
    counters.set_shared("loaded_at", int(time.time()))
    scheme = "https" if plan.transport.certificate else "http"
    host = f"[{plan.transport.host}]" if ":" in plan.transport.host else plan.transport.host
    here = f"{scheme}://{host}:{sockets.getsockname()[1]}"
    supervisor = _Supervisor(plan._replace(url=plan.url or here), sockets, counters)
    ready(here)
    supervisor.run()


def _bound(transport: Transport) -> socket.socket:
    family = socket.AF_INET6 if ":" in transport.host else socket.AF_INET
    found = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)  # said, or small answers wait for 40 ms
    try:
        found.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        found.bind((transport.host, transport.port))
        found.listen(_MOST_BACKLOG)
    except OSError as error:
        found.close()
        where = f"{transport.host}:{transport.port}"
        raise UnreachableError(f"{where} cannot be listened on: {error.strerror}", "take another --listen") from error
    return found


class _Supervisor:
    def __init__(self, plan: ServicePlan, found: socket.socket, counters: Counters) -> None:
        self._plan, self._socket, self._counters, self._say = plan, found, counters, plan.log
        self._children: dict[int, int] = {}
        """Process id -> its number."""
        self._ending = self._look_now = False

    def run(self) -> None:
        """Start the processes, and look after them until the end."""
        for number in range(self._plan.processes):
            self._start(number)
        signal.signal(signal.SIGTERM, self._end)
        signal.signal(signal.SIGINT, self._end)
        signal.signal(signal.SIGHUP, self._look)
        known, looked = state_of(self._plan.folder), time.monotonic()
        while not self._ending:
            time.sleep(0.05)
            self._restart()
            if self._look_now or time.monotonic() - looked > _LOOK_SECONDS:
                now = state_of(self._plan.folder)
                if self._look_now or now != known:
                    known = now
                    self._reload()
                self._look_now, looked = False, time.monotonic()
        self._stop()

    def _end(self, *_: object) -> None:
        self._ending = True

    def _look(self, *_: object) -> None:
        self._look_now = True

    def _reload(self) -> None:
        """Read the estate again; where that is impossible, what was read before goes on answering."""
        try:
            self._plan.reopen()
        except JustLaneError as error:
            self._counters.set_shared("reload_failures", self._counters.shared("reload_failures") + 1)
            self._counters.set_shared("unsound", 1)
            self._say(f"the estate changed and cannot be read; what was read before goes on answering: {error}")
            return
        self._counters.set_shared("unsound", 0)
        self._counters.set_shared("reloads", self._counters.shared("reloads") + 1)
        self._counters.set_shared("loaded_at", int(time.time()))
        self._counters.set_shared("generation", self._counters.shared("generation") + 1)
        self._say("the estate was read again")

    def _start(self, number: int) -> None:
        process = os.fork()
        if process:
            self._children[process] = number
            return
        try:
            _work(self._plan, self._socket, self._counters, number)
            os._exit(0)
        except BaseException as error:  # a process that fails to start says why, and never runs what comes behind
            self._say(f"a process of the service ended: {type(error).__name__}: {error}")
            os._exit(1)

    def _restart(self) -> None:
        while self._children:
            process, _ = os.waitpid(-1, os.WNOHANG)
            if not process:
                return
            number = self._children.pop(process)
            if not self._ending:
                self._say(f"process {number} of the service ended by itself, and is started again")
                time.sleep(_AGAIN_SECONDS)
                self._start(number)

    def _stop(self) -> None:
        for process in self._children:
            os.kill(process, signal.SIGTERM)
        deadline = time.monotonic() + _GRACE_SECONDS
        while self._children and time.monotonic() < deadline:
            process, _ = os.waitpid(-1, os.WNOHANG)
            self._children.pop(process, None)
            time.sleep(0.02)
        for process in self._children:
            os.kill(process, signal.SIGKILL)


class _Taken:
    """The answers of one process, taken up anew when the supervising process has read the estate again."""

    def __init__(self, plan: ServicePlan, counters: Counters) -> None:
        self._counters, self._plan = counters, plan
        self._generation = counters.shared("generation")
        self._answers = Answers(plan.reopen)

    def __call__(self) -> Answers:
        generation = self._counters.shared("generation")
        if generation != self._generation:
            self._generation = generation
            try:
                self._answers = Answers(self._plan.reopen)
            except JustLaneError as error:
                self._plan.log(f"what was read before goes on answering: {error}")
        return self._answers


def _work(plan: ServicePlan, found: socket.socket, counters: Counters, number: int) -> None:
    """What one process does."""
    import gc

    import uvicorn

    from justlane.serving.connections import ConnectionPlaces, protocol

    for name in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(name, signal.SIG_DFL if name != signal.SIGHUP else signal.SIG_IGN)
    taken = _Taken(plan, counters)
    taken()  # whoever asks first does not wait for it
    gc.freeze()
    gc.set_threshold(*_RARELY)  # what is kept is in no loop, and looking through it takes long
    service = AnsweringService(taken, counters, number, plan.token, plan.limits, plan.log, plan.log_requests, plan.url)
    transport = plan.transport
    safe: dict[str, Any] = {}
    if transport.certificate:
        safe = {"ssl_certfile": transport.certificate, "ssl_keyfile": transport.key or None}
    if transport.client_authority:
        safe |= {"ssl_ca_certs": transport.client_authority, "ssl_cert_reqs": ssl.CERT_REQUIRED}
    parent = os.getppid()

    async def look_after() -> None:
        if os.getppid() != parent:  # nobody looks after us any more
            server.should_exit = True

    places = ConnectionPlaces(plan.token)
    config = uvicorn.Config(
        service,
        backlog=places.most,
        callback_notify=look_after,
        timeout_notify=1,
        log_level="error",
        access_log=False,
        server_header=False,
        http=protocol(places),
        ws="none",
        timeout_keep_alive=30,
        timeout_graceful_shutdown=_GRACE_SECONDS - 2,
        **safe,
    )
    server = uvicorn.Server(config)
    server.run(sockets=[found])
