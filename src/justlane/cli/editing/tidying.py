"""`tidy`: the fewest lines that say the same."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import click

from justlane.cli import options
from justlane.cli.arguments import complete_scopes
from justlane.cli.editing.settling import because_option, begun, editing_options, settle
from justlane.cli.progress import TerminalProgress
from justlane.cli.terminal import say
from justlane.engine.changes.remarks import Remark
from justlane.engine.facts.index import EstateIndex
from justlane.engine.redundancy.fewest import Fewest, fewest
from justlane.engine.redundancy.parts import Part
from justlane.files.editing.carrying import carry_out
from justlane.model.bindings import Binding
from justlane.model.edits import Withdraw
from justlane.model.names import counted


@click.command()
@click.argument("platforms", nargs=-1, metavar="[PLATFORM]...", shell_complete=complete_scopes)
@because_option
@editing_options
@click.pass_context
def tidy(ctx: click.Context, /, **given: Any) -> None:
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
    names = [options.known_platform(index.estate, name) for name in given["platforms"]] or list(index.estate.platforms)
    progress = TerminalProgress()
    try:
        found = [fewest(index, name, editing.question, progress) for name in names]
    finally:
        progress.stop()
    going = _whole([part for one in found for part in one.going], index)
    for one in found:
        say(_told(one))
    carry_out(editing.draft, index, [Withdraw(bindings) for bindings in going])
    remarks = [Remark("not-needed", f"{Part(some)} changes nothing", some[0].source) for some in going]
    reason = given["because"].strip() or "The lines that are left say the same."
    settle(ctx, editing, reason=reason, about=lambda after: remarks, harmless=True)


def _told(one: Fewest) -> str:
    if not one.going:
        return f"{one.platform}: none of {counted(one.lines, 'line')} can go"
    proof = "no choice is larger" if one.proven else "none of the others can go any more"
    return f"{one.platform}: {len(one.going):,} of {counted(one.lines, 'line')} can go, and {proof}"


def _whole(parts: Sequence[Part], index: EstateIndex) -> list[tuple[Binding, ...]]:
    """What is taken out: a bundle from all its platforms, or from none."""
    found: dict[tuple[object, ...], list[Binding]] = {}
    platforms: dict[tuple[object, ...], int] = {}
    for part in parts:
        bundle = part.bindings[0].bundle
        key: tuple[object, ...] = (part.source, part.principal, part.role, "" if bundle else part.scope)
        found.setdefault(key, []).extend(part.bindings)
        platforms[key] = platforms.get(key, 0) + 1
    whole = []
    for key, bindings in found.items():
        bundle = bindings[0].bundle
        if not bundle or platforms[key] == len(index.estate.bundles[bundle]):
            whole.append(tuple(bindings))
    return whole
