"""Everyone who may do one action at one scope, and through what."""

from __future__ import annotations

from justlane.engine.questions.holders import Holders
from justlane.model.names import counted
from justlane.reports.outputs.views import Holder as HolderJson
from justlane.reports.outputs.views import Holders as HoldersJson
from justlane.reports.parts import chains
from justlane.reports.parts.conditions import boxes_text, plain_boxes
from justlane.reports.text.lines import line, render
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table


def plain(result: Holders) -> HoldersJson:
    """The holders as JSON values."""
    bindings = chains.References()
    found: list[HolderJson] = [
        {
            "user": holder.user,
            "conditions": plain_boxes(holder.conditions),
            "chains": [chains.plain(chain, bindings) for chain in holder.chains],
        }
        for holder in result.holders
    ]
    return {
        "action": result.action,
        "scope": result.scope,
        "applicable": result.applicable,
        "holders": found,
        "bindings": bindings.plain,
    }


def sheet(result: Holders) -> Sheet:
    """One row for each person and way, the shortest way of a person first."""
    rows = [
        (
            holder.user,
            chains.way("", chain.memberships) if chain.memberships else str(chain.binding.principal),
            boxes_text(chain.circumstances or holder.conditions) or "always",
            chain.binding.role,
            chain.binding.scope,
            chain.binding.source.line_address,
        )
        for holder in result.holders
        for chain in holder.chains
    ]
    return Sheet(("user", "through", "when", "role", "given at", "line"), rows)


def text(result: Holders, look: Look) -> str:
    """The holders for a person."""
    count = len(result.holders)
    people = counted(count, "person", "people") if count else "nobody"
    said = f"{people} may {result.action} at {result.scope}"
    if not result.applicable:
        return (
            f"{look.paint('nobody', 'head')}: {result.action} does not apply to that kind of scope as {result.scope}\n"
        )
    if not count:
        return said + "\n"
    short, legend = _short(sheet(result))
    notes = [
        line((f"{number:>4}  ", "warn"), f"only {when}", hanging="      ") for number, when in enumerate(legend, 1)
    ]
    when = [line(), line(("when", "head")), *notes] if notes else []
    return said + "\n\n" + table(short, look) + render(when, look)


def _short(full: Sheet) -> tuple[Sheet, list[str]]:
    """The person's name only in front of their first way, and conditions as numbers of a legend (the second value)."""
    when = full.columns.index("when")
    legend = list(dict.fromkeys(str(row[when]) for row in full.rows if row[when] != "always"))
    rows: list[list[object]] = []
    before: object = None
    for user, *rest in full.rows:
        row = ["" if user == before else user, *rest]
        row[when] = legend.index(str(row[when])) + 1 if row[when] != "always" else ""
        rows.append(row if legend else row[:when] + row[when + 1 :])
        before = user
    columns = full.columns if legend else full.columns[:when] + full.columns[when + 1 :]
    return Sheet(columns, rows), legend
