"""`regroup`: fewer lines that say the same, carried by groups."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from justlane.cli.common import options
from justlane.cli.common.arguments import complete_scopes
from justlane.cli.common.consent import because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.terminal import say, show
from justlane.engine.changes.remarks import Remark
from justlane.jobs import known
from justlane.model.errors import UsageError
from justlane.model.names import counted

if TYPE_CHECKING:
    from justlane.engine.facts.index import EstateIndex
    from justlane.engine.regrouping.proposals import Regrouped

ALL = "all"


@dataclass(frozen=True, kw_only=True)
class RegroupOptions(EditingOptions):
    """What `regroup` is given."""

    platform: str
    take: tuple[str, ...]
    weight_of_line: int
    weight_of_person: int
    gaining: int
    new_groups: Path | None
    under: str
    people_under: str


@click.command()
@click.argument("platform", shell_complete=complete_scopes)
@click.option("--take", multiple=True, metavar="NUMBER", help="Write this proposal, as an edit; `all` for all of them.")
@click.option(
    "--weight-of-line", type=click.IntRange(1, 1000), default=1, show_default=True, help="What a line weighs."
)
@click.option(
    "--weight-of-person", type=click.IntRange(0, 1000), default=1, show_default=True, metavar="INTEGER RANGE",
    help="What a line weighs besides that names a person.",
)  # fmt: skip
@click.option(
    "--gaining", type=click.IntRange(0, 10_000), default=0, show_default=True, metavar="CELLS",
    help="A new line may give so many cells more than there are, none of them sensitive.",
)  # fmt: skip
@click.option(
    "--new-groups", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
    help="Write the new groups that might be asked for: .ldif (change records), .json (SCIM) or .csv.",
)  # fmt: skip
@click.option("--under", default="", metavar="DN", help="Below which entry groups are, for an LDIF file.")
@click.option("--people-under", default="", metavar="DN", help="Below which entry people are, for an LDIF file.")
@because_option
@editing_options
@click.pass_context
@typed(RegroupOptions)
def regroup(ctx: click.Context, /, given: RegroupOptions) -> None:
    """Which fewer lines, carried by groups, say exactly what the lines of PLATFORM say?

    Looks for the least weight of lines, to groups with all their nested members, at any place, with any role that there
    is, from which every answer follows as before, in all circumstances and on all days, and says below which no choice
    comes. Lines with conditions, bundles, patterns, denies, and what is built in stay as they are. What is left to
    persons is listed, whoever has most of it first, and what a new group would save. With --gaining a new line may also
    give a few people a few cells that they do not have, which is said of each; nobody ever loses anything. --take
    writes proposals, each of which stands for itself, as one edit with its effect; --new-groups writes a file with the
    groups that would save most, named after what their members have in common, for the directory's owners.

    \b
    Examples:
      justlane regroup planboard
      justlane regroup planboard --take all --because "Groups carry it."
      justlane regroup planboard --new-groups asked-for.csv

    Ends with 0 if there is nothing to put differently or it is saved, 1 if there is, or it is not saved.
    """
    from justlane.engine.regrouping.proposals import Weights
    from justlane.files.editing.regrouping import put_differently
    from justlane.jobs.regrouping import prove, regrouped, taken

    editing = begun(given)
    name = known.platform_named(editing.index.estate, given.platform)
    weights = Weights(given.weight_of_line, given.weight_of_person)
    found = regrouped(editing.index, name, editing.question, weights, given.gaining)
    if given.new_groups:
        _ask_for(given, found, editing.index)
    if not given.take:
        prove(editing.index, name, editing.question, found.proposals)
        show("Regrouped", found, given.form)
        ctx.exit(1 if found.proposals else 0)
    wanted = taken(found, _numbers(given.take))
    put_differently(editing.draft, editing.index, wanted)
    going, new = sum(len(one.going) for one in wanted), sum(len(one.give) for one in wanted)
    gained = any(one.gaining for one in wanted)
    if gained:  # otherwise the edit itself is compared, and refused if anybody gains or loses anything by it
        prove(editing.index, name, editing.question, wanted)
    what = "nobody loses anything" if gained else "nobody gains or loses anything"
    told = Remark("says-the-same", f"{counted(new, 'line')} in the place of {going:,}, and {what}")
    reason = given.because.strip() or "Groups carry what was given to each alone."
    settle(ctx, editing, reason=reason, names=(name,), about=lambda after: [told], harmless=not gained)


def _ask_for(given: RegroupOptions, found: Regrouped, index: EstateIndex) -> None:
    """Write a file with the new groups, for the directory's owners."""
    from justlane.files.disk.durable import write_atomically
    from justlane.reports.surveys.new_groups import FORMS, Asked

    assert given.new_groups is not None
    form = FORMS.get(given.new_groups.suffix.lower())
    if form is None:
        message = f"--new-groups: found {given.new_groups}, expected a name that ends in {', '.join(FORMS)}"
        raise UsageError(message, "name it so: what is written depends on that")
    asked = Asked(found.new_groups, index.estate.directory.users, given.under, given.people_under)
    write_atomically(*options.top_and_name(given.new_groups), form(asked).encode())
    groups = counted(len(found.new_groups), "new group")
    say(f"{given.new_groups}: {groups}; `people pull` reads them once they are there")


def _numbers(take: tuple[str, ...]) -> list[int]:
    """The numbers of proposals; none for all."""
    if ALL in take:
        return []
    for word in take:
        if not (word.isascii() and word.isdecimal()):
            raise UsageError(
                f"--take: found {word!r}, expected the number of a proposal, or `{ALL}`", "see them without --take"
            )
    return [int(word) for word in take]
