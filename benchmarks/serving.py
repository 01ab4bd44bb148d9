"""Evaluations a second over loopback, of the built command and of a bare server of the same stack.

    python -m benchmarks.serving middle|large [SECONDS] [FOLDER]

Both run in as many processes as there are processors; the bare one reads the body and answers a constant. Clients are
processes of their own that ask one question after the other over kept connections, questions drawn with a seed. What is
shown: evaluations a second, the median and p99 of one, and the ratio of both servers in the same run.
"""

from __future__ import annotations

import json
import os
import random
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing import Pipe, Process
from multiprocessing.connection import Connection
from pathlib import Path

from benchmarks.files import write
from benchmarks.people import run as run_here

TOKEN, CLIENTS, CONNECTIONS, QUESTIONS = "a-token-of-the-benchmark", 2, 8, 120_000
TURNS = 5


def request(body: bytes) -> bytes:
    head = ("POST /access/v1/evaluation HTTP/1.1", "Host: a", f"Authorization: Bearer {TOKEN}")
    return "\r\n".join((*head, f"Content-Length: {len(body)}", "", "")).encode() + body


def questions(folder: Path, seed: int = 4711) -> list[bytes]:
    """Drawn people, actions and places; a tenth of the people ask nine tenths of the questions."""
    from justlane.directories.interface import read_people
    from justlane.files.opening.index import open_index

    index, draw = open_index(folder, read_people), random.Random(seed)
    platform = next(iter(index.estate.platforms.values()))
    logins = list(index.membership.numbered.logins)
    frequent = draw.sample(logins, min(len(logins) // 10, 5000))
    places, actions = list(platform.scopes), list(platform.actions)
    found = []
    for _ in range(QUESTIONS):
        who = draw.choice(frequent if draw.random() < 0.9 else logins)
        where = draw.choice(places)
        asked = {
            "subject": {"type": "user", "id": who},
            "action": {"name": draw.choice(actions)},
            "resource": {"type": platform.scopes[where].kind, "id": where},
        }
        found.append(request(json.dumps(asked).encode()))
    return found


async def bare(scope, receive, send):  # type: ignore[no-untyped-def]
    """A server that answers a constant."""
    if scope["type"] != "http":
        return
    while (await receive()).get("more_body"):
        pass
    await send(
        {
            "type": "http.response.start",
            "status": 200,
            "headers": [(b"content-type", b"application/json"), (b"content-length", b"17")],
        }
    )
    await send({"type": "http.response.body", "body": b'{"decision":true}'})


@contextmanager
def bare_server() -> Iterator[int]:
    import uvicorn

    found = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    found.bind(("127.0.0.1", 0))
    found.listen(512)
    children = []
    for _ in range(os.cpu_count() or 1):
        child = os.fork()
        if not child:
            config = uvicorn.Config(bare, log_level="error", access_log=False, server_header=False, lifespan="off")
            uvicorn.Server(config).run(sockets=[found])
            os._exit(0)
        children.append(child)
    try:
        yield found.getsockname()[1]
    finally:
        for child in children:
            os.kill(child, signal.SIGTERM)
            os.waitpid(child, 0)


@contextmanager
def built_server(folder: Path) -> Iterator[int]:
    with tempfile.TemporaryDirectory() as top:
        secret = Path(top) / "token"
        secret.touch(mode=0o600)
        secret.write_text(TOKEN)
        words = [
            sys.executable,
            "-m",
            "justlane",
            "serve",
            "--estate",
            str(folder),
            "--listen",
            "127.0.0.1:0",
            "--token-from",
            f"file {secret}",
        ]
        process = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
        try:
            assert process.stderr
            line = process.stderr.readline()
            while "answering at" not in line:
                assert line, "the server did not start"
                line = process.stderr.readline()
            yield int(line.split(":")[2].split()[0])
        finally:
            process.terminate()
            process.communicate(timeout=20)


def client(port: int, asked: list[bytes], seconds: float, told: Connection) -> None:
    connections = [socket.create_connection(("127.0.0.1", port)) for _ in range(CONNECTIONS)]
    for one in connections:
        one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    took: list[float] = []
    number, until = 0, time.perf_counter() + seconds
    while time.perf_counter() < until:
        sent = []
        for one in connections:
            sent.append(time.perf_counter())
            one.sendall(asked[number % len(asked)])
            number += 1
        for one, when in zip(connections, sent, strict=True):
            answer = one.recv(4096)
            while b"}" not in answer:
                answer += one.recv(4096)
            assert b" 200 " in answer[:20], answer
            took.append(time.perf_counter() - when)
    told.send(took)


def load(port: int, asked: list[bytes], seconds: float) -> tuple[float, float, float]:
    """(a second, median, p99) in seconds."""
    pipes, started = [], time.perf_counter()
    for number in range(CLIENTS):
        ours, theirs = Pipe()
        share = asked[number::CLIENTS]
        Process(target=client, args=(port, share, seconds, theirs), daemon=True).start()
        pipes.append(ours)
    took = sorted(t for pipe in pipes for t in pipe.recv())
    spent = time.perf_counter() - started
    return len(took) / spent, took[len(took) // 2], took[int(len(took) * 0.99)]


def main() -> None:
    size = sys.argv[1] if len(sys.argv) > 1 else "middle"
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 4.0
    with tempfile.TemporaryDirectory() as top:
        folder = Path(sys.argv[3]) if len(sys.argv) > 3 else Path(top) / "estate"
        if not folder.exists():
            write(folder, size)
            run_here(folder, "people", "pull")
        compare(size, folder, seconds)


def compare(size: str, folder: Path, seconds: float) -> None:
    """Both servers side by side, loaded in turns; each turn has questions of its own, and the last ones those of the
    first again."""
    asked = questions(folder)
    shares = [asked[number::TURNS] for number in range(TURNS)]
    turns: dict[str, list[tuple[float, float, float]]] = {
        "bare": [],
        "built": [],
        "bare, known": [],
        "built, known": [],
    }
    with bare_server() as bare_port, built_server(folder) as built_port:
        for share in shares:
            turns["bare"].append(load(bare_port, share, seconds))
            turns["built"].append(load(built_port, share, seconds))
        for share in shares[:3]:
            turns["bare, known"].append(load(bare_port, share[:2000], seconds))
            turns["built, known"].append(load(built_port, share[:2000], seconds))
    print(f"{size}: {os.cpu_count()} processors, {CLIENTS} clients with {CONNECTIONS} connections each, {TURNS} turns")
    medians = {name: [statistics.median(column) for column in zip(*some, strict=True)] for name, some in turns.items()}
    for name, (rate, median, worst) in medians.items():
        of = rate / medians[name.replace("built", "bare")][0]
        times = f"median {median * 1e3:6.2f} ms   p99 {worst * 1e3:6.2f} ms"
        print(f"{name:<14} {rate:>8,.0f}/s   {times}   {of:5.2f} of bare")


if __name__ == "__main__":
    main()
