"""A real system beside the stand-ins of the demo: a Subversion server, where it is installed."""

from __future__ import annotations

import secrets
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from justlane.cli.editing.new import copy_sample
from justlane.files.disk import beneath
from justlane.files.disk.durable import write_atomically, write_secret
from justlane.model.errors import UnreachableError

PEOPLE = ("edda.stroom", "hugo.pike", "noor.sedge", "marit.dyke", "colm.reed", "vik.sorrel")
_PROGRAMS = ("svn", "svnadmin", "svnserve", "svnauthz")
_NAMED = "127.0.0.1:8477"
_PATIENCE_SECONDS = 15


def is_installed() -> bool:
    """Whether there is such a server on this machine."""
    return all(map(shutil.which, _PROGRAMS))


@contextmanager
def running(folder: Path, port: int) -> Iterator[Path]:
    """The sample estate `tidecode` in a folder, with its server as long as this lasts, or this program lives."""
    if not beneath.is_file(folder, "estate.yaml"):
        copy_sample("tidecode", folder, _make_ready)
    text = beneath.read(folder, "source.yaml").decode()
    if _NAMED in text and port != int(_NAMED.partition(":")[2]):
        write_atomically(folder, "source.yaml", text.replace(_NAMED, f"127.0.0.1:{port}").encode())
    server = f"svnserve --foreground -d -r . --listen-host 127.0.0.1 --listen-port {port} & child=$!; cat; kill $child"
    process = subprocess.Popen(
        ["sh", "-c", server],
        cwd=folder / "svn",
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        _await(port)
        yield folder
    finally:
        process.communicate()  # what it reads ends, and so it does


def let_somebody_in(folder: Path) -> None:
    """A line in the server's own file, as somebody in a hurry would write it."""
    rules = beneath.read(folder, "rules").decode()
    write_atomically(folder, "rules", rules.replace("[models:/]\n", "[models:/]\nvik.sorrel = rw\n").encode())


def _make_ready(folder: Path) -> None:
    """A repository with its folders, and passwords."""
    repository = folder / "svn" / "models"
    repository.parent.mkdir()
    subprocess.run(["svnadmin", "create", str(repository)], check=True, capture_output=True)
    words = {login: secrets.token_urlsafe(18) for login in PEOPLE}
    write_secret(folder, "secrets/people", "\n".join(f"{login} {word}" for login, word in words.items()))
    lines = "\n".join(f"{login} = {word}" for login, word in words.items())
    write_secret(folder, "svn/models/conf/passwd", f"[users]\n{lines}")
    general = ("anon-access = none", "auth-access = write", "password-db = passwd", "authz-db = ../../../rules")
    write_atomically(folder, "svn/models/conf/svnserve.conf", "\n".join(("[general]", *general, "")).encode())
    inside = [f"file://{repository.resolve()}/{path}" for path in ("surge/keys", "scratch")]
    command = ["svn", "mkdir", "--quiet", "--parents", "-m", "Begin.", "--config-dir", str(folder / "svn" / "client")]
    subprocess.run([*command, *inside], check=True, capture_output=True)


def _await(port: int) -> None:
    deadline = time.monotonic() + _PATIENCE_SECONDS
    while time.monotonic() < deadline:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.05)
    raise UnreachableError("the Subversion server of the demo did not start", "see whether its port is taken")
