"""`connector`: the kinds of platform there are, and whether one keeps its promises."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from justlane.cli.common import options
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.permission import ask_person
from justlane.cli.common.progress import TerminalProgress
from justlane.cli.common.terminal import look, say, show
from justlane.cli.platforms.align import consented
from justlane.jobs import known
from justlane.reports.interface import present

if TYPE_CHECKING:
    from justlane.platforms.alignment.plan import Plan
    from justlane.platforms.promises.conformance import Promise


@click.group(cls=OrderedGroup)
def connector() -> None:
    """The kinds of platform that can be read, changed and tried: those that ship, and those of other packages."""


@connector.command("list", short_help="All of them, and what each can express.")
@options.format_option("text", "json", "csv")
def list_(form: str) -> None:
    """All kinds of connector, where each comes from, and what a platform of its kind can express.

    \b
    Example:
      justlane connector list

    Ends with 0.
    """
    from justlane.platforms.interface import known_connectors
    from justlane.reports.platforms.connectors import Connectors

    show("Connectors", Connectors(known_connectors()), form)


@connector.command(short_help="Does a connector keep its promises?")
@click.argument("name")
@options.estate_option
@click.option("--cases", type=click.IntRange(1), default=100, show_default=True, help="So many drawn estates.")
@click.option("--seed", type=click.IntRange(0), default=1, show_default=True, help="What draws them.")
@click.option("--live", metavar="PLATFORM", help="Also on a real platform, in a corner that is made and taken away.")
@click.option("--yes", is_flag=True, help="With --live, do not ask: make what is tried there.")
@options.format_option("text", "json", "csv")
@click.pass_context
def test(
    ctx: click.Context, /, name: str, folder: Path | None, cases: int, seed: int, live: str | None, yes: bool, form: str
) -> None:
    """Does the connector NAME keep its promises? For whoever writes one.

    Estates within its abilities are drawn, and said in its words and back: nobody may gain or lose by it, every grant
    must lead to a line, nonsense in a reading must give nobody anything; align, drift, undo and probe are rehearsed in
    memory. With --live, a corner of its own is made on a platform of the estate (a schema, a path, a folder), and what
    is declared there made, refused with an old plan, and taken back: shown before, with consent, in the journal.
    Nothing else on the platform is touched.

    \b
    Examples:
      justlane connector test postgresql
      justlane connector test subversion --live source

    Ends with 0 if it keeps all, 1 if it breaks one.
    """
    from justlane.platforms.interface import kind_of
    from justlane.platforms.promises import conformance

    dialect = kind_of(name).DIALECT
    progress = TerminalProgress()
    found = conformance.test_dialect(name, dialect, cases, seed, progress, _presented)
    if live:
        found = (*found, *_tested_live(folder, live, yes=yes))
    result = conformance.Conformance(name, cases, seed, found)
    show("Conformance", result, form)
    ctx.exit(0 if result.kept else 1)


def _presented(kind: str, result: object) -> None:
    """Made into text, JSON and CSV, as the commands do; nothing of it is shown."""
    from justlane.reports.text.look import Look

    for form in ("text", "json", "csv"):
        present(kind, result, form, Look(80, lambda text, style: text))


def _tested_live(folder: Path | None, live: str, *, yes: bool) -> tuple[Promise, ...]:
    from justlane.platforms.interface import connect
    from justlane.platforms.promises.live import tested_live

    index, place = options.open_estate(folder), options.folder_of(folder)
    platform = index.estate.platforms[known.platform_named(index.estate, live)]

    def consent(planned: Plan) -> bool:
        say(present("Plan", planned, "text", look(err=True)).rstrip())
        return yes or consented(len(planned.steps))

    opened = connect(platform, place, ask_person)
    try:
        return tested_live(index, live, opened, place, consent)
    finally:
        opened.close()
