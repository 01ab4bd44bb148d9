"""`regroup`: fewer lines that say the same, carried by groups."""

from __future__ import annotations

from dataclasses import dataclass

import click

from justlane.cli.common.arguments import complete_scopes
from justlane.cli.common.consent import because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.terminal import show
from justlane.engine.changes.remarks import Remark
from justlane.jobs import known
from justlane.model.errors import UsageError
from justlane.model.names import counted

ALL = "all"


@dataclass(frozen=True, kw_only=True)
class RegroupOptions(EditingOptions):
    """What `regroup` is given."""

    platform: str
    take: tuple[str, ...]
    weight_of_line: int
    weight_of_person: int
    gaining: int


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
    writes proposals, each of which stands for itself, as one edit with its effect.

    \b
    Examples:
      justlane regroup planboard
      justlane regroup planboard --take all --because "Groups carry it."

    Ends with 0 if there is nothing to put differently or it is saved, 1 if there is, or it is not saved.
    """
    from justlane.engine.regrouping.proposals import Weights
    from justlane.files.editing.regrouping import put_differently
    from justlane.jobs.regrouping import prove, regrouped, taken

    editing = begun(given)
    name = known.platform_named(editing.index.estate, given.platform)
    weights = Weights(given.weight_of_line, given.weight_of_person)
    found = regrouped(editing.index, name, editing.question, weights, given.gaining)
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
