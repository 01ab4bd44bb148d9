"""`check` and `verify`: is the estate sound, and does it say what was meant?"""

from __future__ import annotations

from pathlib import Path

import click

from justlane.cli import options
from justlane.cli.circumstances import now
from justlane.cli.terminal import show, tell
from justlane.directories.interface import read_people
from justlane.model.findings import Severity
from justlane.model.names import counted


def _about(ctx: click.Context, param: click.Parameter, name: str | None) -> None:
    """Show one rule's page and stop."""
    if name is None or ctx.resilient_parsing:
        return
    from justlane.rules.interface import rule

    tell((rule(name).__doc__ or "").strip())
    ctx.exit(0)


def _rules() -> list[str]:
    from justlane.rules.interface import RULES

    return list(RULES)


@click.command()
@options.estate_option
@options.format_option("text", "json", "csv")
@click.option(
    "--about",
    type=click.Choice(_rules()),
    metavar="RULE",
    callback=_about,
    is_eager=True,
    expose_value=False,
    help="Show the page of one rule, with what passes and what fails.",
)
@click.pass_context
def check(ctx: click.Context, folder: Path | None, form: str) -> None:
    """Is the estate sound: files, names, references?

    Reports everything that is wrong in one run, with file, line and column, what was found and expected, and the
    nearest valid name.

    \b
    Example:
      justlane check --estate saltmarsh

    Ends with 0 if it is sound, 1 if there are warnings only, 2 if there is an error.
    """
    from justlane.files.keeping.cache import keep
    from justlane.files.loading import load
    from justlane.reports.findings import Findings
    from justlane.rules.interface import warnings

    place = options.folder_of(folder)
    loaded = load(place, read_people)
    keep(place, loaded)
    if loaded.estate is None:
        later = "" if loaded.names_checked else "what the files name is checked when all of them can be read"
        result = Findings(place.resolve().name, loaded.findings, later, complete=False)
    else:
        estate = loaded.estate
        scopes = sum(len(p.scopes) for p in estate.platforms.values())
        sizes = {
            "file": len(loaded.digests),
            "platform": len(estate.platforms),
            "user": len(estate.directory.users),
            "group": len(estate.directory.groups),
            "scope": scopes,
            "binding": len(estate.bindings),
        }
        told = ", ".join(counted(size, what) for what, size in sizes.items())
        result = Findings(estate.name, tuple(warnings(loaded.ready)), told)
    show("Findings", result, form)
    ctx.exit(2 if result.count(Severity.ERROR) or not result.complete else 1 if result.findings else 0)


@click.command()
@options.estate_option
@options.format_option("text", "json", "csv", "junit")
@click.pass_context
def verify(ctx: click.Context, folder: Path | None, form: str) -> None:
    """Do the estate's expectations hold?

    Each one that fails is shown with the facts that break it and the lines behind them.

    \b
    Example:
      justlane verify --format junit > verify.xml

    Ends with 0 if all hold and 1 if one fails.
    """
    from justlane.engine.questions.expectations import verify as verified

    verdicts = verified(options.indexed(folder), now())
    show("Verdicts", verdicts, form)
    ctx.exit(0 if all(v.holds for v in verdicts) else 1)
