"""`report`: the whole estate as one page."""

from __future__ import annotations

import json
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

import click

from justlane.cli.common import options
from justlane.cli.common.progress import TerminalProgress
from justlane.cli.questions.chart import write_file
from justlane.directories.interface import read_people
from justlane.jobs.circumstances import now
from justlane.model.errors import EstateError, UsageError

if TYPE_CHECKING:
    from justlane.engine.changes.comparison import Comparison
    from justlane.engine.facts.index import EstateIndex
    from justlane.reports.page.gathered import Probed

_MOST_BYTES = 64 << 20


@click.command()
@click.argument("file", default="estate.html", type=click.Path(path_type=Path))
@click.option("--since", metavar="REVISION", help="Show what changed since a revision in git, or another folder.")
@click.option(
    "--probe", "probes", multiple=True, type=click.Path(path_type=Path), metavar="FILE",
    help="A result of `probe --format json`; several times.",
)  # fmt: skip
@options.estate_option
def report(file: Path, since: str | None, probes: tuple[Path, ...], folder: Path | None) -> None:
    """Write the whole estate as one page, estate.html or FILE, for whoever looks after it or takes it over.

    At a glance, findings, each platform's habits in words, people (to be looked up), roles, grants, places as a tree,
    what was verified and tried, what changed since. One file that asks for nothing from outside: it opens from disk,
    works with the keyboard alone, in the light and in the dark, and prints.

    \b
    Examples:
      justlane report
      justlane report saltmarsh.html --since main --probe buildyard.json

    Ends with 0.
    """
    from justlane.engine.questions.expectations import verify
    from justlane.files.opening.cache import keep
    from justlane.files.opening.load import load
    from justlane.jobs.findings import find_flaws
    from justlane.reports.page.gathered import ReportPage
    from justlane.reports.page.written import page

    place = options.folder_of(folder)
    loaded = load(place, read_people)
    if loaded.estate is None:
        raise EstateError(list(loaded.findings))
    keep(place, loaded)
    tried = tuple(_probed(path) for path in probes)
    index = loaded.ready
    changes = _changes(place, since, index) if since else None
    found = ReportPage(
        index,
        now(),
        find_flaws(place, loaded, read_people, (), "", TerminalProgress()),
        verify(index, now()),
        tried,
        changes,
    )
    write_file(file, page(found))


def _probed(path: Path) -> Probed:
    from justlane.files.disk.beneath import read_typed
    from justlane.reports.page.gathered import probed

    try:
        content = read_typed(path, _MOST_BYTES)
    except OSError as error:
        raise UsageError(f"--probe: {path} cannot be read: {error.strerror}", "name a result of probe") from error
    try:
        return probed(json.loads(content if len(content) <= _MOST_BYTES else b""))
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        hint = "write one with: justlane probe PLATFORM --format json"
        raise UsageError(f"--probe: {path} is no result of probe", hint) from error


def _changes(place: Path, revision: str, index: EstateIndex) -> Comparison:
    from justlane.engine.changes.comparison import Side, compare
    from justlane.engine.decision.judge import Question
    from justlane.files.history.revisions import folder_named
    from justlane.files.opening.index import open_index

    with ExitStack() as written:
        folder = written.enter_context(folder_named(revision, place))
        pulled_in = None if Path(revision).exists() else place
        before = open_index(folder, read_people, pulled_in)
        return compare(Side(revision, before), Side("now", index), Question(now()))
