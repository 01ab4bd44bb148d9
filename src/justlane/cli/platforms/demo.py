"""`demo`: the sample estate, and a walk through the whole job with real commands."""

from __future__ import annotations

import re
import secrets
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from importlib.resources import files
from pathlib import Path
from urllib.error import URLError
from urllib.request import urlopen

import click

from justlane.cli.common.terminal import look, say, tell
from justlane.cli.editing.new import copy_sample
from justlane.cli.platforms import demo_server
from justlane.files.disk import beneath
from justlane.files.disk.durable import write_atomically, write_secret
from justlane.files.reading.folder import ROOT
from justlane.model.errors import OutsideError, UnreachableError
from justlane.model.shell import spelt

PLATFORMS = {
    "fieldnet": "8471",
    "buildyard": "8472",
    "planboard": "8473",
    "sourcebank": "8474",
    "quayside": "8475",
    "siltstore": "8476",
}
"""The platforms of the sample estate that have a stand-in, with the port in its files."""

_BUOY = "fieldnet/north/harbour/nb-07"

WALK: list[tuple[str, list[list[str]]]] = [
    ("Read the directory and check the estate: what is wrong, and what follows from it", [["check"]]),
    ("What could go without changing anything for anybody", [["tidy", "--dry-run"]]),
    (
        "May Lotte, of the northern crew, read the log of a buoy in the south? Yes, and why",
        [["ask", "lotte.marsh", "read-log", "fieldnet/south/bar/sb-11"]],
    ),
    (
        "May Joost, of the southern crew, restart one in the north? No, and what would change it",
        [["ask", "joost.baan", "restart-station", _BUOY]],
    ),
    (
        "The same for Joost himself, to be pasted into his ticket",
        [["ask", "joost.baan", "restart-station", _BUOY, "--for-user"]],
    ),
    ("Everybody beside everything, at a glance", [["glance", "--groups"]]),
    ("All that the contractor Vik reaches", [["reach", "vik.sorrel"]]),
    ("Everyone who may choose the harbour's crew", [["holders", "manage-crew", "fieldnet/north/harbour"]]),
    (
        "May Yara correct the archive? Only if; in one situation it is a no",
        [
            ["ask", "yara.flint", "correct-series", "siltstore/checked/buoys"],
            ["ask", "yara.flint", "correct-series", "siltstore/checked/buoys", "--situation", "on-the-boat"],
        ],
    ),
    ("Does everything hold that we expect of this estate?", [["verify"]]),
    (
        "Make six platforms match what is declared, each with habits of its own",
        [["align", name, "--yes", "--because", "first set-up"] for name in PLATFORMS],
    ),
    ("Prove it: ask and try, as every person", [["probe", name, "--everyone"] for name in PLATFORMS]),
    ("The whole estate as one page, for whoever takes it over: estate.html", [["report", "estate.html"]]),
    (
        "A role made from another one, without what is not meant; given at a resource group, proved, and taken back",
        [
            ["role", "compare", "station-keeper", "log-reader"],
            ["role", "copy", "station-keeper", "night-keeper", "--for", "Keeps stations alive at night.", "--yes"],
            ["role", "except", "night-keeper", "update-firmware", "--yes"],
            [
                "give",
                "night-keeper",
                "--to",
                "group contractors",
                "--at",
                "fieldnet/storm-watch",
                "--because",
                "In a storm the contractors keep watch too.",
                "--yes",
            ],
            ["align", "fieldnet", "--yes", "--because", "storm season"],
            ["probe", "fieldnet"],
            *[["undo", "--yes"]] * 3,
            ["align", "fieldnet", "--yes", "--because", "the storm is over"],
        ],
    ),
    (
        "Somebody makes a grant by hand, behind our back. Probing finds what it gives, aligning mends it",
        [
            ["meddle", "buildyard", "grant", "tamsin.quill", "release-publisher", "buildyard/release"],
            ["probe", "buildyard", "--everyone"],
            ["align", "buildyard", "--yes", "--because", "nobody asked for it"],
            ["probe", "buildyard", "--everyone"],
        ],
    ),
]
"""What the demo shows: a heading, and the commands under it."""

_NEXT = """\
The estate stays in {folder}. Try next:

  cd {folder}
  justlane reach imke.vos fieldnet/north      what one person may do
  justlane holders update-firmware {buoy}
  justlane ask petra.loam run-pipeline buildyard/forecast/nightly
  justlane people show hedda.crane            whose account is disabled, but who is still bound
  justlane people pull                        keep who there is; after a change pull again, then
  justlane people changes                     who moved, and what access that gave or took
  justlane standin fieldnet &                 start a platform again, then
  justlane meddle fieldnet stale-role station-watcher silence-alarm
  justlane probe fieldnet --everyone          find what reading alone cannot see
  justlane suggest joost.baan restart-station {buoy}
  justlane give log-reader --to auditors --at fieldnet/inland --because "They asked." --dry-run
  justlane journal show                       what was edited in this walk, and taken back
  justlane check --fix                        mend what an edit can mend
  justlane chart flow fieldnet --picture flow.png
  justlane review out to-the-owners           a workbook for each owner of places and roles
"""


