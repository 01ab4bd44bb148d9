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

from justlane.cli.common.terminal import look, say, tell, write
from justlane.cli.editing.new import copy_sample
from justlane.cli.platforms import demo_server
from justlane.cli.platforms.demo_chapters import (
    AND_MORE,
    BUOY,
    GROWN,
    HIDDEN,
    MATCHING,
    MINUTE,
    NEXT,
    PLATFORMS,
    TAKING_OVER,
    WALK,
    Shown,
)
from justlane.cli.platforms.demo_commands import beside, load_all, quietly, shown
from justlane.files.disk import beneath
from justlane.files.disk.durable import write_atomically, write_secret
from justlane.files.reading.folder import ROOT
from justlane.model.errors import UnreachableError
from justlane.model.shell import spelt
from justlane.reports.text.lines import line, render

_MATCHING = next(n for n, (_, commands) in enumerate(WALK, 1) if commands == MATCHING)
"""The chapter that makes the platforms match; those after it rely on that."""
_GROWN_FROM, _HIDDEN_FROM = 3, 4
"""Which part of the short show needs the grown platform taken over, and which the hidden grant."""


@click.command()
@click.argument("folder", type=click.Path(path_type=Path), default=Path("saltmarsh"))
@click.option("--all", "whole", is_flag=True, help="Walk through the whole job, chapter by chapter.")
@click.option(
    "--chapter",
    "chapters",
    multiple=True,
    type=click.IntRange(1, len(WALK) + 1),
    help="This chapter of the walk alone.",
)
@click.option("--write-only", is_flag=True, help="Write the estate, and show nothing.")
def demo(folder: Path, whole: bool, chapters: tuple[int, ...], write_only: bool) -> None:
    """Write the sample estate into FOLDER (./saltmarsh unless named), and show in a minute what it is good for.

    With --all it walks through the whole job, with --chapter through a part of it. Starts stand-in platforms on this
    machine for as long as it lasts, and leaves nothing running.

    \b
    Examples:
      justlane demo
      justlane demo --all
      justlane demo --chapter 12 --chapter 15
    """
    if _is_sample(folder):
        say(f"{folder} holds the sample estate already")
    else:
        copy_sample("saltmarsh", folder, _make_ready)
    if write_only:
        return
    _take_free_ports(folder)
    load_all()
    if whole or chapters:
        _walk(folder, chapters or tuple(range(1, len(WALK) + 2)))
    else:
        _show_in_a_minute(folder)
    tell("\n" + (NEXT if whole else AND_MORE).format(folder=folder, buoy=BUOY).rstrip())


def _walk(folder: Path, chapters: Sequence[int]) -> None:
    """Chapters of the whole walk, in their order."""
    with ExitStack() as running:
        processes = {name: running.enter_context(_standing_in(name, folder)) for name in PLATFORMS}
        for name, process in processes.items():
            _await(name, folder, process)
        if min(chapters) > _MATCHING and not _match(folder):
            say("first, the six platforms are made to match, as chapter 11 shows")
            for words in MATCHING:
                quietly(words, folder).done()
        for number, (heading, commands) in enumerate(WALK, 1):
            if number in chapters:
                _tell_heading(number, heading)
                _show(commands, folder)
    if len(WALK) + 1 in chapters:
        _show_a_real_system(folder / "tidecode", len(WALK) + 1)


def _match(folder: Path) -> bool:
    return all(beneath.is_file(folder, f"journal/{name}.jsonl") for name in PLATFORMS)


def _tell_heading(number: int, heading: str) -> None:
    tell()
    write(render([line((f"{number}. {heading}", "head"), hanging="   ")], look()))


def _show_in_a_minute(folder: Path) -> None:
    """What is special, on one screen; what is needed for it goes on beside it."""
    grown = beside(lambda: _take_grown_over(folder / GROWN))
    with _standing_in("buildyard", folder) as process:
        _await("buildyard", folder, process)
        hidden = beside(lambda: _hide_a_grant(folder))
        needed = {_GROWN_FROM: grown, _HIDDEN_FROM: hidden}
        for number, (heading, commands) in enumerate(MINUTE, 1):
            _tell_heading(number, heading)
            if number in needed:
                needed.pop(number).done()
            for one in commands:
                _tell_kept(one, folder / one.estate)


def _take_grown_over(folder: Path) -> None:
    if not beneath.is_file(folder, ROOT):
        copy_sample("tideboard", folder)
        for words in TAKING_OVER:
            quietly(words, folder).done()


def _hide_a_grant(folder: Path) -> None:
    for words in (["align", "buildyard", "--yes", "--because", "first set-up"], list(HIDDEN)):
        quietly(words, folder).done()


def _tell_kept(one: Shown, folder: Path) -> None:
    """A command and what it says, or those of its lines that are shown."""
    said = quietly(one.words, folder).done().splitlines()
    kept = [row for row in said if not one.kept or row.startswith(one.kept)]
    part = f"   ({len(kept)} of its {len(said)} lines)" if one.kept else ""
    write(render([line((f"$ {spelt(*one.words)}", "name"), (part, "dim"), hanging="    ")], look()))
    for row in kept:
        tell(row)


def _show_a_real_system(folder: Path, number: int) -> None:
    """The same on a server that others wrote, if it is installed."""
    _tell_heading(number, "A real system: path rules of a Subversion server, proved by checkouts and commits")
    if not demo_server.is_installed():
        tell("\nSubversion is not installed here, so this is left out: apt-get install subversion shows it.")
        return
    with demo_server.running(folder, _free_port(8477)):
        _show([["align", "source", "--yes", "--because", "first set-up"], ["probe", "source", "--thorough"]], folder)
        tell("\nNow somebody writes `vik.sorrel = rw` into the server's own file:")
        demo_server.let_somebody_in(folder)
        again = ["align", "source", "--yes", "--because", "nobody asked for it"]
        _show([["drift", "source"], ["probe", "source"], again, ["probe", "source"]], folder)


def _command(words: Sequence[str]) -> str:
    return look().paint(f"$ {spelt(*words)}", "name")


def _show(commands: Sequence[Sequence[str]], folder: Path) -> None:
    """Some commands, each as it would be typed."""
    for command in commands:
        tell(f"\n{_command(command)}")
        shown(command, folder)


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


@contextmanager
def _standing_in(name: str, folder: Path) -> Iterator[subprocess.Popen[bytes]]:
    """A stand-in that runs inside the `with` and not a moment longer."""
    process = subprocess.Popen(
        [sys.executable, "-m", "justlane", "standin", name, "--while-open", "--estate", str(folder.resolve())],
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
