"""The tree of places, with what is given and denied at each."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.surveys.scope_tree import Branch, ScopeTree
from justlane.model.bindings import Binding
from justlane.model.names import counted
from justlane.reports.outputs.edits import ScopeBranch as ScopeBranchJson
from justlane.reports.outputs.edits import ScopeTree as ScopeTreeJson
from justlane.reports.parts import chains
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_GATHERED = 6


def plain(result: ScopeTree) -> ScopeTreeJson:
    """The tree as JSON values."""
    bindings = chains.References()
    scopes: list[ScopeBranchJson] = [
        {
            "scope": branch.scope.address,
            "kind": branch.scope.kind,
            "for": branch.scope.purpose,
            "depth": branch.depth,
            "bindings": [bindings.to(binding) for binding in branch.bindings],
            "gathers": [item.address for item in branch.scope.gathers],
            "gathered_by": list(branch.gathered_by),
            "open": branch.open,
        }
        for branch in result.branches
    ]
    return {"scopes": scopes, "left_out": result.left_out, "bindings": bindings.plain}


def sheet(result: ScopeTree) -> Sheet:
    """One row for each place."""
    rows = []
    for branch in result.branches:
        scope, gathers = branch.scope, " ".join(item.address for item in branch.scope.gathers)
        given = "; ".join(map(_given, branch.bindings))
        rows.append((scope.address, scope.kind, given, gathers, "yes" if branch.open else "no"))
    return Sheet(("scope", "kind", "given", "gathers", "open"), rows)


def _given(binding: Binding) -> str:
    what = f"bundle {binding.bundle}" if binding.bundle else binding.role
    return f"{'give' if binding.allows else 'deny'} {what} to {binding.principal}"


def text(result: ScopeTree, look: Look) -> str:
    """The tree for a person."""
    return render(_lines(result), look)


def _lines(result: ScopeTree) -> Iterator[Line]:
    for branch in result.branches:
        yield from _branch(branch)
    if result.left_out:
        yield line((f"and {counted(result.left_out, 'place')} deeper", "dim"))


def _branch(branch: Branch) -> Iterator[Line]:
    scope, indent = branch.scope, "  " * branch.depth
    name = scope.address.rpartition("/")[2] if branch.depth else scope.address
    told = f": {scope.purpose}" if scope.purpose else ""
    opened: Span | str = ("  open to everybody", "warn") if branch.open else ""
    yield line(indent, (name, "name"), (f"  {scope.kind}{told}", "dim"), opened, hanging=indent + "    ")
    if scope.gathers:
        names = [item.address for item in scope.gathers]
        more = f" and {len(names) - _MOST_GATHERED} more" if len(names) > _MOST_GATHERED else ""
        yield line(f"{indent}    gathers {', '.join(names[:_MOST_GATHERED])}{more}", hanging=indent + "      ")
    for binding in branch.bindings:
        mark: Span = ("give ", "yes") if binding.allows else ("deny ", "no")
        what = f"bundle {binding.bundle} ({binding.role})" if binding.bundle else binding.role
        here = ", here only" if binding.here_only else ""
        built = ", built in" if binding.built_in else ""
        where = f"  {binding.source.line_address}"
        yield line(f"{indent}    ", mark, f"{what} to {binding.principal}{here}{built}", (where, "dim"),
                   hanging=indent + "      ")  # fmt: skip