@click.command()
@click.argument("folder", type=click.Path(path_type=Path), default=Path("saltmarsh"))
def demo(folder: Path) -> None:
    """Write the sample estate into FOLDER (./saltmarsh unless named) and walk through the whole job.

    Starts six stand-in platforms on this machine for as long as it lasts, and leaves nothing running.

    \b
    Example:
      justlane demo
    """
    if _is_sample(folder):
        say(f"{folder} holds the sample estate already: walking through it again")
    else:
        copy_sample("saltmarsh", folder, _make_ready)
    _take_free_ports(folder)
    painter = look().paint
    with ExitStack() as running:
        processes = {name: running.enter_context(_standing_in(name, folder)) for name in PLATFORMS}
        for name, process in processes.items():
            _await(name, folder, process)
        for number, (heading, commands) in enumerate(WALK, 1):
            tell(f"\n{painter(f'{number}. {heading}', 'head')}")
            _show(commands, folder)
    _show_a_real_system(folder / "tidecode", len(WALK) + 1)
    tell("\n" + _NEXT.format(folder=folder, buoy=_BUOY).rstrip())


def _show_a_real_system(folder: Path, number: int) -> None:
    """The same on a server that others wrote, if it is installed."""
    heading = "A real system: path rules of a Subversion server, proved by checkouts and commits"
    tell(f"\n{look().paint(f'{number}. {heading}', 'head')}")
    if not demo_server.is_installed():
        tell("\nSubversion is not installed here, so this is left out: apt-get install subversion shows it.")
        return
    with demo_server.running(folder, _free_port(8477)):
        _show([["align", "source", "--yes", "--because", "first set-up"], ["probe", "source", "--thorough"]], folder)
        tell("\nNow somebody writes `vik.sorrel = rw` into the server's own file:")
        demo_server.let_somebody_in(folder)
        again = ["align", "source", "--yes", "--because", "nobody asked for it"]
        _show([["drift", "source"], ["probe", "source"], again, ["probe", "source"]], folder)


def _show(commands: Sequence[Sequence[str]], folder: Path) -> None:
    """Some commands, each as it would be typed."""
    for command in commands:
        tell(f"\n{look().paint(f'$ {spelt(*command)}', 'name')}")
        _run(command, folder)


def _is_sample(folder: Path) -> bool:
    """Whether a folder holds the sample estate with all that belongs to it, from an earlier run."""
    try:
        there = beneath.read(folder, ROOT) == (files("justlane.demo") / "saltmarsh" / ROOT).read_bytes()
        return there and all(beneath.is_file(folder, f"secrets/{name}.token") for name in PLATFORMS)
    except OSError:
        return False


def _make_ready(folder: Path) -> None:
    """A token for each platform."""
    for name in PLATFORMS:
        write_secret(folder, f"secrets/{name}.token", secrets.token_urlsafe(24))


def _take_free_ports(folder: Path) -> None:
    """Let each platform's file name a port that is free today."""
    for name in PLATFORMS:
        file = f"platforms/{name}.yaml"
        text = beneath.read(folder, file).decode()
        named = re.search(r"127\.0\.0\.1:(\d{1,5})", text)
        port = _free_port(int(named.group(1))) if named else 0
        if named and port != int(named.group(1)):
            write_atomically(folder, file, text.replace(named.group(), f"127.0.0.1:{port}").encode())


def _free_port(wanted: int) -> int:
    """The port that the sample names if it is free, another one otherwise."""
    for port in (wanted, 0):
        with socket.socket() as probe:
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise UnreachableError("no port of this machine is free", "close something, then try again")


def _arguments(command: Sequence[str], folder: Path) -> list[str]:
    """A command of the walk, which is read as a whole: no pager waits for somebody in it."""
    return [sys.executable, "-m", "justlane", "--pager", "never", *command, "--estate", str(folder.resolve())]


@contextmanager
def _standing_in(name: str, folder: Path) -> Iterator[subprocess.Popen[bytes]]:
    """A stand-in that runs inside the `with` and not a moment longer."""
    process = subprocess.Popen(
        _arguments(["standin", name, "--while-open"], folder),
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        start_new_session=True,
    )
    try:
        yield process
    finally:
        process.terminate()
        process.communicate()


def _await(name: str, folder: Path, process: subprocess.Popen[bytes], patience_seconds: float = 15) -> None:
    """Wait until the stand-in answers."""
    from justlane.cli.common.options import open_estate

    connection = open_estate(folder).estate.platforms[name].connection
    assert connection is not None
    deadline = time.monotonic() + patience_seconds
    while time.monotonic() < deadline and process.poll() is None:
        try:
            with urlopen(f"{connection.url}/.well-known/authzen-configuration", timeout=1):
                return
        except (URLError, OSError):
            time.sleep(0.05)
    said = process.stderr.read().decode() if process.poll() is not None and process.stderr else ""
    raise UnreachableError(f"the stand-in for {name} did not start: {said.strip()}", "see whether its port is taken")


def _run(command: Sequence[str], folder: Path) -> None:
    """One command of the walk, its output where ours goes. A no or a difference is part of the show."""
    sys.stdout.flush()
    code = subprocess.run(_arguments(command, folder), cwd=folder, check=False).returncode
    if code not in (0, 1):
        raise OutsideError(f"`{spelt(*command)}` ended with {code}", "see its message above")
