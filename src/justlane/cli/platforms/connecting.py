"""`connector`: the kinds of platform there are, and whether one keeps its promises."""

from __future__ import annotations

from pathlib import Path

import click

from justlane.cli import options
from justlane.cli.grouping import OrderedGroup
from justlane.cli.platforms.trusting import ask_person
from justlane.cli.progress import TerminalProgress
from justlane.cli.terminal import show


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
@click.option("--live", metavar="PLATFORM", help="Also on a real platform of the estate; it is left as it was found.")
@options.format_option("text", "json", "csv")
@click.pass_context
def test(
    ctx: click.Context, /, name: str, folder: Path | None, cases: int, seed: int, live: str | None, form: str
) -> None:
    """Does the connector NAME keep its promises? For whoever writes one.

    Estates within its abilities are drawn, and said in its words and back: nobody may gain or lose by it, every grant
    must lead to a line, nonsense in a reading must give nobody anything. With --live, a platform of the estate is read,
    brought into line, refused with an old plan, and taken back to what it held.

    \b
    Examples:
      justlane connector test postgresql
      justlane connector test subversion --live source

    Ends with 0 if it keeps all, 1 if it breaks one.
    """
    from justlane.platforms.interface import connect, kind_of
    from justlane.platforms.promises import conformance

    dialect = kind_of(name).DIALECT
    progress = TerminalProgress()
    found = conformance.tested(name, dialect, cases, seed, progress)
    if live:
        index = options.indexed(folder)
        platform = index.estate.platforms[options.known_platform(index.estate, live)]
        opened = connect(platform, options.folder_of(folder), ask_person)
        try:
            found = (*found, *conformance.tested_live(index, live, opened))
        finally:
            opened.close()
    result = conformance.Conformance(name, cases, seed, found)
    show("Conformance", result, form)
    ctx.exit(0 if result.kept else 1)
