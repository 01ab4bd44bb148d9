"""`compare`: two estates, or two people."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import click

from justlane.cli.common import options
from justlane.cli.common.circumstances import circumstance_options
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import show
from justlane.directories.interface import read_people
from justlane.engine.facts.index import EstateIndex
from justlane.files.reading.folder import holds_root
from justlane.jobs import known
from justlane.jobs.circumstances import question
from justlane.model.circumstances import Circumstances
from justlane.model.errors import UsageError


@dataclass(frozen=True, kw_only=True)
class CompareOptions(Circumstances):
    """What `compare` is given."""

    user: str | None
    scope: str | None
    person: str | None
    other: str | None


@click.command()
@click.argument("before", required=False)
@click.argument("after", required=False)
@options.estate_option
@options.as_of_option
@circumstance_options
@click.option("--user", metavar="USER", help="Only what changes for this user.")
@click.option("--scope", metavar="SCOPE", help="Only at this scope and in what it covers.")
@click.option("--person", metavar="USER", help="Instead of two estates, this person …")
@click.option("--with", "other", metavar="USER", help="… and this one, side by side.")
@options.format_option("text", "json", "csv")
@click.pass_context
@typed(CompareOptions)
def compare(
    ctx: click.Context, /, before: str | None, after: str | None, folder: Path | None, form: str, given: CompareOptions
) -> None:
    """What changes from one estate to another, for whom? Or: what does one person have that another lacks?

    BEFORE and AFTER are folders, or revisions in the git repository that the estate lies in. Without AFTER it is the
    estate as it is now; without BEFORE, what was committed last. Cells gained and lost are counted exactly; people who
    change alike stand together, sensitive actions first.

    With --as-of, BEFORE is the estate as it was then, and two people are compared as they were then.

    \b
    Examples:
      justlane compare main
      justlane compare --as-of 2026-11-01
      justlane compare last-year/saltmarsh saltmarsh --user imke.vos
      justlane compare --person imke.vos --with lotte.marsh

    Ends with 0 if nothing differs and 1 if something does.
    """
    if given.person or given.other:
        _people(ctx, options.open_estate(folder, given.as_of), form, given)
    from justlane.jobs.comparison import Compared, compare_estates

    if given.as_of and before:
        raise UsageError("--as-of and BEFORE cannot both be", "name one of them")
    place = _place(folder, before, after)
    wanted = Compared(before or "", after or "", given.as_of or "", given.user or "", given.scope or "")
    earlier = options.open_estate(folder, given.as_of) if given.as_of else None
    result = compare_estates(place, read_people, wanted, lambda estate, scope: question(estate, given, scope), earlier)
    show("Comparison", result, form)
    ctx.exit(1 if result.groups else 0)


def _place(folder: Path | None, before: str | None, after: str | None) -> Path:
    """The estate that revisions belong to; where both are folders, none is needed."""
    if before and after and holds_root(Path(before)) and holds_root(Path(after)):
        return folder or Path(after)
    return options.folder_of(folder)


def _people(ctx: click.Context, index: EstateIndex, form: str, given: CompareOptions) -> None:
    from justlane.engine.changes.two_people import side_by_side

    estate = index.estate
    if not (given.person and given.other):
        raise UsageError("--person and --with go together", "name two users: --person X --with Y")
    person, other = (known.user(estate, name) for name in (given.person, given.other))
    scope = known.scope(estate, given.scope) if given.scope else None
    result = side_by_side(index, person, other, question(estate, given, scope), scope)
    show("SideBySide", result, form)
    ctx.exit(0 if result.equal else 1)
