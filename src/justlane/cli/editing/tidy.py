"""`tidy`: the fewest lines that say the same."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import click

from justlane.cli.common.arguments import complete_scopes
from justlane.cli.common.consent import because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.progress import TerminalProgress
from justlane.cli.common.terminal import say
from justlane.engine.changes.remarks import Remark
from justlane.engine.redundancy.fewest import Fewest, fewest_of
from justlane.engine.redundancy.parts import LinePart
from justlane.engine.redundancy.spare import mark_of
from justlane.files.editing.carried_out import carry_out
from justlane.jobs import known
from justlane.model.bindings import Binding
from justlane.model.edits import Withdraw, names_in
from justlane.model.names import counted


@dataclass(frozen=True, kw_only=True)
class TidyOptions(EditingOptions):
    """What `tidy` is given."""

    platforms: tuple[str, ...]


@click.command()
@click.argument("platforms", nargs=-1, metavar="[PLATFORM]...", shell_complete=complete_scopes)
@because_option
@editing_options
@click.pass_context
@typed(TidyOptions)
def tidy(ctx: click.Context, /, given: TidyOptions) -> None:
    """The fewest lines that say the same: what can all go at once, without changing anything for anybody.

    Computed for every line, in all circumstances, today and on each later day on which something begins or ends. Where
    lines only give, no choice is larger (an integer program); elsewhere none of those left can go any more. The estate
    after it is compared with the estate as it is, before anything is saved.

    \b
    Examples:
      justlane tidy --dry-run
      justlane tidy fieldnet --because "Nobody needs these any more."

    Ends with 0 if it is saved or nothing can go, 1 if it is not saved.
    """
    editing = begun(given)
    index = editing.index
    names = [known.platform_named(index.estate, name) for name in given.platforms] or list(index.estate.platforms)
    progress = TerminalProgress()
    try:
        found = fewest_of(index, names, editing.question, progress)
    finally:
        progress.stop()
    going = _together([part for one in found for part in one.going])
    for one in found:
        say(_told(one))
    carry_out(editing.draft, index, [Withdraw(bindings) for bindings in going])
    remarks = [Remark("not-needed", f"{LinePart(some)} changes nothing", some[0].source) for some in going]
    reason = given.because.strip() or "The lines that are left say the same."
    about = tuple(dict.fromkeys(name for some in going for name in names_in(Withdraw(some))))
    settle(ctx, editing, reason=reason, names=about, about=lambda after: remarks, harmless=True)


def _told(one: Fewest) -> str:
    if not one.going:
        return f"{one.platform}: none of {counted(one.lines, 'line')} can go"
    proof = "no choice is larger" if one.proven else "none of the others can go any more"
    return f"{one.platform}: {len(one.going):,} of {counted(one.lines, 'line')} can go, and {proof}"


def _together(parts: Sequence[LinePart]) -> list[tuple[Binding, ...]]:
    """What is taken out: of a bundle what it gives on all its platforms."""
    found: dict[object, list[Binding]] = {}
    for part in parts:
        found.setdefault(mark_of(part), []).extend(part.bindings)
    return [tuple(some) for some in found.values()]
